"""Who writes to a history.

The server tells which transactions have written something, but not to which table, and only to users with the right
PROCESS. With the right LOCK TABLES a lock on the history tells the rest: it is to be had only while no transaction is
open that has written to it. Either right will do; with both nobody waits for those who write to other tables.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import NamedTuple

from ...core.schema import TableInfo
from ..contract import Conflict, Forbidden, Watch
from .link import MariaDBLink

_TRANSACTIONS = (
    "SELECT t.trx_mysql_thread_id AS process, t.trx_id AS number, CONCAT_WS(', ', p.USER, p.HOST, "
    "IF(t.trx_mysql_thread_id = 0, 'a prepared XA transaction whose connection has ended (XA RECOVER names it)', "
    "CONCAT('connection ', t.trx_mysql_thread_id)), CONCAT('since ', t.trx_started)) AS who "
    "FROM information_schema.INNODB_TRX AS t LEFT JOIN information_schema.PROCESSLIST AS p "
    "ON p.ID = t.trx_mysql_thread_id ORDER BY t.trx_started"
)
Writers = frozenset[int] | None
"""The transactions; None: whoever they are."""

_PATIENCE = 5.0  # seconds until the server has told of a transaction that has just begun
_STALE = 0.12  # seconds for which the server tells what it told before
_WAITS = 10.0  # seconds after which others are made to wait for a moment, so that there is one without a writer


class Writer(NamedTuple):
    """A transaction."""

    process: int
    """The connection that it is of; 0 if that has ended, and the transaction is prepared."""
    number: int
    """0 until it writes."""
    who: str


class TransactionWatch(Watch):
    """Asks over connections of its own."""

    def __init__(self, connect: Callable[[], MariaDBLink], history: TableInfo) -> None:
        self._connect, self._history = connect, history
        self._link: MariaDBLink | None = None
        self._since: float | None = None

    def close(self) -> None:
        if self._link is not None:
            self._link.close()
            self._link = None

    def mark(self) -> Writers:
        """The server tells for a moment what it told before. So a connection is opened, which must be among the others
        before these are believed."""
        self.close()
        self._link = self._connect()
        self._link.run("START TRANSACTION WITH CONSISTENT SNAPSHOT")
        try:
            until = time.monotonic() + _PATIENCE
            while time.monotonic() < until:
                writers = _writers(self._link)
                if writers is None:
                    break
                if any(one.process == self._link.process for one in writers):
                    return frozenset(one.number for one in writers if one.number)
                time.sleep(_STALE)
            self._since = time.monotonic()
            return None
        finally:
            self._link.run("ROLLBACK")

    def over(self, mark: Writers) -> bool:
        self._link = self._link or self._connect()
        if mark is None:
            waits = self._since is not None and time.monotonic() - self._since > _WAITS
            return _is_at_rest(self._link, self._history, 1 if waits else 0)
        if mark.isdisjoint(one.number for one in _writers(self._link) or ()):
            return True
        try:
            return _is_at_rest(self._link, self._history, 0)
        except Forbidden:
            return False

    def holders(self, mark: Writers) -> list[str]:
        self._link = self._link or self._connect()
        if mark is None:
            return ["a transaction that has written to the history (the right PROCESS would tell which)"]
        return [one.who for one in _writers(self._link) or () if one.number in mark]


def _writers(link: MariaDBLink) -> list[Writer] | None:
    """The transactions of the server. None if the user may not know."""
    try:
        rows = link.ask(_TRANSACTIONS)
    except Forbidden:
        return None
    return [Writer(int(one["process"]), int(one["number"]), one["who"]) for one in rows]


def _is_at_rest(link: MariaDBLink, table: TableInfo, seconds: int) -> bool:
    """Whether no transaction is open that has written to a table, or all have ended within some seconds, in which
    others wait.

    A prepared XA transaction whose connection has ended has no lock of the server any more. It still has one of
    InnoDB, which `LOCK TABLES` asks for only where it begins a transaction.
    """
    link.run("SET SESSION autocommit = 0, innodb_table_locks = 1")
    try:
        link.run(f"LOCK TABLES {table.identity} READ {f'WAIT {seconds}' if seconds else 'NOWAIT'}")
        link.run("UNLOCK TABLES")
    except Conflict:
        return False
    finally:
        link.run("SET SESSION autocommit = 1")
    return True
