"""What stores in somebody else's transaction share."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Protocol, TypeVar

from ..errors import JobError, StoreError
from .contract import Store

SAVEPOINT = "rmend_guest"
ROWS = 1_000
"""Records are looked up and written so many at a time."""


class _Session(Protocol):
    def close(self) -> None: ...

    def abandon(self) -> None: ...


_S = TypeVar("_S", bound=_Session)


class GuestStore(Store):
    """The tables of a connection that somebody else has opened; what is written is theirs to commit or to roll back."""

    owns_transactions = False

    def _closed(self) -> StoreError:
        """That nothing can be done over the connection any more."""
        return StoreError(f"{self.where}: the connection is closed; open another one, and a Merger over that")

    def _no_transaction(self, how: str) -> JobError:
        """That there is no transaction in which to merge; `how` to begin one, in words."""
        return JobError(f"{self.where}: the connection commits every statement by itself; begin a transaction {how}")

    @contextmanager
    def _ending(self, session: _S) -> Iterator[_S]:
        """A session that is closed at the end, or abandoned after an error."""
        try:
            yield session
            session.close()
        except BaseException:
            session.abandon()
            raise
