"""Who else has a part in a merge, beside the job and its batch."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from ..changes.identity import KnownHistory
from .batch import Progress
from .beside import Beside
from .open_batch import OpenBatch


@dataclass(frozen=True)
class Company:
    """Who else has a part in a merge."""

    progress: Progress | None = None
    by: str | None = None
    """By what `result.groups` counts."""
    beside: Beside | None = None
    known: KnownHistory | None = None
    """What the batches before have learnt of the table's history."""
    open_batch: OpenBatch | None = None
    """The batch that goes on, if one does."""
    before_commit: Callable[[], None] | None = None
    """Called when all is written; what it raises undoes the transaction."""
