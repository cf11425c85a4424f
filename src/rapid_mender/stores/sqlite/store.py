"""SQLite, over ADBC.

Nothing is staged: the driver binds whole Arrow tables to one prepared statement, row after row in C, also for
queries, whose results it joins. So keys are looked up, rows inserted and changed without a Python object a cell.

A merge has two connections. One writes, in a thread of its own. The other looks up the existing rows meanwhile:
nobody else can write then, so it sees the table as it was when the merge began, which is all that a merge asks of
rows that it has not written yet. Once SQLite needs the file for the writer alone, all goes through the writer.
"""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress

from ...core.schema import TableInfo
from ...errors import JobError, StoreError
from ..contract import Session, Store
from ..contract.fast import FastPath, FastTable
from ..urls import without_password
from ..waiting import AFTER, tell
from . import company
from .describing import known_at
from .fast import SQLiteFastPath
from .link import Link, Locked, is_open_elsewhere
from .session import SQLiteSession
from .worker import RemoteLink

_PATIENCE = 20.0
_READS = 5_000  # milliseconds to wait for a lock within a statement
_KEPT_CACHE_KIB = 65_536  # of a connection that is kept
_BRIEFLY = 200  # milliseconds: a wait that a Ctrl-C may end


class SQLiteStore(Store):
    """The tables of one SQLite file, which must exist.

    Where others in this process may have the file open, or open it meanwhile (another thread, an iterator that gives
    the records), it is opened in a process of its own: two libraries in one process would drop each other's locks.
    `apart` says so, or not, in place of what is seen: True costs some tenths of a second for the first merge; False is
    safe only if nobody else in this process opens the file. `patience` is how many seconds to wait for another program
    that writes to it.
    """

    reads_beside_writes = False

    def __init__(self, path: str | os.PathLike[str], apart: bool | None = None, patience: float = _PATIENCE) -> None:
        self.path = os.path.abspath(os.fspath(path))
        self._apart, self._patience = apart, patience
        self._known = known_at(self.path)
        self._keepers = 0
        """How many ask that connections be kept."""
        self._kept: dict[type[Link], Link] = {}
        self._lock = threading.Lock()

    @classmethod
    def of_url(cls, url: str) -> SQLiteStore:
        path = url.partition("://")[2]
        if not path.startswith("/") or len(path) < 2:
            raise JobError(
                f"{without_password(url)!r} lacks a slash or a file name; write 'sqlite:///register.db' for a file in "
                "this folder, 'sqlite:////data/register.db' for a file anywhere"
            )
        return cls(path[1:])

    @property
    def where(self) -> str:
        return self.path

    @contextmanager
    def begin(
        self, write: bool, table: TableInfo | None = None, alone: bool = False, guests: bool = False
    ) -> Iterator[Session]:
        del table, alone  # SQLite has one writer at a time
        link, sound = self._begun(write, guests), False
        try:
            link.wait_at_most(_READS)
            session = SQLiteSession(link, self._known, write)
            try:
                yield session
                session.close()
                if write:
                    self.commit(link)
                else:
                    link.run("ROLLBACK")
                sound = True
            except BaseException:
                session.abandon()
                with suppress(StoreError):
                    link.run("ROLLBACK")
                raise
        finally:
            self.given_back(link, sound)

    def _begun(self, write: bool, guests: bool = False) -> Link:
        """A connection on which a transaction has begun."""
        if not os.path.isfile(self.path):
            raise StoreError(f"there is no SQLite file {self.path}; check the path in the store URL")
        writable = os.access(self.path, os.W_OK)
        if write and not writable:
            raise StoreError(f"{self.path} is read-only; make it writable for this user to merge into it")
        link = self._link(RemoteLink if self._is_apart(guests) else Link, writable)
        try:
            if write:
                self._patiently(link, "BEGIN IMMEDIATE")
            else:
                link.run("BEGIN")
        except BaseException:
            link.close()
            raise
        return link

    def taken(self) -> Link:
        return self._begun(True)

    def given_back(self, link: Link, sound: bool) -> None:
        if not (sound and self._keep(link)):
            link.close()

    def commit(self, link: Link) -> None:
        self._patiently(link, "COMMIT")

    def fast_path(self, table: FastTable) -> FastPath:
        return SQLiteFastPath(self, table)

    @contextmanager
    def kept_open(self) -> Iterator[None]:
        with self._lock:
            self._keepers += 1
        try:
            yield
        finally:
            with self._lock:
                self._keepers -= 1
            if not self._keepers:
                self.close()

    def close(self) -> None:
        with self._lock:
            links, self._kept = list(self._kept.values()), {}
        for link in links:
            self._end(link)

    def _link(self, kind: type[Link], writable: bool) -> Link:
        """A connection: one that was kept, if it is still of use."""
        with self._lock:
            link = self._kept.pop(kind, None)
        if link is not None:
            if link.is_current and link.writable == writable:
                link.go_on()
                return link
            self._end(link)
        return kind(self.path, writable, _READS, *([_KEPT_CACHE_KIB] if self._keepers else []))

    def _keep(self, link: Link) -> bool:
        """Keep a connection for the next session, if that is asked for. Returns whether it is kept."""
        with self._lock:
            if not self._keepers or type(link) in self._kept:
                return False
            if kept := link.rest():
                self._kept[type(link)] = link
            return kept

    def _end(self, link: Link) -> None:
        """Close a connection that was kept; not where others have the file open by now, whose locks that would drop,
        nor in a process that was forked."""
        if not link.may_close:
            return
        link.go_on()
        with suppress(StoreError):
            link.close()

    def _patiently(self, link: Link, sql: str) -> None:
        """Run what may have to wait for other programs, as long as patience lasts; tell that it does."""
        began, silent = time.monotonic(), True
        link.wait_at_most(_BRIEFLY)
        while True:
            try:
                link.run(sql)
                return
            except Locked:
                waited = time.monotonic() - began
                if waited > self._patience:
                    raise
                if silent and waited > AFTER:
                    tell(f"waiting for another program that writes to {self.path}")
                    silent = False

    def _is_apart(self, guests: bool) -> bool:
        if self._apart is not None:
            return self._apart
        return not company.ours and (guests or company.others_run() or is_open_elsewhere(self.path))
