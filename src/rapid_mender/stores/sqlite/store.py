"""SQLite, over ADBC.

Nothing is staged: the driver binds whole Arrow tables to one prepared statement, row after row in C, also for
queries, whose results it joins. So keys are looked up, rows inserted and changed without a Python object a cell.

A merge has two connections. One writes, in a thread of its own. The other looks up the existing rows meanwhile:
nobody else can write then, so it sees the table as it was when the merge began, which is all that a merge asks of
rows that it has not written yet. Once SQLite needs the file for the writer alone, all goes through the writer.
"""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress

from ...core.schema import TableInfo
from ...errors import JobError, StoreError
from ..contract import Session, Store
from ..urls import without_password
from ..waiting import AFTER, tell
from . import company
from .link import Link, Locked, is_open_elsewhere
from .session import SQLiteSession
from .tables import Known
from .worker import RemoteLink

_PATIENCE = 20.0
_READS = 5_000  # milliseconds to wait for a lock within a statement
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
        self._known = Known()

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
        if not os.path.isfile(self.path):
            raise StoreError(f"there is no SQLite file {self.path}; check the path in the store URL")
        writable = os.access(self.path, os.W_OK)
        if write and not writable:
            raise StoreError(f"{self.path} is read-only; make it writable for this user to merge into it")
        kind = RemoteLink if self._is_apart(guests) else Link
        link = kind(self.path, writable, _READS)
        try:
            if write:
                self._wait(link, "BEGIN IMMEDIATE")
            else:
                link.run("BEGIN")
            session = SQLiteSession(link, self._known, write)
            try:
                yield session
                session.close()
                if write:
                    self._wait(link, "COMMIT")
                else:
                    link.run("ROLLBACK")
            except BaseException:
                session.abandon()
                with suppress(StoreError):
                    link.run("ROLLBACK")
                raise
        finally:
            link.close()

    def _wait(self, link: Link, sql: str) -> None:
        """Run what may have to wait for other programs, as long as patience lasts; tell that it does."""
        began, silent = time.monotonic(), True
        link.run(f"PRAGMA busy_timeout = {_BRIEFLY}")
        while True:
            try:
                link.run(sql)
                break
            except Locked:
                waited = time.monotonic() - began
                if waited > self._patience:
                    raise
                if silent and waited > AFTER:
                    tell(f"waiting for another program that writes to {self.path}")
                    silent = False
        link.run(f"PRAGMA busy_timeout = {_READS}")

    def _is_apart(self, guests: bool) -> bool:
        if self._apart is not None:
            return self._apart
        return not company.ours and (guests or company.others_run() or is_open_elsewhere(self.path))
