"""Reading values from their text: one parser for each type, whole columns at a time.

A text that is no value of the type is marked, never raised.
"""

from __future__ import annotations

from collections.abc import Callable
from decimal import Decimal, localcontext

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.types as pt

from .masks import Marks, either, mask_of, nulled

Cast = tuple[pa.Array, Marks]
"""Values, and a mask of those that could not be cast."""

FIRST_DAY, LAST_DAY = -719162, 2932896  # 0001-01-01 and 9999-12-31, in days since 1970
DAY = 86_400_000_000  # microseconds
_NUMBER = r"^[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]{1,3})?$"
_DATE = r"(?P<date>[0-9]{4}-[0-9]{2}-[0-9]{2})"
_TIME = (
    r"(?P<hour>[01][0-9]|2[0-3]):(?P<minute>[0-5][0-9])"
    r"(?::(?P<second>[0-5][0-9])(?:\.(?P<fraction>[0-9]{1,9}))?)?"
)
_ZONE = r"(?P<zone>[Zz]|[+-][0-9]{2}(?::?[0-5][0-9])?)?"
_MOMENT = rf"^{_DATE}(?:[ T]{_TIME})?{_ZONE}$"
_TRUE = ("true", "t", "yes", "y", "1", "1.0", "on")
_FALSE = ("false", "f", "no", "n", "0", "0.0", "off")


def parser_of(wanted: pa.DataType) -> Callable[[pa.Array, pa.DataType], Cast]:
    for test, parser in _PARSERS:
        if test(wanted):
            return parser
    raise TypeError(f"no value can be read into a column of type {wanted}")


def _trimmed(text: pa.Array) -> pa.Array:
    """Without blanks around; an empty text is no value for a type that is not text."""
    text = pc.utf8_trim_whitespace(text)
    return pc.if_else(pc.equal(text, ""), pa.scalar(None, pa.string()), text)


def _matching(text: pa.Array, pattern: str) -> tuple[pa.Array, np.ndarray]:
    """The texts that match, the others null; and a mask of those that are not null and do not match."""
    ok = pc.fill_null(pc.match_substring_regex(text, pattern), True)
    bad = ~mask_of(ok)
    return nulled(text, bad), bad


def _int(text: pa.Array, wanted: pa.DataType) -> Cast:
    text = _trimmed(text)
    try:
        if not pc.any(pc.match_substring(text, "x", ignore_case=True)).as_py():  # Arrow reads 0x10
            return pc.cast(text, wanted), None
    except pa.ArrowInvalid:
        pass
    text, bad = _matching(text, r"^[+-]?0*[0-9]{1,30}(\.0*)?$")
    digits = pc.replace_substring_regex(text, r"^\+|\.0*$", "")
    digits = pc.replace_substring_regex(digits, r"^(-?)0+([0-9])", r"\1\2")
    values = pc.cast(digits, pa.decimal128(38, 0))
    low, high = int_range(wanted)
    inside = pc.and_(
        pc.greater_equal(values, pa.scalar(low, pa.decimal128(38, 0))),
        pc.less_equal(values, pa.scalar(high, pa.decimal128(38, 0))),
    )
    outside = ~mask_of(pc.fill_null(inside, True))
    return pc.cast(nulled(values, outside), wanted), bad | outside


def _float(text: pa.Array, wanted: pa.DataType) -> Cast:
    text, bad = _trimmed(text), None
    try:
        values = pc.cast(text, pa.float64())
    except pa.ArrowInvalid:
        text, bad = _matching(text, rf"(?:{_NUMBER})|^(?i:[+-]?(?:inf|infinity|nan))$")
        values = pc.cast(pc.replace_substring_regex(text, r"^\+", ""), pa.float64())
    values = values if wanted == pa.float64() else values.cast(wanted, safe=False)
    infinite = mask_of(pc.fill_null(pc.is_inf(values), False))
    if infinite.any():  # a number too large for the type, unless the text says infinity itself
        overflow = infinite & mask_of(pc.fill_null(pc.match_substring_regex(text, "[0-9]"), False))
        values, bad = nulled(values, overflow), either(bad, overflow)
    return values, bad


def _decimal(text: pa.Array, wanted: pa.DataType) -> Cast:
    """Rounded half away from zero to the column's scale, as databases assign."""
    text = _trimmed(text)
    try:
        return pc.cast(text, wanted), None
    except pa.ArrowInvalid:
        pass
    text, bad = _matching(text, _NUMBER)
    whole = pc.extract_regex(text, r"^[+-]?0*(?P<whole>[0-9]*)\.?(?P<part>[0-9]*)(?:[eE](?P<power>[+-]?[0-9]+))?$")
    power = _number(whole.field("power"), 0)
    before = np.asarray(pc.fill_null(pc.utf8_length(whole.field("whole")), 0)) + power
    after = np.asarray(pc.fill_null(pc.utf8_length(whole.field("part")), 0)) - power
    too_large = (before > 37) & ~mask_of(pc.is_null(text))
    text = nulled(text, too_large)
    tiny = (after > 38) & ~mask_of(pc.is_null(text))  # digits past the 38th decimal cannot matter to any scale
    if tiny.any():
        values = [None if v is None else _shortened(v) for v in text.filter(pa.array(tiny)).to_pylist()]
        text = pc.replace_with_mask(text, pa.array(tiny), pa.array(values, pa.string()))
    exact = pc.cast(text, pa.decimal256(76, 38))
    rounded = pc.round(exact, ndigits=wanted.scale, round_mode="half_towards_infinity")
    largest = Decimal(10) ** min(wanted.precision - wanted.scale, 37)  # 10^37 is past every value here
    limit = pa.scalar(largest, pa.decimal256(76, 38))
    outside = ~mask_of(pc.fill_null(pc.less(pc.abs(rounded), limit), True))
    kept = nulled(rounded, outside)
    return kept.cast(pa.decimal256(76, wanted.scale)).cast(wanted), bad | too_large | outside


def _shortened(text: str) -> str:
    with localcontext() as context:
        context.prec = 500
        return f"{Decimal(text).quantize(Decimal(1).scaleb(-38)):f}"


def _bool(text: pa.Array, wanted: pa.DataType) -> Cast:
    text = pc.ascii_lower(_trimmed(text))
    true = mask_of(pc.is_in(text, value_set=pa.array(_TRUE)))
    false = mask_of(pc.is_in(text, value_set=pa.array(_FALSE)))
    unknown = ~(true | false)
    return pa.array(true, mask=unknown), unknown & ~mask_of(pc.is_null(text))


def _date(text: pa.Array, wanted: pa.DataType) -> Cast:
    text = _trimmed(text)
    try:
        return pc.cast(text, wanted), None
    except pa.ArrowInvalid:
        pass
    text, bad = _matching(text, rf"^{_DATE}([ T]00:00(:00(\.0{{1,9}})?)?)?$")
    days, wrong = _days(pc.utf8_slice_codeunits(text, 0, 10))
    return pa.array(days.astype("int32"), mask=~mask_of(pc.is_valid(text)) | wrong).cast(wanted), bad | wrong


def _days(text: pa.Array) -> tuple[np.ndarray, np.ndarray]:
    """Days since 1970 of texts YYYY-MM-DD, and a mask of the days that no calendar has (2023-02-30)."""
    stamps = pc.strptime(text, format="%Y-%m-%d", unit="s", error_is_null=True)
    days = np.asarray(pc.fill_null(stamps.cast(pa.int64()), 0)) // 86400
    back = pa.array(days.astype("int32"), pa.date32()).cast(pa.string())
    wrong = mask_of(pc.fill_null(pc.not_equal(back, text), False)) | (
        mask_of(pc.is_null(stamps)) & mask_of(pc.is_valid(text))
    )
    return days, wrong | ((days < FIRST_DAY) & mask_of(pc.is_valid(text)))


def _timestamp(text: pa.Array, wanted: pa.DataType) -> Cast:
    """A zone in the text is honoured: the moment is kept, in UTC."""
    text = _trimmed(text)
    if wanted.tz is None:
        try:
            return pc.cast(text, wanted), None
        except pa.ArrowInvalid:
            pass
    text, bad = _matching(text, _MOMENT)
    parts = pc.extract_regex(text, _MOMENT)
    days, wrong = _days(nulled(parts.field("date"), mask_of(pc.is_null(text))))
    micros = days.astype("int64") * DAY + _time_of_day(parts) - _offset(parts.field("zone"))
    values = pa.array(micros, mask=wrong | mask_of(pc.is_null(text))).cast(pa.timestamp("us", wanted.tz))
    return values.cast(wanted, safe=False), bad | wrong


def _offset(zone: pa.Array) -> np.ndarray:
    signed = pc.extract_regex(zone, r"^(?P<sign>[+-])(?P<hours>[0-9]{2}):?(?P<minutes>[0-9]{2})?$")
    minutes = _number(signed.field("hours"), 0) * 60 + _number(signed.field("minutes"), 0)
    return np.where(mask_of(pc.fill_null(pc.equal(signed.field("sign"), "-"), False)), -minutes, minutes) * 60_000_000


def _time_of_day(parts: pa.StructArray) -> np.ndarray:
    """Microseconds since midnight from the named groups of _TIME."""
    fraction = pc.utf8_slice_codeunits(pc.utf8_rpad(parts.field("fraction"), 6, "0"), 0, 6)
    seconds = (_number(parts.field("hour"), 0) * 60 + _number(parts.field("minute"), 0)) * 60
    return (seconds + _number(parts.field("second"), 0)) * 1_000_000 + _number(fraction, 0)


def _time(text: pa.Array, wanted: pa.DataType) -> Cast:
    text, bad = _matching(_trimmed(text), rf"^{_TIME}$")
    parts = pc.extract_regex(text, rf"^{_TIME}$")
    values = pa.array(_time_of_day(parts), mask=mask_of(pc.is_null(text))).cast(pa.time64("us"))
    return values.cast(wanted, safe=False), bad


def _binary(text: pa.Array, wanted: pa.DataType) -> Cast:
    text, bad = _matching(text, r"^([0-9a-fA-F]{2})*$")
    lengths = np.asarray(pc.fill_null(pc.binary_length(text), 0)) // 2
    joined = pc.binary_join(pa.ListArray.from_arrays([0, len(text)], pc.fill_null(text, "")), "")[0].as_py()
    offsets = np.concatenate([[0], np.cumsum(lengths)]).astype("int32")
    valid = pc.is_valid(text)
    bitmap = pa.array(mask_of(valid)).buffers()[1]
    data = pa.py_buffer(bytes.fromhex(joined))
    return pa.Array.from_buffers(pa.binary(), len(text), [bitmap, pa.py_buffer(offsets), data]), bad


_PARSERS: list[tuple[Callable[[pa.DataType], bool], Callable[[pa.Array, pa.DataType], Cast]]] = [
    (pt.is_integer, _int),
    (pt.is_floating, _float),
    (pt.is_decimal, _decimal),
    (pt.is_boolean, _bool),
    (pt.is_date, _date),
    (pt.is_timestamp, _timestamp),
    (pt.is_time, _time),
    (pt.is_binary, _binary),
    (pt.is_string, lambda text, wanted: (text, None)),
]


def int_range(kind: pa.DataType) -> tuple[int, int]:
    info = np.iinfo(kind.to_pandas_dtype())
    return int(info.min), int(info.max)


def _number(text: pa.Array, default: int) -> np.ndarray:
    """Texts of digits as numbers; an absent one (null or empty) as `default`."""
    text = pc.if_else(pc.equal(text, ""), pa.scalar(None, pa.string()), pc.replace_substring_regex(text, r"^\+", ""))
    return np.asarray(pc.fill_null(pc.cast(text, pa.int64()), default))
