"""What a store must do."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass, field
from typing import Any, Literal, NamedTuple

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.existing import Existing
from ..core.keys import fold_table, one_array
from ..core.names import closest
from ..core.schema import Column, TableInfo
from ..errors import JobError, StoreError

Normalised = tuple[pa.Table, dict[str, Any]]


@dataclass(frozen=True, slots=True)
class Condition:
    """One comparison of a column with a value, for reading a table."""

    column: str
    op: Literal["=", ">=", "<=", "<", ">", "contains"]
    value: Any


def kept(normalised: Normalised) -> pa.Table:
    """Settled values, null where the store cannot hold them."""
    values, refused = normalised
    for name, mask in refused.items():
        column = one_array(values[name])
        place = values.column_names.index(name)
        values = values.set_column(place, name, pc.if_else(pa.array(mask), pa.scalar(None, column.type), column))
    return values


class Refused(StoreError):
    """The database does not take a row: a constraint, or a trigger that says no. `reason` is its own."""

    def __init__(
        self, where: str, reason: str, constraint: str = "", unique: bool = False, refers: bool = False
    ) -> None:
        """`unique`: another row has the same value; `refers`: a row that is referred to is not there."""
        self.reason, self.constraint, self.unique = reason, constraint, unique
        if unique or refers:
            self.reason = ForNow(reason)
        super().__init__(f"{where}: the database refused: {reason}")


class Forbidden(StoreError):
    """The user lacks a right."""


class Unreachable(StoreError):
    """The store is locked by somebody, or the connection to it is gone: it is of no use to ask again at once."""


class Conflict(StoreError):
    """Another program wrote at the same time; all of the transaction is to be done again."""


KEPT = "a trigger seems to have dropped the row, or kept it as it was"
"""The reason where the database said nothing, and a row is not as it was to be."""


class ForNow(str):
    """A reason for not taking a row that lies with other rows: it may be gone when these are written too."""


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


class Need(NamedTuple):
    """What a merge does with a table, as SQL calls it: "select", "insert" … `beside`: as in `Session.find_own`."""

    name: str
    verbs: frozenset[str]
    beside: TableInfo | None = None
    own: bool = True
    """It is one that Rapid Mender makes if it is not there."""


class Session(ABC):
    """One transaction on a store. All values pass as Arrow, in the types of the columns."""

    sorts = True
    """Whether rows that come sorted by key are found and written faster."""
    chunk_rows = 1 << 19
    """How many records are cast and sorted at once."""
    slice_rows = 1 << 15
    """How many of these, sorted, are looked up and written at once: so many that the pages which they touch are
    still in the store's cache when they are written."""

    @abstractmethod
    def tables(self) -> list[str]:
        """The names of the tables."""

    @abstractmethod
    def find(self, name: str) -> TableInfo | None:
        """Describe a table; None if there is no such table."""

    def find_own(self, name: str, beside: TableInfo | None = None, owner: str = "") -> TableInfo | None:
        """Describe a table of Rapid Mender's own: the one beside another, or in the connection's own schema.

        Raises StoreError if it belongs to somebody whose code must not be run with this user's rights; `owner`, and
        the owner of the other table, are trusted.
        """
        return self.find(name)

    def describe(self, name: str) -> TableInfo:
        """Describe a table. Raises StoreError, naming the nearest tables, if it is not there."""
        info = self.find(name)
        if info is None:
            hint = self.unseen(name) or nearest(name, self.tables(), "tables")
            raise StoreError(f"there is no table {name!r} in {self.where}; {hint}")
        return info

    def fits(self, name: str) -> bool:
        """Whether the database has room for a name of a table or a column."""
        return True

    def missing_grants(self, needs: Sequence[Need]) -> list[str]:
        """What would have to be granted to the user for these needs; nothing where nobody grants anything."""
        return []

    def unseen(self, name: str) -> str | None:
        """Why the user may not see a table, if there is one that is hidden from him."""
        return None

    @property
    @abstractmethod
    def where(self) -> str:
        """The store's name in messages, without passwords."""

    def normalise(self, info: TableInfo, values: pa.Table) -> Normalised:
        """What the store would make of `values`, and per column a mask of those that it cannot hold."""
        return values, {}

    def fold(self, info: TableInfo, keys: pa.Table) -> list[pa.Array]:
        """The keys, changed so that two of them are the same just where the database says they are equal."""
        return fold_table(keys, info.pick(keys.column_names))

    def rows_at_once(self, info: TableInfo, key: Sequence[str]) -> int:
        """How many keys to look up at once, if `slice_rows` is not right for this key."""
        return self.slice_rows

    @abstractmethod
    def fetch(self, info: TableInfo, keys: pa.Table, fresh: bool = False) -> Existing:
        """The rows whose key equals one of `keys`, by the database's own idea of equal.

        `fresh`: also rows that this transaction wrote. Otherwise the caller asks only for keys that it has not
        written yet, and the store may read the table as it was when the transaction began.
        """

    def query(self, sql: str) -> Iterator[pa.Table]:
        """The rows of a query in the store's own SQL, some at a time."""
        raise JobError(f"{self.where} runs no queries; give the frame itself as the batch")

    @abstractmethod
    def scan(
        self, info: TableInfo, columns: Sequence[str], fresh: bool = False, key: Sequence[str] = ()
    ) -> Iterator[Existing]:
        """All rows, some at a time, with the values of `columns` only; positions say nothing. Nothing may be
        written until it has ended. `fresh`: with what this transaction wrote. `key`: those of `columns` by which the
        rows are to be found again, where the store has nothing better."""

    @abstractmethod
    def again(self, info: TableInfo, rows: Existing) -> Existing:
        """The rows of `rows`, all their columns as they are now, in order."""

    @abstractmethod
    def count(self, info: TableInfo) -> int:
        """The number of rows."""

    @abstractmethod
    def insert(self, info: TableInfo, values: pa.Table, key: Sequence[str]) -> Written:
        """Insert rows; `values` may lack columns, of the key too if the database fills them."""

    @abstractmethod
    def copy(self, info: TableInfo, rows: Existing, to: TableInfo) -> Written:
        """Insert `rows` of one table, just as they are, into another that has their columns."""

    @abstractmethod
    def update(self, info: TableInfo, rows: Existing, values: pa.Table, key: Sequence[str] = ()) -> Written:
        """Set the columns of `values` in `rows`; `key`: the columns that tell them apart, and stay as they are."""

    @abstractmethod
    def delete(self, info: TableInfo, rows: Existing, after: Written | None = None) -> Written:
        """Delete rows, but not those that `after` was refused; `stored` is `rows`."""

    @abstractmethod
    def create(self, info: TableInfo, beside: TableInfo | None = None) -> None:
        """Create a table; beside another, whose name its own begins with, or in the connection's own schema."""

    def cannot_make(self, info: TableInfo) -> str | None:
        """Why the store could not hold a table like this; None if it could."""
        return None

    def tight(self, info: TableInfo) -> str | None:
        """Why some rows of such a table might not fit; None if all do, or nothing is known of it."""
        return None

    def unrecorded(self, info: TableInfo) -> int:
        """How many rows of a table others than those that were sent have changed in this transaction, by triggers."""
        return 0

    def behind(self, info: TableInfo) -> list[tuple[str, str]]:
        """Columns, each with what counts for it, where that stays behind if rows bring values of their own."""
        return []

    @abstractmethod
    def add_columns(self, name: str, columns: Iterable[Column]) -> None:
        """Add nullable columns to a table."""

    @abstractmethod
    def append(
        self,
        info: TableInfo,
        values: pa.Table,
        same: Mapping[str, Any],
        raw: Mapping[str, Any] | None = None,
        after: Sequence[Written] = (),
    ) -> None:
        """Bulk-load rows. `same` has the columns that are the same in every row, as Python values; `raw` maps
        a column to (positions, raw cells) that go in as the store holds them. Columns left out are null. Each row
        belongs to a row that was sent to each of `after`; those that were refused there are left out."""

    @abstractmethod
    def read(
        self,
        info: TableInfo,
        where: Sequence[Sequence[Condition]] = (),
        newest: str | None = None,
        limit: int | None = None,
        columns: Sequence[str] | None = None,
    ) -> pa.Table:
        """Rows for which each group of `where` has a condition that holds; `columns`: only these of theirs.

        With `newest`, the last `limit` rows by that column, ascending.
        """

    @abstractmethod
    def last(self, name: str, column: str) -> int:
        """The largest value of a whole-number column; 0 in an empty table."""


class Store(ABC):
    """A place where tables live."""

    def __repr__(self) -> str:
        return f"{type(self).__name__}({self.where!r})"

    @classmethod
    def of_url(cls, url: str) -> Store:
        """The store that a URL names. Raises JobError if it cannot be read."""
        return cls(url)  # type: ignore[call-arg]

    def close(self) -> None:  # noqa: B027  a store that keeps nothing open has nothing to do
        """Close what is kept open between merges."""

    @property
    @abstractmethod
    def where(self) -> str:
        """The store's name in messages, without passwords."""

    @abstractmethod
    def begin(
        self, write: bool, table: TableInfo | None = None, alone: bool = False, guests: bool = False
    ) -> AbstractContextManager[Session]:
        """One transaction: committed when the block ends, undone when it raises or when not `write`.

        `table` is what is to be merged into: one merge into it at a time. `alone`: where the store can, nobody else
        writes to it meanwhile. `guests`: code that is not ours runs meanwhile. Raises Conflict where all
        is to be done again.
        """


def nearest(name: str, names: Iterable[str], what: str) -> str:
    """A hint for a misspelt name: "did you mean …?", or which names there are."""
    every = sorted(names)
    close = closest(name, every, cutoff=0.6)
    if close:
        return f"did you mean {close!r}?"
    if not every:
        return f"it has no {what}"
    shown = ", ".join(repr(n) for n in every[:12]) + (", …" if len(every) > 12 else "")
    return f"its {what} are {shown}"
