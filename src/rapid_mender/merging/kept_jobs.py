"""What is kept of a job from one `merge` to the next, where its store is kept: it is bound once, as for a Merger."""

from __future__ import annotations

import os
import threading
from typing import Any

from ..changes.identity import KnownHistory
from ..jobs.job import Job
from ..jobs.opening import OpenJob
from ..stores.contract import Store
from .fast_way import FastWay


class KeptJob:
    """A job that is merged again and again, by one thread at a time."""

    def __init__(self, job: Job, store: Store) -> None:
        self.open, self.known, self.fast = OpenJob(job, store), KnownHistory(), FastWay()
        self.turn, self.process = threading.Lock(), os.getpid()

    def leave(self) -> None:
        """It is kept no more; whoever merges it now closes it, or else nobody does."""
        if self.turn.acquire(blocking=False):
            self.fast.close()


_guard = threading.Lock()
_MOST = 8
"""Jobs that are kept of a store: those that were merged last."""


def kept_job(job: Job, store: Any) -> KeptJob | None:
    """What is kept of a job on a store that its caller keeps; None of another one."""
    if not isinstance(store, Store) or not store.owns_transactions:
        return None
    with _guard:
        kept: dict[int, KeptJob] = store.kept
        found = kept.pop(id(job), None)
        if found is None or found.process != os.getpid():
            found = KeptJob(job, store)
        kept[id(job)] = found
        while len(kept) > _MOST:
            kept.pop(next(iter(kept))).leave()
        return found
