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
from ...errors import StoreError
from ..contract import Refused, Unreachable

_T = TypeVar("_T")
_SPLIT = 8  # parts that a refused statement is divided into
FEW_ROWS = 48
"""So many rows are sent in the statement's own text, without a table of their own."""
PAGE_ROWS = 1 << 17
"""So many rows of a table or a query are read at once."""


class Lost(Unreachable):
    """The connection is gone."""


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
    """What to select in place of a value, so that two values are the same just where the database says they are equal;
    None: the core knows."""
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
    """What its owner attached to it may run with this user's rights: it is this user's, or that of one who could
    take them anyway."""
    loads: bool = True
    """Rows can be loaded straight into it: not so on PostgreSQL where row security holds."""
    plain: bool = True
    """Nothing of its owner's runs when it is read."""
    extra: Mapping[str, Any] = field(default_factory=dict)
    """What else a store wants to know of it."""


class SQLLink(ABC):
    """One connection to a database server, in a transaction."""

    where: str

    @abstractmethod
    def name_sql(self, name: str) -> str:
        """A name as SQL writes it."""

    def op(self, sign: str) -> str:
        """An operator of the database's own, where somebody's else might come before it."""
        return sign

    def call(self, function: str) -> str:
        """A function of the database's own, where somebody's else might come before it."""
        return function

    marks = True
    """The transaction has savepoints: not so on MariaDB once a table has been written that cannot undo."""
    schema: str
    """Where tables are made whose name says no schema."""

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
        """Say whether an index finds the rows that the next statements join with staged ones."""

    @abstractmethod
    def run(self, sql: str) -> int:
        """Run a statement; the number of rows that it concerned, or -1."""

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
        """Send rows. Gives what stands for them in FROM: a relation with the columns c0, c1 …"""

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

    @abstractmethod
    def define(self, sql: str) -> None:
        """Create or alter a table, without ending the transaction."""

    @abstractmethod
    def query(self, sql: str) -> Iterator[pa.Table]:
        """The rows of anybody's query, some at a time."""

    @abstractmethod
    def waits(self, other: Any, table: str, turn: str) -> str | None:
        """For whom another connection waits that merges into a table, in words; None if it does not. `turn` is the
        statement by which it waits for its turn."""

    @abstractmethod
    def cancel(self) -> None:
        """Make an end of what the connection does, from another thread; it may be of no more use then."""

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
        """Set or go back to a savepoint, but where nothing can be undone: there an engine may not know them either."""
        if at_most is None and self.marks:
            self.run(sql)


def together(parts: Sequence[pa.Table], picks: Sequence[Pick]) -> pa.Table:
    """The parts of a result as one table."""
    if not parts:
        return pa.table([pa.array([], pick.wire) for pick in picks], names=[pick.alias for pick in picks])
    return pa.concat_tables(parts).combine_chunks()
