"""The way of one chunk: read, checked, decided on alone, looked up, decided on, written, gathered."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from enum import Enum

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.decisions import decide_alone
from ..core.row_numbers import as_indices
from ..incoming import Chunk
from ..jobs.plan import Plan
from ..stores.contract import Session
from .batch import Batch, Progress
from .decide import Outcome, decide_slice
from .foresee import Foreseer
from .gather import Gather, Passed
from .groups import Groups
from .read import Reader
from .write import Pending, Writer, reject_refused


class Attempt(Enum):
    """Which one it is at records; those that the store refused because of others are tried again."""

    FIRST = "first"
    AGAIN = "again"
    LAST = "last"
    """What is refused now stays so."""


@dataclass(frozen=True)
class Unit:
    """One transaction: where it is written, by whom, and what it gathers."""

    session: Session
    writer: Writer | Foreseer
    gather: Gather


@dataclass(frozen=True)
class ChunkWay:
    """What the chunks of a batch go through, one after the other."""

    plan: Plan
    reader: Reader
    batch: Batch
    unit: str
    """What the source numbers: its lines, rows or records."""
    groups: Groups | None
    now: datetime
    progress: Progress

    def merge(self, unit: Unit, chunk: Chunk, done: int, attempt: Attempt = Attempt.FIRST) -> None:
        """Take a chunk through, in a unit of work; `done` records went before it."""
        plan, session, writer, gather = self.plan, unit.session, unit.writer, unit.gather
        counts = gather.tally.groups
        timed = gather.tally.timed
        with timed("reading"):
            records = self.reader.read(chunk)
            self.reader.check(session, records)
        alone = decide_alone(records, *self.batch.repeats.of(records.rows), self.unit)
        asked = alone.open
        whole = len(asked) == len(records.rows)
        if session.sorts and len(asked) > 1:
            names = [f"k{i}" for i in range(len(plan.key))]  # a name with a dot would be taken for a path
            keys = records.values.select(plan.key).rename_columns(names).take(pa.array(asked))
            order = pc.sort_indices(keys, sort_keys=[(name, "ascending") for name in names])
            asked, whole = asked[order.to_numpy()], False
        layout, extras = self.reader.layout(chunk), records.extras
        at_once = session.rows_at_once(plan.info, plan.key)
        outcomes: list[Outcome] = []
        pending: list[list[Pending]] = []
        for start in range(0, len(asked), at_once):
            places = asked[start : start + at_once]
            index = None if whole and len(places) == len(records.rows) else pa.array(places)
            values = records.values if index is None else records.values.take(index)
            some = extras if index is None else {name: column.take(index) for name, column in extras.items()}
            with timed("looking up and deciding"):
                place = writer.looks_in(session, values.select(plan.key), chunk.again)
                moot = self.batch.repeats.moot_of(records.rows[places])
                decided = decide_slice(place, plan, layout, values, some, self.now, chunk.again, moot)
            if attempt is Attempt.FIRST:
                gather.note_fired(decided.fired, records.rows[places])
            outcomes.append(Outcome(places, decided.decisions, decided.patterns, decided.matched_row))
            if plan.made:
                outcomes[-1].made = decided.existing.values.select(plan.made).take(as_indices(decided.matched_row))
            if self.groups is not None:
                outcomes[-1].groups = self.groups.of_decided(decided)
            with timed("writing"):
                pending.append(writer.write(decided, records.rows[places]))
            self.progress("merging", done + start, self.batch.rows)
        open_still = np.zeros(len(records.rows), bool)
        for outcome, writes in zip(outcomes, pending, strict=True):
            with timed("writing"):
                for_now = reject_refused(plan, outcome, writes) & (attempt is not Attempt.LAST)
            open_still[outcome.places[for_now]] = True
            if self.groups is not None and outcome.groups is not None:
                self.groups.count(counts, outcome.groups.filter(pa.array(~for_now)), outcome.decisions.codes[~for_now])
        if open_still.any():
            gather.tally.deferred.append(
                Chunk(
                    chunk.raw.filter(pa.array(open_still)),
                    chunk.rows[open_still],
                    chunk.again or plan.spans is not None,
                )
            )
        if self.groups is not None:
            closed = np.flatnonzero(alone.codes >= 0)
            some = records.values.take(pa.array(closed))
            self.groups.count(counts, self.groups.of_records(some), alone.codes[closed])
        with timed("gathering"):
            gather.note(Passed(chunk, records, alone, outcomes, pending, open_still))
