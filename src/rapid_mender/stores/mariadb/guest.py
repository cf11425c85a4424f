"""A merge in the transaction of somebody else's connection to MariaDB (PyMySQL)."""

from __future__ import annotations

import ssl
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from typing import Any

import pyarrow as pa

from ...core.schema import TableInfo
from ...errors import JobError, StoreError
from ..contract import Session
from ..guest import ROWS, SAVEPOINT, GuestStore
from ..sql.link import Described, Pick
from ..sql.text import text_sql
from .errors import translated
from .link import SETTINGS, Address, MariaDBLink, setting_sql
from .session import MariaDBSession
from .triggers import ASIDE, MERGING
from .wire import TLS

_IN_TRANSACTION, _COMMITS = 1, 2  # bits of the server's status
_FOUND_ROWS = 2  # a bit of what the client can do


class _Plain:
    """The connection, with cursors that give plain rows."""

    def __init__(self, connection: Any) -> None:
        self._given = connection

    def cursor(self) -> Any:
        from pymysql.cursors import Cursor

        return Cursor(self._given)

    def __getattr__(self, name: str) -> Any:
        return getattr(self._given, name)


class GuestLink(MariaDBLink):
    """Somebody else's connection; what is set for a merge holds for that alone."""

    in_caller = True

    def __init__(self, connection: Any) -> None:
        given = connection
        where = f"mariadb://{_text(given.user)}@{given.host}:{given.port}/{_text(given.db)}"
        if given.charset != "utf8mb4":
            raise JobError(f"{where}: the connection speaks {given.charset}; open it with charset='utf8mb4'")
        options = {"host": given.host, "port": given.port, "database": _text(given.db), "user": given.user}
        options |= {"password": given.password or b"", "connect_timeout": 10}
        if given.unix_socket:
            options["unix_socket"] = given.unix_socket
        self._given = given
        super().__init__(Address(where, options, TLS()))
        self._loads = False

    def _connect(self) -> Any:
        return _Plain(self._given)

    def close(self) -> None:
        """It is closed by whoever opened it."""
        if self._other is not None:
            self._other.close()

    def _set_up(self, timeout: float) -> None:
        told = self.ask("SELECT @@max_allowed_packet AS p, CONNECTION_ID() AS id")[0]
        self.packet, self._id = int(told["p"]), told["id"]

    def settle(self) -> Callable[[], None]:
        """Set what a merge needs. Returns what sets it back."""
        asked = ", ".join(f"@@SESSION.{name} AS {name}" for name in SETTINGS)
        before = self.ask(f"SELECT {asked}")[0]
        self.run(setting_sql(SETTINGS))
        self._by_index, self.marks = False, True

        def back() -> None:
            texts = {
                n: v if v.isdigit() and n not in ("sql_mode", "time_zone") else text_sql(v) for n, v in before.items()
            }
            self.run(setting_sql(texts))
            self.run(f"SET {ASIDE} = NULL, {MERGING} = NULL")

        return back

    def run(self, sql: str) -> int:
        changed = super().run(sql)
        found = self._given.client_flag & _FOUND_ROWS
        counts = found or not sql.startswith("UPDATE")  # else without the rows that are as they were
        return changed if counts else -1

    def select(self, picks: Sequence[Pick], rest: str, number: str | None = None, end: str = "") -> pa.Table:
        locks = " LOCK IN SHARE MODE" if rest and not end else end  # an old snapshot is of no use
        return super().select(picks, rest, number, locks)

    def _cells(self, sql: str) -> Sequence[tuple[Any, ...]]:
        return [
            tuple(v if v is None or isinstance(v, bytes) else str(v).encode() for v in row)
            for row in super()._cells(sql)
        ]

    def define(self, sql: str) -> None:
        context = getattr(self._given, "ctx", None)
        if context is not None and context.verify_mode != ssl.CERT_NONE:  # whose certificates these are is not told
            raise StoreError(
                f"{self.where}: a table is to be made or altered ({sql[:60]} …), and MariaDB would commit the "
                "transaction with it; merge once without connection=, which makes it"
            )
        if self._other is None:
            self._other = MariaDBLink(self._address)
            self._other.run("SET SESSION lock_wait_timeout = 5")  # this transaction may be what it waits for
        self._other.run(sql)


class GuestSession(MariaDBSession):
    """One merge within a transaction of somebody else's."""

    slice_rows = ROWS
    chunk_rows = ROWS


class MariaDBGuestStore(GuestStore):
    """The tables of a connection of PyMySQL.

    Our own tables are made over another connection, as that of the owner would commit. Another program that writes the
    same rows meanwhile is waited for; if the server ends that by undoing the whole transaction, StoreError says so.
    """

    def __init__(self, connection: Any) -> None:
        self._connection = connection
        self._link = GuestLink(connection)
        self.known: dict[TableInfo, Described] = {}

    @property
    def where(self) -> str:
        return self._link.where

    def close(self) -> None:
        self._link.close()

    @contextmanager
    def begin(
        self, write: bool, table: TableInfo | None = None, alone: bool = False, guests: bool = False
    ) -> Iterator[Session]:
        del alone, guests
        link = self._link
        if not self._connection.open:
            raise self._closed()
        with translated(self.where):
            self._connection.ping(reconnect=False)  # it tells the status
        began = not self._connection.server_status & _IN_TRANSACTION
        if began and write and self._connection.server_status & _COMMITS:
            raise self._no_transaction("before: connection.begin()")
        back = link.settle()
        try:
            with self._within(began, write), self._ending(GuestSession(link, self.known, write)) as session:
                yield session
        finally:
            with suppress(StoreError):
                back()

    @contextmanager
    def _within(self, began: bool, write: bool) -> Iterator[None]:
        """A savepoint, which an error goes back to; in a transaction that is begun for it, if there is none."""
        link = self._link
        if began:
            link.run("START TRANSACTION")
        link.run(f"SAVEPOINT {SAVEPOINT}")
        try:
            yield
        except BaseException as error:
            self._undo(began, error)
            raise
        link.run("ROLLBACK" if began and not write else f"RELEASE SAVEPOINT {SAVEPOINT}")

    def _undo(self, began: bool, error: BaseException) -> None:
        try:
            self._link.run("ROLLBACK" if began else f"ROLLBACK TO SAVEPOINT {SAVEPOINT}")
        except StoreError:
            raise StoreError(f"{error}; with it the server has undone the whole transaction") from error


def _text(value: Any) -> str:
    return value.decode() if isinstance(value, bytes) else str(value or "")
