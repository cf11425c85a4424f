"""Writing what was decided: rows and their history. What the database refuses is found out here."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..changes import algebra as changes_of
from ..changes.recorder import Recorder, verbatim_cells
from ..core.compare import Patterns, differs
from ..core.decisions import DELETE, INSERT, REJECT, UPDATE
from ..core.existing import Existing
from ..core.keys import one_array
from ..jobs.plan import Plan
from ..stores.contract import ForNow, Refusals, Session, Written, refused_too
from .decide import DecidedSlice, Outcome
from .marks import marking


@dataclass
class Pending:
    """Rows that were sent to the store, and which records of the slice they belong to."""

    records: np.ndarray
    refusals: Callable[[], Refusals]
    made: tuple[np.ndarray, pa.Table] | None = None
    """The records whose keys the database made, and these keys."""


class Writer:
    """Carries decisions out in one transaction."""

    def __init__(self, session: Session, plan: Plan, recorder: Recorder, now: datetime) -> None:
        self.session, self.plan, self.recorder, self.now = session, plan, recorder, now

    def write(self, decided: DecidedSlice, rows: np.ndarray) -> list[Pending]:
        """Write what was decided. What the store refuses is known later: see `reject_refused`."""
        del rows
        codes, matched_row = decided.decisions.codes, decided.matched_row
        updated, inserted, doomed = (np.flatnonzero(codes == code) for code in (UPDATE, INSERT, DELETE))
        pending: list[Pending] = []
        if not (len(updated) or len(inserted) or len(doomed)):
            return pending
        self.recorder.await_changes()
        if len(updated):
            rows = matched_row[updated]
            for places in _together(decided, rows):
                some = rows[places]
                old = decided.existing.take(some)
                written = self.update(old, decided.setting, decided.changed, decided.patterns, some)
                pending.append(Pending(updated[places], written.refusals))
        if len(inserted):
            pending += self._insert(decided, inserted)
        if len(doomed):
            pending += [
                Pending(doomed, written.refusals) for written in self.delete(decided.existing.take(matched_row[doomed]))
            ]
        return pending

    def delete_missing(self, rows: Existing) -> dict[int, str]:
        """Delete rows that did not come. Returns by their places the reasons why the store keeps some."""
        self.recorder.await_changes()
        refused: dict[int, str] = {}
        for written in self.delete(rows):
            refused |= written.refusals()
        return refused

    def update(
        self, old: Existing, setting: pa.Table, changed: dict[str, np.ndarray], patterns: Patterns, rows: np.ndarray
    ) -> Written:
        """Set the columns that changed in any of the rows `old`, which are at `rows` in the other arguments."""
        index, new = pa.array(rows), {}
        for name, mask in changed.items():
            here = mask[rows]
            if here.any():
                value = one_array(setting[name]).take(index)
                new[name] = value if here.all() else pc.if_else(pa.array(here), value, one_array(old.values[name]))
        written = self.session.update(self.plan.info, old, pa.table(new), self.plan.key)
        texts = patterns.texts(changes_of.spell_changed).take(index)
        if written.rows is not None:
            old, texts = old.take(written.rows), texts.take(pa.array(written.rows))
            as_it_was = _as_it_was(old, written.stored)
            if as_it_was.any():  # by the will of a trigger
                refused = refused_too(written.refusals, written.rows[as_it_was])
                landed = np.flatnonzero(~as_it_was)
                written = Written(written.stored.take(landed), written.rows[landed], refused)
                old, texts = old.take(landed), texts.take(pa.array(landed))
        changes = changes_of.build(self.plan.info, "update", old.values, written.stored.values, texts)
        self.recorder.record("update", changes, verbatim_cells(old=old, new=written.stored), [written])
        return written

    def _insert(self, decided: DecidedSlice, inserted: np.ndarray) -> list[Pending]:
        plan = self.plan
        names = [name for name in decided.values.column_names if plan.columns[name].writes != "never"]
        values = decided.values.select(names).take(pa.array(inserted))
        kinds = np.zeros(len(inserted), np.int64)  # which columns the database is to fill
        fills = [*plan.key, *(name for name in plan.defaults if name in names)]
        for bit, name in enumerate(fills):
            if values[name].null_count:
                kinds |= one_array(values[name]).is_null().to_numpy(zero_copy_only=False).astype(np.int64) << bit
        out = []
        for kind in np.unique(kinds).tolist():
            filled = [name for bit, name in enumerate(fills) if kind >> bit & 1]
            mine = np.flatnonzero(kinds == kind)
            some = values.take(pa.array(mine)) if len(mine) < len(inserted) else values
            written = self.session.insert(plan.info, some.drop_columns(filled), plan.key)
            stored = written.stored
            changes = changes_of.build(plan.info, "insert", None, stored.values)
            self.recorder.record("insert", changes, verbatim_cells(new=stored), [written])
            records = inserted[mine]
            landed = records if written.rows is None else records[written.rows]
            made = (landed, stored.values.select([*plan.key, *plan.made])) if plan.made or filled else None
            out.append(Pending(records, written.refusals, made))
        return out

    def delete(self, rows: Existing) -> list[Written]:
        """Delete rows in the way that the job says: remove them, mark them, or move them to the archive."""
        plan, session = self.plan, self.session
        if plan.job.delete == "mark":
            setting, changed, patterns = marking(plan, rows, self.now)
            return [self.update(rows, setting, changed, patterns, np.arange(len(rows.positions)))]
        steps = []
        if plan.archive is not None:
            steps.append(session.copy(plan.info, rows, plan.archive))
        steps.append(session.delete(plan.info, rows, *steps))
        changes = changes_of.build(plan.info, "delete", rows.values, None)
        self.recorder.record("delete", changes, verbatim_cells(old=rows), steps)
        return steps


def _as_it_was(old: Existing, stored: Existing) -> np.ndarray:
    """A mask of the rows that an update left as they were."""
    names = old.values.column_names
    mask = ~np.any([differs(one_array(old.values[n]), one_array(stored.values[n])) for n in names], axis=0)
    for cells in (*old.verbatim.values(), *stored.verbatim.values()):
        mask &= ~cells.mask
    return mask


def _together(decided: DecidedSlice, rows: np.ndarray) -> list[np.ndarray]:
    """The places in `rows` of those that can be updated by one statement, which sets a column in all of its rows.

    A verbatim cell could not be set to what it is, so a row with one goes only with rows in which the same columns
    change."""
    apart = np.zeros(len(rows), bool)
    for name, cells in decided.existing.verbatim.items():
        if name in decided.changed:
            apart |= cells.mask[rows] & ~decided.changed[name][rows]
    groups = [np.flatnonzero(~apart)]
    codes = decided.patterns.code[rows]
    groups += [np.flatnonzero(apart & (codes == code)) for code in np.unique(codes[apart])]
    return [places for places in groups if len(places)]


def reject_refused(plan: Plan, outcome: Outcome, pending: Sequence[Pending]) -> np.ndarray:
    """Reject the records that the store refused, with its own reason; waits until that is known. Returns a mask of
    those that it refused because of other rows."""
    for_now = np.zeros(len(outcome.places), bool)
    for one in pending:
        refusals = one.refusals()
        if refusals:
            places = np.fromiter(refusals, np.int64, len(refusals))
            order = np.argsort(places)
            given = list(refusals.values())
            reasons = [in_words(plan, reason) for reason in given]
            mask = np.zeros(len(outcome.places), bool)
            mask[one.records[places]] = True
            outcome.decisions.put(mask, REJECT, pa.array([reasons[at] for at in order.tolist()], pa.string()))
            for_now[one.records[places[[isinstance(reason, ForNow) for reason in given]]]] = True
    return for_now


def in_words(plan: Plan, reason: str) -> str:
    """A database's reason for not taking a row, with what it refers to."""
    about = f" ({'; '.join(plan.info.refers)})" if "FOREIGN KEY" in reason.upper() and plan.info.refers else ""
    return f"the database refused: {reason}{about}"
