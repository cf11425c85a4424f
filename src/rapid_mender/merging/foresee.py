"""The writer's stand-in for a preview: it writes nothing, and keeps samples to show."""

from __future__ import annotations

import numpy as np
import pyarrow as pa

from ..core.existing import Existing
from ..stores.contract import Session
from .decide import DecidedSlice
from .gather import Gather
from .groups import Groups
from .shadow import Shadow
from .write import Pending


class Foreseer:
    """Foresees what a `Writer` would do; one of versions, if there is a shadow."""

    def __init__(self, gather: Gather, groups: Groups | None, shadow: Shadow | None) -> None:
        self.gather, self.groups, self.shadow = gather, groups, shadow

    def looks_in(self, session: Session, keys: pa.Table, again: bool) -> Session:
        """Where rows of some keys are looked up; `again`: the keys come in several chunks."""
        if not again or self.shadow is None:
            return session
        self.shadow.fill(session, keys)
        return self.shadow.session

    def write(self, decided: DecidedSlice, rows: np.ndarray) -> list[Pending]:
        """Keep samples of what was decided on the records of these numbers, and move rows between groups."""
        if self.groups is not None:
            self.groups.foresee(self.gather.tally.groups, decided)
        self.gather.sample(
            rows, decided.values, decided.decisions, decided.existing, decided.matched_row, decided.changed
        )
        if self.shadow is not None and decided.versioned is not None and decided.versioned.again:
            self.shadow.write(decided, rows)
        return []

    def delete_missing(self, rows: Existing) -> dict[int, str]:
        """Take rows that did not come out of their groups. None is refused: only a database can do that."""
        if self.groups is not None:
            self.groups.foresee_deleted(self.gather.tally.groups, rows)
        return {}
