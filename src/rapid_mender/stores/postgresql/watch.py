"""Who writes to a history, by the locks on it.

Whoever inserts into a table has a lock on it before it takes a number, and keeps that until its transaction ends, also
one that is prepared for a later commit.
"""

from __future__ import annotations

from collections.abc import Callable

from ...core.schema import TableInfo
from ..contract import Watch
from .link import PostgreSQLLink

Writers = frozenset[str]


class LockWatch(Watch):
    """Asks over a connection of its own, outside of any transaction."""

    def __init__(self, connect: Callable[[], PostgreSQLLink], history: TableInfo) -> None:
        self._connect, self._table = connect, history.identity
        self._link: PostgreSQLLink | None = None

    def close(self) -> None:
        if self._link is not None:
            self._link.close()
            self._link = None

    def _writers(self) -> dict[str, str]:
        self._link = self._link or self._connect()
        return self._link.writers(self._table)

    def mark(self) -> Writers:
        return frozenset(self._writers())

    def over(self, mark: Writers) -> bool:
        return mark.isdisjoint(self._writers())

    def holders(self, mark: Writers) -> list[str]:
        return [who or "a prepared transaction" for number, who in self._writers().items() if number in mark]
