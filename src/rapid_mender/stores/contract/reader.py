"""Rows as a store finds them."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal

import pyarrow as pa

from ...core.existing import Existing
from ...core.schema import TableInfo

_PAGE_ROWS = 1 << 17


@dataclass(frozen=True, slots=True)
class Condition:
    """One comparison of a column with a value, for reading a table; equal to None is what has no value."""

    column: str
    op: Literal["=", ">=", "<=", "<", ">", "contains", "is not null"]
    value: Any = None


Where = Sequence[Sequence[Condition]]
"""Groups of conditions; of each group one holds."""


@dataclass(frozen=True, slots=True)
class Selection:
    """Which rows of a table are wanted."""

    where: Where = ()
    by: str | None = None
    """The column by which they come, ascending; it numbers the rows."""
    limit: int | None = None
    """At most so many: the last ones by `by`."""
    first: bool = False
    """The first ones instead."""
    columns: Sequence[str] | None = None
    """Only these columns; None: all."""


ALL = Selection()
"""Every row, whole."""


class Reader(ABC):
    """The rows of a store's tables."""

    slice_rows = 1 << 15
    """How many records of a chunk, sorted, are looked up and written at once: so many that the pages which they touch
    are still in the store's cache when they are written."""

    def rows_at_once(self, info: TableInfo, key: Sequence[str]) -> int:
        """How many keys to look up at once, if `slice_rows` is not right for this key."""
        return self.slice_rows

    @abstractmethod
    def fetch(
        self,
        info: TableInfo,
        keys: pa.Table,
        fresh: bool = False,
        only: Condition | None = None,
        by: Sequence[str] = (),
    ) -> Existing:
        """The rows whose key equals one of `keys`, by the database's own idea of equal; of these `only` the ones for
        which a condition holds: that a column has a value, or, with None as that, that it has none. `by`: the columns
        by which, beside the key, a row is found again where the store has nothing better.

        `fresh`: also rows that this transaction wrote. Otherwise the caller asks only for keys that it has not
        written yet, and the store may read the table as it was when the transaction began.
        """

    def look_up(self, info: TableInfo, keys: pa.Table) -> Existing:
        """The rows of another table than the one that is written, as `fetch` gives them; none is locked."""
        return self.fetch(info, keys)

    @abstractmethod
    def scan(
        self, info: TableInfo, columns: Sequence[str], fresh: bool = False, key: Sequence[str] = ()
    ) -> Iterator[Existing]:
        """All rows, some at a time, with the values of `columns` only; positions say nothing. Nothing may be
        written until it has ended. `fresh`: with what this transaction wrote. `key`: those of `columns` by which the
        rows are to be found again, where the store has nothing better."""

    def hold(self, info: TableInfo) -> None:  # noqa: B027  most databases have no statement that empties a snapshot
        """See the rows of a table, and all that is read besides, as of this moment until the session ends, also where
        another program empties or rewrites the table: it waits. Only for a session that does not write, before
        anything is read that has to fit the rows."""

    @abstractmethod
    def again(self, info: TableInfo, rows: Existing) -> Existing:
        """The rows of `rows`, all their columns as they are now, in order."""

    @abstractmethod
    def count(self, info: TableInfo, where: Where = ()) -> int:
        """The number of rows, or of those for which conditions hold."""

    @abstractmethod
    def read(self, info: TableInfo, wanted: Selection = ALL) -> Existing:
        """The rows that are wanted of a table."""

    def pages(self, info: TableInfo, wanted: Selection) -> Iterator[Existing]:
        """The rows that are wanted of a table, all of them, some at a time, by the column that numbers them."""
        assert wanted.by is not None
        last: Any = None
        while True:
            more = [[Condition(wanted.by, ">", last)]] if last is not None else []
            page = self.read(info, replace(wanted, where=[*wanted.where, *more], limit=_PAGE_ROWS, first=True))
            if len(page.positions):
                yield page
                last = page.values[wanted.by][-1].as_py()
            if len(page.positions) < _PAGE_ROWS:
                return

    @abstractmethod
    def last(self, name: str, column: str) -> int:
        """The largest value of a whole-number column; 0 in an empty table."""
