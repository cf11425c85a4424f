"""Writing versions: what ends closes, what begins is inserted."""

from __future__ import annotations

from datetime import datetime
from functools import cache

import numpy as np
import pyarrow as pa

from ..changes.recorder import Recorder
from ..core.cast import cast
from ..core.compare import Patterns, differs
from ..core.decisions import DELETE, DID_NOT_COME, INSERT, UPDATE
from ..core.existing import Existing
from ..core.keys import one_array
from ..core.versions import ALWAYS, flags_of, instant_of, instants
from ..jobs.plan import Plan
from ..stores.contract import Refusals, Session, Written
from .decide import DecidedSlice
from .decide_versions import Versioned, next_versions
from .join_versions import Joiner
from .marks import marking
from .rows import Setting, setting_of
from .write import Own, Pending, Writer


class VersionWriter(Writer):
    """Carries decisions out in a table that keeps versions."""

    def __init__(self, session: Session, plan: Plan, recorder: Recorder, now: datetime) -> None:
        super().__init__(session, plan, recorder, now)
        assert plan.spans is not None
        self.session, self.spans = session, plan.spans

    def write(self, decided: DecidedSlice, rows: np.ndarray) -> list[Pending]:
        codes, versioned = decided.decisions.codes, decided.versioned
        assert versioned is not None
        update = codes == UPDATE
        opening, doomed = np.flatnonzero(update & versioned.opens), np.flatnonzero(codes == DELETE)
        in_place, inserted = np.flatnonzero(update & ~versioned.opens), np.flatnonzero(codes == INSERT)
        pending: list[Pending] = []
        if not any(map(len, (opening, in_place, inserted, doomed))):
            return pending
        self.recorder.await_changes()
        if self.spans.number is not None:
            self._count_on(versioned, np.concatenate([opening, inserted]))
        if len(in_place):
            pending += self._update(decided, in_place, rows)
            pending += self._overwrite(decided, in_place)
        if len(opening):
            pending += self._open(decided, versioned, opening)
        if len(inserted):
            pending += self._insert(decided, inserted, rows)
        if len(doomed):
            pending += self._end(decided, versioned, doomed)
            removed = doomed[versioned.exact[doomed] & versioned.timeline.late[doomed]]
            if self.spans.number is not None and len(removed):  # out of the middle
                keys = decided.values.select(self.plan.key).take(pa.array(removed))
                Joiner(self.session, self.plan, self.rows).number(keys, self.spans.number)
        if self.spans.options.join:
            self._join(decided, versioned, pending, np.concatenate([opening, in_place, inserted]))
        return pending

    def _join(self, decided: DecidedSlice, versioned: Versioned, pending: list[Pending], records: np.ndarray) -> None:
        """Join versions that have become equal to their neighbours, of records that put something among versions."""
        touched = versioned.exact | versioned.timeline.late | versioned.timeline.known
        some = records[touched[records]]
        if len(some):
            for one in pending:
                one.refusals()
            keys = decided.values.select(self.plan.key).take(pa.array(some))
            Joiner(self.session, self.plan, self.rows).join(keys)

    def _open(self, decided: DecidedSlice, versioned: Versioned, records: np.ndarray) -> list[Pending]:
        """Close the versions that records meet, and insert those that they open: both, or neither."""
        timeline, rows = versioned.timeline, decided.matched_row[records]
        old = decided.existing.take(rows)
        why = decided.decisions.rules_reasons(records)
        ends = self._ends_at(timeline.at[records])
        closed = self.rows.update(old, self._closing(old, ends), np.arange(len(rows)), why)
        new = next_versions(self.plan, timeline, decided.setting, decided.changed, rows, records)
        opened = self.rows.insert(new, why)

        @cache
        def refusals() -> Refusals:
            not_closed, not_opened = closed.refusals(), opened.refusals()
            if alone := sorted(set(not_closed) - set(not_opened)):
                self._take_back(new.take(pa.array(alone)))
            if alone := sorted(set(not_opened) - set(not_closed)):
                self._open_again(old.take(np.array(alone)))
            return {**not_opened, **not_closed}

        return [Pending(records, refusals)]

    def _take_back(self, new: pa.Table) -> None:
        """Delete versions again that were opened, though the ones before them could not be closed."""
        there = self._there(new)
        self.rows.delete(there, None).refusals()

    def _open_again(self, old: Existing) -> None:
        """Give versions the ends that they had, since those after them could not be opened."""
        there = self._there(old.values)
        was = pa.array(there.positions)
        values = {name: one_array(old.values[name]).take(was) for name in self._ends}
        self.rows.update(there, setting_of(there, values), np.arange(len(was)), None).refusals()

    def _there(self, values: pa.Table) -> Existing:
        """Rows that this transaction has written, as they are."""
        return self.session.fetch(self.plan.info, values.select(self.plan.identity), fresh=True)

    def _ends_at(self, numbers: np.ndarray) -> pa.Array:
        return self.spans.ends(numbers, self.plan.info[self.spans.end].type)

    @property
    def _ends(self) -> list[str]:
        return [name for name in (self.spans.end, self.spans.current) if name is not None]

    def _closing(self, rows: Existing, ends: pa.Array) -> Setting:
        values = {self.spans.end: ends}
        if self.spans.current is not None:
            values[self.spans.current] = flags_of(self.plan.info[self.spans.current], np.zeros(len(ends), bool))
        return setting_of(rows, values)

    def _end(self, decided: DecidedSlice, versioned: Versioned, records: np.ndarray) -> list[Pending]:
        rows = decided.existing.take(decided.matched_row[records])
        why = decided.decisions.rules_reasons(records)
        ended = self._ended(rows, versioned.timeline.at[records], why)
        return [Pending(records[places], written.refusals) for places, written in ended]

    def _ended(self, rows: Existing, at: np.ndarray, why: pa.Array | None) -> list[tuple[np.ndarray, Written]]:
        """Close versions, and mark them if the job does; one that would end when it begins has never been. Returns what
        came of some places and the others."""
        never = (instants(rows.values[self.spans.begin], ALWAYS) == at) & (self.plan.job.delete != "mark")
        done = []
        for places in (np.flatnonzero(~never), np.flatnonzero(never)):
            if not len(places):
                continue
            some, reasons = rows.take(places), None if why is None else why.take(pa.array(places))
            if never[places[0]]:
                done.append((places, self.rows.delete(some, reasons)))
            else:
                setting = self._ending(some, at[places])
                done.append((places, self.rows.update(some, setting, np.arange(len(places)), reasons)))
        return done

    def _ending(self, rows: Existing, at: np.ndarray) -> Setting:
        setting = self._closing(rows, self._ends_at(at))
        if self.plan.job.delete != "mark":
            return setting
        mark = marking(self.plan, rows, self.now)
        columns = dict(zip(setting.values.column_names, setting.values.columns, strict=True))
        marked = dict(zip(mark.values.column_names, mark.values.columns, strict=True))
        changed = setting.changed | mark.changed
        return Setting(pa.table(columns | marked), changed, Patterns(changed, len(rows.positions)))

    def delete_missing(self, rows: Existing) -> dict[int, str]:
        """Close the versions of what did not come, at the time of the batch. Returns by their places the reasons why
        some stay."""
        self.recorder.await_changes()
        begins = instants(rows.values[self.spans.begin], ALWAYS)
        now = int(instant_of(self.now, self.plan.info[self.spans.begin].type))
        on = rows.values[self.spans.begin]
        early = np.flatnonzero(begins > now).tolist()
        refused: dict[int, str] = {at: Own(f"its version begins after this batch, on {on[at]}") for at in early}
        past = np.flatnonzero(begins <= now)
        if len(past):
            why = pa.repeat(DID_NOT_COME, len(past))
            for places, written in self._ended(rows.take(past), np.full(len(past), now), why):
                refused |= {int(past[places[at]]): reason for at, reason in written.refusals().items()}
        return refused

    def _overwrite(self, decided: DecidedSlice, records: np.ndarray) -> list[Pending]:
        """Overwrite what is not versioned in the other versions of the key too, if the job says so."""
        if self.spans.options.overwrite != "all":
            return []
        rows = decided.matched_row[records]
        keys = decided.values.select(self.plan.key).take(pa.array(records))
        every = self.session.fetch(self.plan.info, keys, fresh=True, by=[self.spans.begin])
        index, values, changed = rows[every.positions], {}, {}
        for name, mask in decided.changed.items():
            if name in self.spans.versioned or not mask[rows].any():
                continue
            new, old = one_array(decided.setting[name]).take(pa.array(index)), one_array(every.values[name])
            values[name], changed[name] = new, mask[index] & differs(old, new)
        some = np.flatnonzero(np.any(list(changed.values()), axis=0)) if changed else np.empty(0, np.int64)
        if not len(some):
            return []
        setting = Setting(pa.table(values), changed, Patterns(changed, len(every.positions)))
        written = self.rows.update(every.take(some), setting, some, None)
        return [Pending(records[every.positions[some]], written.refusals)]

    def _count_on(self, versioned: Versioned, records: np.ndarray) -> None:
        """Number the versions anew that come after those which late records put before them."""
        name, later = self.spans.number, versioned.timeline.later
        assert name is not None
        mine = np.flatnonzero(np.isin(later.positions, records))
        if not len(mine):
            return
        rows = later.take(mine)
        numbers = pa.compute.add(one_array(rows.values[name]).cast(pa.int64()), 1)
        setting = setting_of(rows, {name: cast(numbers, self.plan.info[name])[0]})
        self.rows.update(rows, setting, np.arange(len(mine)), None).refusals()


def writer_for(session: Session, plan: Plan, recorder: Recorder, now: datetime) -> Writer:
    return Writer(session, plan, recorder, now) if plan.spans is None else VersionWriter(session, plan, recorder, now)
