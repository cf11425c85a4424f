"""What a connection to a database server must do for a merge, and how columns pass over it."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass, field
from typing import Any, NamedTuple, TypeVar

import pyarrow as pa

from ...core.names import fitted
from ...core.schema import Column, TableInfo
from ...errors import StoreError, UncertainError
from ..contract import Refused, Unreachable

_T = TypeVar("_T")
_SPLIT = 8  # parts that a refused statement is divided into
FEW_ROWS = 48
"""Up to this many rows are sent in the text of the statement itself, without a temporary table."""
PAGE_ROWS = 1 << 17
"""How many rows of a table or a query are read at a time."""


class Lost(Unreachable):
    """The connection is gone."""


def lost_at_commit(where: str) -> UncertainError:
    """That a connection went while nobody could know what became of the commit."""
    return UncertainError(
        f"{where}: the connection was lost while the commit was on its way, so nobody knows whether it took effect"
    )


@dataclass(frozen=True)
class Form:
    """How the values of a column pass to the database and back."""

    wire: pa.DataType
    """The Arrow type in which they are sent."""
    staged: str
    """The SQL type of a column that holds them on the way."""
    literal: str = "{}"
    """What gives a literal of theirs that type."""
    read: str = "{}"
    """What to select of the column."""
    write: str = "{}"
    """What to write of a staged value."""
    fold: str | None = None
    """What to select instead of a value, so that two are the same exactly where the database calls them equal; None:
    the core knows."""
    came: pa.DataType | None = None
    """The Arrow type in which they come back, if not that in which they are sent."""
    normalises: bool = False
    """The database turns values into its own spelling, or refuses them, as only it knows."""
    equals: str = "="
    """The operator by which the database holds two values equal."""

    @property
    def loads(self) -> bool:
        """A value is written just as it is sent, so rows can be loaded straight into the table."""
        return self.write == "{}"


class Cells(NamedTuple):
    """A column on its way to the database."""

    form: Form
    values: pa.Array


@dataclass
class Rows:
    """Rows on their way to the database."""

    columns: Sequence[Cells]
    packed: Any = None
    """What a link sends for them, where it can be made ahead, while the link is at other work."""

    def __len__(self) -> int:
        return len(self.columns[0].values)


class Pick(NamedTuple):
    """One column of a result."""

    expression: str
    alias: str
    wire: pa.DataType


class Locator(NamedTuple):
    """Something by which the database finds a row again."""

    sql: str
    form: Form


@dataclass(frozen=True)
class Described:
    """A table, and how to speak of it."""

    info: TableInfo
    place: tuple[str, str]
    """Its schema and its name there."""
    sql: str
    """Its name in SQL, with its schema."""
    forms: Mapping[str, Form]
    locators: tuple[Locator, ...] = ()
    """If there is none, its rows are found by the columns that they were looked up by."""
    as_sent: bool = True
    """What is stored is what was sent, unless columns are left out, generated, or a trigger sees to it."""
    overriding: str = ""
    """What an INSERT must say to write columns that the database else fills itself."""
    indexes: Sequence[tuple[str, ...]] = ()
    """The columns of its indexes."""
    trusted: bool = True
    """Code that its owner attached to it may run with this user's rights: the owner is this user, or a superuser."""
    loads: bool = True
    """Rows can be loaded straight into it: not so on PostgreSQL where row security holds."""
    runs: Sequence[str] = ()
    """What may run code of its owner's with this user's rights when it is only read, in words, if he is not trusted."""
    extra: Mapping[str, Any] = field(default_factory=dict)
    """Further facts for the store itself."""


class SQLLink(ABC):
    """One connection to a database server, in a transaction."""

    where: str
    bytes_sql = "x'{}'"
    """How SQL writes bytes, from their hexadecimal digits."""
    in_caller = False
    """All is done in the thread of the caller."""
    few_rows = FEW_ROWS
    """Up to this many rows are sent in the text of the statement itself."""

    @abstractmethod
    def name_sql(self, name: str) -> str:
        """A name as SQL writes it."""

    def op(self, sign: str) -> str:
        """The database's own operator, where another of that name might come first."""
        return sign

    def call(self, function: str) -> str:
        """The database's own function, where another of that name might come first."""
        return function

    marks = True
    """The transaction can be rolled back to savepoints; on MariaDB no longer once a table without transactions was
    written."""
    schema: str
    """The schema in which a table is created whose name has none."""

    def place_of(self, name: str, beside: Described | None = None) -> tuple[str, str]:
        """The schema and the name of a table of Rapid Mender's own; `beside`: its name begins with that table's."""
        if beside is not None:
            schema, table = beside.place
            return schema, fitted(table, self.fits, name.removeprefix(beside.info.name))
        schema, dot, table = name.partition(".")
        if not dot and not self.schema:
            raise StoreError(
                f"{self.where}: the search path names no schema that exists, so there is no place for {name}; set it "
                "with ?options=-csearch_path%3Dname in the store URL"
            )
        return (schema, table) if dot else (self.schema, name)

    @abstractmethod
    def fits(self, name: str) -> bool:
        """Whether the database has room for a name of a table or a column."""

    def expect(self, indexed: bool) -> None:  # noqa: B027  a planner that knows of staged rows needs no word
        """Tell the link whether an index will find the rows that the next statements join with staged ones."""

    @abstractmethod
    def run(self, sql: str) -> int:
        """Run a statement. Returns how many rows it affected, or -1 if that is unknown."""

    @abstractmethod
    def select(self, picks: Sequence[Pick], rest: str, number: str | None = None, end: str = "") -> pa.Table:
        """`SELECT picks rest end`, in any order; `number` is an expression that counts the rows."""

    def tried(self, picks: Sequence[Pick], rest: str, number: str) -> pa.Table:
        """`select`, where the database may refuse a value. Raises Refused."""
        return self.select(picks, rest, number)

    @abstractmethod
    def returning(self, sql: str, picks: Sequence[Pick]) -> pa.Table:
        """Run an INSERT (or UPDATE, where the database can), and give back columns of the rows that it wrote."""

    @abstractmethod
    def staged(self, rows: Rows) -> AbstractContextManager[str]:
        """Send rows. Yields what to write in FROM for them: a relation with the columns c0, c1 …"""

    @abstractmethod
    def load(self, table: Described, names: Sequence[str], rows: Rows) -> None:
        """Load rows straight into a table. Raises Refused if it does not take all of them."""

    @abstractmethod
    def describe(self, name: str, place: tuple[str, str] | None = None) -> Described | None:
        """Describe a table; None if there is none of the name. `place`: only the one of this schema and name."""

    @abstractmethod
    def tables(self) -> list[str]:
        """The names of the tables."""

    @abstractmethod
    def declare(self, column: Column) -> str:
        """The declared type with which Rapid Mender creates a column."""

    def declare_key(self, column: Column) -> str:
        """The declared type of a column of a primary key."""
        return self.declare(column)

    @abstractmethod
    def has_index(self, table: Described, name: str) -> bool:
        """Whether a table has an index of a name."""

    @abstractmethod
    def define(self, sql: str) -> None:
        """Create or alter a table within the transaction."""

    @abstractmethod
    def query(self, sql: str) -> Iterator[pa.Table]:
        """The rows of a user's query, some at a time."""

    @abstractmethod
    def waits(self, other: Any, table: str, turn: str) -> str | None:
        """In words, whom another connection's merge into a table is waiting for; None if it does not wait. `turn` is
        the statement by which it waits for its turn."""

    @abstractmethod
    def cancel(self) -> None:
        """Cancel what the connection is doing, from another thread. It may be unusable afterwards."""

    @abstractmethod
    def close(self) -> None:
        """End the connection."""

    def in_parts(
        self,
        count: int,
        write: Callable[[int, int], _T],
        own: Callable[[Refused, int], None],
        at_most: int | None = None,
    ) -> tuple[list[_T], dict[int, str]]:
        """Write rows; where the database refuses, undo that part, and divide it until single rows are left out.

        `write(first, last)` writes a part; `own(error, row)` raises if a refusal is not the row's own fault; `at_most`
        is how many rows to write at once, where a part cannot be undone.
        """
        done: list[_T] = []
        refused: dict[int, str] = {}

        def part(first: int, end: int) -> None:
            self._mark("SAVEPOINT rmend", at_most)
            try:
                one = write(first, end - 1)
                self._mark("RELEASE SAVEPOINT rmend", at_most)
                done.append(one)
            except Refused as error:
                self._mark("ROLLBACK TO SAVEPOINT rmend", at_most)
                self._mark("RELEASE SAVEPOINT rmend", at_most)
                if end - first == 1:
                    own(error, first)
                    refused[first] = error.reason
                    return
                step = -(-(end - first) // _SPLIT)
                for start in range(first, end, step):
                    part(start, min(start + step, end))

        step = at_most or count
        for start in range(0, count, max(step, 1)):
            part(start, min(start + step, count))
        return done, refused

    def _mark(self, sql: str, at_most: int | None) -> None:
        """Set or go back to a savepoint, except where nothing can be rolled back: such an engine may not know
        savepoints."""
        if at_most is None and self.marks:
            self.run(sql)


def together(parts: Sequence[pa.Table], picks: Sequence[Pick]) -> pa.Table:
    """The parts of a result as one table."""
    if not parts:
        return pa.table([pa.array([], pick.wire) for pick in picks], names=[pick.alias for pick in picks])
    return pa.concat_tables(parts).combine_chunks()
