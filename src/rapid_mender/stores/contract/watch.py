"""When a number that a history lacks is missing for good."""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import Any


class Watch(ABC):
    """Tells when everybody has ended who may have taken a number of a history, and not committed it yet.

    Numbers are taken before their rows are committed, and may be committed in another order, or never.

        mark = watch.mark()       # after a number was seen to be missing
        if watch.over(mark):      # later: read again, in a new session; what is missing still, is missing for good
    """

    @abstractmethod
    def mark(self) -> Any:
        """Who writes to the history now."""

    @abstractmethod
    def over(self, mark: Any) -> bool:
        """Whether all of these have ended."""

    @abstractmethod
    def holders(self, mark: Any) -> list[str]:
        """Those who have not: who they are, since when, in words."""

    def close(self) -> None:  # noqa: B027  many hold nothing open
        """Close what is held open."""


class OneWriter(Watch):
    """For a store with one writer at a time: numbers are committed in their order."""

    def mark(self) -> None:
        return None

    def over(self, mark: None) -> bool:
        return True

    def holders(self, mark: None) -> list[str]:
        return []
