"""What is done with texts in an expression besides joining, cutting and trimming them: each function makes a node."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
from sqlglot import exp

from ..notation import Notation, read_values
from ..schema import Column
from .compiler import Compiler
from .nodes import Node, computed, mapped
from .scope import Cells
from .types import DATE, INT, STAMP, TEXT, family

_WIDEST = 10_000
_ELEMENTS = {
    "YYYY": "%Y", "YY": "%y", "MM": "%m", "MONTH": "%B", "MON": "%b", "DD": "%d", "HH24": "%H", "HH12": "%I",
    "HH": "%I", "MI": "%M", "SS": "%S", "FF": "%f", "AM": "%p", "PM": "%p", "TZH:TZM": "%z", "TZHTZM": "%z",
}  # fmt: skip
"""The elements of the standard's datetime templates, as directives of `strptime`."""


def _text(work: Compiler, part: exp.Expression | None, name: str, default: str | None = None) -> str:
    """A text in quotes, which a function takes as it stands there."""
    if part is None and default is not None:
        return default
    if not (isinstance(part, exp.Literal) and part.is_string):
        raise work.wrong(part or exp.Null(), f"{name} takes a text in quotes here")
    return str(part.this)


def _number(work: Compiler, part: exp.Expression, name: str, low: int, high: int) -> int:
    literal = work.node(part).literal
    if not isinstance(literal, int) or not low <= literal <= high:
        raise work.wrong(part, f"{name} takes a whole number here, from {low} to {high:,}")
    return literal


def replace(work: Compiler, part: exp.Func) -> Node:
    sought = _text(work, part.expression, "REPLACE")
    other = _text(work, part.args.get("replacement"), "REPLACE", "")
    done = lambda v: pc.replace_substring(v, sought, other) if sought else v  # noqa: E731
    return mapped(part, TEXT, done, work.of("text", part.this, "REPLACE"))


def position(work: Compiler, part: exp.Func) -> Node:
    sought = _text(work, part.args.get("substr"), "POSITION")

    def done(values: Any) -> Any:
        if not sought:
            return pc.add(pc.multiply(pc.cast(pc.utf8_length(values), INT), 0), 1)
        first = pc.list_element(pc.split_pattern(values, sought, max_splits=1), 0)
        place = pc.add(pc.cast(pc.utf8_length(first), INT), 1)
        return pc.if_else(pc.match_substring(values, sought), place, pa.scalar(0, INT))

    return computed(part, lambda v: Cells(done(v)), work.of("text", part.this, "POSITION"))


def padded(work: Compiler, part: exp.Func) -> Node:
    left = bool(part.args.get("is_left"))
    name = "LPAD" if left else "RPAD"
    width = _number(work, part.expression, name, 0, _WIDEST)
    fill = _text(work, part.args.get("fill_pattern"), name, " ")
    fillings = pa.array([(fill * width)[:count] for count in range(width + 1)], TEXT) if fill else pa.array([""])

    def done(values: pa.Array) -> Cells:
        short = pc.utf8_slice_codeunits(values, 0, width)
        lacking = pc.subtract(width, pc.cast(pc.utf8_length(short), INT))
        filling = fillings.take(lacking if fill else pc.multiply(lacking, 0))
        pair = (filling, short) if left else (short, filling)
        return Cells(pc.binary_join_element_wise(*pair, ""))

    return computed(part, done, work.of("text", part.this, name))


def split_part(work: Compiler, part: exp.Func) -> Node:
    between = _text(work, part.args.get("delimiter"), "SPLIT_PART")
    number = _number(work, part.args["part_index"], "SPLIT_PART", 1, _WIDEST)

    def done(values: pa.Array) -> Cells:
        if not between:
            return Cells(values if number == 1 else pc.if_else(pc.is_valid(values), "", values))
        parts = pc.split_pattern(values, between)
        has = pc.greater_equal(pc.list_value_length(parts), number)
        at = pc.if_else(has, pc.add(pc.cast(parts.offsets[:-1], INT), number - 1), pa.scalar(None, INT))
        return Cells(pc.if_else(pc.is_valid(values), pc.coalesce(parts.values.take(at), ""), values))

    return computed(part, done, work.of("text", part.this, "SPLIT_PART"))


def of_format(work: Compiler, part: exp.Func) -> Node:
    """CAST(text AS DATE FORMAT 'template')."""
    kind = DATE if isinstance(part, exp.StrToDate) else STAMP
    return read_by(work, part, part.this, kind, part.args.get("format"))


def read_by(work: Compiler, part: Any, value: Any, kind: pa.DataType, template: exp.Expression | None) -> Node:
    """A text as a date, or as a date and time, by a template."""
    if family(kind) not in ("date", "timestamp"):
        raise work.wrong(part, "FORMAT is for a CAST to DATE or TIMESTAMP")
    text = _text(work, template, "FORMAT")
    notation = Notation(_directives(work, part, text))
    if problem := notation.problem(kind, "'DD.MM.YYYY'"):
        raise work.wrong(part, problem)
    column = Column("", kind)
    return computed(part, lambda v: Cells(*read_values(v, column, notation)), work.of("text", value, "CAST"))


def _directives(work: Compiler, part: exp.Expression, template: str) -> str:
    """A template of the standard, as `strptime` says it. A text between double quotes stands for itself."""
    longest = sorted(_ELEMENTS, key=len, reverse=True)
    out = ""
    for piece in re.findall(rf'"[^"]*"|{"|".join(longest)}|.', template, re.I | re.S):
        if (found := _ELEMENTS.get(piece.upper())) is not None:
            out += found
        elif piece.startswith('"') or not piece.isalnum() or piece == "T":
            out += piece.strip('"').replace("%", "%%")
        else:
            raise work.wrong(part, f"{piece} is not known in FORMAT; there are {', '.join(_ELEMENTS)}")
    return out


HANDLERS: dict[type, Callable[[Compiler, Any], Node]] = {
    exp.Replace: replace,
    exp.StrPosition: position,
    exp.Pad: padded,
    exp.SplitPart: split_part,
    exp.StrToDate: of_format,
    exp.StrToTime: of_format,
}
