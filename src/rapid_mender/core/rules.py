"""Rules: conditions of the job that decide on a record instead of the default."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..errors import JobError
from .cast import as_text
from .decisions import DELETE, INSERT, REJECT, SKIP, UPDATE, Decisions
from .expressions import Cells, Env, Expression, ExpressionError, Scope, compile_expression
from .expressions.scope import Name
from .keys import one_array
from .masks import mask_of

Function = Callable[[pa.Table, pa.Table], Any]


class Template:
    """The text of `because`, with expressions between braces; {{ is a brace."""

    def __init__(self, text: str, scope: Scope) -> None:
        self.parts: list[str | Expression] = []
        at = 0
        while at < len(text):
            here = min((place for place in (text.find("{", at), text.find("}", at)) if place >= 0), default=len(text))
            if here > at:
                self.parts.append(text[at:here])
            if here == len(text):
                break
            if text[here : here + 2] in ("{{", "}}"):
                self.parts.append(text[here])
                at = here + 2
                continue
            end = text.find("}", here)
            if text[here] == "}" or end < 0:
                raise ExpressionError(text, "a brace stands alone; write {{ or }} for a brace itself", here, here)
            try:
                self.parts.append(compile_expression(text[here + 1 : end], scope))
            except ExpressionError as error:
                raise ExpressionError(text, error.what, here + 1 + error.start, here + 1 + error.end) from None
            at = end + 1

    def texts(self, env: Env) -> pa.Array | str:
        """One text for all rows, or one for each."""
        if all(isinstance(part, str) for part in self.parts):
            return "".join(str(part) for part in self.parts)
        pieces = []
        for part in self.parts:
            if isinstance(part, str):
                pieces.append(part)
            else:
                pieces.append(pc.fill_null(as_text(env.array(part.evaluate(env).values))[0].cast(pa.string()), "null"))
        return pc.binary_join_element_wise(*pieces, "")

    @property
    def uses(self) -> tuple[Name, ...]:
        return tuple(name for part in self.parts if isinstance(part, Expression) for name in part.uses)


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
class RuleInputs(Mapping[Name, pa.Array]):
    """The names of a rule over looked-up records: each column is made when it is first asked for."""

    incoming: pa.Table
    raw: Mapping[str, pa.Array]
    existing: pa.Table
    found: np.ndarray
    """For each record the place of the row that it meets, or -1."""
    changed: Mapping[str, np.ndarray]
    compared: np.ndarray
    """A mask of the rows in which a compared column differs."""
    stale: np.ndarray
    """A mask of the rows that are newer than the record that meets them."""
    types: Mapping[Name, pa.DataType] = field(default_factory=dict)
    _made: dict[Name, pa.Array] = field(default_factory=dict)

    def __getitem__(self, name: Name) -> pa.Array:
        if name not in self._made:
            self._made[name] = self._make(*name)
        return self._made[name]

    def __iter__(self) -> Iterator[Name]:
        return iter(self._made)

    def __len__(self) -> int:
        return len(self._made)

    def _make(self, side: str, name: str) -> pa.Array:
        if side == "incoming":
            if name in self.incoming.column_names:
                return one_array(self.incoming[name])
            if name in self.raw:
                return self.raw[name]
            return pa.nulls(len(self.found), self.types.get(("incoming", name), pa.null()))
        if side == "existing":
            return one_array(self.existing[name]).take(self._index)
        matched = self.found >= 0
        if name == "matched":
            return pa.array(matched)
        mask = self.changed.get(name) if side else self.stale if name == "stale" else self.compared
        out = np.zeros(len(self.found), bool)
        if mask is not None:
            out[matched] = mask[self.found[matched]]
        return pa.array(out)

    @cached_property
    def _index(self) -> pa.Array:
        return pa.array(self.found, mask=self.found < 0)

    def tables(self) -> tuple[pa.Table, pa.Table]:
        """Both sides as tables, for a rule that is a function."""
        sent, columns = set(self.incoming.column_names), {}
        for name, kind in zip(self.existing.column_names, self.existing.schema.types, strict=True):
            columns[name] = self.incoming[name] if name in sent else pa.nulls(len(self.found), kind)
        columns |= {name: values for name, values in self.raw.items() if name not in columns}
        return pa.table(columns), self.existing.take(self._index)


class _Some(Mapping[Name, pa.Array]):
    def __init__(self, every: Mapping[Name, pa.Array], rows: pa.Array) -> None:
        self._every, self._rows = every, rows

    def __getitem__(self, name: Name) -> pa.Array:
        return self._every[name].take(self._rows)

    def __iter__(self) -> Iterator[Name]:
        return iter(self._every)

    def __len__(self) -> int:
        return len(self._every)


@dataclass
class Fired:
    """What came of the rules: how often each decided, and how often each could not be computed."""

    decided: dict[int, int] = field(default_factory=dict)
    failed: dict[int, int] = field(default_factory=dict)

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
    fired = Fired()
    every = eligible.copy()
    matched = inputs.found >= 0
    fresh = np.ones(len(matched), bool)
    fresh[matched] = ~inputs.stale[inputs.found[matched]]
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
    return fired


def apply_allow(decisions: Decisions, allowed: tuple[int, ...]) -> None:
    """What the job does not allow is skipped, and says so."""
    for code, word in ((INSERT, "an insert"), (UPDATE, "an update"), (DELETE, "a delete")):
        if code not in allowed:
            decisions.put(decisions.codes == code, SKIP, f"the job does not allow {word}")
