"""A merge in the transaction of somebody else's connection to SQLite (Python's `sqlite3`)."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from typing import Any

import pyarrow as pa

from ...core.schema import TableInfo
from ...errors import JobError, StoreError
from ..contract import Session
from ..guest import SAVEPOINT, GuestStore
from .describing import Known
from .link import Link, in_words, refusal
from .session import SQLiteSession


class _Text(bytes):
    """A text as SQLite holds it."""


class GuestLink(Link):
    """Somebody else's connection; its settings are left as they are."""

    in_caller = True

    def __init__(self, connection: sqlite3.Connection) -> None:
        self._given = connection
        named = {name: path for _, name, path in self._fetched("PRAGMA database_list", None)[1]}
        self.path, self.writable = bytes(named[b"main"]).decode() or ":memory:", True

    def close(self) -> None:
        """It is closed by whoever opened it."""

    def run(self, sql: str, bound: pa.Table | None = None) -> None:
        if bound is None or bound.num_rows:
            self._fetched(sql, bound)

    def query(self, sql: str, bound: pa.Table | None = None, about: int = 0) -> pa.Table:
        if bound is not None and not bound.num_rows:
            sql, bound = f"SELECT * FROM ({sql}) LIMIT 0", pa.table({name: [None] for name in bound.column_names})
        names, rows = self._fetched(sql, bound)
        columns = list(zip(*rows, strict=True)) if rows else [()] * len(names)
        return pa.table([self._array(values) for values in columns], names=names)

    def _fetched(self, sql: str, bound: pa.Table | None) -> tuple[list[str], list[tuple[Any, ...]]]:
        """The columns and the rows of a statement; with `bound`, run for each of its rows."""
        with self._translated():
            factory, self._given.text_factory = self._given.text_factory, _Text
            try:
                cursor = self._given.cursor(sqlite3.Cursor)
                cursor.row_factory = None
                rows = list[tuple[Any, ...]]()
                for values in zip(*(column.to_pylist() for column in bound.columns), strict=True) if bound else [()]:
                    rows += cursor.execute(sql, values).fetchall()
                return [one[0] for one in cursor.description or ()], rows
            finally:
                self._given.text_factory = factory

    def _array(self, values: tuple[Any, ...]) -> pa.Array:
        """A column in the one type that holds all of its values, as the driver of the merges that have a connection of
        their own hands it over."""
        kinds = {type(value) for value in values} - {type(None)}
        if kinds <= {int}:
            return pa.array(values, pa.int64())
        if kinds <= {int, float}:
            return pa.array([None if value is None else float(value) for value in values], pa.float64())
        if kinds <= {int, float, _Text, bytes}:
            spelled = [v if v is None or isinstance(v, bytes) else repr(v).encode() for v in values]
            stored = pa.array(spelled, pa.binary())
            return stored if bytes in kinds else stored.view(pa.string())
        odd = next(iter(kinds - {int, float, _Text, bytes}))
        raise JobError(
            f"{self.path}: the connection turns values into {odd.__name__} by itself (detect_types); open it without"
        )

    def _changes(self) -> int:
        return self._given.total_changes

    @contextmanager
    def _translated(self) -> Iterator[None]:
        try:
            yield
        except (sqlite3.IntegrityError, sqlite3.DataError) as error:
            raise refusal(self.path, str(error)) from error
        except sqlite3.Error as error:
            raise in_words(self.path, str(error)) from error


class SQLiteGuestStore(GuestStore):
    """The tables of a connection of `sqlite3`."""

    reads_beside_writes = False

    def __init__(self, connection: sqlite3.Connection) -> None:
        self._connection, self._known = connection, Known()
        self._link = GuestLink(connection)

    @property
    def where(self) -> str:
        return self._link.path

    @contextmanager
    def begin(
        self, write: bool, table: TableInfo | None = None, alone: bool = False, guests: bool = False
    ) -> Iterator[Session]:
        del table, alone, guests
        link = self._link
        link.run("SELECT 1")  # it may be closed, or another thread's
        began = not self._connection.in_transaction
        if began and write and self._commits_by_itself:
            raise self._no_transaction("(BEGIN) before")
        if began:
            link.run("BEGIN IMMEDIATE" if write else "BEGIN")
        link.run(f"SAVEPOINT {SAVEPOINT}")
        try:
            with self._ending(SQLiteSession(link, self._known, False)) as session:
                yield session
        except BaseException:
            self._undo(began)
            raise
        link.run(f"RELEASE {SAVEPOINT}")
        if began and not write:
            link.run("ROLLBACK")

    @property
    def _commits_by_itself(self) -> bool:
        autocommit = getattr(self._connection, "autocommit", -1)  # since Python 3.12
        return autocommit is True or (autocommit == -1 and self._connection.isolation_level is None)

    def _undo(self, began: bool) -> None:
        """Undo what was done in the savepoint, and the transaction too if that was begun for it."""
        with suppress(StoreError):  # some errors undo all by themselves
            if began:
                self._link.run("ROLLBACK")
            else:
                self._link.run(f"ROLLBACK TO {SAVEPOINT}")
                self._link.run(f"RELEASE {SAVEPOINT}")
