"""What others do in the transaction of a merge."""

from __future__ import annotations

from typing import Any, Protocol

from ..stores.contract import Session


class Beside(Protocol):
    """What is to be done in the transaction of a merge, besides."""

    name: str
    """What the batch is said to be of, in the place of a job file."""
    figures: dict[str, Any]
    """What is to be kept with the batch's own figures."""

    def begin(self, session: Session) -> None:
        """Called before anything is written."""

    def end(self, session: Session) -> None:
        """Called when all is written, before the commit; also if there was nothing to write."""
