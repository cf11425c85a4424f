"""Talking to one SQLite connection through ADBC: running, querying, errors in our words."""

from __future__ import annotations

import math
import os
import re
import threading
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any
from urllib.parse import quote

import pyarrow as pa

from ...errors import StoreError
from ..adbc import AdbcLink, release
from ..contract import Refused, Unreachable

_AT_ONCE = "adbc.sqlite.query.batch_rows"
LEAST = 1 << 16
"""Room is always made for this many rows of a query."""
_FEW, _ROOM_FOR_FEW = 48, 256
_MOST = 1 << 30
_CACHE_KIB = 327_680

_MENDS = (
    ("locked", "another program is writing to it; try again when that is done"),
    ("readonly", "it is read-only; make the file and its folder writable for this user"),
    ("disk is full", "there is no room left on the disk; free some and run again"),
    ("disk I/O", "the disk refused; check the disk and its free space"),
    ("not a database", "it is not a SQLite file; check the path in the store URL"),
    ("failed to open", "it cannot be opened; check the path and the rights on it"),
    ("unable to open", "it cannot be opened; make its folder writable for this user"),
    ("malformed", "the file is damaged; restore it from a copy"),
)


# how the driver hands over what a single step of a statement could not do
_REFUSAL = re.compile(r"^Failed to reset statement: (?!out of memory|interrupted)|^(?=datatype mismatch)", re.I)

_busy_links: Counter[tuple[int, int]] = Counter()  # by device and file number
_kept_open: Counter[tuple[int, int]] = Counter()  # how often links that are kept, and hold no lock, have a file open
_counting = threading.Lock()


class Locked(Unreachable):
    """Another connection has the file to itself."""


def refusal(where: str, reason: str) -> Refused:
    """That SQLite does not take a row, for a reason in its own words."""
    return Refused(where, reason, unique=reason.startswith("UNIQUE "), refers=reason.startswith("FOREIGN KEY "))


def in_words(where: str, text: str) -> StoreError:
    """What SQLite says, with what is to be done about it."""
    return _mended(where, text) or StoreError(f"{where}: the database refused: {text}")


def _mended(where: str, text: str) -> StoreError | None:
    for sign, mend in _MENDS:
        if sign in text:
            return (Locked if sign == "locked" else StoreError)(f"{where}: {text}: {mend}")
    return None


@contextmanager
def _translated(where: str) -> Iterator[None]:
    import adbc_driver_manager

    try:
        yield
    except (
        adbc_driver_manager.Error,
        pa.ArrowException,
        OSError,
        UnicodeEncodeError,
    ) as error:  # Arrow's while a result is read
        text = re.sub(r"^[A-Z_]+: (\[SQLite\] )?", "", str(error)).split("\nquery:")[0]
        text = re.sub(r"^failed to (prepare|execute) query: ", "", text, flags=re.I).strip()
        integrity = adbc_driver_manager.AdbcStatusCode.INTEGRITY
        refuses = getattr(error, "status_code", None) == integrity or _REFUSAL.match(text)
        if refuses and _mended(where, text) is None:
            raise refusal(where, _REFUSAL.sub("", text)) from error
        raise in_words(where, text) from error


def is_open_elsewhere(path: str) -> bool:
    """Whether this process has the file open, but not through us.

    Locks on files belong to the process. Two copies of SQLite in one process, such as the driver's and that of
    Python's `sqlite3`, do not see each other's locks, and drop them when they close the file: both would write at
    once, and damage it. (See "How To Corrupt An SQLite Database File", section 2.2, in SQLite's documentation.)
    """
    return _is_elsewhere(identity_of_file(path))


def _is_elsewhere(file: tuple[int, int]) -> bool:
    with _counting:
        if _busy_links[file]:
            return False
        return _count_open(file) > _kept_open[file]


def _count_open(file: tuple[int, int]) -> float:
    """How often this process has a file open; infinity if it is not known."""
    folder = next((one for one in ("/proc/self/fd", "/dev/fd") if os.path.isdir(one)), None)
    return math.inf if folder is None else sum(_is(number, file) for number in os.listdir(folder))


def identity_of_file(path: str) -> tuple[int, int]:
    status = os.stat(path)
    return status.st_dev, status.st_ino


def _is(number: str, file: tuple[int, int]) -> bool:
    try:
        status = os.fstat(int(number))
    except (OSError, ValueError):
        return False
    return (status.st_dev, status.st_ino) == file


class Link:
    """One connection to a SQLite file that exists."""

    in_caller = False
    """All is done in the thread of the caller."""

    def __init__(self, path: str, writable: bool, patience: int, cache_kib: int = _CACHE_KIB) -> None:
        """`patience` is how many milliseconds to wait for another program's lock."""
        self.path, self.writable = path, writable
        self._waits = patience
        """The milliseconds that a statement waits."""
        self._connect(writable, patience, cache_kib)

    def _connect(self, writable: bool, patience: int, cache_kib: int) -> None:
        self._file, self._process = identity_of_file(self.path), os.getpid()
        self._times = 0.0
        """How often it has the file open, if that was counted."""
        self._database: Any = None
        self._adbc: AdbcLink | None = None
        self._connection: AdbcLink
        with _counting:
            _busy_links[self._file] += 1
        try:
            self._open(writable, patience, cache_kib)
        except BaseException:
            self.close()
            raise

    def _open(self, writable: bool, patience: int, cache_kib: int) -> None:
        import adbc_driver_sqlite

        with _translated(self.path):
            uri = f"file:{quote(self.path)}?mode={'rw' if writable else 'ro'}"
            self._database = adbc_driver_sqlite.connect(uri)
            self._adbc = self._connection = AdbcLink(self._database)
        self.run(f"PRAGMA busy_timeout = {patience}")
        self.run(f"PRAGMA cache_size = -{cache_kib}")
        self.run("PRAGMA foreign_keys = ON")

    def wait_at_most(self, milliseconds: int) -> None:
        """How long a statement waits for another program's lock."""
        if self._waits != milliseconds:
            self.run(f"PRAGMA busy_timeout = {milliseconds}")
            self._waits = milliseconds

    @property
    def may_close(self) -> bool:
        """Whether closing it drops no locks of others who have the file open by now, and it is not that of a process
        from which this one was forked."""
        return self._process == os.getpid() and not _is_elsewhere(self._file)

    @property
    def is_current(self) -> bool:
        """Whether the file of its path is still the one that it has open, in this process."""
        try:
            return self._process == os.getpid() and identity_of_file(self.path) == self._file
        except OSError:
            return False

    def rest(self) -> bool:
        """It is kept for later, and holds no lock. Returns whether that can be: whether it is known how often it has
        the file open."""
        with _counting:
            if _busy_links[self._file] == 1 and not self._times:
                self._times = _count_open(self._file) - _kept_open[self._file]
            if not self._times or self._times == math.inf:
                return False
            _busy_links[self._file] -= 1
            _kept_open[self._file] += int(self._times)
            return True

    def go_on(self) -> None:
        """It is used again."""
        with _counting:
            _busy_links[self._file] += 1
            _kept_open[self._file] -= int(self._times)

    def close(self) -> None:
        """Close the file, also one that could not be opened whole: what stays open looks like somebody else's."""
        try:
            if self._adbc is not None:
                self._adbc.close()
            if self._database is not None:
                release(self._database)
        finally:
            with _counting:
                _busy_links[self._file] -= 1

    def run(self, sql: str, bound: pa.Table | None = None) -> None:
        """Run a statement; with `bound`, once for each of its rows."""
        if bound is not None and not bound.num_rows:
            return
        with _translated(self.path):
            self._connection.execute(sql, bound)

    @contextmanager
    def one_look(self) -> Iterator[None]:
        """Read in one transaction, so that the file is locked once and not for each row of `bound`."""
        self.run("BEGIN")
        try:
            yield
        finally:
            self.run("ROLLBACK")

    def run_each(self, sql: str, bound: pa.Table, one_change: bool) -> dict[int, str]:
        """Run a statement for each row of `bound`; leave out those that the database refuses, and say why.

        With `one_change` each row changes one row and nothing else, so that the count of changes tells at which
        row the statement stopped. Without, a failed part is undone and halved.
        """
        if not one_change:
            return self.run_in_parts(lambda some: self.run(sql, some), bound)
        refused: dict[int, str] = {}
        start = 0
        while start < bound.num_rows:
            before = self._changes()
            try:
                self.run(sql, bound.slice(start))
                break
            except Refused as error:
                at = start + self._changes() - before
                refused[at] = error.reason
                start = at + 1
        return refused

    def _changes(self) -> int:
        return int(self.query("SELECT total_changes()").column(0)[0].as_py())

    def run_in_parts(self, write: Callable[[pa.Table], None], bound: pa.Table) -> dict[int, str]:
        """Write something for the rows of `bound`; what the database refuses is undone and halved, until single rows
        are left out. Says why, by their places."""
        refused: dict[int, str] = {}
        self._halve(write, bound, 0, refused)
        return refused

    def _halve(self, write: Callable[[pa.Table], None], bound: pa.Table, start: int, refused: dict[int, str]) -> None:
        count = bound.num_rows
        if not count:
            return
        self.run("SAVEPOINT rmend")
        try:
            write(bound)
            self.run("RELEASE rmend")
        except Refused as error:
            self.run("ROLLBACK TO rmend")
            self.run("RELEASE rmend")
            if count == 1:
                refused[start] = error.reason
                return
            self._halve(write, bound.slice(0, count // 2), start, refused)
            self._halve(write, bound.slice(count // 2), start + count // 2, refused)

    def query(self, sql: str, bound: pa.Table | None = None, about: int = 0) -> pa.Table:
        """The rows of a query; with `bound`, those of the query run for each of its rows, one after the other.

        `about` is how many they may well be. The driver infers the types from the first batch of rows, for which it
        takes room before it reads; so all of them are to come in one that is not much larger.
        """
        if bound is not None and not bound.num_rows:  # the driver does not survive a binding without rows
            sql = f"SELECT * FROM ({sql}) LIMIT 0"
            bound = pa.table({name: pa.nulls(1, pa.int64()) for name in bound.column_names})
        bound = None if bound is None else bound.combine_chunks()
        few = bound is not None and bound.num_rows <= _FEW  # making room takes longer than the look itself
        rows = max(about, _ROOM_FOR_FEW if few else LEAST, 0 if bound is None else 2 * bound.num_rows) + 1
        with _translated(self.path):
            while True:
                try:
                    rows_read = self._connection.query(sql, bound, **{_AT_ONCE: rows})
                    if rows_read.num_rows < rows:
                        return rows_read
                    rows = rows_read.num_rows + 1
                except OSError as error:
                    if "Type mismatch in column" not in str(error) or rows >= _MOST:
                        raise
                    rows = min(rows * 16, _MOST)

    def look_up_few(self, sql: str, bound: pa.Table) -> pa.Table:
        """The rows of a query that stays prepared, which has one for each of a few rows of `bound`."""
        room = _ROOM_FOR_FEW if bound.num_rows > 2 else 4
        with _translated(self.path):
            handle, _ = self._connection.prepared(sql, bound, **{_AT_ONCE: room}).execute_query()
            with pa.RecordBatchReader._import_from_c(handle.address) as reader:
                return reader.read_all()

    def rows(self, sql: str, values: Sequence[str] = ()) -> list[tuple[Any, ...]]:
        """A few rows, as Python values."""
        bound = pa.table({f"p{i}": [value] for i, value in enumerate(values)}) if values else None
        return [tuple(row.values()) for row in self.query(sql, bound).to_pylist()]
