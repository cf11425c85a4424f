"""What was decided, counted and kept: of one unit of work, or of all that were committed."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field

import numpy as np
import pyarrow as pa

from ..core.decisions import NAMES
from ..core.rules import Fired
from ..incoming import Chunk, Spool, tables_of
from .result import Sample, unite

SAMPLES = 4  # per decision
_IN_MEMORY = 64 << 20


@dataclass
class GroupCounts:
    """By group: how often each decision was made, in the order of NAMES; and how many rows it gains."""

    decisions: dict[object, np.ndarray] = field(default_factory=dict)
    gained: Counter[object] = field(default_factory=Counter)

    def add(self, other: GroupCounts) -> None:
        for group, numbers in other.decisions.items():
            self.decisions[group] = self.decisions.get(group, np.zeros(len(NAMES), np.int64)) + numbers
        self.gained.update(other.gained)


@dataclass
class Tally:
    """Each unit of work has one of its own. It is added to the run's when the unit commits, and dropped when the unit
    is done again."""

    counts: Counter[str] = field(default_factory=Counter)
    records: int = 0
    missing: int = 0
    changed: Counter[str] = field(default_factory=Counter)
    """By column: the updates that change it."""
    kept: Counter[str] = field(default_factory=Counter)
    """By the database's reason: how many rows that did not come could not be deleted."""
    reasons: Counter[str] = field(default_factory=Counter)
    """How many records were rejected for a reason, of the more frequent ones."""
    seconds: Counter[str] = field(default_factory=Counter)
    """How long each step has taken."""
    fired: Fired = field(default_factory=Fired)
    groups: GroupCounts = field(default_factory=GroupCounts)
    warnings: list[str] = field(default_factory=list)
    samples: list[Sample] = field(default_factory=list)
    deferred: list[Chunk] = field(default_factory=list)
    """Records that the store refused because of other rows, and may take once all others are written."""
    decisions: list[Spool] = field(default_factory=list)
    rejects: list[Spool] = field(default_factory=list)

    def plus(self, unit: Tally) -> Tally:
        """This tally and that of a unit of work together; both stay as they are."""
        both = Tally()
        for one in (self, unit):
            both._count(one)
            both.decisions += one.decisions
            both.rejects += one.rejects
        both.deferred = [*self.deferred, *unit.deferred]
        return both

    def add(self, unit: Tally) -> None:
        """Add the tally of a unit of work that has committed; it must not be used afterwards."""
        self._count(unit)
        self.deferred += unit.deferred
        for mine, theirs in ((self.decisions, unit.decisions), (self.rejects, unit.rejects)):
            for spool in theirs:
                if not mine:
                    mine.append(spool)
                    continue
                for table in spool:
                    mine[0].put(table)
                spool.close()

    def _count(self, other: Tally) -> None:
        for name in ("counts", "changed", "kept", "reasons", "seconds"):
            getattr(self, name).update(getattr(other, name))
        self.records += other.records
        self.missing += other.missing
        self.fired.add(other.fired)
        self.groups.add(other.groups)
        for warning in other.warnings:
            self.warn(warning)
        for sample in other.samples:
            if self.lacks_samples(sample.decision):
                self.samples.append(sample)

    @contextmanager
    def timed(self, step: str) -> Iterator[None]:
        """Count how long the block takes to a step."""
        began = time.perf_counter()
        yield
        self.seconds[step] += time.perf_counter() - began  # type: ignore[assignment]

    def lacks_samples(self, decision: str) -> int:
        """How many more samples of a decision are wanted."""
        return max(SAMPLES - sum(sample.decision == decision for sample in self.samples), 0)

    def warn(self, warning: str) -> None:
        if warning not in self.warnings:
            self.warnings.append(warning)

    def keep_decisions(self, table: pa.Table) -> None:
        if not self.decisions:
            self.decisions.append(Spool(_IN_MEMORY))
        self.decisions[-1].put(table)

    def rejected(self) -> pa.Table | None:
        """The records that were rejected, as they came; None if there are none."""
        return unite(list(tables_of(self.rejects))) if self.counts["reject"] else None

    def keep_rejects(self, table: pa.Table) -> None:
        if not self.rejects:
            self.rejects.append(Spool())
        self.rejects[-1].put(table)
