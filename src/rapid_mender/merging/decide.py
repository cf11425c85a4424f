"""Deciding on records and the rows that they find: looked up, compared, decided. Nothing is written here."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.compare import Patterns, differences, differs
from ..core.decisions import DELETE, INSERT, REJECT, SKIP, Decisions, decide_matched
from ..core.existing import Existing
from ..core.expressions import Env
from ..core.keys import null_keys, one_array
from ..core.masks import mask_of
from ..core.records import lacks_value
from ..core.row_numbers import is_row
from ..core.rule_inputs import RuleInputs
from ..core.rules import Fired, apply_allow, apply_rules
from ..jobs.layouts import Layout
from ..jobs.plan import Plan
from ..stores.contract import Session
from .decide_versions import Versioned, reopening, settle, with_spans
from .marks import is_marked, unmarking
from .timeline import timeline_of


@dataclass
class Outcome:
    """What remains of a decided slice when it is written: where in the chunk the records are, and what was decided."""

    places: np.ndarray
    decisions: Decisions
    patterns: Patterns
    matched_row: np.ndarray
    made: pa.Table | None = None
    """For each record what the database made of the primary key of its row; null if it has none."""
    groups: pa.Array | None = None

    def rows_of(self, code: int) -> np.ndarray:
        """The places, among the rows that were found, of those of a decision."""
        return self.matched_row[(self.decisions.codes == code) & is_row(self.matched_row)]


@dataclass
class DecidedSlice:
    """Some records, the rows that they meet, and what is to be done."""

    values: pa.Table
    existing: Existing
    setting: pa.Table
    """For each row of `existing`, the values that an update would set."""
    changed: dict[str, np.ndarray]
    """By column: the rows of `existing` in which that differs from what is there."""
    patterns: Patterns
    decisions: Decisions
    matched_row: np.ndarray
    """For each record the place of its row in `existing`, or -1."""
    inputs: RuleInputs
    fired: Fired = field(default_factory=Fired)
    versioned: Versioned | None = None
    """What is to be known beside that, where the table keeps versions."""


def decide_slice(
    session: Session,
    plan: Plan,
    layout: Layout,
    values: pa.Table,
    extras: dict[str, pa.Array],
    now: datetime,
    again: bool = False,
    moot: np.ndarray | None = None,
) -> DecidedSlice:
    """Look records up, and decide on them: by default, by the rules, by what the job allows. `again`: what this
    transaction wrote may be of their keys; `moot` masks records after which another says the same of versions."""
    count = values.num_rows
    timeline = timeline_of(session, plan, values, again) if plan.spans is not None else None
    existing = timeline.existing if timeline is not None else _fetch(session, plan, values)
    answers = pa.array(existing.positions)
    sent = plan.updatable(values.column_names)
    taken = values.select(sent).take(answers)
    setting = dict(zip(sent, taken.columns, strict=True))
    changed = differences(existing, taken, sent, plan.likeness)
    back = unmarking(plan, existing, now) | ({} if timeline is None else reopening(plan, timeline))
    for name, (value, mask) in back.items():
        if name not in sent:
            sent = [*sent, name]
            setting[name], changed[name] = value, mask
    compared = np.zeros(len(existing.positions), bool)
    for name in sent:
        if plan.columns[name].options.compare:
            compared |= changed[name]
    for name, other in plan.previous.items():
        if name in changed:
            old = one_array(existing.values[name])
            changed[other] = changed[name] & differs(one_array(existing.values[other]), old)
            setting[other] = old
    patterns = Patterns(changed, len(existing.positions))
    stale = _stale(plan, existing, values, answers)
    decisions, matched_row = decide_matched(
        count, existing.positions, patterns, compared, stale, plan.lacking(values.column_names)
    )
    _refuse_null_inserts(plan, values, decisions)
    inputs = RuleInputs(values, extras, existing.values, matched_row, changed, compared, stale, layout.types)
    decided = DecidedSlice(values, existing, pa.table(setting), changed, patterns, decisions, matched_row, inputs)
    if layout.rules:
        several = np.bincount(existing.positions, minlength=count) > 1
        several |= timeline.odd if timeline is not None else False
        updates = np.zeros(count, bool)
        met = is_row(matched_row)
        updates[met] = patterns.having(changed)[matched_row[met]]
        env = Env(count, inputs, now)
        decided.fired = apply_rules(decisions, layout.rules, env, inputs, ~several, updates)
        _refuse_null_inserts(plan, values, decisions)
    _skip_marked(plan, decided, now)
    if timeline is not None:
        moot = np.zeros(count, bool) if moot is None else moot
        decided.versioned = settle(plan, timeline, decisions, matched_row, patterns, again, moot)
        decided.values = with_spans(plan, timeline, values)
    apply_allow(decisions, plan.allowed)
    return decided


def _fetch(session: Session, plan: Plan, values: pa.Table) -> Existing:
    """The rows that have the records' keys. A record whose key the database is to make matches none."""
    keys = values.select(plan.key)
    null = null_keys(keys)
    if not null.any():
        return session.fetch(plan.info, keys)
    whole = np.flatnonzero(~null)
    existing = session.fetch(plan.info, keys.take(pa.array(whole)))
    existing.positions = whole[existing.positions]
    return existing


def _stale(plan: Plan, existing: Existing, values: pa.Table, answers: pa.Array) -> np.ndarray:
    """A mask of the rows that are newer than the record. What has no date is older than what has one."""
    if plan.order is None:
        return np.zeros(len(existing.positions), bool)
    old = one_array(existing.values[plan.order])
    if plan.order not in values.column_names:
        return old.is_valid().to_numpy(zero_copy_only=False)
    new = one_array(values[plan.order]).take(answers)
    older = pc.fill_null(pc.less(new, old), False)
    return mask_of(pc.or_(older, pc.and_(pc.is_null(new), pc.is_valid(old))))


def _refuse_null_inserts(plan: Plan, values: pa.Table, decisions: Decisions) -> None:
    """A null for a required column that an update would have passed over, on a record that is to be inserted."""
    for name in values.column_names:
        column = plan.info[name]
        passes = (
            name in plan.key
            or plan.columns[name].strict_null
            or plan.columns[name].writes == "never"
            or name in plan.defaults
        )
        if column.nullable or passes:
            continue
        if values[name].null_count:
            null = one_array(values[name]).is_null().to_numpy(zero_copy_only=False)
            decisions.put(null & (decisions.codes == INSERT), REJECT, lacks_value(name))


def _skip_marked(plan: Plan, decided: DecidedSlice, now: datetime) -> None:
    """Skip the delete of a row that is marked as deleted already."""
    doomed = decided.decisions.codes == DELETE
    if plan.job.delete != "mark" or not doomed.any():
        return
    rows = np.flatnonzero(doomed)
    mask = np.zeros(len(doomed), bool)
    mask[rows[is_marked(plan, decided.existing.take(decided.matched_row[rows]), now)]] = True
    decided.decisions.put(mask, SKIP, "marked as deleted already")
