"""Explaining one record: as it came, the row that it matches, what differs, every rule, the decision."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import closing
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any

import numpy as np
import pyarrow as pa

from ..changes.given import key_given
from ..core.compare import Likeness, differs
from ..core.decisions import NAMES, decide_alone
from ..core.expressions import Env, Expression
from ..core.keys import match, one_array
from ..core.records import REJECT_TEXT, known_column, value_of
from ..core.rules import truth
from ..errors import JobError
from ..incoming import Chunk, Spool
from ..jobs.job import Job
from ..jobs.opening import Opened, opened_job
from ..jobs.plan import Plan
from ..stores.contract import Session, kept
from .batch import Batch
from .decide import DecidedSlice, decide_slice
from .first_pass import read_all
from .read import Reader


@dataclass(frozen=True)
class RuleValue:
    """What a rule says of a record. `value` is True, False, or None for unknown; `decided`: this rule decided."""

    number: int
    decide: str
    when: str
    value: bool | None
    decided: bool


@dataclass(frozen=True)
class Compared:
    """One column: its existing and its incoming value, and in words what became of them."""

    column: str
    existing: Any
    incoming: Any
    verdict: str
    changed: bool
    sent: bool
    """The record brought a value for the column."""


@dataclass
class Explained:
    """One record. `values` is what was made of it; `compared` and `rules` are empty where it met nothing."""

    row: int
    came: dict[str, Any]
    values: dict[str, Any]
    decision: str
    reason: str
    compared: list[Compared] = field(default_factory=list)
    rules: list[RuleValue] = field(default_factory=list)


@dataclass
class Explanation:
    """What happens to the records of one key. `existing` are the rows that have it, before the merge."""

    table: str
    unit: str
    key: dict[str, Any]
    existing: list[dict[str, Any]]
    records: list[Explained]
    note: str | None = None

    def _repr_html_(self) -> str:
        """What a notebook shows."""
        from ..notebook import of_explanation

        return of_explanation(self)


def explain(job: Job, incoming: Any = None, *, key: Mapping[str, Any]) -> Explanation:
    """Say what a merge would do with the records of one key, and why. Writes nothing.

    `key` maps each key column to a value. Raises JobError if it does not, and as `preview` does.
    """
    key = key_given(key)
    with opened_job(job, incoming) as door:
        return _explain(door, key)


def _explain(door: Opened, key: Mapping[str, Any]) -> Explanation:
    job, plan = door.job, door.plan
    target = _target(plan, key)
    reader = Reader(plan, door.layouts, datetime.now(UTC))
    with closing(Spool()) as spool:
        with door.first_session() as session:
            batch = read_all(session, reader, door.source, spool, lambda what, done, total: None)
        with door.store.begin(write=False) as session:
            target = kept(session.normalise(plan.info, target))
            rows = session.fetch(plan.info, target)
            shown = [rows.shown(place) for place in range(len(rows.positions))]
            look = _Look(session, reader, batch, door.source.unit, target)
            records = [one for chunk in batch.chunks(1 << 18) for one in look.at(chunk)]
    note = None
    if not records:
        stays = job.missing == "keep"
        note = "no record of the batch has this key" + (
            "; the row stays" if shown and stays else
            "; the row is deleted if it is within scope" if shown else "; and no row has it either"
        )  # fmt: skip
    names = {name: target[name][0].as_py() for name in plan.key}
    return Explanation(plan.info.name, door.source.unit, names, shown, records, note)


def _target(plan: Plan, key: Mapping[str, Any]) -> pa.Table:
    given = {known_column(plan.info, name).name: value for name, value in key.items()}
    if set(given) != set(plan.key):
        raise JobError(f"the key of the job is {', '.join(plan.key)}; give a value for each of these, and no other")
    values = {name: value_of(plan.info[name], given[name]) for name in plan.key}
    return pa.table({name: pa.array([value.as_py()], value.type) for name, value in values.items()})


@dataclass(frozen=True)
class _Look:
    """Looks for the records of one key. `unit`: what their source numbers; `target`: the key, as a table of one row."""

    session: Session
    reader: Reader
    batch: Batch
    unit: str
    target: pa.Table

    def at(self, chunk: Chunk) -> list[Explained]:
        """The records of a chunk that have the key."""
        session, reader, plan = self.session, self.reader, self.reader.plan
        keys, usable = reader.keys(session, chunk)
        whole = np.flatnonzero(usable)
        folded = session.fold(plan.info, keys.take(pa.array(whole)))
        mine, _ = match(folded, session.fold(plan.info, self.target.select(plan.key)))
        hit = np.sort(whole[mine])
        if not len(hit):
            return []
        some = Chunk(chunk.raw.take(pa.array(hit)), chunk.rows[hit])
        records = reader.read(some)
        reader.check(session, records)
        alone = decide_alone(records, *self.batch.repeats.of(records.rows), self.unit)
        places = alone.open
        index = pa.array(places)
        extras = {name: column.take(index) for name, column in records.extras.items()}
        layout = reader.layout(some)
        moot = self.batch.repeats.moot_of(records.rows[places])
        decided = decide_slice(session, plan, layout, records.values.take(index), extras, reader.now, moot=moot)
        out = []
        for at in range(len(hit)):
            came = {n: v for n, v in some.raw.slice(at, 1).to_pylist()[0].items() if n != REJECT_TEXT}
            values = records.values.slice(at, 1).to_pylist()[0]
            inputs = np.flatnonzero(places == at)
            decisions, place = (decided.decisions, int(inputs[0])) if len(inputs) else (alone, at)
            decision = NAMES[decisions.codes[place]]
            one = Explained(int(some.rows[at]), came, values, decision, decisions.reason(place))
            if len(inputs):
                one.compared = _compare(plan, decided, place)
                one.rules = _rules(plan, decided, layout.rules, place, reader.now)
            out.append(one)
        return out


def _compare(plan: Plan, decided: DecidedSlice, place: int) -> list[Compared]:
    """What became of every column of the table, for the record at a place of a decided slice."""
    row = int(decided.matched_row[place])
    out = []
    for column in plan.info.columns:
        name = column.name
        sent = name in decided.values.column_names
        new = decided.values[name][place].as_py() if sent else None
        if row < 0:
            out.append(Compared(name, None, new, "new" if sent else "not sent", False, sent))
            continue
        old = decided.existing.shown(row)[name]
        changed = bool(name in decided.changed and decided.changed[name][row])
        verdict = _verdict(plan, decided, name, row, place, sent, changed)
        brought = sent and name not in plan.previous.values()
        out.append(Compared(name, old, new, verdict, changed, brought))
    return out


def _verdict(plan: Plan, decided: DecidedSlice, name: str, row: int, place: int, sent: bool, changed: bool) -> str:
    takes = [source for source, other in plan.previous.items() if other == name]
    if takes:
        return f"takes the old value of {takes[0]}" if changed else f"previous of {takes[0]}, which did not change"
    if not sent:
        return "not sent, left alone"
    if name in plan.key and plan.info[name].fold is None:
        return "key"
    if plan.spans is not None and name in plan.spans.columns:
        return "says which version the row is"
    if plan.columns[name].writes != "always":
        by = (
            "update_only"
            if plan.update_only and name not in plan.update_only
            else f'write = "{plan.columns[name].writes}"'
        )
        return f"left alone: {by}"
    if changed:
        if not plan.columns[name].options.compare:
            return "differs, and is no reason to write: compare = false"
        return "changed" if NAMES[decided.decisions.codes[place]] == "update" else "differs"
    old = one_array(decided.existing.values[name]).slice(row, 1)
    new = one_array(decided.values[name]).slice(place, 1)
    if not differs(old, new)[0]:
        return "same"
    setting = plan.likeness.get(name, Likeness())
    if setting.keep_on_null and not new[0].is_valid:
        return 'kept: null = "keep"'
    return f"same by {', '.join(n for n in setting.names() if not n.startswith('null'))}"


def _rules(plan: Plan, decided: DecidedSlice, rules: list[Any], place: int, now: datetime) -> list[RuleValue]:
    out, waiting = [], True
    env = Env(decided.values.num_rows, decided.inputs, now)
    for rule in rules:
        value = env.array(truth(rule, env, decided.inputs).values)[place].as_py()
        text = rule.when.text if isinstance(rule.when, Expression) else plan.job.rules[rule.number - 1].when
        text = text if isinstance(text, str) else f"function {getattr(text, '__name__', '')}".strip()
        out.append(RuleValue(rule.number, NAMES[rule.decide], text, value, waiting and value is True))
        waiting = waiting and value is not True
    return out
