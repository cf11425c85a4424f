"""A job bound to its table and its batch: every name resolved, every expression checked, before a row is read.

What is wrong is collected, not raised at once, so that all of it can be told together.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import UTC, datetime
from typing import Any

import pyarrow as pa

from ..core.cast import cast, plain, wanted
from ..core.compare import Likeness, takes_tolerance
from ..core.decisions import NAMES
from ..core.expressions import Env, Expression, ExpressionError, Scope, compile_expression
from ..core.names import in_quotes
from ..core.schema import Column, TableInfo
from ..errors import JobError
from ..stores.contract import Session, nearest
from .job import ColumnOptions, Job, RejectsTable
from .layouts import Layouts, always

_PLAIN = ColumnOptions()


class Plan:
    """A job bound to its table. `problems` say what is wrong, `warnings` what may surprise."""

    def __init__(self, job: Job, info: TableInfo, ragged: bool) -> None:
        """`ragged`: a record of the batch may lack columns that others have."""
        self.job, self.info, self.ragged = job, info, ragged
        self.problems: list[str] = []
        self.warnings: list[str] = []
        self.key = self._key()
        self.order = self.one("order", job.order)
        self.columns = self._columns()
        self.update_only = self._update_only()
        self.likeness: dict[str, Likeness] = {n: o.likeness for n, o in self.columns.items() if o.likeness.names()}
        rows = Scope({"existing": self._types()}, bare="existing")
        self.mark = self._set("mark", job.mark, rows)
        self.unmark = self._set("unmark", job.unmark, rows)
        self.marked = self.expression("marked", job.marked, rows)
        self.fixed_marks = self._fixed_marks() if job.mark else {}
        self.scope = self.expression("scope", job.scope, rows)
        self.archive: TableInfo | None = None
        self.allowed = tuple(NAMES.index(name) for name in job.allow)
        self.layouts = Layouts(self)
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
            raise JobError(f"{len(self.problems)} things are wrong with the job:\n{listed}", self.problems)

    # -- the job against the table --------------------------------------------------------------------

    def _types(self) -> dict[str, pa.DataType]:
        return {column.name: column.type for column in self.info.columns}

    def one(self, what: str, name: str | None) -> str | None:
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
        key = [name for name in (self.one("key", name) for name in self.job.key) if name is not None]
        if len(set(key)) < len(key):
            self.wrong(f"key: a column is named twice in {self.job.key}")
        return key

    def _columns(self) -> dict[str, ColumnOptions]:
        found: dict[str, ColumnOptions] = {}
        for given, options in self.job.columns.items():
            place = f"[columns.{given}]"
            name = self.one(place, given)
            if name is None:
                continue
            column = self.info[name]
            if name in self.key:
                self.wrong(f"{place}: a key column is compared and written by the rules of keys; it takes no options")
            if options.tolerance is not None and not takes_tolerance(column.type):
                self.wrong(f"{place}: tolerance is for numbers, dates and times, and {name} is {wanted(column)}")
            if (options.ignore_case or options.trim) and not pa.types.is_string(column.type):
                self.wrong(f"{place}: ignore_case and trim are for texts, and {name} is {wanted(column)}")
            if options.null == "default" and not column.has_default:
                self.wrong(f'{place} null = "default": the database has no default for {name}')
            other = self.one(f"{place} previous", options.previous)
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

    def _update_only(self) -> list[str]:
        found = [name for name in (self.one("update_only", one) for one in self.job.update_only) if name is not None]
        for name in found:
            if name in self.key:
                self.wrong(f"update_only: {name} is of the key, which an update leaves as it is")
            elif self._option(name).write != "always":
                self.wrong(f'update_only: {name} has write = "{self._option(name).write}"; leave one of the two out')
        if found and self.order is not None and self.order not in found:
            self.warn(f"update_only leaves {self.order} as it is, by which the job tells what is older; name it too")
        return found

    def _set(self, option: str, given: Mapping[str, Any], scope: Scope) -> dict[str, Expression]:
        """What an option sets columns to, by expressions over the existing row; a text is one."""
        found = {}
        for one, value in given.items():
            name = self.one(option, one)
            if name is None:
                continue
            if name in self.key or self.info[name].generated:
                self.wrong(f"{option}: {name} cannot be set")
            if isinstance(value, str):
                done = self._setting(f"{option}: {name}", value, scope, self.info[name])
            else:
                constant = self.constant(f"{option}: {name}", self.info[name], value)
                done = None if constant is None else always(value, constant)
            if done is not None:
                found[name] = done
        return found

    def _setting(self, place: str, text: str, scope: Scope, column: Column) -> Expression | None:
        """What a text sets a column to: it is an expression, and a word alone was most likely meant as a text."""
        done = self.expression(place, text, scope, None)
        if done is None and text.replace(" ", "").isalnum():
            self.problems[-1] += f"\n    (an expression; for the text itself write \"'{text}'\")"
        if done is not None and not done.uses:
            cells = done.evaluate(Env(1, {}, datetime.now(UTC)))
            bad = cast(cells.values, column)[1]
            if cells.failed is not None or (bad is not None and bad.any()):
                self.wrong(f"{place} = {text} is not {wanted(column)}")
                return None
        return done

    def _fixed_marks(self) -> dict[str, Expression]:
        """What a mark sets to the same value in every row, at any time: by this a marked row is told."""
        from sqlglot import exp

        clock = (exp.CurrentDate, exp.CurrentTimestamp)
        fixed = {
            name: one for name, one in self.mark.items()
            if not one.uses and (one.tree is None or one.tree.find(*clock) is None)
        }  # fmt: skip
        if self.mark and not fixed and self.marked is None:
            self.wrong(
                "mark: nothing that it sets tells a marked row from another; say which rows are marked "
                f'(marked = "{next(iter(self.mark))} IS NOT NULL")'
            )
        return fixed

    def constant(self, place: str, column: Column, value: Any) -> pa.Scalar | None:
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

    def expression(self, place: str, text: str | None, scope: Scope, want: str | None = "boolean") -> Expression | None:
        if text is None:
            return None
        try:
            return compile_expression(text, scope, want)
        except ExpressionError as error:
            self.wrong(f"{place}: {error}")
            return None

    # -- what follows from the options ------------------------------------------------------------------

    def lacking(self, sent: Iterable[str]) -> list[str]:
        """The required columns that an insert would not have."""
        there = {name for name in sent if self.writes(name) != "never"}
        return [c.name for c in self.info.columns if c.required and c.name not in there]

    def writes(self, name: str) -> str:
        """When a column is written: "always", or on "insert", or "never"."""
        if self.update_only and name not in self.update_only and self._option(name).write != "never":
            return "insert"
        return self._option(name).write

    def _option(self, name: str) -> ColumnOptions:
        return self.columns.get(name, _PLAIN)

    def defaults(self) -> list[str]:
        """The columns for which the database puts its default where a record to insert has null."""
        return [name for name, options in self.columns.items() if options.null == "default"]

    @property
    def made(self) -> list[str]:
        """The columns of the primary key that the database makes, where records are merged by others."""
        return [name for name in self.info.primary_key if name not in self.key and self.info[name].has_default]

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
        return self.writes(name) == "always" and self._option(name).null == "overwrite"
