"""Guessing how the texts of a column write its values."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.types as pt

from .notation import Notation, is_number, read_values
from .schema import Column

NULL_WORDS = ("NULL", "null", "\\N", "N/A", "n/a", "NA", "#N/A", "NaN", "nan", "None", "-", "--", "?")
"""What is written for no value, by databases, spreadsheets and people."""
_DATES = (
    "%d.%m.%Y", "%d/%m/%Y", "%m/%d/%Y", "%d-%m-%Y", "%m-%d-%Y", "%Y/%m/%d", "%Y.%m.%d", "%Y%m%d", "%d.%m.%y",
    "%m/%d/%y", "%d/%m/%y", "%d-%b-%Y", "%d %b %Y", "%b %d, %Y", "%d-%b-%y",
)  # fmt: skip
_TIMES = ("", " %H:%M", " %H:%M:%S", " %H:%M:%S.%f", " %I:%M %p", " %I:%M:%S %p", "T%H:%M:%S")
_CLOCKS = ("%I:%M %p", "%I:%M:%S %p", "%H.%M", "%Hh%M")
_NUMBERS = (
    Notation(None, ","), Notation(None, ",", "."), Notation(None, ",", " "), Notation(None, ".", ","),
    Notation(None, ".", " "), Notation(None, ".", "'"), Notation(None, ",", "'"),
)  # fmt: skip


class Guess(NamedTuple):
    """How a column is written: None if as usual; and which other notation its texts would fit as well, with another
    meaning."""

    notation: Notation | None
    other: Notation | None = None


def null_words(texts: pa.Array, column: Column) -> list[str]:
    """The words for no value among the texts of a column that takes no texts."""
    if pt.is_string(column.type):
        return []
    there = pc.unique(pc.utf8_trim_whitespace(texts))
    return [word for word in there.filter(pc.is_in(there, value_set=pa.array(NULL_WORDS))).to_pylist() if word]


def guess_notation(texts: pa.Array, column: Column) -> Guess:
    """How texts write the values of a column, where they do not fit it as they are."""
    if _fitting(texts, column, None) is not None:
        return Guess(None)
    fitting = [(one, values) for one in _tried(column) if (values := _fitting(texts, column, one)) is not None]
    if not fitting:
        return Guess(None)
    best, meant = fitting[0]
    return Guess(best, next((one for one, values in fitting if not values.equals(meant)), None))


def _tried(column: Column) -> Iterator[Notation]:
    kind = column.type
    if pt.is_date(kind):
        yield from (Notation(date) for date in _DATES)
    elif pt.is_timestamp(kind):
        yield from (Notation(date + time) for time in _TIMES for date in _DATES)
    elif pt.is_time(kind):
        yield from map(Notation, _CLOCKS)
    elif is_number(kind):
        yield from _NUMBERS


def _fitting(texts: pa.Array, column: Column, notation: Notation | None) -> pa.Array | None:
    """The values of texts in a notation; None if some do not fit the column."""
    values, bad = read_values(texts, column, notation)
    return None if bad is not None and bad.any() else values
