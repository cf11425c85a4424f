"""Changing rows, and what a database says to that."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa

from ...core.existing import Existing
from ...core.schema import TableInfo

KEPT = "a trigger seems to have dropped the row, or kept it as it was"
"""The reason where the database said nothing, and a row is not as it was to be."""


Refusals = Mapping[int, str]
"""By the place of a row among those that were sent: the database's own reason for not taking it."""


@dataclass
class Written:
    """Rows that were sent to be written, as they are stored.

    A database may refuse single rows: a foreign key, a check, another unique column. The others are written all
    the same. `refusals` waits until that is known.
    """

    stored: Existing
    rows: np.ndarray | None = None
    """The places of the rows in `stored` among those that were sent; None: `stored` has every row, in order, refused or
    not."""
    refusals: Callable[[], Refusals] = field(default=dict)

    def landed(self, count: int) -> np.ndarray:
        """A mask of the rows that were written, of `count` that were sent."""
        mask = np.ones(count, bool)
        mask[list(self.refusals())] = False
        return mask


def refused_too(refused: Callable[[], Refusals], rows: np.ndarray) -> Callable[[], Refusals]:
    """What was refused, and the rows of which nobody said so."""
    every = {**refused(), **dict.fromkeys(rows.tolist(), KEPT)}
    return lambda: every


@dataclass(frozen=True)
class Load:
    """Rows for a bulk load, in columns of three kinds; a column in none of them is null."""

    values: pa.Table
    """Those with a value of its own in every row."""
    same: Mapping[str, Any] = field(default_factory=dict)
    """Those with the same Python value in every row."""
    verbatim: Mapping[str, tuple[np.ndarray, pa.Table]] = field(default_factory=dict)
    """By column: places, and cells that go in there as the store holds them."""


class Writer(ABC):
    """Changes to the rows of a store's tables."""

    def take_turn(self, info: TableInfo) -> None:  # noqa: B027  most have a lock for that, which ends with a transaction
        """Before a merge into a table: wait for others who merge into it, and have them wait until this transaction
        ends, also those who merge in a transaction of their own."""

    @abstractmethod
    def insert(self, info: TableInfo, values: pa.Table, key: Sequence[str]) -> Written:
        """Insert rows; `values` may lack columns, of the key too if the database fills them."""

    @abstractmethod
    def update(self, info: TableInfo, rows: Existing, values: pa.Table, key: Sequence[str] = ()) -> Written:
        """Set the columns of `values` in `rows`; `key`: the columns that tell them apart, and stay as they are."""

    @abstractmethod
    def delete(self, info: TableInfo, rows: Existing) -> Written:
        """Delete rows; `stored` is `rows`."""

    @abstractmethod
    def move(self, info: TableInfo, rows: Existing, to: TableInfo) -> Written:
        """Delete rows of one table, and insert them, just as they are, into another that has their columns: both, or
        neither where the database refuses one of the two. `stored` is `rows`."""

    @abstractmethod
    def append(self, info: TableInfo, rows: Load, after: Sequence[Written] = ()) -> None:
        """Load rows. Each belongs to a row that was sent to each of `after`; what these were refused is left out."""

    def take_numbers(self, info: TableInfo, count: int, reserved: int | None = None) -> list[int]:
        """The numbers that the database would give the next rows of a table of ours, which nobody else gets, ascending;
        `reserved`: one that was taken in a transaction that was undone. None at all where only a row that is inserted
        tells."""
        return []

    def unrecorded(self, info: TableInfo) -> int:
        """How many rows of a table others than those that were sent have changed in this transaction, by triggers."""
        return 0
