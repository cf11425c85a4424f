"""What others do in the transaction of a merge."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

import pyarrow as pa

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

    def end(self, session: Session, rejects: pa.Table | None = None) -> None:
        """Called when all is written, before the commit; also if there was nothing to write. `rejects`: the records
        that were rejected, as they came, with the reason in rmend_reason; None if there are none."""
