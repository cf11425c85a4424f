"""What a source of records gives: chunks, and the records that it could not read."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np
import pyarrow as pa

from .broken import BrokenRecords


@dataclass(frozen=True, slots=True)
class Chunk:
    """Records that send the same columns, as they came.

    `rows` are their numbers: the line of a text file on which each begins, else its place, from 1.
    """

    raw: pa.Table
    rows: np.ndarray
    again: bool = False
    """Their keys came in chunks before."""

    def slice(self, start: int, count: int) -> Chunk:
        return Chunk(self.raw.slice(start, count), self.rows[start : start + count], self.again)


FORMATS = ("csv", "tsv", "jsonl", "json", "parquet", "arrow", "excel")


@dataclass(frozen=True, slots=True)
class Options:
    """How a file is written."""

    delimiter: str = ","
    quote: str = '"'
    skip: int = 0
    """How many lines, or rows of a sheet, stand before the names of the columns."""
    encoding: str = "utf-8"
    nulls: tuple[str, ...] = ("",)
    sheet: str | None = None
    """Which sheet of a workbook; None: the first."""
    format: str | None = None
    """One of `FORMATS`; None: by the ending of the file."""


@dataclass
class Source(ABC):
    """A source of records. Iterating gives chunks; `broken` grows meanwhile."""

    name: str
    unit: str = "row"
    """What `rows` counts: "line" or "row"."""
    in_memory: bool = False
    """The chunks are slices of something that is in memory anyway."""
    at_hand: bool = False
    """Nobody is waited for while it is read."""
    ragged: bool = False
    """A record may lack columns that others have."""
    only_once: bool = False
    """It can be read once only, and so must not be looked at beforehand."""
    size: int | None = None
    """Bytes, where they are known; `done` says how many are read."""
    broken: BrokenRecords = field(default_factory=BrokenRecords)

    @abstractmethod
    def __iter__(self) -> Iterator[Chunk]: ...

    @property
    def schema(self) -> pa.Schema | None:
        """The columns with which all records come; None if that shows only when they are read."""
        return None

    @property
    def few(self) -> bool:
        """It is at hand, and has few records: it is read within the transaction in which they are merged."""
        return False

    @property
    def done(self) -> int:
        return 0

    def place(self, row: int) -> str | None:
        """Where a record is, if its number alone does not tell."""
        return None
