"""Reading values from their text: one parser for each type, whole columns at a time.

A text that is no value of the type is marked, never raised.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.types as pt

from .masks import Marks, either, mask_of, nulled, some

Cast = tuple[pa.Array, Marks]
"""Values, and a mask of those that could not be cast."""

FIRST_DAY, LAST_DAY = -719162, 2932896  # 0001-01-01 and 9999-12-31, in days since 1970
_NUMBER = r"^[+-]?(?:[0-9]+\.?[0-9]*|\.[0-9]+)(?:[eE][+-]?[0-9]+)?$"
_WORD = "^(?i:[+-]?(?:inf|infinity|nan))$"
_PARTS = r"^(?P<sign>[+-]?)0*(?P<whole>[0-9]*)\.?(?P<part>[0-9]*)(?:[eE](?P<power>[+-]?[0-9]+))?$"
_DATE = r"(?P<date>[0-9]{4}-[0-9]{2}-[0-9]{2})"
_TIME = (
    r"(?P<hour>[01][0-9]|2[0-3]):(?P<minute>[0-5][0-9])"
    r"(?::(?P<second>[0-5][0-9])(?:\.(?P<fraction>[0-9]{1,9}))?)?"
)
_ZONE = r"(?P<zone>[Zz]|[+-](?:[01][0-9]|2[0-3])(?::?[0-5][0-9])?)?"
_MOMENT = rf"^{_DATE}(?:[ T]{_TIME})?{_ZONE}$"
_TRUE = ("true", "t", "yes", "y", "1", "1.0", "on")
_FALSE = ("false", "f", "no", "n", "0", "0.0", "off")


def parser_of(wanted: pa.DataType) -> Callable[[pa.Array, pa.DataType], Cast]:
    for test, parser in _PARSERS:
        if test(wanted):
            return parser
    return lambda text, kind: (pa.nulls(len(text), kind), mask_of(pc.is_valid(text)))  # lists, records, durations


def trimmed(text: pa.Array) -> pa.Array:
    """Without blanks around; an empty text is no value for a type that is not text."""
    text = pc.utf8_trim_whitespace(text)
    return pc.if_else(pc.equal(text, ""), pa.scalar(None, pa.string()), text)


def _matching(text: pa.Array, pattern: str) -> tuple[pa.Array, np.ndarray]:
    """The texts that match, the others null; and a mask of those that are not null and do not match."""
    ok = pc.fill_null(pc.match_substring_regex(text, pattern), True)
    bad = ~mask_of(ok)
    return nulled(text, bad), bad


def _int(text: pa.Array, wanted: pa.DataType) -> Cast:
    text = trimmed(text)
    try:
        if not _has(text, b"xX"):  # Arrow reads 0x10
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
    text, bad = trimmed(text), None
    try:
        if not _has(text, b"("):  # Arrow reads nan(1)
            return as_narrow(pc.cast(text, pa.float64()), wanted, text)
    except pa.ArrowInvalid:
        pass
    text, bad = _matching(text, f"{_NUMBER}|{_WORD}")
    values, beyond = as_narrow(pc.cast(pc.replace_substring_regex(text, r"^\+", ""), pa.float64()), wanted, text)
    return values, either(bad, beyond)


def as_narrow(values: pa.Array, wanted: pa.DataType, text: pa.Array | None = None) -> Cast:
    """64-bit floats as `wanted`. What becomes infinite is bad, unless it was: as `text`, if given, it has no digit."""
    infinite = mask_of(pc.is_inf(values))
    if text is not None and infinite.any():
        infinite &= ~mask_of(pc.match_substring_regex(text, "[0-9]"))
    elif wanted == pa.float64():
        return values, None
    values = values if wanted == pa.float64() else values.cast(wanted, safe=False)
    beyond = mask_of(pc.is_inf(values)) & ~infinite
    return nulled(values, beyond), some(beyond)


def _has(text: pa.Array, letters: bytes) -> bool:
    """Whether any of the (ASCII) letters is in any of the texts."""
    data = text.buffers()[2]
    if data is None or not len(text):
        return False
    ends = np.frombuffer(text.buffers()[1], np.int32)[[text.offset, text.offset + len(text)]]
    written = np.frombuffer(data, np.uint8)[ends[0] : ends[1]]
    return any(bool((written == letter).any()) for letter in letters)


def _longest(text: pa.Array) -> int:
    return pc.max(pc.binary_length(text)).as_py() or 0


def _decimal(text: pa.Array, wanted: pa.DataType) -> Cast:
    """Rounded half away from zero to the column's scale, as databases assign."""
    text = trimmed(text)
    widest = 76 if pt.is_decimal256(wanted) else 38
    if _longest(text) <= widest - wanted.scale and not _has(text, b"eE"):  # else Arrow's digits may overflow
        try:
            return pc.cast(text, wanted), None
        except pa.ArrowInvalid:
            pass
    text, bad = _matching(text, _NUMBER)
    parts = pc.extract_regex(text, _PARTS)
    whole, part = parts.field("whole"), parts.field("part")
    outside = np.zeros(len(text), bool)
    if _has(text, b"eE"):
        whole, part, outside = _shifted(whole, part, parts.field("power"), wanted.scale, widest)
    outside = outside | (np.asarray(pc.fill_null(pc.utf8_length(whole), 0)) > wanted.precision - wanted.scale)
    padded = pc.utf8_rpad(part, wanted.scale + 1, "0")
    digits = pc.binary_join_element_wise(whole, pc.utf8_slice_codeunits(padded, 0, wanted.scale), "")
    up = mask_of(pc.greater_equal(pc.utf8_slice_codeunits(padded, wanted.scale, wanted.scale + 1), "5"))
    outside |= up & mask_of(pc.equal(digits, "9" * wanted.precision))
    outside &= mask_of(pc.is_valid(text))
    usable = pc.is_valid(text) if not outside.any() else pa.array(mask_of(pc.is_valid(text)) & ~outside)
    digits = pc.if_else(usable, pc.if_else(pc.equal(digits, ""), "0", digits), "0")
    counts = pc.cast(digits, pa.decimal256(76, 0) if widest == 76 else pa.decimal128(38, 0))
    negative = mask_of(pc.equal(parts.field("sign"), "-"))
    mask = ~mask_of(usable)
    return _scaled(counts, up & ~mask, negative & ~mask, mask, wanted), bad | outside


def _shifted(
    whole: pa.Array, part: pa.Array, power: pa.Array, scale: int, widest: int
) -> tuple[pa.Array, pa.Array, np.ndarray]:
    """Digits before and after the point, moved by a power of ten; and a mask of what is past every number here.

    The loop runs over the different powers, of which there are few that leave a number in reach.
    """
    valid = mask_of(pc.is_valid(whole))
    power = pc.if_else(pc.equal(power, ""), pa.scalar(None, pa.string()), power)
    short = pc.replace_substring_regex(pc.replace_substring_regex(power, r"^(\+|(-))?0*", r"\2"), "^-?$", "0")
    far = pc.if_else(pc.starts_with(short, "-"), pa.scalar(-(10**9)), pa.scalar(10**9))
    digits = pc.if_else(pc.less(pc.utf8_length(short), 10), short, pa.scalar("0"))
    moves = pc.if_else(pc.less(pc.utf8_length(short), 10), pc.cast(digits, pa.int64()), far)
    moved = np.asarray(pc.fill_null(moves, 0))
    zeros = np.asarray(pc.fill_null(pc.utf8_length(pc.replace_substring_regex(part, "[1-9].*$", "")), 0))
    none = mask_of(pc.and_(pc.equal(whole, ""), pc.match_substring_regex(part, "^0*$")))
    before = np.asarray(pc.fill_null(pc.utf8_length(whole), 0))
    size = np.where(before > 0, before, -zeros) + moved  # the digits before the point, or minus the zeros behind it
    huge = (size > widest) & ~none & valid
    tiny = (none | (size < -scale - 1)) & valid
    moved = np.where(huge | tiny, 0, moved)
    blank = pa.array(huge | tiny)
    whole, part = pc.if_else(blank, "", whole), pc.if_else(blank, "", part)
    for step in np.unique(moved[moved != 0]).tolist():
        here = pa.array(moved == step)
        w, p = whole.filter(here), part.filter(here)
        if step > 0:
            p = pc.utf8_rpad(p, step, "0")
            w, p = (
                pc.binary_join_element_wise(w, pc.utf8_slice_codeunits(p, 0, step), ""),
                pc.utf8_slice_codeunits(p, step),
            )
        else:
            w = pc.utf8_lpad(w, -step, "0")
            w, p = (
                pc.utf8_slice_codeunits(w, 0, step),
                pc.binary_join_element_wise(pc.utf8_slice_codeunits(w, step), p, ""),
            )
        whole, part = pc.replace_with_mask(whole, here, pc.utf8_ltrim(w, "0")), pc.replace_with_mask(part, here, p)
    return whole, part, huge


def _scaled(counts: pa.Array, up: np.ndarray, negative: np.ndarray, mask: np.ndarray, wanted: pa.DataType) -> pa.Array:
    """Whole counts of the last digit, one more where `up`, as decimals of a scale."""
    words = np.frombuffer(counts.buffers()[1], np.uint64).reshape(-1, counts.type.byte_width // 8)
    words = words[counts.offset : counts.offset + len(counts)].copy()
    words[negative] = ~words[negative]  # minus a number is its complement plus one, minus one more than it less one
    step = np.where(negative, np.where(up, 0, 1), up.astype(np.int64)).astype(np.uint64)
    for place in range(words.shape[1]):
        words[:, place] += step
        step = ((words[:, place] == 0) & (step == 1)).astype(np.uint64)
    return pa.Array.from_buffers(wanted, len(mask), [pa.array(~mask).buffers()[1], pa.py_buffer(words)])


def _bool(text: pa.Array, wanted: pa.DataType) -> Cast:
    text = pc.ascii_lower(trimmed(text))
    true = mask_of(pc.is_in(text, value_set=pa.array(_TRUE)))
    false = mask_of(pc.is_in(text, value_set=pa.array(_FALSE)))
    unknown = ~(true | false)
    return pa.array(true, mask=unknown), unknown & ~mask_of(pc.is_null(text))


def _date(text: pa.Array, wanted: pa.DataType) -> Cast:
    text = trimmed(text)
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
    text = trimmed(text)
    plain = _of_lengths(text, 10, 16, 19) if wanted.tz is None else _in_utc(text)
    if plain and (wanted.unit != "ns" or _near_today(text)):
        try:
            return pc.cast(text, wanted), None
        except pa.ArrowInvalid:
            pass
    text, bad = _matching(text, _MOMENT)
    parts = pc.extract_regex(text, _MOMENT)
    days, wrong = _days(nulled(parts.field("date"), mask_of(pc.is_null(text))))
    second, nanos = _time_of_day(parts)
    second += days.astype("int64") * 86_400 - _offset(parts.field("zone"))
    unit = PER_SECOND[wanted.unit]
    if wanted.unit == "ns":
        low, high = divmod(-(2**63), unit), divmod(2**63 - 1, unit)
        beyond = (second < low[0]) | ((second == low[0]) & (nanos < low[1])) | (second > high[0])
        beyond |= (second == high[0]) & (nanos > high[1])
        wrong = wrong | (beyond & mask_of(pc.is_valid(text)))
        second = np.where(wrong, 0, second)
    ticks = second * unit + nanos // (10**9 // unit)
    return pa.array(ticks, mask=wrong | mask_of(pc.is_null(text))).cast(wanted), bad | wrong


PER_SECOND = {"s": 1, "ms": 1000, "us": 1_000_000, "ns": 1_000_000_000}


def _of_lengths(text: pa.Array, *lengths: int) -> bool:
    """Whether every text has one of the lengths, in bytes, or more than the last of them: Arrow reads 10 for 10:00."""
    lengths_of = np.asarray(pc.fill_null(pc.binary_length(text), lengths[0]))
    return bool((np.isin(lengths_of, lengths) | (lengths_of > lengths[-1])).all())


def _in_utc(text: pa.Array) -> bool:
    """Whether every text has seconds, a Z at its end, and a year from 1 on."""
    zoned = pc.and_(pc.ends_with(text, "Z"), pc.greater_equal(text, "0001"))
    return _of_lengths(text, 20) and bool(pc.all(pc.fill_null(zoned, True)).as_py())


def _near_today(text: pa.Array) -> bool:
    """Whether every year is one of which a 64-bit number can count the nanoseconds."""
    ends = pc.min_max(text).as_py()
    return ends["min"] is None or (ends["min"] >= "1678" and ends["max"] < "2262")


def _offset(zone: pa.Array) -> np.ndarray:
    """Seconds that a zone is ahead of UTC."""
    signed = pc.extract_regex(zone, r"^(?P<sign>[+-])(?P<hours>[0-9]{2}):?(?P<minutes>[0-9]{2})?$")
    minutes = _number(signed.field("hours"), 0) * 60 + _number(signed.field("minutes"), 0)
    return np.where(mask_of(pc.fill_null(pc.equal(signed.field("sign"), "-"), False)), -minutes, minutes) * 60


def _time_of_day(parts: pa.StructArray) -> tuple[np.ndarray, np.ndarray]:
    """Seconds since midnight from the named groups of _TIME, and the nanoseconds beyond."""
    minutes = _number(parts.field("hour"), 0) * 60 + _number(parts.field("minute"), 0)
    return minutes * 60 + _number(parts.field("second"), 0), _number(pc.utf8_rpad(parts.field("fraction"), 9, "0"), 0)


def _time(text: pa.Array, wanted: pa.DataType) -> Cast:
    text, bad = _matching(trimmed(text), rf"^{_TIME}$")
    second, nanos = _time_of_day(pc.extract_regex(text, rf"^{_TIME}$"))
    unit = PER_SECOND[wanted.unit]
    ticks = (second * unit + nanos // (10**9 // unit)).astype(f"int{wanted.bit_width}")
    return pa.array(ticks, mask=mask_of(pc.is_null(text))).cast(wanted), bad


def _binary(text: pa.Array, wanted: pa.DataType) -> Cast:
    text, bad = _matching(pc.utf8_trim_whitespace(text), r"^([0-9a-fA-F]{2})*$")
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
