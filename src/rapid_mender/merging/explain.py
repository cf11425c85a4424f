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
from ..core.decisions import NAMES, Decisions
from ..core.expressions import Env, Expression
from ..core.keys import match, one_array
from ..core.records import REJECT_TEXT, Records, known_column, value_of
from ..core.row_numbers import NO_ROW
from ..core.rules import truth
from ..errors import JobError
from ..incoming import Chunk, Spool
from ..jobs.job import Job
from ..jobs.opening import Opened, opened_job
from ..jobs.plan import Plan
from ..stores.contract import Session, kept
from .chunk import ChunkWay, Unit
from .decide import DecidedSlice
from .first_pass import read_all
from .foresee import Foreseer
from .gather import Gather, Passed
from .read import Reader
from .result import decisions_schema
from .shadow import Shadow
from .tally import Tally
from .write import Pending


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
    target, now = _target(plan, key), datetime.now(UTC)
    reader = Reader(plan, door.layouts, now)
    with closing(Spool()) as spool:
        with door.first_session() as session:
            batch = read_all(session, reader, door.source, spool, lambda what, done, total: None)
        with door.store.begin(write=False) as session:
            target = kept(session.normalise(plan.info, target))
            rows = session.fetch(plan.info, target)
            shown = [rows.shown(place) for place in range(len(rows.positions))]
            watched, shadow = _Watched(reader), Shadow(plan, now) if plan.spans is not None else None
            gather = _Gather(
                Tally(), plan, door.source, False, decisions_schema(plan.info, [*plan.key, *plan.made]), watched
            )
            unit = Unit(session, _Foreseer(gather, None, shadow), gather)
            way = ChunkWay(plan, reader, batch, door.source.unit, None, now, lambda what, done, total: None)
            for chunk, _ in batch.parts(reader, session.chunk_rows, 0):
                if len((mine := _of_key(session, reader, chunk, target)).rows):
                    way.merge(unit, mine, 0)
    records = watched.records
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


def _of_key(session: Session, reader: Reader, chunk: Chunk, target: pa.Table) -> Chunk:
    """The records of a chunk that have a key, which is a table of one row."""
    plan = reader.plan
    keys, usable = reader.keys(session, chunk)
    whole = np.flatnonzero(usable)
    folded = session.fold(plan.info, keys.take(pa.array(whole)))
    mine, _ = match(folded, session.fold(plan.info, target.select(plan.key)))
    hit = np.sort(whole[mine])
    return Chunk(chunk.raw.take(pa.array(hit)), chunk.rows[hit], chunk.again)


@dataclass
class _Watched:
    """What is seen of records on the way that a preview takes."""

    reader: Reader
    slices: list[tuple[DecidedSlice, np.ndarray]] = field(default_factory=list)
    """Those of the chunk that is under way, and the numbers of their records."""
    records: list[Explained] = field(default_factory=list)

    def note(self, chunk: Chunk, records: Records, alone: Decisions) -> None:
        """Explain the records of a chunk that has gone its way."""
        plan, rules = self.reader.plan, self.reader.layout(chunk).rules
        met = {int(row): (decided, at) for decided, rows in self.slices for at, row in enumerate(rows.tolist())}
        self.slices.clear()
        for at, row in enumerate(chunk.rows.tolist()):
            came = {n: v for n, v in chunk.raw.slice(at, 1).to_pylist()[0].items() if n != REJECT_TEXT}
            values = records.values.slice(at, 1).to_pylist()[0]
            decided, place = met.get(row, (None, at))
            decisions = alone if decided is None else decided.decisions
            one = Explained(row, came, values, NAMES[decisions.codes[place]], decisions.reason(place))
            if decided is not None:
                one.compared = _compare(plan, decided, place)
                one.rules = _rules(plan, decided, rules, place, self.reader.now)
            self.records.append(one)


@dataclass
class _Gather(Gather):
    """Only has chunks explained."""

    watched: _Watched

    def note(self, passed: Passed) -> None:
        self.watched.note(passed.chunk, passed.records, passed.alone)


class _Foreseer(Foreseer):
    """Foresees what a writer would do, and is watched."""

    gather: _Gather

    def write(self, decided: DecidedSlice, rows: np.ndarray) -> list[Pending]:
        self.gather.watched.slices.append((decided, rows))
        return super().write(decided, rows)


def _compare(plan: Plan, decided: DecidedSlice, place: int) -> list[Compared]:
    """What became of every column of the table, for the record at a place of a decided slice."""
    row = int(decided.matched_row[place])
    out = []
    for column in plan.info.columns:
        name = column.name
        sent = name in decided.values.column_names
        new = decided.values[name][place].as_py() if sent else None
        if row == NO_ROW:
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
