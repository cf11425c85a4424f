"""Stores on database servers: connections that are kept, and transactions in which merges take turns."""

from __future__ import annotations

import sys
import threading
from abc import abstractmethod
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager, nullcontext, suppress
from typing import Generic, TypeVar
from weakref import WeakSet

from ...core.schema import TableInfo
from ...errors import JobError, StoreError
from ..contract import Session, Store
from ..contract.fast import FastPath, FastTable
from ..waiting import told
from .link import Described, Lost, SQLLink, lost_at_commit
from .session import SQLSession

_L = TypeVar("_L", bound=SQLLink)


class ServerStore(Store, Generic[_L]):
    """The tables of one database on a server. A connection that is no longer used is kept, until `close`."""

    starting: str
    """The statement that begins a transaction."""
    looking: Sequence[str] = ()
    """The statements that begin one that only reads, and sees the tables as they are now until it ends, if these are
    others."""
    ending = ""
    """A statement that fails, just before the commit, if the transaction has failed."""

    def __init__(self) -> None:
        self._idle: list[_L] = []
        self._lock = threading.Lock()
        self.known: dict[TableInfo, Described] = {}
        """The tables that sessions of this store have described."""
        self._paths: WeakSet[FastPath] = WeakSet()

    def close(self) -> None:
        """Close the connections that are kept; when Python ends, the system does."""
        for path in [] if sys.is_finalizing() else list(self._paths):
            path.close()
        with self._lock:
            while self._idle and not sys.is_finalizing():
                self._idle.pop().close()

    @abstractmethod
    def connect(self) -> _L:
        """A new connection, which the caller closes."""

    @abstractmethod
    def merge_lock(self, table: TableInfo) -> tuple[str, str]:
        """The statements that take and release the lock under which one connection at a time merges into a table."""

    @abstractmethod
    def _session(self, link: _L, write: bool) -> SQLSession:
        """A session in the transaction that `link` has begun."""

    @abstractmethod
    def _fast_path(self, table: FastTable, known: Sequence[Described]) -> FastPath:
        """The fast path into a table; `known`: that table, its history and the batches."""

    def fast_path(self, table: FastTable) -> FastPath:
        path = self._fast_path(table, [self.known[one] for one in (table.info, table.history, table.batches)])
        self._paths.add(path)
        return path

    def _keep_others_out(self, link: _L, table: TableInfo) -> None:
        """Lock a table against other writers until the transaction ends."""

    def _waits(self, link: _L, table: TableInfo) -> str | None:
        """Whom a merge into a table is waiting for, asked over a second connection."""
        beside = self.connect()
        try:
            return beside.waits(link, table.name, self.merge_lock(table)[0])
        finally:
            beside.close()

    def _ready(self, sql: str, active: list[Callable[[], None]], links: list[_L]) -> _L:
        """A connection on which `sql` has been run. It is put into `links`, and what cancels it into `active`."""
        while True:
            with self._lock:
                link = self._idle.pop() if self._idle else None
            kept = link is not None
            link = link or self.connect()
            active.append(link.cancel)
            links.append(link)
            try:
                link.run(sql)
                return link
            except BaseException as error:
                if not isinstance(error, Exception):
                    link.cancel()
                with suppress(StoreError):
                    link.close()
                if not (kept and isinstance(error, Lost)):  # else it was cut while nobody used it
                    raise

    @contextmanager
    def begin(
        self, write: bool, table: TableInfo | None = None, alone: bool = False, guests: bool = False
    ) -> Iterator[Session]:
        del guests
        turn = self.merge_lock(table) if write and table is not None else None
        active: list[Callable[[], None]] = []
        links: list[_L] = []

        def cancel() -> None:
            for newest in active[-1:]:
                newest()

        def look() -> str | None:
            return self._waits(links[-1], table) if links and table is not None else None

        with self._interruptible(cancel), told(look) if turn else nullcontext():
            first, *others = [turn[0], self.starting] if turn else (not write and self.looking) or [self.starting]
            link = self._ready(first, active, links)
            yield from self._within(link, active, turn, others, write, table if alone else None)

    def _interruptible(self, cancel: Callable[[], None]) -> AbstractContextManager[None]:
        """Within it a Ctrl-C ends what the driver waits for, by calling `cancel`, if it does not by itself."""
        return nullcontext()

    def _within(
        self,
        link: _L,
        active: list[Callable[[], None]],
        turn: tuple[str, str] | None,
        starting: Sequence[str],
        write: bool,
        alone: TableInfo | None,
    ) -> Iterator[Session]:
        """The session of one transaction, entered after waiting for `turn`; with `alone`, that table is locked
        against others."""
        sound = False
        try:
            for statement in starting:
                link.run(statement)
            link.marks = True
            if alone is not None:
                self._keep_others_out(link, alone)
            session = self._session(link, write)
            active.append(session.cancel)
            try:
                yield session
                session.close()
                if write and self.ending:
                    link.run(self.ending)
                self._end(link, write)
            except BaseException as error:
                active.clear()
                session.abandon()
                if not isinstance(error, Exception):  # nobody knows what comes next over the connection
                    link.cancel()
                    raise
                with suppress(StoreError):
                    link.run("ROLLBACK")
                    if turn:
                        link.run(turn[1])
                    sound = True
                raise
            with suppress(StoreError):  # what was committed stands, also if the connection went after it
                if turn:
                    link.run(turn[1])
                sound = True
        finally:
            if sound:
                with self._lock:
                    self._idle.append(link)
            else:
                with suppress(StoreError):
                    link.close()

    def _end(self, link: _L, write: bool) -> None:
        if not write:
            link.run("ROLLBACK")
            return
        try:
            link.run("COMMIT")
        except Lost as error:
            raise lost_at_commit(self.where) from error


def seconds(name: str, value: str) -> float:
    """A number of seconds in a store URL. Raises JobError if it is none."""
    try:
        return float(value)
    except ValueError:
        raise JobError(f"{name} in the store URL is a number of seconds, not {value!r}") from None
