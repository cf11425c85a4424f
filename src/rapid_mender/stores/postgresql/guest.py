"""A merge in the transaction of somebody else's connection to PostgreSQL (psycopg)."""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import Any

import numpy as np
import pyarrow as pa

from ...core.schema import TableInfo
from ...errors import StoreError
from ..contract import Refused, Session
from ..guest import ROWS, SAVEPOINT, GuestStore
from ..sql.link import Described, Pick, SQLLink
from ..sql.text import text_sql
from .errors import translated
from .link import SETTINGS, PostgreSQLLink, setting_sql
from .session import PostgreSQLSession
from .store import merge_lock_key
from .triggers import SETTING

_EPOCH_DAYS, _EPOCH_MICROS = 10_957, 946_684_800_000_000  # PostgreSQL counts from the year 2000
_NUMBERS: dict[int, tuple[str, pa.DataType]] = {
    16: ("?", pa.bool_()), 21: (">i2", pa.int16()), 23: (">i4", pa.int32()), 20: (">i8", pa.int64()),
    26: (">i4", pa.int32()), 700: (">f4", pa.float32()), 701: (">f8", pa.float64()), 1082: (">i4", pa.date32()),
    1083: (">i8", pa.time64("us")), 1114: (">i8", pa.timestamp("us")), 1184: (">i8", pa.timestamp("us", "UTC")),
}  # fmt: skip
_SHIFTS = {1082: _EPOCH_DAYS, 1114: _EPOCH_MICROS, 1184: _EPOCH_MICROS}
_TEXTS = {18, 19, 25, 114, 705, 1042, 1043}
_BYTES = 17
_NUMERIC = 1700


class _Failed(OSError):
    """What the server said, as the driver of other connections says it."""

    def __init__(self, error: Any) -> None:
        super().__init__(str(error))
        about = getattr(error, "diag", None)
        self.sqlstate = getattr(error, "sqlstate", None)
        said = {
            "PG_DIAG_MESSAGE_PRIMARY": "message_primary", "PG_DIAG_MESSAGE_DETAIL": "message_detail",
            "PG_DIAG_CONSTRAINT_NAME": "constraint_name", "PG_DIAG_CONTEXT": "context",
        }  # fmt: skip
        found = ((name, getattr(about, attribute, None)) for name, attribute in said.items())
        self.details = [(name, value.encode()) for name, value in found if value]


class Wire:
    """A connection of psycopg's, with the calls of the driver that other connections have. Values come in binary."""

    def __init__(self, connection: Any) -> None:
        self._connection = connection

    def close(self) -> None:
        """It is closed by whoever opened it."""

    def cancel(self) -> None:
        self._connection.cancel()

    def execute(self, sql: str) -> int:
        with self._run(sql) as cursor:
            return int(cursor.rowcount)

    def query(self, sql: str, **options: Any) -> pa.Table:
        del options
        with self._run(sql) as cursor:
            result = cursor.pgresult
            names = [result.fname(at).decode() for at in range(result.nfields)]
            return pa.table([_column(result, at) for at in range(result.nfields)], names=names)

    def batches(self, sql: str, **options: Any) -> Iterator[pa.RecordBatch]:
        yield from self.query(sql, **options).to_batches()

    @contextmanager
    def _run(self, sql: str) -> Iterator[Any]:
        import psycopg

        try:
            with psycopg.Cursor(self._connection) as cursor:
                cursor.execute(sql.encode(), prepare=False, binary=True)
                yield cursor
        except psycopg.Error as error:
            raise _Failed(error) from error


def _column(result: Any, at: int) -> pa.Array:
    """One column of a result."""
    kind, count = result.ftype(at), result.ntuples
    values = [result.get_value(row, at) for row in range(count)]
    if kind in _NUMBERS:
        form, arrow = _NUMBERS[kind]
        null = np.array([value is None for value in values], bool)
        zero = bytes(np.dtype(form).itemsize)
        numbers = np.frombuffer(b"".join(zero if value is None else value for value in values), form)
        native = numbers.astype(numbers.dtype.newbyteorder("="))
        if shift := _SHIFTS.get(kind):
            native = native + native.dtype.type(shift)  # infinity comes out as that driver has it
        plain = pa.array(native, mask=null)
        return plain if plain.type == arrow else plain.view(arrow)
    if kind == _BYTES:
        return pa.array(values, pa.binary())
    if kind == _NUMERIC:
        return pa.array([None if value is None else _numeric(value) for value in values], pa.string())
    if kind in _TEXTS:
        return pa.array(values, pa.binary()).view(pa.string())
    raise StoreError(f"values of the type {kind} cannot be read over a connection of psycopg's")


def _numeric(value: bytes) -> str:
    """A number as text, from PostgreSQL's binary form: groups of four digits, the place of the first, a sign, a
    scale."""
    count, weight, sign, scale = struct.unpack_from(">hhHh", value)
    if sign not in (0, 0x4000):
        return {0xC000: "nan", 0xD000: "inf", 0xF000: "-inf"}[sign]
    groups = struct.unpack_from(f">{count}h", value, 8)
    whole = "".join(f"{groups[at] if at < count else 0:04d}" for at in range(weight + 1)).lstrip("0") or "0"
    places = range(weight + 1, weight + 1 + -(-scale // 4))
    part = "".join(f"{groups[at] if 0 <= at < count else 0:04d}" for at in places)[:scale]
    return f"{'-' if sign else ''}{whole}{f'.{part}' if part else ''}"


class GuestLink(PostgreSQLLink):
    """Somebody else's connection; what is set for a merge holds for that alone."""

    in_caller = True
    few_rows = 1 << 62

    def __init__(self, where: str, connection: Any) -> None:
        self.where, self._adbc = where, Wire(connection)
        self._found: dict[str, str] | None = self._settings()
        super().__init__(where, None, None)

    def _connect(self, database: Any) -> Any:
        del database
        return self._adbc

    def set_up(self) -> Callable[[], None]:
        """Set what a merge needs for this transaction. Returns what sets it back."""
        before, self._found = self._found or self._settings(), None
        self._settle()
        self.marks = True
        names = self.answer(
            "SELECT name FROM pg_catalog.pg_prepared_statement() WHERE pg_catalog.starts_with(name, 'rmend')"
        )
        self._prepared = {one["name"] for one in names}  # others may have discarded them

        def back() -> None:
            settings = before | {SETTING: ""}  # the owner's own changes are recorded again
            calls = ", ".join(setting_sql(name, value, True) for name, value in settings.items())
            self.run(f"SELECT {calls}")

        return back

    def _settings(self) -> dict[str, str]:
        """What the connection goes by now."""
        names = [*SETTINGS, "search_path"]
        given = (f"pg_catalog.current_setting({text_sql(name)})" for name in names)
        picks = [Pick(expression, f"s{at}", pa.string()) for at, expression in enumerate(given)]
        return dict(zip(names, self.select(picks, "").to_pylist()[0].values(), strict=True))


class GuestSession(PostgreSQLSession):
    """One merge within a transaction of somebody else's."""

    slice_rows = ROWS
    chunk_rows = ROWS

    def _reading(self) -> SQLLink:
        return self._write.drained()  # nobody else sees what the transaction has written

    def _check_now(self, link: SQLLink, constraints: list[str]) -> None:
        link.run("SAVEPOINT rmend_check")
        with suppress(Refused):  # what the caller has written may wait for more
            super()._check_now(link, constraints)
            link.run("RELEASE SAVEPOINT rmend_check")
            return
        link.run("ROLLBACK TO SAVEPOINT rmend_check")
        link.run("RELEASE SAVEPOINT rmend_check")

    def close(self) -> None:
        super().close()
        if self._checked:  # as the caller has it
            self._write.link.run(f"SET CONSTRAINTS {', '.join(self._checked)} DEFERRED")


class PostgreSQLGuestStore(GuestStore):
    """The tables of a connection of psycopg.

    Isolation is that of the transaction. Another program that changes the same rows meanwhile makes a call fail with
    StoreError, which undoes what the call did.
    """

    def __init__(self, connection: Any) -> None:
        info = connection.info
        self._connection = connection
        self._where = f"postgresql://{info.user}@{info.host or 'localhost'}:{info.port}/{info.dbname}"
        self._link: GuestLink | None = None
        self.known: dict[TableInfo, Described] = {}

    @property
    def where(self) -> str:
        return self._where

    @contextmanager
    def begin(
        self, write: bool, table: TableInfo | None = None, alone: bool = False, guests: bool = False
    ) -> Iterator[Session]:
        del alone, guests
        import psycopg

        if self._connection.closed:
            raise self._closed()
        idle = self._connection.info.transaction_status == psycopg.pq.TransactionStatus.IDLE
        if idle and write and self._connection.autocommit:
            raise self._no_transaction("before: with connection.transaction():")
        with self._within(idle and not write):
            link = self._link = self._link or GuestLink(self.where, self._connection)
            back = link.set_up()
            if write and table is not None:
                link.run(f"SELECT pg_catalog.pg_advisory_xact_lock({merge_lock_key(table)})")
            with self._ending(GuestSession(link, self.known, _no_other, write, False)) as session:
                yield session
            back()

    @contextmanager
    def _within(self, undo: bool) -> Iterator[None]:
        """A savepoint, which an error goes back to; `undo`: end the transaction with it, which was begun for a look."""
        wire = Wire(self._connection)
        with translated(self.where):
            wire.execute(f"SAVEPOINT {SAVEPOINT}" if not self._connection.autocommit or not undo else "BEGIN")
        try:
            yield
        except BaseException:
            with suppress(Exception):
                wire.execute("ROLLBACK" if undo else f"ROLLBACK TO SAVEPOINT {SAVEPOINT}")
                if not undo:
                    wire.execute(f"RELEASE SAVEPOINT {SAVEPOINT}")
            raise
        with translated(self.where):
            wire.execute("ROLLBACK" if undo else f"RELEASE SAVEPOINT {SAVEPOINT}")


def _no_other() -> PostgreSQLLink:
    raise StoreError("a merge within another's transaction has one connection")
