"""Joining versions that have become equal to their neighbours: of each run the last row stays, from the first one's
beginning on."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pyarrow as pa

from ..core.cast import cast
from ..core.compare import unlike
from ..core.existing import Existing
from ..core.keys import one_array
from ..jobs.plan import Plan
from ..stores.contract import Session
from .rows import RowWriter, setting_of


@dataclass(frozen=True)
class Joiner:
    """Joins versions within a transaction."""

    session: Session
    plan: Plan
    rows: RowWriter

    def join(self, keys: pa.Table) -> None:
        """Join what is equal of some keys, each of which is there once. What the database refuses stays as it is."""
        spans, info = self.plan.spans, self.plan.info
        assert spans is not None
        every = self.session.fetch(info, keys, fresh=True, by=[spans.begin])
        begin, end = spans.instants(every.values)
        order = np.lexsort((begin, every.positions))
        every, begin, end = every.take(order), begin[order], end[order]
        if len(begin) < 2:
            return
        goes_on = (every.positions[1:] == every.positions[:-1]) & (end[:-1] == begin[1:])
        for name in spans.versioned:
            before, after = (every.take(part) for part in (np.arange(len(begin) - 1), np.arange(1, len(begin))))
            goes_on &= ~unlike(before, after, name)
        if not goes_on.any():
            return
        gone = np.flatnonzero(goes_on)
        run = np.cumsum(np.append(True, ~goes_on)) - 1
        first = np.unique(run, return_index=True)[1]
        last = np.append(first[1:], len(run)) - 1
        joined = np.flatnonzero(last > first)
        refused = {int(gone[at]) for at in self.rows.delete(every.take(gone), None).refusals()}
        whole = np.array([not refused & set(range(first[at], last[at])) for at in joined], bool)
        some, start = last[joined[whole]], first[joined[whole]]
        if len(some):
            begins = one_array(every.values[spans.begin]).take(pa.array(start))
            kept = every.values.select(self.plan.identity).take(pa.array(some))
            there = self.session.fetch(info, kept, fresh=True)  # a store may have moved them
            self._set(there, spans.begin, begins.take(pa.array(there.positions)))
        if spans.number is not None:
            self.number(keys, spans.number)

    def number(self, keys: pa.Table, name: str) -> None:
        """Number the versions of keys anew."""
        spans = self.plan.spans
        assert spans is not None
        left = self.session.fetch(self.plan.info, keys, fresh=True, by=[spans.begin])
        left = left.take(np.lexsort((spans.instants(left.values)[0], left.positions)))
        starts = np.unique(left.positions, return_index=True)[1]
        rank = np.arange(len(left.positions)) - np.repeat(starts, np.diff(np.append(starts, len(left.positions)))) + 1
        self._set(left, name, cast(pa.array(rank), self.plan.info[name])[0])

    def _set(self, rows: Existing, name: str, values: pa.Array) -> None:
        setting = setting_of(rows, {name: values})
        places = np.flatnonzero(setting.changed[name])
        if len(places):
            self.rows.update(rows.take(places), setting, places, None).refusals()
