"""Versions of things: which row of a key is in force at a time, and which spans of a key do not fit together."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

import numpy as np
import pyarrow as pa
import pyarrow.types as pt

from .keys import one_array
from .row_numbers import no_rows
from .schema import Column

NEVER = np.int64(np.iinfo(np.int64).max)
"""The instant of no end."""
ALWAYS = np.int64(np.iinfo(np.int64).min)
"""The instant of no beginning."""


def instants(values: pa.Array | pa.ChunkedArray, null: np.int64) -> np.ndarray:
    """Dates or timestamps as whole numbers, in the unit of their type; `null` for those that are."""
    array = one_array(values)
    numbers = array.cast(pa.int32()).cast(pa.int64()) if pt.is_date32(array.type) else array.cast(pa.int64())
    return numbers.fill_null(int(null)).to_numpy(zero_copy_only=False)


def instant_of(moment: datetime, kind: pa.DataType) -> np.int64:
    """A time with a zone as an instant of a type, of UTC."""
    if pt.is_date(kind):
        values = pa.array([moment.date()], pa.date32())
    else:
        values = pa.array([moment], pa.timestamp("us", "UTC")).cast(pa.timestamp(kind.unit, "UTC"), safe=False)
    return instants(values, NEVER)[0]  # type: ignore[no-any-return]


def as_instants(numbers: np.ndarray, kind: pa.DataType, never: pa.Scalar) -> pa.Array:
    """The other way round; `never` stands for no end."""
    none = numbers == NEVER
    given = pa.array(np.where(none, 0, numbers))
    values = given.cast(pa.int32()).cast(kind) if pt.is_date32(kind) else given.cast(kind)
    return pa.compute.if_else(pa.array(none), never, values) if none.any() else values


def spans_of(
    begin: pa.Array | pa.ChunkedArray, end: pa.Array | pa.ChunkedArray, open: np.int64 | None, included: bool
) -> tuple[np.ndarray, np.ndarray]:
    """When versions begin and end, closed-open. `open` is the instant that stands for no end, besides null; `included`:
    the last day is in the span."""
    first, last = instants(begin, ALWAYS), instants(end, NEVER)
    if open is not None:
        last = np.where(last == open, NEVER, last)
    return first, np.where(last == NEVER, last, last + 1) if included else last


def flags_of(column: Column, mask: np.ndarray) -> pa.Array:
    """Flags of versions, as their column has them."""
    values = pa.array(mask)
    return values if pt.is_boolean(column.type) else values.cast(column.type)


@dataclass(frozen=True)
class Found:
    """What some versions are to instants of their keys, one for each: `row` is the place of the version in force, or
    NO_ROW; `until` when the next one begins; `before` the place of the last one that ended, or NO_ROW; `late` masks the
    instants after which a version begins; `odd` those whose key has spans that overlap."""

    row: np.ndarray
    until: np.ndarray
    before: np.ndarray
    late: np.ndarray
    odd: np.ndarray


def versions_at(at: np.ndarray, asked: np.ndarray, begin: np.ndarray, end: np.ndarray) -> Found:
    """Which versions are in force at instants. `asked` has for each version the place of the instant of its key;
    `begin` and `end` are its span, closed-open."""
    count = len(at)
    row, before, until = no_rows(count), no_rows(count), np.full(count, NEVER)
    late, odd = np.zeros(count, bool), np.zeros(count, bool)
    order = np.lexsort((begin, asked))
    who, first, last = asked[order], begin[order], end[order]
    same = who[1:] == who[:-1]
    odd[who[1:][same & ((first[1:] < last[:-1]) | (first[1:] == first[:-1]))]] = True
    odd[who[last < first]] = True
    instant = at[who]
    inside = (first <= instant) & ((instant < last) | (first == instant))
    row[who[inside]] = order[inside]
    after = first > instant
    late[who[after]] = True
    np.minimum.at(until, who[after], first[after])
    ended = ~after & ~inside
    before[who[ended]] = order[ended]  # the last of them, as they are in order
    return Found(row, until, before, late, odd)
