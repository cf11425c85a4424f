"""Binding a job to its table: every name resolved, every expression checked, before a row is read."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Any

import pyarrow as pa

from ..core.cast import cast, wanted
from ..core.compare import takes_tolerance
from ..core.decisions import NAMES
from ..core.expressions import Env, Expression, Scope, always
from ..core.names import in_quotes
from ..core.notation import Notation
from ..core.schema import Column, TableInfo
from ..stores.contract import Session, nearest
from .job import Job
from .options import ColumnOptions, RejectsTable
from .plan import BoundLookup, ColumnPlan, Instead, Plan
from .problems import Problems
from .resolving import Resolver
from .spans import bind_spans, dated

_PLAIN = ColumnOptions()


def bind(session: Session, job: Job, ragged: bool, problems: Problems, trusting: bool = False) -> Plan:
    """A job bound to its table; what is wrong is among the problems. `ragged`: a record of the batch may lack columns
    that others have."""
    return _Binder(job, session.describe(job.table, trusting=trusting), problems).plan(session, ragged)


class _Binder:
    """Holds a job against its table, option by option."""

    def __init__(self, job: Job, info: TableInfo, problems: Problems) -> None:
        self.job, self.info, self.problems = job, info, problems
        self.resolver = Resolver(info, problems)
        self.key = self._key()
        self.order = self.resolver.column("order", job.order)
        self.options = self._columns()
        self.spans = bind_spans(self.resolver, problems, job, self.key)
        self.update_only = self._update_only()

    def plan(self, session: Session, ragged: bool) -> Plan:
        """All of it, as a plan."""
        job, info = self.job, self.info
        if self.spans is not None:
            job = dated(job, self.spans, info[self.spans.begin])
        rows = Scope({"existing": {column.name: column.type for column in info.columns}}, bare="existing")
        mark, unmark = self._set("mark", job.mark, rows), self._set("unmark", job.unmark, rows)
        marked = self.resolver.expression("marked", job.marked, rows)
        plan = Plan(
            job=job,
            info=info,
            ragged=ragged,
            key=self.key,
            order=self.order,
            options=self.options,
            update_only=self.update_only,
            notations=self._notations(),
            lookups=self._lookups(session),
            columns={name: self._column(name) for name in info.names},
            mark=mark,
            unmark=unmark,
            marked=marked,
            fixed_marks=self._fixed_marks(mark, marked) if job.mark else {},
            scope=self.resolver.expression("scope", job.scope, rows),
            spans=self.spans,
            archive=self._archive(session),
            allowed=tuple(NAMES.index(name) for name in job.allow),
            has_functions=any(not isinstance(rule.when, str) for rule in job.rules),
        )
        if job.null_key == "generate" and self.key and not any(info[name].has_default for name in self.key):
            self._wrong(f'null_key = "generate": the database makes no value for {in_quotes(self.key)}')
        if job.rejects is not None and isinstance(job.rejects, RejectsTable) and job.rejects.table == info.name:
            self._wrong("rejects: the table of rejects cannot be the table itself")
        return plan

    def _wrong(self, problem: str) -> None:
        self.problems.wrong(problem)

    def _column(self, name: str) -> ColumnPlan:
        options = self._option(name)
        if self.spans is not None and name in self.spans.columns:
            return ColumnPlan(options, "insert")
        apart = bool(self.update_only) and name not in self.update_only and options.write != "never"
        return ColumnPlan(options, "insert" if apart else options.write)

    def _option(self, name: str) -> ColumnOptions:
        return self.options.get(name, _PLAIN)

    def _key(self) -> list[str]:
        key = [name for name in (self.resolver.column("key", name) for name in self.job.key) if name is not None]
        if len(set(key)) < len(key):
            self._wrong(f"key: a column is named twice in {self.job.key}")
        return key

    def _columns(self) -> dict[str, ColumnOptions]:
        options_of: dict[str, ColumnOptions] = {}
        for given, options in self.job.columns.items():
            place = f"[columns.{given}]"
            name = self.resolver.column(place, given)
            if name is None:
                continue
            column = self.info[name]
            if name in self.key and options.decides:
                self._wrong(f"{place}: a key column is compared and written by the rules of keys; it takes no options")
            if options.tolerance is not None and not takes_tolerance(column.type):
                self._wrong(f"{place}: tolerance is for numbers, dates and times, and {name} is {wanted(column)}")
            if (options.ignore_case or options.trim) and not pa.types.is_string(column.type):
                self._wrong(f"{place}: ignore_case and trim are for texts, and {name} is {wanted(column)}")
            if options.null == "default" and not column.has_default:
                self._wrong(f'{place} null = "default": the database has no default for {name}')
            other = self.resolver.column(f"{place} previous", options.previous)
            if other is not None:
                if other in (name, *self.key) or self.info[other].generated:
                    self._wrong(f"{place} previous: {other} cannot take the old value; name another column")
                elif self.info[other].type != column.type:
                    types = f"{column.declared or column.type}, {self.info[other].declared or self.info[other].type}"
                    self._wrong(f"{place} previous: {name} and {other} have different types ({types})")
                options = options.model_copy(update={"previous": other})
            options_of[name] = options
        taken = [options.previous for options in options_of.values() if options.previous is not None]
        for other in {name for name in taken if taken.count(name) > 1}:
            self._wrong(f"[columns] previous: {other} is to take the old value of more than one column")
        return options_of

    def _notations(self) -> dict[str, Notation]:
        """How the texts of each column are written, where the job says so: for the column, or for all of the batch."""
        found = {}
        of_batch = self.job.incoming
        for name, options in self.options.items():
            if options.format is not None or options.decimal is not None or options.thousands is not None:
                notation = Notation(options.format, options.decimal or ".", options.thousands or "")
                if problem := notation.problem(self.info[name].type):
                    self._wrong(f"[columns.{name}]: {problem}, and {name} is {wanted(self.info[name])}")
                else:
                    found[name] = notation
        if of_batch is not None and (of_batch.decimal != "." or of_batch.thousands):
            notation = Notation(None, of_batch.decimal, of_batch.thousands)
            numbers = [one.name for one in self.info.columns if notation.problem(one.type) is None]
            found = dict.fromkeys(numbers, notation) | found
        return found

    def _lookups(self, session: Session) -> dict[str, BoundLookup]:
        """The columns that are looked up, held against the tables in which they are."""
        found = {}
        for given, lookup in self.job.lookup.items():
            place = f"[lookup.{given}]"
            name = self.resolver.column(place, given)
            if session.find(lookup.table) is None:
                hint = nearest(lookup.table, session.tables(), "tables")
                self._wrong(f"{place}: there is no table {lookup.table!r}; {hint}")
                continue
            other = session.describe(lookup.table)  # which refuses one that would run its owner's code
            if name is None:
                continue
            if self.info[name].generated:
                self._wrong(f"{place}: the database computes {name} itself")
            if any(one.lower() == name.lower() for one in self.job.derive):
                self._wrong(f"{place}: {name} is derived as well; leave one of the two out")
            there = Resolver(other, self.problems)
            take = there.column(f"{place} take", lookup.take)
            match = [(there.column(f"{place} match", column), sent) for column, sent in lookup.match.items()]
            instead = [self._instead(f"{place} {what}", one, self.info[name]) for what, one in
                       (("none", lookup.none), ("several", lookup.several))]  # fmt: skip
            if take is not None and all(column is not None for column, _ in match):
                pairs = tuple((str(column), sent) for column, sent in match)
                found[name] = BoundLookup(name, other, pairs, take, *instead)
        return found

    def _instead(self, place: str, given: Any, column: Column) -> Instead:
        """What is taken where a look-up finds no row, or several."""
        if isinstance(given, str):
            return Instead(pa.scalar(None, column.type), given == "reject")
        value = self.resolver.constant(place, column, given.value)
        return Instead(pa.scalar(None, column.type) if value is None else value)

    def _update_only(self) -> list[str]:
        columns = [
            name
            for name in (self.resolver.column("update_only", one) for one in self.job.update_only)
            if name is not None
        ]
        for name in columns:
            if name in self.key:
                self._wrong(f"update_only: {name} is of the key, which an update leaves as it is")
            elif self._option(name).write != "always":
                self._wrong(f'update_only: {name} has write = "{self._option(name).write}"; leave one of the two out')
        if columns and self.order is not None and self.order not in columns:
            self.problems.warn(
                f"update_only leaves {self.order} as it is, by which the job tells what is older; name it too"
            )
        return columns

    def _set(self, option: str, given: Mapping[str, Any], scope: Scope) -> dict[str, Expression]:
        """What an option sets columns to. A text is an expression over the existing row."""
        constants = {}
        for one, value in given.items():
            name = self.resolver.column(option, one)
            if name is None:
                continue
            if name in self.key or self.info[name].generated:
                self._wrong(f"{option}: {name} cannot be set")
            if isinstance(value, str):
                done = self._setting(f"{option}: {name}", value, scope, self.info[name])
            else:
                constant = self.resolver.constant(f"{option}: {name}", self.info[name], value)
                done = None if constant is None else always(value, constant)
            if done is not None:
                constants[name] = done
        return constants

    def _setting(self, place: str, text: str, scope: Scope, column: Column) -> Expression | None:
        """What a text sets a column to. It is an expression; a single word was most likely meant as a text."""
        hint = f"an expression; for the text itself write \"'{text}'\"" if text.replace(" ", "").isalnum() else ""
        done = self.resolver.expression(place, text, scope, None, hint)
        if done is not None and not done.uses:
            cells = done.evaluate(Env(1, {}, datetime.now(UTC)))
            bad = cast(cells.values, column)[1]
            if cells.failed is not None or (bad is not None and bad.any()):
                self._wrong(f"{place} = {text} is not {wanted(column)}")
                return None
        return done

    def _fixed_marks(self, mark: Mapping[str, Expression], marked: Expression | None) -> dict[str, Expression]:
        """The marks that set the same value in every row, at any time: marked rows are recognised by them."""
        from sqlglot import exp

        clock = (exp.CurrentDate, exp.CurrentTimestamp)
        fixed = {
            name: one for name, one in mark.items()
            if not one.uses and (one.tree is None or one.tree.find(*clock) is None)
        }  # fmt: skip
        if mark and not fixed and marked is None:
            self._wrong(
                "mark: nothing that it sets tells a marked row from another; say which rows are marked "
                f'(marked = "{next(iter(mark))} IS NOT NULL")'
            )
        return fixed

    def _archive(self, session: Session) -> TableInfo | None:
        """The table to which deleted rows go."""
        name = self.job.archive
        if name is None:
            return None
        archive = session.find(name)
        if archive is None or archive.name == self.info.name:
            why = "it is the table itself" if archive else nearest(name, session.tables(), "tables")
            self._wrong(f"archive: there is no other table {name!r}; {why}")
            return None
        absent = [c for c in self.info.names if not self.info[c].generated and c not in archive]
        if absent:
            self._wrong(f"archive: table {archive.name!r} lacks the columns {in_quotes(absent)}")
        lacking = [c.name for c in archive.columns if c.required and c.name not in self.info]
        if lacking:
            self._wrong(
                f"archive: table {archive.name!r} requires {in_quotes(lacking)}, which {self.info.name!r} does not have"
            )
        return archive
