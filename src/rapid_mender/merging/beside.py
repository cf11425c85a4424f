"""What others do in the transaction of a merge."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from ..changes.detail import Detail
from ..core.own_tables import Kind
from ..stores.contract import Session


class Beside(Protocol):
    """What is to be done in the transaction of a merge, besides."""

    name: str
    """What the batch is said to be of, in the place of a job file."""
    kind: Kind
    """What the batch is."""
    details: Sequence[Detail]
    """What others are to know of it."""

    def begin(self, session: Session) -> None:
        """Called before anything is written."""

    def end(self, session: Session, rejected: int = 0) -> None:
        """Called when all is written, before the commit; also if there was nothing to write. `rejected`: how many
        records were rejects."""
