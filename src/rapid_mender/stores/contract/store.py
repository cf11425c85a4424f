"""A store, and one transaction on it."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, nullcontext
from functools import cached_property
from typing import Any

import pyarrow as pa

from ...core.schema import TableInfo
from ...errors import JobError
from .capture import Capturing
from .catalog import Catalog
from .fast import FastPath, FastTable, NotFast
from .reader import Reader
from .values import Values
from .watch import OneWriter, Watch
from .writer import Writer


class Session(Catalog, Values, Reader, Writer, Capturing):
    """One transaction on a store. All values pass as Arrow, in the types of the columns.

    with store.begin(write=True) as session:
        info = session.describe("trees")
        rows = session.fetch(info, pa.table({"tag_no": [7]}))
        session.update(info, rows, pa.table({"height_m": [12.9]}))
    """

    sorts = True
    """Whether rows that come sorted by key are found and written faster."""
    many_writers = False
    """Whether others may write at the same time, so that only the database can number what is written."""
    chunk_rows = 1 << 19
    """How many records are cast and sorted at once."""

    def query(self, sql: str) -> Iterator[pa.Table]:
        """The rows of a query in the store's own SQL, some at a time."""
        raise JobError(f"{self.where} runs no queries; give the frame itself as the batch")


class Store(ABC):
    """A place where tables live."""

    reads_beside_writes = True
    """Whether one session can go on reading while another writes."""
    owns_transactions = True
    """Its sessions are transactions; not where they are parts of one that somebody else commits."""
    reads_by_spans = True
    """Whether a part of a table is read without a look at the whole of it."""

    @cached_property
    def kept(self) -> dict[int, Any]:
        """What is kept of jobs from one merge to the next."""
        return {}

    def __repr__(self) -> str:
        return f"{type(self).__name__}({self.where!r})"

    @classmethod
    def of_url(cls, url: str) -> Store:
        """The store that a URL names. Raises JobError if it cannot be read."""
        return cls(url)  # type: ignore[call-arg]

    def close(self) -> None:  # noqa: B027  a store that keeps nothing open has nothing to do
        """Close what is kept open between merges."""

    def kept_open(self) -> AbstractContextManager[None]:
        """Within it a connection is kept for the next session, also where that is not done by itself."""
        return nullcontext()

    def watch(self, history: TableInfo) -> Watch:
        """Who may still commit a number that a history lacks. The caller closes it."""
        return OneWriter()

    finds_keys = False
    """Whether a fast path finds by itself that no key comes twice, so that no constraint needs to say so."""

    def fast_path(self, table: FastTable) -> FastPath:
        """The fast path into a table that sessions of the store have described. The caller closes it. Raises NotFast
        if there is none."""
        raise NotFast

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

    def script(self, statements: Sequence[str]) -> list[str]:
        """The lines of a script with which the database's own program runs statements."""
        return ["BEGIN;", *(f"{sql};" for sql in statements), "COMMIT;"]
