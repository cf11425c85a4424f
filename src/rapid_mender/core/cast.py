"""Casting values to a column's own type, whole columns at a time.

A value that cannot be cast is marked, never raised. Values come in any Arrow type. What Arrow casts
safely is cast directly; everything else is read from its text, by the one parser of the wanted type.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from decimal import Decimal
from uuid import UUID

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.types as pt

from .masks import Marks, either, mask_of, nulled, some
from .parsers import FIRST_DAY, LAST_DAY, PER_SECOND, Cast, as_narrow, int_range, parser_of
from .schema import Column


def plain(values: pa.Array | pa.ChunkedArray) -> pa.Array:
    """One contiguous array without dictionaries, views, large offsets or extension types."""
    if isinstance(values, pa.ChunkedArray):
        values = values.combine_chunks() if values.num_chunks != 1 else values.chunk(0)
        if isinstance(values, pa.ChunkedArray):  # a text column too large for one array
            values = pa.concat_arrays(values.cast(pa.large_string()).chunks)
    if isinstance(values, pa.ExtensionArray):
        named = values.type.extension_name == "arrow.uuid"
        values = _uuid_texts(values.storage) if named else values.storage
    kind = values.type
    if pt.is_dictionary(kind):
        if pt.is_string_view(kind.value_type):
            values = pa.DictionaryArray.from_arrays(values.indices, values.dictionary.cast(pa.string()))
        return plain(values.dictionary_decode())
    if pt.is_large_string(kind) or pt.is_large_binary(kind):  # a slice first by itself: casts keep where it began
        values = pa.concat_arrays([values, values.slice(0, 0)]) if values.offset else values
    if pt.is_large_string(kind) or pt.is_string_view(kind):
        return values.cast(pa.string())
    if pt.is_large_binary(kind) or pt.is_binary_view(kind) or pt.is_fixed_size_binary(kind):
        return values.cast(pa.binary())
    if pt.is_float16(kind):
        return values.cast(pa.float32())
    if pt.is_date64(kind):
        return values.cast(pa.date32(), safe=False)  # what stands beside the day is no part of it
    if pt.is_run_end_encoded(kind):
        return pc.run_end_decode(values)
    return values


def cast(values: pa.Array | pa.ChunkedArray, column: Column) -> Cast:
    """Cast `values` to the type of `column`; bad values come back null and marked."""
    values = plain(values)
    kind, wanted = values.type, column.type
    if values.null_count == len(values):
        return pa.nulls(len(values), wanted), None
    if pt.is_timestamp(kind) and kind.tz not in (None, "UTC") and pt.is_temporal(wanted):
        values = values.cast(pa.timestamp(kind.unit, "UTC"))  # in which no time of day is past the ends of time
    done = _direct(values, wanted)
    if done is None:
        text, unreadable = as_text(values)
        done = parser_of(wanted)(text, wanted)
        if unreadable is not None:
            done = done[0], either(done[1], unreadable)
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
        if textual(kind) != kind:
            values = values.cast(textual(kind))
        return pa.array(
            [None if v is None else json.dumps(v, ensure_ascii=False, default=str) for v in values.to_pylist()],
            pa.string(),
        ), None
    if pt.is_timestamp(kind):
        return _without_zero_fraction(values.cast(pa.string())), None
    if pt.is_duration(kind):
        ticks = values.cast(pa.int64()).to_pylist()
        return pa.array([None if v is None else _span(v, kind.unit) for v in ticks], pa.string()), None
    if pt.is_decimal(kind):
        return _without_power(values.cast(pa.string())), None
    try:
        return values.cast(pa.string()), None
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
        return pa.array([None if v is None else str(v) for v in values.to_pylist()], pa.string()), None


def hexadecimal(values: pa.Array) -> pa.Array:
    """Bytes as text, two letters each."""
    return pa.array([None if value is None else value.hex() for value in values.to_pylist()], pa.string())


def textual(kind: pa.DataType) -> pa.DataType:
    """A type with texts in place of dates and times, within lists and records too: Python has none past year 9999."""
    if pt.is_temporal(kind):
        return pa.string()
    if pt.is_list(kind) or pt.is_large_list(kind) or pt.is_fixed_size_list(kind):
        return kind if textual(kind.value_type) == kind.value_type else pa.list_(textual(kind.value_type))
    if pt.is_struct(kind):
        return pa.struct([(one.name, textual(one.type)) for one in kind])
    return kind


def wanted(column: Column) -> str:
    """What a value of this column must be, in words."""
    kind = column.type
    words = "a value"
    if column.years:
        words = "a year of four digits, from 1901 to 2155, or 0"
    elif pt.is_integer(kind):
        words = f"a whole number from {int_range(kind)[0]} to {int_range(kind)[1]}"
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
    elif column.labels:
        words = f"one of {', '.join(column.labels)}"
    elif column.length is not None:
        words = f"a text of at most {column.length} characters"
    elif pt.is_string(kind) and not column.normalises:
        words = "a text in UTF-8"
    elif not pt.is_string(kind):
        words = f"a value of type {kind}"
    return f"{words} ({column.declared})" if column.declared else words


# -- the direct way ---------------------------------------------------------------------------------


def _direct(values: pa.Array, wanted: pa.DataType) -> Cast | None:
    """The cast that Arrow does exactly and with the meaning that SQL gives it; None if there is none."""
    kind = values.type
    if kind == wanted:
        return values, None
    if pt.is_string(wanted):
        return as_text(values)
    if pt.is_float32(kind) and pt.is_float64(wanted):
        return values.cast(pa.string()).cast(wanted), None  # 0.1, not the 0.10000000149011612 that its 32 bits are
    if pt.is_floating(kind) and pt.is_floating(wanted):
        return as_narrow(values.cast(pa.float64()), wanted)
    if pt.is_floating(kind) and pt.is_integer(wanted):
        return _whole(values.cast(pa.float64()), wanted)
    if not any(test(kind, wanted) for test in _EXACT):
        return None
    try:
        if pt.is_timestamp(kind) and pt.is_timestamp(wanted):
            values = values.cast(pa.timestamp(wanted.unit, kind.tz))
        return values.cast(wanted), None
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
        return None


def _whole(values: pa.Array, wanted: pa.DataType) -> Cast:
    numbers, present = values.fill_null(0.0).to_numpy(), mask_of(values.is_valid())
    low, high = int_range(wanted)
    good = (np.trunc(numbers) == numbers) & (numbers >= float(low)) & (numbers < float(high + 1))
    bad = present & ~good
    whole = np.where(bad, 0.0, numbers).astype(wanted.to_pandas_dtype())
    return pa.array(whole, wanted, mask=~present | bad), some(bad)


def _digits(kind: pa.DataType) -> int:
    """The most digits before the point."""
    return kind.precision - kind.scale if pt.is_decimal(kind) else len(str(int_range(kind)[1]))


def _fine(kind: pa.DataType) -> bool:
    return pt.is_timestamp(kind) and kind.unit == "ns"


_EXACT: list[Callable[[pa.DataType, pa.DataType], bool]] = [
    lambda kind, to: (pt.is_integer(kind) or pt.is_boolean(kind)) and (pt.is_integer(to) or pt.is_floating(to)),
    lambda kind, to: pt.is_decimal(kind) and pt.is_integer(to),
    # what Arrow multiplies by a power of ten may overflow before it looks
    lambda kind, to: (
        (pt.is_integer(kind) or pt.is_decimal(kind))
        and pt.is_decimal(to)
        and _digits(kind) + to.scale <= (76 if pt.is_decimal256(to) else 38)
    ),
    lambda kind, to: (
        (pt.is_timestamp(kind) or pt.is_date(kind)) and pt.is_timestamp(to) and (_fine(kind) or not _fine(to))
    ),
    lambda kind, to: pt.is_time(kind) and pt.is_time(to),
]
"""From which type to which Arrow casts as is wanted, or raises; all else goes by the values' text."""


def _within_limits(values: pa.Array, bad: Marks, column: Column) -> Cast:
    kind, beyond = column.type, None
    if column.trims:
        values = pc.utf8_rtrim(values, characters=" ")
    if column.fraction is not None:
        ticks = values.cast(pa.int64()).fill_null(0).to_numpy()
        kept = pa.array(ticks - ticks % 10 ** (6 - column.fraction), mask=mask_of(pc.is_null(values)))
        values = kept.cast(kind)
    if pt.is_string(kind) and column.length is not None:
        beyond = pc.greater(pc.utf8_length(values), column.length)
    elif pt.is_floating(kind) and not column.nan:
        beyond = pc.is_nan(values)
    elif column.years:  # the database would make another year of one with two digits
        beyond = pc.and_(pc.not_equal(values, 0), pc.or_(pc.less(values, 1901), pc.greater(values, 2155)))
    elif pt.is_date(kind):
        days = values.cast(pa.int32())
        beyond = pc.or_(pc.less(days, FIRST_DAY), pc.greater(days, LAST_DAY))
    elif pt.is_timestamp(kind) and kind.unit in ("s", "ms", "us"):
        unit = 86_400 * PER_SECOND[kind.unit]
        ticks = values.cast(pa.int64())
        beyond = pc.or_(pc.less(ticks, FIRST_DAY * unit), pc.greater_equal(ticks, (LAST_DAY + 1) * unit))
    if beyond is None or not pc.any(beyond).as_py():
        return values, bad
    mask = mask_of(pc.fill_null(beyond, False))
    return nulled(values, mask), either(bad, mask)


def _without_zero_fraction(text: pa.Array) -> pa.Array:
    return pc.replace_substring_regex(text, r"\.0+(Z?)$", r"\1")


def _span(ticks: int, unit: str) -> str:
    """A duration as hours, minutes and seconds."""
    seconds, rest = divmod(abs(ticks), PER_SECOND[unit])
    part = f".{rest * (10**9 // PER_SECOND[unit]):09}".rstrip("0") if rest else ""
    return f"{'-' if ticks < 0 else ''}{seconds // 3600:02}:{seconds // 60 % 60:02}:{seconds % 60:02}{part}"


def _uuid_texts(values: pa.Array) -> pa.Array:
    return pa.array([None if v is None else str(UUID(bytes=v)) for v in values.to_pylist()], pa.string())


def _without_power(text: pa.Array) -> pa.Array:
    """Decimals all with their digits: Arrow writes 0E-10."""
    powers = mask_of(pc.match_substring(text, "E"))
    if not powers.any():
        return text
    coded = text.filter(pa.array(powers)).dictionary_encode()
    plain = pa.array([f"{Decimal(one):f}" for one in coded.dictionary.to_pylist()], pa.string())
    return pc.replace_with_mask(text, pa.array(powers), plain.take(coded.indices))


def _utf8(value: bytes | None) -> str | None:
    try:
        return None if value is None else value.decode()
    except UnicodeDecodeError:
        return None
