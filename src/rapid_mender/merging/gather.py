"""Gathering what becomes of a chunk: counts, decisions, rejects, samples."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.decisions import DID_NOT_COME, NAMES, REJECT, UPDATE, Decisions
from ..core.existing import Existing
from ..core.keys import one_array
from ..core.records import REJECT_SHAPE, REJECT_TEXT, Records
from ..core.row_numbers import NO_ROW, no_rows
from ..core.rules import Fired
from ..incoming import BrokenRecords, Chunk, Source
from ..incoming.rejected import kept_name
from ..jobs.plan import Plan
from .decide import Outcome
from .result import Sample
from .tally import Tally
from .write import Pending, in_words

_REASONS = 50


class Passed(NamedTuple):
    """A chunk that has gone its way."""

    chunk: Chunk
    records: Records
    alone: Decisions
    """What was decided on them without looking anything up."""
    outcomes: list[Outcome]
    pending: list[list[Pending]]
    open_still: np.ndarray
    """A mask of those that are to be tried again."""


@dataclass
class Gather:
    """Adds to a tally what becomes of the chunks of a batch. `samples`: also keep some records to show."""

    tally: Tally
    plan: Plan
    source: Source
    samples: bool
    shape: pa.Schema
    """The schema of the table of decisions."""

    def note_fired(self, fired: Fired, rows: np.ndarray) -> None:
        """Note what came of the rules for the records of some numbers."""
        del rows
        self.tally.fired.add(fired)

    def note(self, passed: Passed) -> None:
        """Put the decisions of a chunk together, in the order of its records, leaving out those that are
        `open_still`."""
        chunk, records, alone, outcomes, pending, open_still = passed
        count = len(chunk.rows)
        place = np.arange(count)
        asked = np.concatenate([np.empty(0, np.int64), *(one.places for one in outcomes)])
        place[asked] = count + np.arange(len(asked))
        parts = [alone, *(one.decisions for one in outcomes)]
        codes = np.concatenate([part.codes for part in parts])[place]
        begin = np.cumsum([0, *(len(part.texts) for part in parts[:-1])])
        why = np.concatenate([part.why + start for part, start in zip(parts, begin, strict=True)])[place]
        texts = pa.concat_arrays([part.texts for part in parts])
        reasons = pa.DictionaryArray.from_arrays(pa.array(why.astype(np.int32)), texts)
        none = pa.nulls(count, pa.list_(pa.string()))
        sets = pa.concat_arrays([none, *(self._changed(one) for one in outcomes)]).take(pa.array(place))
        self.sample(records.rows, records.values, alone, None, no_rows(count), {})
        kept = ~open_still
        for name, number in zip(NAMES, np.bincount(codes[kept], minlength=len(NAMES)), strict=True):
            self.tally.counts[name] += int(number)
        self.tally.records += int(kept.sum())
        names = pa.DictionaryArray.from_arrays(pa.array(codes), pa.array(NAMES))
        keys = self._keys(records, outcomes, pending)
        table = [pa.array(chunk.rows), names, reasons, sets, *keys]
        noted = pa.table(table, names=self.shape.names)
        self.tally.keep_decisions(noted if kept.all() else noted.filter(pa.array(kept)))
        rejected = (codes == REJECT) & kept
        self._count_reasons(why[rejected], texts)
        self._note_rejects(chunk, rejected, reasons)

    def _count_reasons(self, why: np.ndarray, texts: pa.Array) -> None:
        """Count the rejects by reason; of many reasons those that come most often."""
        which, numbers = np.unique(why, return_counts=True)
        most = np.argsort(-numbers, kind="stable")[:_REASONS]
        for place in most.tolist():
            self.tally.reasons[texts[int(which[place])].as_py()] += int(numbers[place])

    def _changed(self, outcome: Outcome) -> pa.Array:
        """For each record of a decided slice the columns that its update changes, counted as well."""
        patterns = outcome.patterns
        updated = outcome.rows_of(UPDATE)
        for column, number in patterns.counts(updated).items():
            self.tally.changed[column] += number
        sets = pa.array([list(columns) for columns in patterns.sets] + [None], pa.list_(pa.string()))
        which = np.full(len(outcome.places), len(patterns.sets), np.int64)
        which[outcome.decisions.codes == UPDATE] = patterns.code[updated]
        return sets.take(pa.array(which))

    def _keys(self, records: Records, outcomes: list[Outcome], pending: list[list[Pending]]) -> list[pa.Array]:
        """The keys of a chunk's records, and, beside them, what the database made of the primary key."""
        count = len(records.rows)
        keys = {name: one_array(records.values[name]) for name in self.plan.key}
        keys |= {name: pa.nulls(count, self.plan.info[name].type) for name in self.plan.made}
        for outcome, writes in zip(outcomes, pending, strict=True):
            known = [] if outcome.made is None else [(outcome.places, outcome.made)]
            known += [(outcome.places[one.made[0]], one.made[1]) for one in writes if one.made is not None]
            for places, values in known:
                mask = np.zeros(count, bool)
                mask[places] = True
                order = pa.array(np.argsort(places))
                for name in values.column_names:
                    keys[name] = pc.replace_with_mask(keys[name], mask, one_array(values[name]).take(order))
        return list(keys.values())

    def _note_rejects(self, chunk: Chunk, rejected: np.ndarray, reasons: pa.Array) -> None:
        if not rejected.any():
            return
        mask = pa.array(rejected)
        raw = chunk.raw.filter(mask)
        texts = raw[REJECT_TEXT].cast(pa.string()) if REJECT_TEXT in raw.column_names else pa.nulls(raw.num_rows)
        rows = pa.array(chunk.rows[rejected])
        why = self._placed(rows, reasons.filter(mask).dictionary_decode())
        fixed = pa.table([rows, why, texts], names=REJECT_SHAPE.names)
        for name in raw.column_names:
            if name != REJECT_TEXT:
                fixed = fixed.append_column(raw.schema.field(name).with_name(kept_name(name)), raw[name])
        self.tally.keep_rejects(fixed)

    def _placed(self, rows: pa.Array, reasons: pa.Array) -> pa.Array:
        """Reasons, each with the place of its record before it, if its row number does not say that."""
        if not len(rows) or self.source.place(rows[0].as_py()) is None:
            return reasons
        places = [self.source.place(row) for row in rows.to_pylist()]
        return pc.binary_join_element_wise(pa.array(places), one_array(reasons), ": ")

    def note_missing(self, rows: Existing, refused: Mapping[int, str]) -> None:
        """Note rows that did not come and are deleted, except those that the store refused to delete."""
        count = len(rows.positions)
        gone = count - len(refused)
        self.tally.counts["delete"] += gone
        self.tally.missing += gone
        self.tally.kept.update(in_words(self.plan, reason) for reason in refused.values())
        keep = np.ones(count, bool)
        keep[list(refused)] = False
        mask = pa.array(keep)
        keys = [one_array(rows.values[name]).filter(mask) for name in (*self.plan.key, *self.plan.made)]
        sets = pa.nulls(gone, pa.list_(pa.string()))
        table = [pa.nulls(gone, pa.int64()), pa.repeat("delete", gone), pa.repeat(DID_NOT_COME, gone), sets, *keys]
        self.tally.keep_decisions(pa.table(table, names=self.shape.names))
        if self.samples:
            for row in rows.values.slice(0, self.tally.lacks_samples("delete")).to_pylist():
                cells = [(column, old, None, False) for column, old in row.items()]
                key = {column: row[column] for column in self.plan.key}
                self.tally.samples.append(Sample(None, "delete", DID_NOT_COME, key, cells))

    def note_broken(self, broken: BrokenRecords) -> None:
        """Note records that could not be split into values: rejects without values."""
        for part in broken.tables():
            count = part.num_rows
            self.tally.counts["reject"] += count
            self.tally.records += count
            none = [pa.nulls(count, field.type) for field in list(self.shape)[3:]]
            table = [part["row"], pa.repeat("reject", count), part["reason"], *none]
            self.tally.keep_decisions(pa.table(table, schema=self.shape))
            for reason, number in Counter(part["reason"].to_pylist()).most_common(_REASONS):
                self.tally.reasons[reason] += number
            why = self._placed(part["row"], part["reason"])
            self.tally.keep_rejects(pa.table([part["row"], why, part["text"]], names=REJECT_SHAPE.names))
            room = self.tally.lacks_samples("reject") if self.samples else 0
            for row, reason, text in zip(*(column.to_pylist() for column in part.slice(0, room)), strict=True):
                self.tally.samples.append(Sample(row, "reject", reason, {}, [("", None, text, False)]))

    def sample(
        self,
        rows: np.ndarray,
        values: pa.Table,
        decisions: Decisions,
        existing: Existing | None,
        matched_row: np.ndarray,
        changed: dict[str, np.ndarray],
    ) -> None:
        """Keep some records of each decision to show them, beside the rows that they meet."""
        if not self.samples:
            return
        for code, name in enumerate(NAMES):
            for at in np.flatnonzero(decisions.codes == code)[: self.tally.lacks_samples(name)].tolist():
                record, place, cells = values.slice(at, 1).to_pylist()[0], int(matched_row[at]), []
                for column, new in record.items():
                    old = None if existing is None or place == NO_ROW else existing.shown_cell(column, place)
                    differs = place != NO_ROW and column in changed and bool(changed[column][place])
                    cells.append((column, old, new, differs))
                key = {column: record[column] for column in self.plan.key}
                self.tally.samples.append(Sample(int(rows[at]), name, decisions.reason(at), key, cells))
