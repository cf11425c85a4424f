"""Rules: conditions of the job that decide on a record instead of the default."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..errors import JobError
from .decisions import DELETE, INSERT, REJECT, SKIP, UPDATE, Decisions
from .expressions import Cells, Env, Expression
from .expressions.template import Template
from .masks import mask_of
from .row_numbers import is_row
from .rule_inputs import RuleInputs, _Some

Function = Callable[[pa.Table, pa.Table], Any]


@dataclass(frozen=True)
class BoundRule:
    """A rule whose condition is checked against the columns. `number` counts from 1."""

    number: int
    decide: int
    when: Expression | Function
    because: Template

    @property
    def name(self) -> str:
        return f"rule {self.number}"

    @property
    def of_stale(self) -> bool:
        """Whether the condition itself speaks of records that are older than their row."""
        return isinstance(self.when, Expression) and ("", "stale") in self.when.uses


@dataclass
class Fired:
    """What came of the rules: how often each decided, and how often each could not be computed."""

    decided: dict[int, int] = field(default_factory=dict)
    failed: dict[int, int] = field(default_factory=dict)
    of: np.ndarray = field(default_factory=lambda: np.empty(0, np.int32))
    """For each record the number of the rule that decided; 0: none. Only of a single slice."""

    def add(self, other: Fired) -> None:
        for mine, theirs in ((self.decided, other.decided), (self.failed, other.failed)):
            for number, count in theirs.items():
                mine[number] = mine.get(number, 0) + count


def truth(rule: BoundRule, env: Env, inputs: RuleInputs) -> Cells:
    """The value of a rule's condition for each record. Raises JobError if a function does not give booleans."""
    if isinstance(rule.when, Expression):
        return rule.when.evaluate(env)
    try:
        given = rule.when(*inputs.tables())
    except Exception as error:
        raise JobError(f"{rule.name}: its function raised {type(error).__name__}: {error}") from error
    try:
        values = given.combine_chunks() if isinstance(given, pa.ChunkedArray) else given
        values = values if isinstance(values, pa.Array) else pa.array(values, from_pandas=True)
        values = values.cast(pa.bool_()) if pa.types.is_null(values.type) else values
    except (TypeError, pa.ArrowInvalid, pa.ArrowTypeError) as error:
        raise JobError(f"{rule.name}: its function must return a boolean array: {error}") from error
    if not pa.types.is_boolean(values.type) or len(values) != env.rows:
        raise JobError(
            f"{rule.name}: its function must return {env.rows} booleans, one for each record; it returned "
            f"{len(values)} of type {values.type}"
        )
    return Cells(values)


def apply_rules(
    decisions: Decisions,
    rules: list[BoundRule],
    env: Env,
    inputs: RuleInputs,
    eligible: np.ndarray,
    updates: np.ndarray,
) -> Fired:
    """Let the first rule that is true decide on each `eligible` record.

    A record that is older than its row is skipped before the rules: only one that itself speaks of `stale` sees it.
    `updates` masks the records whose row would get another value from an update. An update that changes
    nothing is no update, and the default reason "unchanged" stays.
    """
    fired = Fired(of=np.zeros(len(eligible), np.int32))
    every = eligible.copy()
    matched = is_row(inputs.matched_row)
    fresh = np.ones(len(matched), bool)
    fresh[matched] = ~inputs.stale[inputs.matched_row[matched]]
    for rule in rules:
        waiting = every if rule.of_stale else every & fresh
        if not waiting.any():
            continue
        cells = truth(rule, env, inputs)
        if cells.failed is not None and (count := int((cells.failed & waiting).sum())):
            fired.failed[rule.number] = count
        if not pc.any(cells.values).as_py():
            continue
        hit = mask_of(cells.values) & waiting
        every &= ~hit
        if not hit.any():
            continue
        fired.decided[rule.number] = int(hit.sum())
        fired.of[hit] = rule.number
        wrong = hit & (matched if rule.decide == INSERT else ~matched if rule.decide in (UPDATE, DELETE) else False)
        if wrong.any():
            why = {INSERT: "the row is there already", UPDATE: "no row to update", DELETE: "no row to delete"}
            decisions.put(wrong, SKIP, f"{rule.name}: {why[rule.decide]}")
            hit = hit & ~wrong
        if rule.decide == UPDATE:
            hit = hit & updates
        if rule.decide == INSERT:
            hit = hit & (decisions.codes != REJECT)  # what cannot be inserted stays rejected, and says why
        if hit.any():
            rows = pa.array(np.flatnonzero(hit))
            some = Env(len(rows), _Some(env.values, rows), env.now)
            decisions.put(hit, rule.decide, rule.because.texts(some))
            decisions.by_rule |= hit
    return fired


def apply_allow(decisions: Decisions, allowed: tuple[int, ...]) -> None:
    """What the job does not allow is skipped, and says so."""
    for code, word in ((INSERT, "an insert"), (UPDATE, "an update"), (DELETE, "a delete")):
        if code not in allowed:
            decisions.put(decisions.codes == code, SKIP, f"the job does not allow {word}")
