"""The operations of expressions on Arrow columns. Each gives values, and a mask of the rows where it failed.

A failure (division by zero, overflow, a text that is no number) is null in the values, so that one bad record
stops nothing; what becomes of it is for the caller of the expression to say.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from decimal import ROUND_HALF_UP, Decimal, localcontext
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.types as pt

from ..cast import as_text
from ..cast import cast as cast_to_column
from ..masks import Marks, either, mask_of, nulled, some
from ..schema import Column
from .scope import Cells, Env
from .types import DATE, FLOAT, INT, STAMP, TEXT, as_decimal, decimal, family, to

_MOST_PATTERN = 1_000
_QUOTIENT_SCALE = 12  # digits after the point of a quotient of decimals, at least
_DAY = 86_400_000_000


# -- arithmetic -------------------------------------------------------------------------------------


def arithmetic(op: str, a: pa.Array, b: pa.Array) -> Cells:
    """`a op b` for arrays of numbers; whole numbers stay whole, and are divided towards zero."""
    failed: Marks = None
    if op in ("/", "%"):
        zeros = pc.equal(b, pa.scalar(Decimal(0)).cast(b.type))
        if pc.any(zeros).as_py():
            zero = mask_of(zeros)
            failed = zero & mask_of(pc.is_valid(a))
            b = nulled(b, zero)
    if pt.is_integer(a.type) and pt.is_integer(b.type):
        values, over = _integers(op, a, b)
        return Cells(values, either(failed, over))
    if not pt.is_floating(a.type) and not pt.is_floating(b.type):
        done = _decimals(op, a, b)
        if done is not None:
            return Cells(done.values, either(failed, done.failed))
    x, y = to(a, FLOAT), to(b, FLOAT)
    values = _FLOATS[op](x, y)
    finite = pc.is_finite(values)
    if pc.all(finite).as_py() is not False:
        return Cells(values, failed)
    wild = mask_of(pc.invert(finite)) & mask_of(pc.is_finite(x)) & mask_of(pc.is_finite(y))
    return Cells(nulled(values, wild), either(failed, some(wild)))


def _remainder(a: pa.Array, b: pa.Array) -> pa.Array:
    if pt.is_integer(a.type):
        return pc.subtract(a, pc.multiply(pc.divide(a, b), b))
    with np.errstate(invalid="ignore"):
        values = np.fmod(a.to_numpy(zero_copy_only=False), b.to_numpy(zero_copy_only=False))
    return pa.array(values, mask=mask_of(pc.or_(pc.is_null(a), pc.is_null(b))))


_FLOATS: dict[str, Callable[[pa.Array, pa.Array], pa.Array]] = {
    "+": pc.add, "-": pc.subtract, "*": pc.multiply, "/": pc.divide, "%": _remainder,
}  # fmt: skip
_CHECKED = {"+": pc.add_checked, "-": pc.subtract_checked, "*": pc.multiply_checked, "/": pc.divide_checked}


def _integers(op: str, a: pa.Array, b: pa.Array) -> tuple[pa.Array, Marks]:
    if op == "%":
        over = mask_of(pc.equal(b, -1))  # the least whole number by -1 would overflow; the remainder is 0
        return _remainder(a, pc.if_else(pa.array(over), pa.scalar(1, INT), b)), None
    try:
        return _CHECKED[op](a, b), None
    except pa.ArrowInvalid:
        pass
    x, y = np.asarray(pc.fill_null(a, 0)), np.asarray(pc.fill_null(b, 1 if op == "/" else 0))
    with np.errstate(over="ignore"):
        if op == "+":
            r = x + y
            over = ((x ^ r) & (y ^ r)) < 0
        elif op == "-":
            r = x - y
            over = ((x ^ y) & (x ^ r)) < 0
        elif op == "*":
            r = x * y
            least = np.iinfo(np.int64).min
            safe = np.where((x == 0) | ((x == -1) & (r == least)), 1, x)
            over = (x != 0) & ((r // safe != y) | ((x == -1) & (y == least)))
        else:
            over = (x == np.iinfo(np.int64).min) & (y == -1)
            r = np.asarray(pc.fill_null(pc.divide(nulled(a, over), b), 0))
    null = mask_of(pc.or_(pc.is_null(a), pc.is_null(b)))
    return pa.array(r, mask=null | over), over & ~null


def _decimals(op: str, a: pa.Array, b: pa.Array) -> Cells | None:
    """Exact; None where no decimal type is wide enough."""
    a, b = to(a, as_decimal(a.type)), to(b, as_decimal(b.type))
    (p1, s1), (p2, s2) = (a.type.precision, a.type.scale), (b.type.precision, b.type.scale)
    if op == "%":
        return _decimal_remainder(a, b)
    if op == "/":
        more = max(0, _QUOTIENT_SCALE - s1)
        if p1 + more > 76:
            return None
        a = pc.cast(a, pa.decimal256(p1 + more, s1 + more))
        p1, s1 = p1 + more, s1 + more
        precision = p1 - s1 + s2 + max(6, s1 + p2 + 1)
    elif op == "*":
        precision = p1 + p2 + 1
    else:
        precision = max(p1 - s1, p2 - s2) + max(s1, s2) + 1
    if precision > 76:
        return None
    if precision > 38:
        a, b = pc.cast(a, pa.decimal256(p1, s1)), pc.cast(b, pa.decimal256(p2, s2))
    return Cells(_CHECKED[op](a, b))


def _decimal_remainder(a: pa.Array, b: pa.Array) -> Cells | None:
    """Exact, with the sign of the first."""
    (p1, s1), (p2, s2) = (a.type.precision, a.type.scale), (b.type.precision, b.type.scale)
    scale = max(s1, s2)
    width = max(p1 - s1, p2 - s2, 1) + scale
    if width > 76:
        return None
    kind = decimal(width, scale)
    null = mask_of(pc.or_(pc.is_null(a), pc.is_null(b)))
    if width <= 18:
        x, y = (_counts(pc.cast(one, pa.decimal128(width, scale))) for one in (a, b))
        counts = np.where(null, 0, np.fmod(x, np.where(null, 1, y)))
        words = np.stack([counts, counts >> 63], axis=1)
        return Cells(pa.Array.from_buffers(kind, len(a), [pa.array(~null).buffers()[1], pa.py_buffer(words)]))
    with localcontext(prec=200):
        pairs = zip(a.to_pylist(), b.to_pylist(), strict=True)
        return Cells(pa.array([None if x is None or y is None else x % y for x, y in pairs], kind))


def _counts(values: pa.Array) -> np.ndarray:
    """Decimals of at most 18 digits as counts of their last digit."""
    words = np.frombuffer(values.buffers()[1], np.int64).reshape(-1, 2)
    return words[values.offset : values.offset + len(values), 0]


def negate(values: pa.Array) -> Cells:
    if not pt.is_integer(values.type):
        return Cells(pc.negate(values))
    return arithmetic("-", pa.array(np.zeros(len(values), np.int64)), values)


def absolute(values: pa.Array) -> Cells:
    if not pt.is_integer(values.type):
        return Cells(pc.abs(values))
    least = mask_of(pc.equal(values, np.iinfo(np.int64).min))
    return Cells(pc.abs(nulled(values, least)), least if least.any() else None)


def rounded(values: pa.Array, digits: int) -> Cells:
    """Half away from zero."""
    if pt.is_integer(values.type) and digits >= 0:
        return Cells(values)
    if pt.is_integer(values.type):
        return cast(_rounded_decimals(to(values, pa.decimal128(19, 0)), digits).values, INT, None)
    if pt.is_decimal(values.type):
        return _rounded_decimals(values, min(digits, values.type.scale))
    if digits < 0:
        return Cells(pc.round(values, ndigits=digits, round_mode="half_towards_infinity"))
    small = pc.less(pc.abs(values), 2.0**53)  # a larger float has no digits behind the point, and must not overflow
    done = pc.round(pc.if_else(small, values, 0.0), ndigits=digits, round_mode="half_towards_infinity")
    return Cells(pc.if_else(small, done, values))


def _rounded_decimals(values: pa.Array, digits: int) -> Cells:
    precision, scale = values.type.precision, values.type.scale
    wider = decimal(min(precision + 1, 76), scale)
    if -digits > precision - scale:  # less than half of what is rounded to
        zeros = pa.repeat(pa.scalar(Decimal(0), wider), len(values))
        return Cells(pc.if_else(pc.is_valid(values), zeros, pa.scalar(None, wider)))
    if not pt.is_decimal256(wider):
        return Cells(pc.round(pc.cast(values, wider), ndigits=digits, round_mode="half_towards_infinity"))
    with localcontext(prec=200):  # Arrow does not round all of these
        step, most = Decimal(1).scaleb(-digits), Decimal(10) ** (wider.precision - scale)
        done = [None if v is None else v.quantize(step, ROUND_HALF_UP) for v in values.to_pylist()]
        kept = [None if v is None or abs(v) >= most else v.quantize(Decimal(1).scaleb(-scale)) for v in done]
    out = pa.array(kept, wider)
    return Cells(out, some(mask_of(pc.and_(pc.is_null(out), pc.is_valid(values)))))


# -- text -------------------------------------------------------------------------------------------


def like(values: pa.Array, pattern: str, escape: str | None) -> pa.Array:
    """LIKE of the standard: upper and lower case differ, and there is no escape but the one that is named."""
    regex, plain, wild, at = "", "", False, 0
    while at < len(pattern):
        char = pattern[at]
        if escape and char == escape:
            at += 1
            regex, plain = regex + re.escape(pattern[at]), plain + pattern[at]
        elif char in "%_":
            regex, wild = regex + (".*" if char == "%" else "."), True
            plain += "\x00"
        else:
            regex, plain = regex + re.escape(char), plain + char
        at += 1
    if not wild:
        return pc.equal(values, plain)
    body = plain.strip("\x00")
    if "_" not in pattern and "\x00" not in body and not escape and body:
        front, back = pattern.startswith("%"), pattern.endswith("%")
        if front and back:
            return pc.match_substring(values, body)
        return pc.ends_with(values, body) if front else pc.starts_with(values, body)
    regex = re.sub(r"(\.\*)+", ".*", regex)
    return pc.match_substring_regex(values, f"(?s)^{regex}$")  # linear in the text: this engine never backtracks


def check_pattern(pattern: str, escape: str | None) -> str | None:
    """What is wrong with a LIKE pattern, if anything is."""
    if len(pattern) > _MOST_PATTERN:
        return f"a pattern has at most {_MOST_PATTERN} characters, this one {len(pattern)}"
    if escape is not None and len(escape) != 1:
        return "ESCAPE takes one character"
    rest = re.sub(re.escape(escape) + "[%_" + re.escape(escape) + "]", "", pattern) if escape else ""
    if escape and escape in rest:
        return f"after the escape {escape!r} comes %, _ or the escape itself"
    return None


def substring(values: pa.Array, start: pa.Array, length: pa.Array | None) -> Cells:
    """SUBSTRING of the standard: characters from 1; what lies before the first or after the last is empty."""
    failed: Marks = None
    begins = np.asarray(pc.fill_null(start, 1))
    if length is None:
        ends = np.full(len(values), np.iinfo(np.int64).max)
    else:
        lengths = np.asarray(pc.fill_null(length, 0))
        negative = (lengths < 0) & mask_of(pc.is_valid(values))
        failed = negative if negative.any() else None
        ends = np.where(lengths > 2**40, np.iinfo(np.int64).max, np.clip(begins, -(2**40), 2**40) + lengths)
    lows, highs = np.clip(begins - 1, 0, 2**30), np.clip(ends - 1, 0, 2**30)
    pairs, which = np.unique(np.stack([lows, np.maximum(highs, lows)]), axis=1, return_inverse=True)
    out = np.empty(len(values), object) if pairs.shape[1] > 1 else None
    parts = values
    for number in range(pairs.shape[1]):
        low, high = (int(n) for n in pairs[:, number])
        if out is None:
            parts = pc.utf8_slice_codeunits(values, low, high)
        else:
            here = which.ravel() == number
            out[here] = pc.utf8_slice_codeunits(values.filter(pa.array(here)), low, high).to_pylist()
    done = parts if out is None else pa.array(out, TEXT)
    null = mask_of(pc.is_null(start)) | (mask_of(pc.is_null(length)) if length is not None else False)
    return Cells(nulled(done, null | failed if failed is not None else null), failed)


# -- dates ------------------------------------------------------------------------------------------


def shifted(values: pa.Array, months: int, micros: int) -> Cells:
    """Dates or times plus an interval. A day that the month does not have becomes its last."""
    is_date = values.type == DATE
    if is_date and micros % _DAY:
        values, is_date = values.cast(STAMP), False
    null = mask_of(pc.is_null(values))
    if is_date:
        days = np.asarray(pc.fill_null(values.cast(pa.int32()), 0)).astype("int64")
        rest: Any = 0
    else:
        ticks = np.asarray(pc.fill_null(values.cast(pa.int64()), 0))
        days, rest = np.floor_divide(ticks, _DAY), np.mod(ticks, _DAY)
    if months:
        coded = pa.array(days).dictionary_encode()  # there are far fewer days than rows
        days = _months_on(coded.dictionary.to_numpy(), months)[coded.indices.to_numpy()]
    if is_date:
        days = days + micros // _DAY
        outside = (days < -719_162) | (days > 2_932_896)
        return Cells(
            pa.array(np.where(outside, 0, days).astype("int32"), mask=null | outside).cast(DATE), some(outside & ~null)
        )
    ticks = days * _DAY + rest + micros
    outside = (ticks < -719_162 * _DAY) | (ticks >= 2_932_897 * _DAY)
    return Cells(pa.array(ticks, mask=null | outside).cast(STAMP), some(outside & ~null))


def _months_on(days: np.ndarray, months: int) -> np.ndarray:
    dates = days.astype("datetime64[D]")
    first = dates.astype("datetime64[M]")
    in_month = (dates - first.astype("datetime64[D]")).astype("int64")
    target = first + np.timedelta64(months, "M")
    last = ((target + 1).astype("datetime64[D]") - target.astype("datetime64[D]")).astype("int64") - 1
    return target.astype("datetime64[D]").astype("int64") + np.minimum(in_month, last)


def days_between(a: pa.Array, b: pa.Array) -> pa.Array:
    return pc.subtract(a.cast(pa.int32()).cast(INT), b.cast(pa.int32()).cast(INT))


def extract(field: str, values: pa.Array) -> pa.Array:
    if field == "SECOND":
        micros = pc.add(pc.multiply(pc.millisecond(values), 1000), pc.microsecond(values))
        micros = pc.add(pc.multiply(pc.second(values), 1_000_000), micros)
        scaled = pc.multiply(pc.cast(micros, pa.decimal128(19, 0)), pa.scalar(Decimal("0.000001")))
        return pc.cast(scaled, pa.decimal128(8, 6))
    done = {
        "YEAR": pc.year, "QUARTER": pc.quarter, "MONTH": pc.month, "DAY": pc.day, "HOUR": pc.hour, "MINUTE": pc.minute,
    }[field](values)  # fmt: skip
    return done.cast(INT)


# -- casts and choices ------------------------------------------------------------------------------


def cast(values: pa.Array, kind: pa.DataType, length: int | None) -> Cells:
    """CAST: to whole numbers towards zero, to decimals half away from zero, to a shorter text by cutting."""
    if pt.is_integer(kind) and family(values.type) == "number" and not pt.is_integer(values.type):
        values = _truncated(values) if pt.is_decimal(values.type) else pc.trunc(values)
    if pt.is_integer(kind) and family(values.type) == "text":
        values = pc.utf8_trim_whitespace(values)
    done, bad = cast_to_column(values, Column("", kind))
    if family(values.type) == "text" and family(kind) != "text":
        bad = either(bad, mask_of(pc.is_valid(values)) & mask_of(pc.is_null(done)))  # an empty text is no number
    if length is not None:
        done = pc.utf8_slice_codeunits(done, 0, length)
    return Cells(done, some(bad) if bad is not None else None)


def _truncated(values: pa.Array) -> pa.Array:
    precision, scale = values.type.precision, values.type.scale
    if scale <= 0 or (not pt.is_decimal256(values.type) and scale < precision):
        return pc.trunc(values)
    whole = pc.replace_substring_regex(as_text(values)[0], r"\..*$", "")  # Arrow does not cut all of these
    return pc.cast(whole, decimal(max(precision - scale, 1), 0))


def choose(env: Env, cases: list[tuple[Cells, Cells]], default: Cells, kind: pa.DataType) -> Cells:
    """The first result whose condition is true. What fails in a branch that is not taken does not count."""
    values = env.array(to(default.values, kind))
    open_rows = np.ones(env.rows, bool)
    picks: list[tuple[np.ndarray, Cells]] = []
    failed: Marks = None
    for condition, result in cases:
        taken = mask_of(env.array(condition.values)) & open_rows
        if condition.failed is not None:
            failed = either(failed, condition.failed & open_rows)
        open_rows &= ~taken
        picks.append((taken, result))
    if default.failed is not None:
        failed = either(failed, default.failed & open_rows)
    for taken, result in picks:
        if taken.any():
            values = pc.if_else(pa.array(taken), to(result.values, kind), values)
        if result.failed is not None:
            failed = either(failed, result.failed & taken)
    return Cells(values if failed is None else nulled(values, failed), failed)
