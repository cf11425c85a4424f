"""Guessing how the texts of a column write its values."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.types as pt

from .cast import cast
from .masks import either
from .notation import Notation, rewritten
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
    if not _misfits(texts, column, None):
        return Guess(None)
    fitting = [one for one in _tried(column) if not _misfits(texts, column, one)]
    if not fitting:
        return Guess(None)
    values = [cast(rewritten(texts, column.type, one)[0], column)[0] for one in fitting]
    other = next((one for one, mine in zip(fitting, values, strict=True) if not mine.equals(values[0])), None)
    return Guess(fitting[0], other)


def _tried(column: Column) -> Iterator[Notation]:
    kind = column.type
    if pt.is_date(kind):
        yield from (Notation(date) for date in _DATES)
    elif pt.is_timestamp(kind):
        yield from (Notation(date + time) for time in _TIMES for date in _DATES)
    elif pt.is_time(kind):
        yield from map(Notation, _CLOCKS)
    elif pt.is_integer(kind) or pt.is_floating(kind) or pt.is_decimal(kind):
        yield from _NUMBERS


def _misfits(texts: pa.Array, column: Column, notation: Notation | None) -> int:
    if notation is None:
        bad = cast(texts, column)[1]
    else:
        done, wrong = rewritten(texts, column.type, notation)
        bad = either(cast(done, column)[1], wrong)
    return int(np.count_nonzero(bad)) if bad is not None else 0
