"""A job bound to its table and its batch: every name resolved, every expression checked, before a row is read.

What is wrong is collected, not raised at once, so that all of it can be told together.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cache
from typing import Any

import pyarrow as pa

from .core.cast import cast, plain, wanted
from .core.compare import Likeness, takes_tolerance
from .core.decide import NAMES
from .core.expressions import Expression, ExpressionError, Scope, compile_expression
from .core.expressions.scope import Name
from .core.names import in_quotes
from .core.records import check_batch_has, map_columns
from .core.rules import BoundRule, Template
from .core.schema import Column, TableInfo
from .errors import JobError
from .job import ColumnOptions, Job, RejectsTable, Rule
from .stores.base import Session, nearest

Shape = tuple[tuple[str, pa.DataType], ...]
"""The names and types of the columns with which records come."""


@dataclass
class Reading:
    """How records of one shape are read: which column goes where, what is derived, and the rules over them."""

    mapping: dict[str, str]
    """Incoming name -> column of the table."""
    derived: dict[str, Expression] = field(default_factory=dict)
    extras: dict[str, pa.DataType] = field(default_factory=dict)
    """Incoming names that expressions may use as they came, with their types."""
    rules: list[BoundRule] = field(default_factory=list)
    types: dict[Name, pa.DataType] = field(default_factory=dict)

    @property
    def sent(self) -> list[str]:
        """The columns that the records have a value for, derived ones too."""
        return list(dict.fromkeys([*self.mapping.values(), *self.derived]))


class Plan:
    """A job bound to its table. `problems` say what is wrong, `warnings` what may surprise."""

    def __init__(self, job: Job, info: TableInfo, open_ended: bool) -> None:
        """`open_ended`: which columns the batch has is known only when it has been read."""
        self.job, self.info, self.open_ended = job, info, open_ended
        self.problems: list[str] = []
        self.warnings: list[str] = []
        self.key = self._key()
        self.order = self._one("order", job.order)
        self.columns = self._columns()
        self.likeness: dict[str, Likeness] = {n: o.likeness for n, o in self.columns.items() if o.likeness.names()}
        self.mark = self._mark()
        self.scope = self._expression("scope", job.scope, Scope({"existing": self._types()}, bare="existing"))
        self.archive: TableInfo | None = None
        self.allowed = tuple(NAMES.index(name) for name in job.allow)
        self._readings: dict[Shape, Reading] = {}
        self.referred = self._incoming_names()
        """The names that expressions take from the incoming side."""
        self.has_functions = any(not isinstance(rule.when, str) for rule in job.rules)
        if job.null_key == "generate" and self.key:
            made = [n for n in self.key if info[n].has_default]
            if not made:
                self.wrong(f'null_key = "generate": the database makes no value for {in_quotes(self.key)}')
        if job.rejects is not None and isinstance(job.rejects, RejectsTable) and job.rejects.table == info.name:
            self.wrong("rejects: the table of rejects cannot be the table itself")

    def wrong(self, problem: str) -> None:
        """Note a problem."""
        if problem not in self.problems:
            self.problems.append(problem)

    def warn(self, warning: str) -> None:
        if warning not in self.warnings:
            self.warnings.append(warning)

    def raise_problems(self) -> None:
        if len(self.problems) == 1:
            raise JobError(self.problems[0])
        if self.problems:
            listed = "\n".join(f"- {problem}" for problem in self.problems)
            raise JobError(f"{len(self.problems)} things are wrong with the job:\n{listed}")

    # -- the job against the table --------------------------------------------------------------------

    def _types(self) -> dict[str, pa.DataType]:
        return {column.name: column.type for column in self.info.columns}

    def _one(self, what: str, name: str | None) -> str | None:
        """The column that an option names."""
        if name is None:
            return None
        column = self.info.named(name)
        if column is None:
            self.wrong(
                f"{what}: table {self.info.name!r} has no column {name!r}; {nearest(name, self.info.names, 'columns')}"
            )
            return None
        return column.name

    def _key(self) -> list[str]:
        key = [name for name in (self._one("key", name) for name in self.job.key) if name is not None]
        if len(set(key)) < len(key):
            self.wrong(f"key: a column is named twice in {self.job.key}")
        return key

    def _columns(self) -> dict[str, ColumnOptions]:
        found: dict[str, ColumnOptions] = {}
        for given, options in self.job.columns.items():
            place = f"[columns.{given}]"
            name = self._one(place, given)
            if name is None:
                continue
            column = self.info[name]
            if name in self.key:
                self.wrong(f"{place}: a key column is compared and written by the rules of keys; it takes no options")
            if options.tolerance is not None and not takes_tolerance(column.type):
                self.wrong(f"{place}: tolerance is for numbers, dates and times, and {name} is {wanted(column)}")
            if (options.ignore_case or options.trim) and not pa.types.is_string(column.type):
                self.wrong(f"{place}: ignore_case and trim are for texts, and {name} is {wanted(column)}")
            other = self._one(f"{place} previous", options.previous)
            if other is not None:
                if other in (name, *self.key) or self.info[other].generated:
                    self.wrong(f"{place} previous: {other} cannot take the old value; name another column")
                elif self.info[other].type != column.type:
                    types = f"{column.declared or column.type}, {self.info[other].declared or self.info[other].type}"
                    self.wrong(f"{place} previous: {name} and {other} have different types ({types})")
                options = options.model_copy(update={"previous": other})
            found[name] = options
        taken = [options.previous for options in found.values() if options.previous is not None]
        for other in {name for name in taken if taken.count(name) > 1}:
            self.wrong(f"[columns] previous: {other} is to take the old value of more than one column")
        return found

    def _mark(self) -> dict[str, pa.Scalar]:
        found = {}
        for given, value in self.job.mark.items():
            name = self._one("mark", given)
            if name is not None:
                found[name] = self._constant(f"mark: {name}", self.info[name], value)
                if name in self.key or self.info[name].generated:
                    self.wrong(f"mark: {name} cannot be set")
        return {name: value for name, value in found.items() if value is not None}

    def _constant(self, place: str, column: Column, value: Any) -> pa.Scalar | None:
        values, bad = cast(pa.array([value]), column)
        if bad is not None and bad.any():
            self.wrong(f"{place} = {value!r} is not {wanted(column)}")
            return None
        if value is None and not column.nullable:
            self.wrong(f"{place}: the column is required (NOT NULL)")
        return plain(values)[0]

    def bind_archive(self, session: Session) -> None:
        """Look at the table to which deleted rows go."""
        name = self.job.archive
        if name is None:
            return
        found = session.find(name)
        if found is None or found.name == self.info.name:
            why = "it is the table itself" if found else nearest(name, session.tables(), "tables")
            self.wrong(f"archive: there is no other table {name!r}; {why}")
            return
        absent = [c for c in self.info.names if not self.info[c].generated and c not in found]
        if absent:
            self.wrong(f"archive: table {found.name!r} lacks the columns {in_quotes(absent)}")
        lacking = [c.name for c in found.columns if c.required and c.name not in self.info]
        if lacking:
            self.wrong(
                f"archive: table {found.name!r} requires {in_quotes(lacking)}, which {self.info.name!r} does not have"
            )
        self.archive = found

    def _expression(
        self, place: str, text: str | None, scope: Scope, want: str | None = "boolean"
    ) -> Expression | None:
        if text is None:
            return None
        try:
            return compile_expression(text, scope, want)
        except ExpressionError as error:
            self.wrong(f"{place}: {error}")
            return None

    # -- the job against the batch ----------------------------------------------------------------------

    def _incoming_names(self) -> set[str]:
        """Every name that an expression takes from the incoming side."""
        texts = [value for value in self.job.derive.values() if isinstance(value, str)]
        for rule in self.job.rules:
            texts += [rule.when] if isinstance(rule.when, str) else []
            texts += [part.split("}")[0] for part in (rule.because or "").split("{")[1:]]
        if not texts:
            return set()
        from sqlglot import exp

        from .core.expressions.parsing import parse

        found = set()
        for text in texts:
            try:
                tree = parse(text)
            except ExpressionError:
                continue  # said where it is compiled
            found |= {one.name for one in tree.find_all(exp.Column) if one.table.lower() == "incoming"}
        return found

    def reading(self, shape: Shape) -> Reading:
        """How records of a shape are read. Raises JobError if they cannot be."""
        if shape not in self._readings:
            self._readings[shape] = self._bind(shape)
        return self._readings[shape]

    def _bind(self, shape: Shape) -> Reading:
        job, info = self.job, self.info
        free = [*job.ignore, *(name for name, _ in shape if name in self.referred and info.named(name) is None)]
        try:
            found = map_columns(info, [name for name, _ in shape], job.rename, free)
            # in the table's order: that of the records, and so of reasons and changes, may be a neighbour's
            reading = Reading(dict(sorted(found.items(), key=lambda pair: info.names.index(pair[1]))))
        except JobError as error:
            self.wrong(str(error))
            reading = Reading({})
        for name, kind in shape:
            if info.named(name) is None:
                reading.extras[name] = kind
        if self.open_ended:  # a record may lack what others have
            for name in self.referred:
                if info.named(name) is None and name not in reading.extras:
                    reading.extras[name] = pa.null()
        incoming = self._types() | reading.extras
        reading.types = {("incoming", name): kind for name, kind in incoming.items()}
        what = {"incoming": "the incoming record", "existing": f"table {info.name!r}"}
        scope = Scope({"incoming": incoming}, what=what)
        for given, value in job.derive.items():
            target = self._one("[derive]", given)
            if target is None:
                continue
            if info[target].generated:
                self.wrong(f"[derive] {target}: the database computes it itself")
                continue
            if isinstance(value, str):
                done = self._expression(f"[derive] {target}", value, scope, None)
            else:
                constant = self._constant(f"[derive] {target}", info[target], value)
                done = None if constant is None else _always(value, constant)
            if done is not None:
                reading.derived[target] = done
        sides: Mapping[str, Mapping[str, pa.DataType]] = {"incoming": incoming, "existing": self._types()}
        rule_scope = Scope(sides, flags=("matched", "changed"), changes=True, what=what)
        for number, rule in enumerate(job.rules, 1):
            bound = self._rule(number, rule, rule_scope)
            if bound is not None:
                reading.rules.append(bound)
        self._look_at_rules(reading)
        self.raise_problems()
        return reading

    def _rule(self, number: int, rule: Rule, scope: Scope) -> BoundRule | None:
        when: Any = rule.when
        if isinstance(rule.when, str):
            when = self._expression(f"rule {number}, when", rule.when, scope)
        shown = rule.when if isinstance(rule.when, str) else getattr(rule.when, "__name__", "a function")
        default = f"rule {number}: {shown}".replace("{", "{{").replace("}", "}}")
        try:
            because = Template(rule.because if rule.because is not None else default, scope)
        except ExpressionError as error:
            self.wrong(f"rule {number}, because: {error}")
            return None
        return None if when is None else BoundRule(number, NAMES.index(rule.decide), when, because)

    def _look_at_rules(self, reading: Reading) -> None:
        trees = [
            (rule.number, rule.when.tree)
            for rule in reading.rules
            if isinstance(rule.when, Expression) and rule.when.tree is not None
        ]
        if not trees:
            return
        from .core.expressions.reach import never_true, unreachable

        for number, tree in trees:
            if never_true(tree):
                self.warn(f"rule {number} can never be true")
        for number, earlier in unreachable(trees):
            self.warn(f"rule {number} can never decide: whenever it is true, rule {earlier} is")

    def check_batch(self, names: Sequence[str], reading: Reading) -> None:
        """Check that the batch, taken as a whole, has what the job needs. `names` are its columns."""
        job, info = self.job, self.info
        given = [*names, *(name for name in reading.derived if name not in names)]
        needed = [name for name in self.key if not (job.null_key == "generate" and info[name].has_default)]
        try:
            check_batch_has(names, given, job.rename, needed, info)
        except JobError as error:
            self.wrong(str(error))
        sent = set(self.columns_of(names)) | set(reading.derived)
        uses: list[tuple[str, Iterable[Name]]] = [(f"[derive] {n}", e.uses) for n, e in reading.derived.items()]
        for rule in reading.rules:
            when = rule.when.uses if isinstance(rule.when, Expression) else ()
            uses.append((rule.name, (*when, *rule.because.uses)))
        for place, used in uses:
            for side, name in used:
                there = name in sent if name in info else name in names
                if side == "incoming" and not there:
                    self.wrong(f"{place}: the batch does not send {name!r}; it has {in_quotes(names) or 'no columns'}")
        if self.order is not None and self.order not in sent:
            self.wrong(f"order: the batch does not send {self.order!r}; it has {in_quotes(names) or 'no columns'}")
        for name, options in self.columns.items():
            if options.previous is not None and options.previous in sent:
                self.wrong(f"[columns.{name}] previous: the batch sends {options.previous!r} itself; list it in ignore")
        self._look_at_updates(sent)
        if (lacking := self.lacking(sent)) and "insert" in job.allow:
            words = ", ".join(lacking)
            self.warn(f"new records will be rejected: an insert needs {words}, which the batch does not send")
        self.raise_problems()

    def _look_at_updates(self, sent: Iterable[str]) -> None:
        """Foreign keys by which an update of what is sent would change other rows, which the history would not have."""
        written = {*self.updatable(sent), *self.mark, *self.previous().values()}
        for one in self.info.reach if self.job.history and "update" in self.job.allow else ():
            if hit := sorted(written & set(one.columns)):
                self.wrong(
                    f"constraint {one.said} changes other rows of {self.info.name!r} when {', '.join(hit)} changes, "
                    'and the history would not have them; let it restrict, set write = "insert" in '
                    f"[columns.{hit[0]}], or history = false"
                )

    def columns_of(self, names: Sequence[str]) -> list[str]:
        try:
            ignore = [*self.job.ignore, *(n for n in names if n in self.referred and self.info.named(n) is None)]
            return list(map_columns(self.info, names, self.job.rename, ignore).values())
        except JobError:
            return []

    # -- what follows from the options ------------------------------------------------------------------

    def lacking(self, sent: Iterable[str]) -> list[str]:
        """The required columns that an insert would not have."""
        there = {name for name in sent if self.writes(name) != "never"}
        return [c.name for c in self.info.columns if c.required and c.name not in there]

    def writes(self, name: str) -> str:
        return self.columns[name].write if name in self.columns else "always"

    def updatable(self, sent: Iterable[str]) -> list[str]:
        """The columns that an update may set, of those that were sent."""
        return [
            name for name in sent
            if (name not in self.key or self.info[name].fold is not None) and self.writes(name) == "always"
        ]  # fmt: skip

    def compares(self, name: str) -> bool:
        return name not in self.columns or self.columns[name].compare

    def previous(self) -> dict[str, str]:
        """Column -> the column that takes its old value."""
        return {n: o.previous for n, o in self.columns.items() if o.previous is not None}

    def strict_nulls(self, name: str) -> bool:
        """Whether a null that is sent for a required column is a fault, whatever the record meets."""
        options = self.columns.get(name)
        return options is None or (options.write == "always" and options.null == "overwrite")


def _always(value: Any, constant: pa.Scalar) -> Expression:
    from .core.expressions import Cells

    return Expression(repr(value), constant.type, (), None, lambda env: Cells(constant))


def shape_of(schema: pa.Schema) -> Shape:
    """The shape of records that come with a schema."""
    return tuple((field.name, _plain_type(field.type)) for field in schema)


@cache
def _plain_type(kind: pa.DataType) -> pa.DataType:
    return plain(pa.array([], kind)).type
