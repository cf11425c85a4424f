"""Who writes to a history.

The server tells which transactions have written something, but not to which table, and only to users with the right
PROCESS. With the right LOCK TABLES a lock on the history tells the rest: it is to be had only while no transaction is
open that has written to it. Either right will do; with both nobody waits for those who write to other tables.
"""

from __future__ import annotations

import time
from collections.abc import Callable

from ...core.schema import TableInfo
from ..contract import Forbidden, Watch
from .link import MariaDBLink

Writers = frozenset[int] | None
"""The transactions; None: whoever they are."""

_PATIENCE = 5.0  # seconds until the server has told of a transaction that has just begun
_STALE = 0.12  # seconds for which the server tells what it told before
_WAITS = 10.0  # seconds after which others are made to wait for a moment, so that there is one without a writer


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
                writers = self._link.writers()
                if writers is None:
                    break
                if self._link.process in writers:
                    return frozenset(number for process, (number, _) in writers.items() if number)
                time.sleep(_STALE)
            self._since = time.monotonic()
            return None
        finally:
            self._link.run("ROLLBACK")

    def over(self, mark: Writers) -> bool:
        self._link = self._link or self._connect()
        if mark is None:
            waits = self._since is not None and time.monotonic() - self._since > _WAITS
            return self._link.is_at_rest(self._history, 1 if waits else 0)
        writers = self._link.writers() or {}
        if mark.isdisjoint(number for number, _ in writers.values()):
            return True
        try:
            return self._link.is_at_rest(self._history, 0)
        except Forbidden:
            return False

    def holders(self, mark: Writers) -> list[str]:
        self._link = self._link or self._connect()
        if mark is None:
            return ["a transaction that has written to the history (the right PROCESS would tell which)"]
        return [who for number, who in (self._link.writers() or {}).values() if number in mark]
