"""Who writes to a history, by the locks on it.

Whoever inserts into a table has a lock on it before it takes a number, and keeps that until its transaction ends, also
one that is prepared for a later commit.
"""

from __future__ import annotations

from collections.abc import Callable

from ...core.schema import TableInfo
from ...errors import StoreError
from ..contract import Watch
from .link import PostgreSQLLink

Writers = frozenset[str]


class LockWatch(Watch):
    """Asks over a connection of its own, outside of any transaction."""

    def __init__(self, connect: Callable[[], PostgreSQLLink], history: TableInfo) -> None:
        self._connect, self._history = connect, history
        self._link: PostgreSQLLink | None = None

    def close(self) -> None:
        if self._link is not None:
            self._link.close()
            self._link = None

    def _writers(self) -> dict[str, str]:
        if self._link is None:
            self._link = self._connect()
            self._check(self._link)
        return self._link.writers(self._history.identity)

    def _check(self, link: PostgreSQLLink) -> None:
        """Numbers that a connection has taken in advance may come long after larger ones."""
        for one in link.sequences(int(self._history.identity)):
            if one["cache"] > 1:
                raise StoreError(
                    f"{link.where}: {one['name']} hands out {one['cache']} numbers of {self._history.name!r} at once, "
                    "so nobody knows in which order changes come, and they cannot be followed; "
                    f"ALTER SEQUENCE {one['name']} CACHE 1"
                )

    def mark(self) -> Writers:
        return frozenset(self._writers())

    def over(self, mark: Writers) -> bool:
        return mark.isdisjoint(self._writers())

    def holders(self, mark: Writers) -> list[str]:
        return [who or "a prepared transaction" for number, who in self._writers().items() if number in mark]
