"""Doing a unit of work again, when another program wrote the same rows meanwhile."""

from __future__ import annotations

import copy
import random
import time
from collections.abc import Callable
from dataclasses import fields

from ..changes.recorder import Recorder
from ..core.rules import Fired
from ..jobs.plan import Plan
from .gather import Gather
from .groups import Groups
from .result import Result

MOST = 12
"""So often a unit of work is tried again."""
_PATIENT = 3  # tries after which nobody else may write meanwhile, where the store can see to that
_SECONDS, _LONGEST = 0.02, 2.0


def pause(tries: int) -> bool:
    """Wait a while after so many tries, for a random time, so that two programs do not meet again.

    Returns whether the next try had better be alone.
    """
    time.sleep(random.uniform(0.5, 1) * min(_SECONDS * 2**tries, _LONGEST))
    return tries >= _PATIENT


def remember(
    result: Result, gather: Gather, fired: Fired, groups: Groups | None, plan: Plan, recorder: Recorder | None
) -> Callable[[], Recorder | None]:
    """Keep what a unit of work adds to. The function that is returned puts it back as it was."""
    spools = [(spool, spool.mark()) for spool in (result._decisions, result._rejects)]
    plain = {f.name: copy.copy(getattr(result, f.name)) for f in fields(result) if not f.name.startswith("_")}
    kept, done, warnings = gather.kept(), copy.deepcopy(fired), list(plan.warnings)
    counted = groups.counted() if groups is not None else None
    written = copy.copy(recorder)

    def back() -> Recorder | None:
        for spool, mark in spools:
            spool.back_to(mark)
        for name, value in plain.items():
            setattr(result, name, copy.copy(value))
        plan.warnings[:] = warnings
        result.warnings = plan.warnings
        gather.kept(kept)
        fired.decided, fired.failed = dict(done.decided), dict(done.failed)
        if groups is not None and counted is not None:
            groups.counted(counted)
        return copy.copy(written)

    return back
