"""How records of one shape are taken: which of their columns goes where, what is derived, what the rules read."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cache
from typing import Any, TypeVar

import pyarrow as pa

from ..core.cast import plain
from ..core.decisions import NAMES
from ..core.expressions import Expression, ExpressionError, Scope, always
from ..core.expressions.scope import Name
from ..core.expressions.template import Template
from ..core.mapping import check_batch_has, map_columns, shared
from ..core.names import in_quotes
from ..core.records import REJECT_TEXT
from ..core.rules import BoundRule
from ..errors import JobError
from .options import Rule
from .plan import Plan
from .problems import Problems
from .resolving import Resolver

_MOST = 256  # shapes of records that are known
Shape = tuple[tuple[str, pa.DataType], ...]
"""The names and types of the columns with which records come."""


@dataclass
class Layout:
    """How records of one shape are taken."""

    mapping: dict[str, str]
    """Incoming name -> column of the table."""
    seen: dict[str, str] = field(default_factory=dict)
    """Incoming name -> column of the table, of ignored columns that expressions read."""
    came: dict[str, pa.DataType] = field(default_factory=dict)
    """The types in which values came, by the columns that they would go to."""
    own: dict[str, str] = field(default_factory=dict)
    """Derived columns that read what came for themselves, each with its incoming name."""
    extras: dict[str, pa.DataType] = field(default_factory=dict)
    """Incoming names that go nowhere and that expressions may use as they came, with their types."""
    looked_up: list[str] = field(default_factory=list)
    """Columns that are looked up in other tables by what the records send."""
    derived: dict[str, Expression] = field(default_factory=dict)
    """Columns that are derived from what the records send, each after those that it reads."""
    rules: list[BoundRule] = field(default_factory=list)
    types: dict[Name, pa.DataType] = field(default_factory=dict)
    dated_by: str | None = None
    """The column that is derived to date a record of a version."""
    misfit: str | None = None
    """Why no record of this shape can be taken: its values are of a kind that an expression does not take."""

    def uses(self) -> list[tuple[str, tuple[Name, ...]]]:
        """Every place with an expression, and the names that it reads."""
        dated = {self.dated_by: "[versions] effective"}
        places = [(dated.get(name, f"[derive] {name}"), one.uses) for name, one in self.derived.items()]
        for rule in self.rules:
            when = rule.when.uses if isinstance(rule.when, Expression) else ()
            places.append((rule.name, (*when, *rule.because.uses)))
        return places

    def reads(self) -> set[str]:
        """The incoming names that expressions read."""
        return {name for _, used in self.uses() for side, name in used if side == "incoming"}


_K = TypeVar("_K")
_V = TypeVar("_V")


class Layouts:
    """The layouts of a plan, each made when records of its shape first come."""

    def __init__(self, plan: Plan, problems: Problems) -> None:
        self._plan, self._problems = plan, problems
        self._resolver = Resolver(plan.info, problems)
        self._made: dict[Shape, tuple[Layout, list[str]]] = {}
        self._checked: dict[tuple[tuple[str, ...], Shape], tuple[None, list[str]]] = {}
        """The warnings of batches that were checked."""
        self._read = _incoming_names(plan)

    def of(self, shape: Shape) -> Layout:
        """How records of a shape are taken. Raises JobError if the job does not fit them."""
        return self._once(self._made, shape, lambda: self._make(shape))

    def _once(self, known: dict[_K, tuple[_V, list[str]]], key: _K, work: Callable[[], _V]) -> _V:
        """What `work` gives, kept for records to come, with the warnings that it makes; of many kinds not all."""
        if key not in known:
            with self._problems.noticed() as warnings:
                value = work()
            if len(known) >= _MOST:
                known.clear()
            known[key] = value, warnings
        value, warnings = known[key]
        for warning in warnings:
            self._problems.warn(warning)
        return value

    def _make(self, shape: Shape) -> Layout:
        plan, info = self._plan, self._plan.info
        mapping = self._mapped([name for name, _ in shape])
        several = shared(mapping or {})
        if several is not None:
            if plan.ragged:  # these records cannot be taken, and others can
                mapping = {name: column for name, column in (mapping or {}).items() if name not in several[0]}
            else:
                self._problems.wrong(several[1])
        extras = {name: kind for name, kind in shape if info.named(name) is None and name != REJECT_TEXT}
        layout = Layout(mapping or {}, extras=extras)
        layout.mapping = {name: column for name, column in layout.mapping.items() if column not in plan.lookups}
        layout.looked_up = [
            column for column, one in plan.lookups.items() if _has_all(shape, [n for _, n in one.match])
        ]
        for name, _ in shape:
            column = info.named(name)
            if column is not None and name not in layout.mapping and self._is_read(name):
                layout.seen[name] = column.name
        kinds = dict(shape)
        layout.came = {column: kinds[name] for name, column in (layout.seen | layout.mapping).items()}
        if plan.ragged:  # a record may lack what others have
            known = {name.lower() for name in layout.extras}
            lacking = {name: pa.null() for name in self._read if info.named(name) is None and name.lower() not in known}
            unknown = Layout(layout.mapping, layout.seen, extras=dict.fromkeys(layout.extras, pa.null()) | lacking)
            self._compile(unknown)  # the names, and all that does not hang on how the values are written
            self._problems.raise_all()
            layout.extras |= lacking
        self._compile(layout)
        if plan.ragged and self._problems.errors:
            layout.misfit = "; ".join(problem.what for problem in self._problems.errors)
            self._problems.errors.clear()
            layout.derived, layout.rules = unknown.derived, unknown.rules
        if plan.ragged and several is not None:
            layout.misfit = several[1]
        self._look_at_rules(layout)
        self._problems.raise_all()
        self._leave_what_did_not_come(layout, {name for name, _ in shape})
        return layout

    def _is_read(self, name: str) -> bool:
        """Whether an expression reads an incoming name, upper or lower case if none is written just so."""
        return name in self._read or name.lower() in {one.lower() for one in self._read}

    def _mapped(self, names: Sequence[str]) -> dict[str, str] | None:
        """Which incoming column goes to which of the table, in the order of the table."""
        plan, info = self._plan, self._plan.info
        free = [*plan.job.ignore, *(name for name in names if self._is_read(name) and info.named(name) is None)]
        try:
            mapping = map_columns(info, names, plan.job.rename, free)
        except JobError as error:
            hint = ""
            if len(names) == 1 and (mark := next((one for one in ";\t|," if one in names[0]), None)):
                hint = f"; or, if it is several columns, set the delimiter: delimiter = {json.dumps(mark)}"
            self._problems.wrong(f"{error}{hint}")
            return None
        self._look_at_spans(mapping)
        # in the table's order: that of the records, and so of reasons and changes, may be a neighbour's
        return dict(sorted(mapping.items(), key=lambda pair: info.names.index(pair[1])))

    def _look_at_spans(self, mapping: Mapping[str, str]) -> None:
        """A batch dates its records, and says nothing else of spans."""
        spans = self._plan.spans
        if spans is None:
            return
        effective = spans.options.effective
        own = [spans.begin] if effective is not None and effective.lower() == spans.begin.lower() else []
        for name, column in mapping.items():
            if column in spans.columns and column not in own:
                self._problems.wrong(
                    f"the batch sends {name!r}, and {column} is set by [versions]; list it in ignore"
                    + (", or let it date the records: effective" if column == spans.begin else "")
                )

    def columns_of(self, names: Sequence[str]) -> list[str]:
        """The columns to which incoming names go; none if they do not fit."""
        with self._problems.aside():
            mapping = self._mapped(names)
        return list((mapping or {}).values())

    # -- expressions ------------------------------------------------------------------------------------

    def _compile(self, layout: Layout) -> None:
        """Check every expression of the job against what records of the layout have."""
        job, info = self._plan.job, self._plan.info
        columns = {column.name: column.type for column in info.columns}
        incoming = columns | layout.extras
        layout.types = {("incoming", name): kind for name, kind in incoming.items()}
        what = {"incoming": "the incoming record", "existing": f"table {info.name!r}"}
        spans = self._plan.spans
        layout.dated_by = spans.begin if spans is not None and spans.options.effective is not None else None
        expressions: dict[str, Expression] = {}
        for given, value in job.derive.items():
            target = self._resolver.column("[derive]", given)
            if target is None:
                continue
            if info[target].generated:
                self._problems.wrong(f"[derive] {target}: the database computes it itself")
                continue
            if isinstance(value, str):
                place = "[versions] effective" if target == layout.dated_by else f"[derive] {target}"
                own = Scope({"incoming": incoming | {target: layout.came.get(target, pa.null())}}, what=what)
                done = self._resolver.expression(place, value, own, None)
            else:
                constant = self._resolver.constant(f"[derive] {target}", info[target], value)
                done = None if constant is None else always(value, constant)
            if done is not None:
                expressions[target] = done
        layout.derived = self._in_order(expressions)
        sides: Mapping[str, Mapping[str, pa.DataType]] = {"incoming": incoming, "existing": columns}
        rule_scope = Scope(sides, flags=("matched", "changed", "stale"), changes=True, what=what)
        bound = [self._rule(number, rule, rule_scope) for number, rule in enumerate(job.rules, 1)]
        layout.rules = [rule for rule in bound if rule is not None]

    def _in_order(self, expressions: dict[str, Expression]) -> dict[str, Expression]:
        """Derived columns, each after those that it reads. A column that reads itself reads what came."""
        waiting, ordered = dict(expressions), dict[str, Expression]()
        while waiting:
            ready = [
                name for name, expression in waiting.items()
                if not any(other in waiting and other != name for _, other in expression.uses)
            ]  # fmt: skip
            if not ready:
                self._problems.wrong(f"[derive] {in_quotes(waiting)}: these read each other; derive one from what came")
                return ordered | waiting
            ordered |= {name: waiting.pop(name) for name in ready}
        return ordered

    def _rule(self, number: int, rule: Rule, scope: Scope) -> BoundRule | None:
        when: Any = rule.when
        if isinstance(rule.when, str):
            when = self._resolver.expression(f"rule {number}, when", rule.when, scope)
        shown = rule.when if isinstance(rule.when, str) else getattr(rule.when, "__name__", "a function")
        default = f"rule {number}: {shown}".replace("{", "{{").replace("}", "}}")
        try:
            because = Template(rule.because if rule.because is not None else default, scope)
        except ExpressionError as error:
            self._problems.wrong_expression(f"rule {number}, because", error)
            return None
        return None if when is None else BoundRule(number, NAMES.index(rule.decide), when, because)

    def _look_at_rules(self, layout: Layout) -> None:
        trees = [
            (rule.number, rule.when.tree)
            for rule in layout.rules
            if isinstance(rule.when, Expression) and rule.when.tree is not None
        ]
        if not trees:
            return
        from ..core.expressions.reach import never_true, unreachable

        for number, tree in trees:
            if never_true(tree):
                self._problems.warn(f"rule {number} can never be true")
        for number, earlier in unreachable(trees):
            self._problems.warn(f"rule {number} can never decide: whenever it is true, rule {earlier} is")

    def _leave_what_did_not_come(self, layout: Layout, names: set[str]) -> None:
        """Derive nothing from what was not sent, and take no sent column in whose place another value is derived."""
        if not layout.derived:
            return
        from ..core.expressions.reach import rests_on

        there = {
            *layout.mapping.values(),
            *layout.looked_up,
            *layout.seen.values(),
            *(name for name in layout.extras if name in names),
        }
        for target, expression in list(layout.derived.items()):
            used = [name for side, name in expression.uses if side == "incoming"]
            came = [name for name in used if name in there]
            absent = {name.lower() for name in used if name not in there}
            lacks = absent and (not came or (expression.tree is not None and rests_on(expression.tree, absent)))
            sent = [name for name, column in (layout.mapping | layout.seen).items() if column == target]
            layout.mapping = {name: column for name, column in layout.mapping.items() if column != target}
            layout.seen = {name: column for name, column in layout.seen.items() if column != target}
            if lacks:
                del layout.derived[target]
                there.discard(target)
                continue
            there.add(target)
            if sent and target in used:
                layout.own[target] = sent[0]

    # -- the batch as a whole ---------------------------------------------------------------------------

    def check_batch(self, names: Sequence[str], shape: Shape) -> None:
        """Check that the batch, taken as a whole, has what the job needs. `names` are its columns."""
        self._once(self._checked, (tuple(names), shape), lambda: self._check(names, shape))

    def _check(self, names: Sequence[str], shape: Shape) -> None:
        plan, job, info = self._plan, self._plan.job, self._plan.info
        self.of(shape)
        elsewhere = [name for name in (*self._read, *names) if info.named(name) is None]
        every = Layout({}, extras=dict.fromkeys(elsewhere, pa.null()))
        with self._problems.aside():
            self._compile(every)
        tell = self._problems.warn if plan.ragged else self._problems.wrong  # what records may lack, all of them may
        needed = [name for name in plan.key if not (job.null_key == "generate" and info[name].has_default)]
        try:
            given = [*names, *(name for name in (*every.derived, *plan.lookups) if name not in names)]
            check_batch_has(names, given, job.rename, needed, info)
        except JobError as error:
            tell(str(error))
        sent = set(self.columns_of(names)) | set(every.derived) | set(plan.lookups)
        lower = {name.lower() for name in names}
        for place, used in every.uses():
            for side, name in used:
                there = name in sent or name.lower() in lower
                if side == "incoming" and not there:
                    tell(f"{place}: the batch does not send {name!r}; it has {in_quotes(names) or 'no columns'}")
        for column, lookup in plan.lookups.items():
            for absent in [name for _, name in lookup.match if name.lower() not in lower]:
                has = in_quotes(names) or "no columns"
                tell(f"[lookup.{column}]: the batch does not send {absent!r}; it has {has}")
        if plan.order is not None and plan.order not in sent:
            tell(f"order: the batch does not send {plan.order!r}; it has {in_quotes(names) or 'no columns'}")
        for name, options in plan.options.items():
            if options.previous is not None and options.previous in sent:
                self._problems.wrong(
                    f"[columns.{name}] previous: the batch sends {options.previous!r} itself; list it in ignore"
                )
        self._look_at_updates(sent)
        if (lacking := plan.lacking(sent)) and "insert" in job.allow:
            words = ", ".join(lacking)
            self._problems.warn(f"new records will be rejected: an insert needs {words}, which the batch does not send")
        self._problems.raise_all()

    def _look_at_updates(self, sent: Iterable[str]) -> None:
        """Foreign keys by which an update of what is sent would change other rows, which the history would not have."""
        plan = self._plan
        written = {*plan.updatable(sent), *plan.mark, *plan.previous.values()}
        for one in plan.info.reach if plan.job.history and "update" in plan.job.allow else ():
            if wrong := one.updating(plan.info.name, written):
                self._problems.wrong(
                    f'{wrong[0]}; let it restrict, set write = "insert" in [columns.{wrong[1]}], or history = false'
                )


def _incoming_names(plan: Plan) -> set[str]:
    """Every name that an expression or a look-up takes from the incoming side, as it is spelt there."""
    sought = {name for one in plan.lookups.values() for _, name in one.match}
    texts = [value for value in plan.job.derive.values() if isinstance(value, str)]
    for rule in plan.job.rules:
        texts += [rule.when] if isinstance(rule.when, str) else []
        texts += [part.split("}")[0] for part in (rule.because or "").split("{")[1:]]
    if not texts:
        return sought
    from sqlglot import exp

    from ..core.expressions.parsing import parse

    names = sought
    for text in texts:
        try:
            tree = parse(text)
        except ExpressionError:
            continue  # said where it is compiled
        names |= {one.name for one in tree.find_all(exp.Column) if one.table.lower() == "incoming"}
    return names


def _has_all(shape: Shape, names: Sequence[str]) -> bool:
    """Whether records of a shape have all of some columns, in upper or lower case."""
    return {name.lower() for name in names} <= {name.lower() for name, _ in shape}


def shape_of(schema: pa.Schema) -> Shape:
    """The shape of records that come with a schema."""
    return tuple((field.name, _plain_type(field.type)) for field in schema)


@cache
def _plain_type(kind: pa.DataType) -> pa.DataType:
    return plain(pa.array([], kind)).type
