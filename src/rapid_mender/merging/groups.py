"""Counting decisions and rows by group, as people do before and after a merge to see that it worked."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from datetime import datetime

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.decisions import DELETE, INSERT, NAMES, REJECT, UPDATE
from ..core.existing import Existing
from ..core.expressions import Env, Expression, ExpressionError, Scope, compile_expression
from ..core.keys import one_array
from ..core.row_numbers import is_row
from ..core.schema import TableInfo
from ..errors import JobError
from ..jobs.plan import Plan
from ..stores.contract import Session
from .decide import DecidedSlice
from .marks import marking
from .tally import GroupCounts


class Groups:
    """Counts by a column, or by an expression over the columns of a row."""

    def __init__(self, plan: Plan, by: str, now: datetime) -> None:
        """Raises JobError if `by` is not an expression over the table's columns."""
        self.by, self.now, self.plan = by, now, plan
        self._expression = self._compile(by, plan.info)
        self.uses = list(dict.fromkeys(name for _, name in self._expression.uses))
        self._before: Counter[object] = Counter()
        self._after: Counter[object] | None = None

    @staticmethod
    def _compile(by: str, info: TableInfo) -> Expression:
        column = info.named(by)
        text = f'"{column.name.replace(chr(34), chr(34) * 2)}"' if column is not None else by
        scope = Scope({"row": {c.name: c.type for c in info.columns}}, bare="row", what={"row": f"table {info.name!r}"})
        try:
            return compile_expression(text, scope)
        except ExpressionError as error:
            raise JobError(f"by: {error}") from None

    def of(self, columns: Mapping[str, pa.Array], rows: int) -> pa.Array:
        """The group of each row, from its columns; one that is lacking is null."""
        values = {
            ("row", name): columns[name] if name in columns else pa.nulls(rows, self.plan.info[name].type)
            for name in self.uses
        }
        return one_array(self._expression.evaluate(Env(rows, values, self.now)).values)

    def of_records(self, values: pa.Table) -> pa.Array:
        return self.of({n: one_array(values[n]) for n in self.uses if n in values.column_names}, values.num_rows)

    def of_decided(self, decided: DecidedSlice) -> pa.Array:
        """The group of each record: by its own values, and those of its row for columns that were not sent."""
        columns = {}
        for name in self.uses:
            side = "incoming" if name in decided.values.column_names else "existing"
            columns[name] = decided.inputs[side, name]
        return self.of(columns, decided.values.num_rows)

    def count(self, into: GroupCounts, groups: pa.Array, codes: np.ndarray) -> None:
        """Count the decisions (places in NAMES) on records of these groups."""
        pairs = pa.table({"g": groups, "c": pa.array(codes)}).group_by(["g", "c"]).aggregate([([], "count_all")])
        for group, code, number in zip(*(pairs[n].to_pylist() for n in ("g", "c", "count_all")), strict=True):
            into.decisions.setdefault(group, np.zeros(len(NAMES), np.int64))[code] += number

    def count_broken(self, into: GroupCounts, count: int) -> None:
        """Count records that could not be split into values: they have no group."""
        self.count(into, pa.nulls(count, self._expression.type), np.full(count, REJECT))

    # -- rows of the table ------------------------------------------------------------------------------

    def look_before(self, session: Session) -> None:
        self._before = self._rows(session, fresh=False)

    def look_after(self, session: Session) -> None:
        self._after = self._rows(session, fresh=True)

    def _rows(self, session: Session, fresh: bool) -> Counter[object]:
        counted: Counter[object] = Counter()
        for page in session.scan(self.plan.info, self.uses, fresh):
            _add(
                counted, self.of({name: one_array(page.values[name]) for name in self.uses}, page.locators.num_rows), 1
            )
        return counted

    def foresee(self, into: GroupCounts, decided: DecidedSlice) -> None:
        """Move the rows that a merge would insert, update and delete to the groups in which they would be."""
        codes, matched_row = decided.decisions.codes, decided.matched_row
        inserted = np.flatnonzero(codes == INSERT)
        if len(inserted):
            names = [n for n in decided.values.column_names if self.plan.columns[n].writes != "never"]
            _add(into.gained, self.of_records(decided.values.select(names).take(pa.array(inserted))), 1)
        updated = matched_row[(codes == UPDATE) & is_row(matched_row)]
        if len(updated):
            old = decided.existing.take(updated)
            new = {}
            for name in self.uses:
                new[name] = one_array(old.values[name])
                if name in decided.changed:
                    value = one_array(decided.setting[name]).take(pa.array(updated))
                    new[name] = pc.if_else(pa.array(decided.changed[name][updated]), value, new[name])
            _add(into.gained, self.of_records(old.values), -1)
            _add(into.gained, self.of(new, len(updated)), 1)
        self.foresee_deleted(into, decided.existing.take(matched_row[(codes == DELETE) & is_row(matched_row)]))

    def foresee_deleted(self, into: GroupCounts, rows: Existing) -> None:
        count = rows.values.num_rows
        if not count:
            return
        _add(into.gained, self.of_records(rows.values), -1)
        if self.plan.job.delete == "mark":
            setting = marking(self.plan, rows, self.now).values
            side = {name: setting if name in setting.column_names else rows.values for name in self.uses}
            columns = {name: one_array(values[name]) for name, values in side.items()}
            _add(into.gained, self.of(columns, count), 1)

    def table(self, counts: GroupCounts) -> pa.Table:
        """One row a group: the group, the count of each decision, the rows of the table before and after."""
        after = Counter(self._before) if self._after is None else self._after
        if self._after is None:
            after.update(counts.gained)
        known = {**counts.decisions, **self._before, **after}
        every = [group for group in known if group is not None]
        groups: list[object] = sorted(every)  # type: ignore[type-var]
        if None in known:
            groups.append(None)
        columns: dict[str, object] = {"group": pa.array(groups, self._expression.type)}
        none = np.zeros(len(NAMES), np.int64)
        for place, name in enumerate(NAMES):
            columns[name] = [int(counts.decisions.get(g, none)[place]) for g in groups]
        columns["before"] = [self._before[g] for g in groups]
        columns["after"] = [after[g] for g in groups]
        return pa.table(columns)


def _add(to: Counter[object], groups: pa.Array, sign: int) -> None:
    for one in pc.value_counts(groups).to_pylist():
        to[one["values"]] += sign * one["counts"]
