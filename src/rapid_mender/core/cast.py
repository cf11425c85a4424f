"""Casting values to a column's own type, whole columns at a time.

A value that cannot be cast is marked, never raised. Values come in any Arrow type. What Arrow casts
safely is cast directly; everything else is read from its text, by the one parser of the wanted type.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from decimal import Decimal, localcontext

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.types as pt

from .schema import Column

Bad = np.ndarray | None  # a boolean mask of the values that could not be cast; None: all could
Cast = tuple[pa.Array, Bad]

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
_FIRST_DAY, _LAST_DAY = -719162, 2932896  # 0001-01-01 and 9999-12-31, in days since 1970
_DAY = 86_400_000_000


def plain(values: pa.Array | pa.ChunkedArray) -> pa.Array:
    """One contiguous array without dictionaries, views, large offsets or extension types."""
    if isinstance(values, pa.ChunkedArray):
        values = values.combine_chunks() if values.num_chunks != 1 else values.chunk(0)
        if isinstance(values, pa.ChunkedArray):  # a text column too large for one array
            values = pa.concat_arrays(values.cast(pa.large_string()).chunks)
    if isinstance(values, pa.ExtensionArray):
        values = values.storage
    kind = values.type
    if pt.is_dictionary(kind):
        return plain(values.dictionary_decode())
    if pt.is_large_string(kind) or pt.is_string_view(kind):
        return values.cast(pa.string())
    if pt.is_large_binary(kind) or pt.is_binary_view(kind) or pt.is_fixed_size_binary(kind):
        return values.cast(pa.binary())
    if pt.is_float16(kind):
        return values.cast(pa.float32())
    if pt.is_date64(kind):
        return values.cast(pa.date32())
    if pt.is_run_end_encoded(kind):
        return pc.run_end_decode(values)
    return values


def cast(values: pa.Array | pa.ChunkedArray, column: Column) -> Cast:
    """Cast `values` to the type of `column`; bad values come back null and marked."""
    values = plain(values)
    kind, wanted = values.type, column.type
    if pt.is_null(kind):
        return pa.nulls(len(values), wanted), None
    done = _direct(values, wanted)
    if done is None:
        text, unreadable = as_text(values)
        done = _parser(wanted)(text, wanted)
        if unreadable is not None:
            done = done[0], _either(done[1], unreadable)
    return _within_limits(*done, column)


def as_text(values: pa.Array) -> Cast:
    """Any array as text: what a person would write for each value. Bytes that are not UTF-8 are bad."""
    kind = values.type
    if pt.is_string(kind):
        return values, None
    if pt.is_binary(kind):
        try:
            return values.cast(pa.string()), None
        except pa.ArrowInvalid:
            texts = [_utf8(v) for v in values.to_pylist()]
            out = pa.array(texts, pa.string())
            return out, np.asarray(pc.and_(pc.is_valid(values), pc.is_null(out)))
    if pt.is_nested(kind):
        return pa.array(
            [None if v is None else json.dumps(v, ensure_ascii=False, default=str) for v in values.to_pylist()],
            pa.string(),
        ), None
    if pt.is_timestamp(kind):
        return _without_zero_fraction(values.cast(pa.string())), None
    try:
        return values.cast(pa.string()), None
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
        return pa.array([None if v is None else str(v) for v in values.to_pylist()], pa.string()), None


def wanted(column: Column) -> str:
    """What a value of this column must be, in words."""
    kind = column.type
    words = "a value"
    if pt.is_integer(kind):
        words = f"a whole number from {_int_range(kind)[0]} to {_int_range(kind)[1]}"
        if kind == pa.int64():
            words = "a whole number"
    elif pt.is_floating(kind):
        words = "a number"
    elif pt.is_decimal(kind):
        words = f"a number with at most {kind.precision - kind.scale} digits before the point"
    elif pt.is_boolean(kind):
        words = "true or false"
    elif pt.is_date(kind):
        words = "a date (YYYY-MM-DD)"
    elif pt.is_timestamp(kind):
        words = "a date and time (YYYY-MM-DD HH:MM:SS)"
    elif pt.is_time(kind):
        words = "a time of day (HH:MM:SS)"
    elif pt.is_binary(kind):
        words = "bytes (in text: two hexadecimal digits each)"
    elif column.length is not None:
        words = f"a text of at most {column.length} characters"
    elif pt.is_string(kind):
        words = "a text in UTF-8"
    return f"{words} ({column.declared})" if column.declared else words


# -- the direct way ---------------------------------------------------------------------------------


def _direct(values: pa.Array, wanted: pa.DataType) -> Cast | None:
    """The cast that Arrow does safely and with the meaning that SQL gives it; None if there is none."""
    kind = values.type
    if kind == wanted:
        return values, None
    if pt.is_string(wanted):
        return as_text(values)
    if pt.is_string(kind):
        return None
    if pt.is_temporal(kind) and pt.is_temporal(wanted):
        return _temporal(values, wanted)
    number_in = pt.is_integer(kind) or pt.is_floating(kind) or pt.is_decimal(kind)
    same_world = ((number_in or pt.is_boolean(kind)) and (pt.is_integer(wanted) or pt.is_floating(wanted))) or (
        (pt.is_integer(kind) or pt.is_decimal(kind)) and pt.is_decimal(wanted)
    )
    if not same_world:
        return None
    try:
        return values.cast(wanted), None
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
        return None


def _temporal(values: pa.Array, wanted: pa.DataType) -> Cast | None:
    kind = values.type
    if pt.is_timestamp(kind) and pt.is_timestamp(wanted):
        try:
            return values.cast(pa.timestamp(wanted.unit, kind.tz)).cast(wanted), None
        except pa.ArrowInvalid:
            return None
    if (pt.is_date(kind) and pt.is_timestamp(wanted)) or (pt.is_time(kind) and pt.is_time(wanted)):
        try:
            return values.cast(wanted), None
        except pa.ArrowInvalid:
            return None
    return None


# -- from text --------------------------------------------------------------------------------------


def _parser(wanted: pa.DataType) -> Callable[[pa.Array, pa.DataType], Cast]:
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
    bad = ~_mask(ok)
    return _nulled(text, bad), bad


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
    low, high = _int_range(wanted)
    inside = pc.and_(
        pc.greater_equal(values, pa.scalar(low, pa.decimal128(38, 0))),
        pc.less_equal(values, pa.scalar(high, pa.decimal128(38, 0))),
    )
    outside = ~_mask(pc.fill_null(inside, True))
    return pc.cast(_nulled(values, outside), wanted), bad | outside


def _float(text: pa.Array, wanted: pa.DataType) -> Cast:
    text, bad = _trimmed(text), None
    try:
        values = pc.cast(text, pa.float64())
    except pa.ArrowInvalid:
        text, bad = _matching(text, rf"(?:{_NUMBER})|^(?i:[+-]?(?:inf|infinity|nan))$")
        values = pc.cast(pc.replace_substring_regex(text, r"^\+", ""), pa.float64())
    values = values if wanted == pa.float64() else values.cast(wanted, safe=False)
    infinite = _mask(pc.fill_null(pc.is_inf(values), False))
    if infinite.any():  # a number too large for the type, unless the text says infinity itself
        overflow = infinite & _mask(pc.fill_null(pc.match_substring_regex(text, "[0-9]"), False))
        values, bad = _nulled(values, overflow), _either(bad, overflow)
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
    too_large = (before > 37) & ~_mask(pc.is_null(text))
    text = _nulled(text, too_large)
    tiny = (after > 38) & ~_mask(pc.is_null(text))  # digits past the 38th decimal cannot matter to any scale
    if tiny.any():
        values = [None if v is None else _shortened(v) for v in text.filter(pa.array(tiny)).to_pylist()]
        text = pc.replace_with_mask(text, pa.array(tiny), pa.array(values, pa.string()))
    exact = pc.cast(text, pa.decimal256(76, 38))
    rounded = pc.round(exact, ndigits=wanted.scale, round_mode="half_towards_infinity")
    largest = Decimal(10) ** min(wanted.precision - wanted.scale, 37)  # 10^37 is past every value here
    limit = pa.scalar(largest, pa.decimal256(76, 38))
    outside = ~_mask(pc.fill_null(pc.less(pc.abs(rounded), limit), True))
    kept = _nulled(rounded, outside)
    return kept.cast(pa.decimal256(76, wanted.scale)).cast(wanted), bad | too_large | outside


def _shortened(text: str) -> str:
    with localcontext() as context:
        context.prec = 500
        return f"{Decimal(text).quantize(Decimal(1).scaleb(-38)):f}"


def _bool(text: pa.Array, wanted: pa.DataType) -> Cast:
    text = pc.ascii_lower(_trimmed(text))
    true = _mask(pc.is_in(text, value_set=pa.array(_TRUE)))
    false = _mask(pc.is_in(text, value_set=pa.array(_FALSE)))
    unknown = ~(true | false)
    return pa.array(true, mask=unknown), unknown & ~_mask(pc.is_null(text))


def _date(text: pa.Array, wanted: pa.DataType) -> Cast:
    text = _trimmed(text)
    try:
        return pc.cast(text, wanted), None
    except pa.ArrowInvalid:
        pass
    text, bad = _matching(text, rf"^{_DATE}([ T]00:00(:00(\.0{{1,9}})?)?)?$")
    days, wrong = _days(pc.utf8_slice_codeunits(text, 0, 10))
    return pa.array(days.astype("int32"), mask=~_mask(pc.is_valid(text)) | wrong).cast(wanted), bad | wrong


def _days(text: pa.Array) -> tuple[np.ndarray, np.ndarray]:
    """Days since 1970 of texts YYYY-MM-DD, and a mask of the days that no calendar has (2023-02-30)."""
    stamps = pc.strptime(text, format="%Y-%m-%d", unit="s", error_is_null=True)
    days = np.asarray(pc.fill_null(stamps.cast(pa.int64()), 0)) // 86400
    back = pa.array(days.astype("int32"), pa.date32()).cast(pa.string())
    wrong = _mask(pc.fill_null(pc.not_equal(back, text), False)) | (
        _mask(pc.is_null(stamps)) & _mask(pc.is_valid(text))
    )
    return days, wrong | ((days < _FIRST_DAY) & _mask(pc.is_valid(text)))


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
    days, wrong = _days(_nulled(parts.field("date"), _mask(pc.is_null(text))))
    micros = days.astype("int64") * _DAY + _time_of_day(parts) - _offset(parts.field("zone"))
    values = pa.array(micros, mask=wrong | _mask(pc.is_null(text))).cast(pa.timestamp("us", wanted.tz))
    return values.cast(wanted, safe=False), bad | wrong


def _offset(zone: pa.Array) -> np.ndarray:
    signed = pc.extract_regex(zone, r"^(?P<sign>[+-])(?P<hours>[0-9]{2}):?(?P<minutes>[0-9]{2})?$")
    minutes = _number(signed.field("hours"), 0) * 60 + _number(signed.field("minutes"), 0)
    return np.where(_mask(pc.fill_null(pc.equal(signed.field("sign"), "-"), False)), -minutes, minutes) * 60_000_000


def _time_of_day(parts: pa.StructArray) -> np.ndarray:
    """Microseconds since midnight from the named groups of _TIME."""
    fraction = pc.utf8_slice_codeunits(pc.utf8_rpad(parts.field("fraction"), 6, "0"), 0, 6)
    seconds = (_number(parts.field("hour"), 0) * 60 + _number(parts.field("minute"), 0)) * 60
    return (seconds + _number(parts.field("second"), 0)) * 1_000_000 + _number(fraction, 0)


def _time(text: pa.Array, wanted: pa.DataType) -> Cast:
    text, bad = _matching(_trimmed(text), rf"^{_TIME}$")
    parts = pc.extract_regex(text, rf"^{_TIME}$")
    values = pa.array(_time_of_day(parts), mask=_mask(pc.is_null(text))).cast(pa.time64("us"))
    return values.cast(wanted, safe=False), bad


def _binary(text: pa.Array, wanted: pa.DataType) -> Cast:
    text, bad = _matching(text, r"^([0-9a-fA-F]{2})*$")
    lengths = np.asarray(pc.fill_null(pc.binary_length(text), 0)) // 2
    joined = pc.binary_join(pa.ListArray.from_arrays([0, len(text)], pc.fill_null(text, "")), "")[0].as_py()
    offsets = np.concatenate([[0], np.cumsum(lengths)]).astype("int32")
    valid = pc.is_valid(text)
    bitmap = pa.array(_mask(valid)).buffers()[1]
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


# -- limits -----------------------------------------------------------------------------------------


def _within_limits(values: pa.Array, bad: Bad, column: Column) -> Cast:
    kind, beyond = column.type, None
    if pt.is_string(kind) and column.length is not None:
        beyond = pc.greater(pc.utf8_length(values), column.length)
    elif pt.is_floating(kind) and not column.nan:
        beyond = pc.is_nan(values)
    elif pt.is_date(kind):
        days = values.cast(pa.int32())
        beyond = pc.or_(pc.less(days, _FIRST_DAY), pc.greater(days, _LAST_DAY))
    elif pt.is_timestamp(kind) and kind.unit in ("s", "ms", "us"):
        unit = _DAY // {"s": 1_000_000, "ms": 1000, "us": 1}[kind.unit]
        ticks = values.cast(pa.int64())
        beyond = pc.or_(pc.less(ticks, _FIRST_DAY * unit), pc.greater_equal(ticks, (_LAST_DAY + 1) * unit))
    if beyond is None or not pc.any(beyond).as_py():
        return values, bad
    mask = _mask(pc.fill_null(beyond, False))
    return _nulled(values, mask), _either(bad, mask)


def _int_range(kind: pa.DataType) -> tuple[int, int]:
    info = np.iinfo(kind.to_pandas_dtype())
    return int(info.min), int(info.max)


def _number(text: pa.Array, default: int) -> np.ndarray:
    """Texts of digits as numbers; an absent one (null or empty) as `default`."""
    text = pc.if_else(pc.equal(text, ""), pa.scalar(None, pa.string()), pc.replace_substring_regex(text, r"^\+", ""))
    return np.asarray(pc.fill_null(pc.cast(text, pa.int64()), default))


def _without_zero_fraction(text: pa.Array) -> pa.Array:
    return pc.replace_substring_regex(text, r"\.0+(Z?)$", r"\1")


def _mask(values: pa.Array) -> np.ndarray:
    return values.to_numpy(zero_copy_only=False).astype(bool, copy=False)


def _nulled(values: pa.Array, mask: np.ndarray) -> pa.Array:
    return pc.if_else(pa.array(mask), pa.scalar(None, values.type), values) if mask.any() else values


def _either(one: Bad, other: Bad) -> Bad:
    if one is None or other is None:
        return one if other is None else other
    return one | other


def _utf8(value: bytes | None) -> str | None:
    try:
        return None if value is None else value.decode()
    except UnicodeDecodeError:
        return None
