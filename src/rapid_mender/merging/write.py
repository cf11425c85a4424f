"""Writing what was decided: rows and their history. What the database refuses is found out here."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime

import numpy as np
import pyarrow as pa

from ..changes.recorder import Recorder
from ..core.decisions import DELETE, DID_NOT_COME, INSERT, REJECT, UPDATE
from ..core.existing import Existing
from ..core.keys import one_array
from ..jobs.plan import Plan
from ..stores.contract import ForNow, Refers, Refusals, Session, Written
from .decide import DecidedSlice, Outcome
from .marks import marking
from .rows import RowWriter, Setting, together


class Own(str):
    """A reason for leaving a row as it is that is not the database's."""


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
        self.plan, self.recorder, self.now = plan, recorder, now
        self.rows = RowWriter(session, recorder, plan.info, plan.identity)

    def looks_in(self, session: Session, keys: pa.Table, again: bool) -> Session:
        """Where rows of some keys are looked up: they are where they were written."""
        del keys, again
        return session

    def write(self, decided: DecidedSlice, rows: np.ndarray) -> list[Pending]:
        """Write what was decided. What the store refuses is known later: see `reject_refused`."""
        codes, matched_row = decided.decisions.codes, decided.matched_row
        updated, inserted, doomed = (np.flatnonzero(codes == code) for code in (UPDATE, INSERT, DELETE))
        pending: list[Pending] = []
        if not (len(updated) or len(inserted) or len(doomed)):
            return pending
        self.recorder.await_changes(rows[np.concatenate([updated, inserted, doomed])])
        if len(updated):
            pending += self._update(decided, updated, rows)
        if len(inserted):
            pending += self._insert(decided, inserted, rows)
        if len(doomed):
            gone = decided.existing.take(matched_row[doomed])
            why = decided.decisions.rules_reasons(doomed)
            pending.append(Pending(doomed, self._delete(gone, why, rows[doomed]).refusals))
        return pending

    def _update(self, decided: DecidedSlice, updated: np.ndarray, numbers: np.ndarray) -> list[Pending]:
        rows, pending = decided.matched_row[updated], []
        setting = Setting(decided.setting, decided.changed, decided.patterns)
        for places in together(decided.existing, setting, rows):
            some = rows[places]
            why = decided.decisions.rules_reasons(updated[places])
            old, records = decided.existing.take(some), numbers[updated[places]]
            written = self.rows.update(old, setting, some, why, records=records)
            pending.append(Pending(updated[places], written.refusals))
        return pending

    def delete_missing(self, rows: Existing) -> dict[int, str]:
        """Delete rows that did not come. Returns by their places the reasons why the store keeps some."""
        self.recorder.await_changes()
        return dict(self._delete(rows, pa.repeat(DID_NOT_COME, len(rows.positions))).refusals())

    def _insert(self, decided: DecidedSlice, inserted: np.ndarray, numbers: np.ndarray) -> list[Pending]:
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
            records = inserted[mine]
            why = decided.decisions.rules_reasons(records)
            written = self.rows.insert(some.drop_columns(filled), why, records=numbers[records])
            landed = records if written.rows is None else records[written.rows]
            made = (landed, written.stored.values.select([*plan.key, *plan.made])) if plan.made or filled else None
            out.append(Pending(records, written.refusals, made))
        return out

    def _delete(self, rows: Existing, why: pa.Array | None, records: np.ndarray | None = None) -> Written:
        """Delete rows in the way that the job says: remove them, mark them, or move them to the archive."""
        if self.plan.job.delete == "mark":
            setting = marking(self.plan, rows, self.now)
            return self.rows.update(rows, setting, np.arange(len(rows.positions)), why, records=records)
        return self.rows.delete(rows, why, self.plan.archive, records=records)


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
    """A database's reason for not taking a row, with what it refers to; or our own."""
    if isinstance(reason, Own):
        return reason
    about = f" ({'; '.join(plan.info.refers)})" if isinstance(reason, Refers) and plan.info.refers else ""
    return f"the database refused: {reason}{about}"
