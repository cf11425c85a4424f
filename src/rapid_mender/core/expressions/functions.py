"""What numbers, texts and dates can do in an expression: each function checks its types and makes a node."""

from __future__ import annotations

from collections.abc import Callable
from decimal import Decimal
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.types as pt
from sqlglot import exp

from . import kernels, texts
from .compiler import Compiler
from .nodes import Node, as_type, computed, constant, mapped, mend, recast, said
from .scope import Cells
from .texts import read_by
from .types import DATE, INT, STAMP, TEXT, canonical, common, family, named, spoken

_FIELDS = ("YEAR", "QUARTER", "MONTH", "DAY", "HOUR", "MINUTE", "SECOND")
_MICROS = {
    "SECOND": 1_000_000,
    "MINUTE": 60_000_000,
    "HOUR": 3_600_000_000,
    "DAY": 86_400_000_000,
    "WEEK": 604_800_000_000,
}
_MONTHS = {"MONTH": 1, "QUARTER": 3, "YEAR": 12}
_MATH = {exp.Add: "+", exp.Sub: "-", exp.Mul: "*", exp.Div: "/", exp.IntDiv: "/", exp.Mod: "%"}


# -- numbers ------------------------------------------------------------------------------------


def math_(work: Compiler, part: exp.Binary) -> Node:
    a, b = work.node(part.this), work.node(part.expression)
    if isinstance(part, exp.Add | exp.Sub) and (a.interval or b.interval or family(a.type) in ("date", "timestamp")):
        return _dates(work, part, a, b)
    op = _MATH[type(part)]
    for node in (a, b):
        if family(node.type) not in ("number", "null") or node.interval is not None:
            raise work.wrong(node.source, f"{op} takes numbers, and this is {said(node)}{mend(node)}")
    if isinstance(b.literal, str) or isinstance(a.literal, str):
        raise work.wrong(part, f"{op} takes numbers")
    if pt.is_null(a.type) or pt.is_null(b.type):
        return constant(part, pa.scalar(None, common(a.type, b.type)))
    return computed(part, lambda x, y: kernels.arithmetic(op, x, y), a, b)


def minus(work: Compiler, part: exp.Neg) -> Node:
    node = work.of("number", part.this, "-")
    if node.literal is not None:
        negative = node.literal.copy_negate() if isinstance(node.literal, Decimal) else -node.literal
        return constant(part, pa.scalar(negative, node.type), negative)
    return computed(part, kernels.negate, node)


def absolute(work: Compiler, part: exp.Abs) -> Node:
    return computed(part, kernels.absolute, work.of("number", part.this, "ABS"))


def round_(work: Compiler, part: exp.Round) -> Node:
    digits = _whole(work, part.args.get("decimals"), "ROUND", 0)
    return computed(part, lambda v: kernels.rounded(v, digits), work.of("number", part.this, "ROUND"))


def _whole(work: Compiler, part: exp.Expression | None, name: str, default: int) -> int:
    if part is None:
        return default
    node = work.node(part)
    if not isinstance(node.literal, int) or abs(node.literal) > 38:
        raise work.wrong(part, f"{name} takes a whole number here, from -38 to 38")
    return node.literal


# -- texts --------------------------------------------------------------------------------------


def joined(work: Compiler, part: exp.DPipe) -> Node:
    nodes = [_texted(work, one) for one in (part.this, part.expression)]
    return mapped(part, TEXT, lambda a, b: pc.binary_join_element_wise(a, b, ""), *nodes)


def _texted(work: Compiler, part: exp.Expression) -> Node:
    node = work.node(part)
    if family(node.type) in ("text", "null"):
        return as_type(node, TEXT)
    if family(node.type) in ("number", "date", "timestamp", "time") and node.interval is None:
        return computed(part, lambda v: kernels.cast(v, TEXT, None), node)
    raise work.wrong(part, f"|| joins texts, and this is {said(node)}{mend(node)}")


def cased(work: Compiler, part: exp.Func) -> Node:
    lower = isinstance(part, exp.Lower)
    done = pc.utf8_lower if lower else pc.utf8_upper
    return mapped(part, TEXT, done, work.of("text", part.this, "LOWER" if lower else "UPPER"))


def length(work: Compiler, part: exp.Length) -> Node:
    return mapped(part, INT, lambda v: pc.cast(pc.utf8_length(v), INT), work.of("text", part.this, "LENGTH"))


def trim(work: Compiler, part: exp.Trim) -> Node:
    value = work.of("text", part.this, "TRIM")
    what = part.expression
    if what is not None and not (isinstance(what, exp.Literal) and what.is_string):
        raise work.wrong(part, "TRIM takes the characters to remove as a text in quotes")
    characters = what.name if what is not None else " "
    side = str(part.args.get("position") or "BOTH").upper()
    done = {"BOTH": pc.utf8_trim, "LEADING": pc.utf8_ltrim, "TRAILING": pc.utf8_rtrim}[side]
    return mapped(part, TEXT, lambda v: done(v, characters=characters) if characters else v, value)


def substring(work: Compiler, part: exp.Substring) -> Node:
    value = work.of("text", part.this, "SUBSTRING")
    bounds = [part.args.get("start"), part.args.get("length")]
    nodes = [work.of("number", one, "SUBSTRING") for one in bounds if one is not None]
    for node in nodes:
        if not pt.is_integer(node.type) and not pt.is_null(node.type):
            raise work.wrong(node.source, "SUBSTRING counts in whole numbers")
    if bounds[0] is None:
        raise work.wrong(part, "SUBSTRING takes a start: SUBSTRING(text FROM 1 FOR 3)")
    return computed(part, lambda v, s, n=None: kernels.substring(v, s, n), value, *(as_type(n, INT) for n in nodes))


# -- dates --------------------------------------------------------------------------------------


def interval(work: Compiler, part: exp.Interval) -> Node:
    unit = str(part.args.get("unit") or "").upper().rstrip("S")
    number = part.this
    sign = -1 if isinstance(number, exp.Neg) else 1
    number = number.this if isinstance(number, exp.Neg) else number
    try:
        count = sign * int(number.name)
    except (ValueError, AttributeError):
        raise work.wrong(part, "an interval is a whole number and a unit: INTERVAL '3' DAY") from None
    if unit in _MONTHS and abs(count) < 120_000:
        span = (count * _MONTHS[unit], 0)
    elif unit in _MICROS and abs(count) < 10**9:
        span = (0, count * _MICROS[unit])
    else:
        known = ", ".join([*_MICROS, *_MONTHS])
        raise work.wrong(
            part,
            f"the units of an interval are {known}" if unit not in {*_MICROS, *_MONTHS} else "the interval is too long",
        )
    return Node(pa.null(), lambda env: Cells(pa.scalar(None)), part, interval=span)


def _dates(work: Compiler, part: exp.Binary, a: Node, b: Node) -> Node:
    sign = -1 if isinstance(part, exp.Sub) else 1
    if a.interval is not None and b.interval is None and sign == 1:
        a, b = b, a
    if b.interval is not None and isinstance(a.literal, str):
        a = work.read(a, STAMP if " " in a.literal.strip() or "T" in a.literal else DATE)
    if b.interval is not None and pt.is_null(a.type) and a.interval is None:
        return constant(part, pa.scalar(None, STAMP))
    if b.interval is not None and family(a.type) in ("date", "timestamp") and a.interval is None:
        months, micros = (sign * one for one in b.interval)
        kind = STAMP if micros % _MICROS["DAY"] else a.type
        done = computed(part, lambda v: kernels.shifted(v, months, micros), a)
        return Node(kind, done.run, part)
    if sign == -1 and a.type == DATE and isinstance(b.literal, str):
        b = work.read(b, DATE)
    if sign == -1 and a.type == DATE and b.type == DATE:
        return computed(part, lambda x, y: Cells(kernels.days_between(x, y)), a, b)
    raise work.wrong(
        part, f"{said(a)} and {said(b)} cannot be added or subtracted; add an interval (INTERVAL '3' DAY) to a date, "
        "or subtract two dates, which gives days"
    )  # fmt: skip


def extract(work: Compiler, part: exp.Extract) -> Node:
    field = str(part.this.name).upper()
    node = work.node(part.expression)
    if field not in _FIELDS:
        raise work.wrong(part, f"EXTRACT takes {', '.join(_FIELDS)}, not {field}")
    kinds = ("time", "timestamp") if field in ("HOUR", "MINUTE", "SECOND") else ("date", "timestamp")
    if pt.is_null(node.type):
        return constant(part, pa.scalar(None, pa.decimal128(8, 6) if field == "SECOND" else INT))
    if family(node.type) not in kinds:
        raise work.wrong(
            part.expression,
            f"EXTRACT({field} …) takes a {' or a '.join(kinds)}, and this is {said(node)}{mend(node)}",
        )
    return mapped(part, pa.decimal128(8, 6) if field == "SECOND" else INT, lambda v: kernels.extract(field, v), node)


def now(work: Compiler, part: exp.Expression) -> Node:
    if isinstance(part, exp.CurrentDate):
        return Node(DATE, lambda env: Cells(pa.scalar(env.now.date(), DATE)), part)
    return Node(STAMP, lambda env: Cells(pa.scalar(env.now.replace(tzinfo=None), STAMP)), part)


def cast_(work: Compiler, part: exp.Cast) -> Node:
    target = part.to
    sizes = [int(one.name) for one in target.expressions if one.name.isdigit()]
    to_type = named(target.this.name if isinstance(target.this, exp.DataType.Type) else str(target.this), sizes)
    if to_type is None:
        known = "INTEGER, BIGINT, SMALLINT, DOUBLE, DECIMAL(p, s), VARCHAR(n), TEXT, BOOLEAN, DATE, TIME, TIMESTAMP"
        raise work.wrong(part, f"{target.sql()} is not a type that CAST knows here; it knows {known}")
    kind, length = to_type
    if part.args.get("format") is not None:
        return read_by(work, part, part.this, kind, part.args["format"])
    node = work.node(part.this)
    if isinstance(node.literal, str) and family(kind) in ("date", "timestamp", "time"):
        return work.read(node, kind)
    pair = {family(node.type), family(kind)}
    if node.interval or (
        len(pair) == 2 and not pair & {"text", "null"} and pair not in ({"date", "timestamp"}, {"number", "boolean"})
    ):
        raise work.wrong(part, f"{said(node)} cannot become {spoken(kind)}")
    if node.type == STAMP and kind == DATE:
        return mapped(part, DATE, lambda v: pc.cast(v, DATE, safe=False), node)
    done = computed(part, lambda v: kernels.cast(v, kind, length), node)
    wide = canonical(kind)
    return Node(wide, lambda env: recast(done.run(env), wide), part)


HANDLERS: dict[type, Callable[[Compiler, Any], Node]] = {
    **dict.fromkeys(_MATH, math_),
    exp.Neg: minus,
    exp.Abs: absolute,
    exp.Round: round_,
    exp.DPipe: joined,
    exp.Lower: cased,
    exp.Upper: cased,
    exp.Length: length,
    exp.Trim: trim,
    exp.Substring: substring,
    exp.Interval: interval,
    exp.Extract: extract,
    exp.CurrentDate: now,
    exp.CurrentTimestamp: now,
    exp.Cast: cast_,
    **texts.HANDLERS,
}
