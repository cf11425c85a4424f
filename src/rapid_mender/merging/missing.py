"""Existing rows that did not come with a batch that is a full copy."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import datetime

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.decisions import DELETE, SKIP
from ..core.existing import Existing
from ..core.expressions import Cells, Env
from ..core.keys import null_keys, one_array
from ..core.masks import mask_of
from ..jobs.plan import Plan
from ..stores.contract import Session
from .batch import Batch
from .chunk import Unit
from .groups import Groups
from .marks import is_marked

_AT_ONCE = 1 << 16


def in_scope(session: Session, plan: Plan, now: datetime) -> int:
    """How many rows are within the job's scope; of versions, those that are in force."""
    if plan.scope is None:
        return session.count(plan.info, [] if plan.spans is None else [[plan.spans.in_force]])
    uses = list(dict.fromkeys([*(name for _, name in plan.scope.uses), *_ends(plan)])) or plan.key
    pages = session.scan(plan.info, uses)
    return sum(int((mask_of(_scope(plan, page, now).values) & _in_force(plan, page)).sum()) for page in pages)


def _ends(plan: Plan) -> list[str]:
    return [] if plan.spans is None else [plan.spans.end]


def _in_force(plan: Plan, rows: Existing) -> np.ndarray:
    """A mask of the rows that are no closed versions."""
    if plan.spans is None:
        return np.ones(len(rows.positions), bool)
    ends = one_array(rows.values[plan.spans.end])
    return mask_of(
        pc.is_null(ends) if plan.spans.open is None else pc.equal(ends, pa.scalar(plan.spans.open, ends.type))
    )


def _scope(plan: Plan, page: Existing, now: datetime) -> Cells:
    assert plan.scope is not None
    values = {name: one_array(page.values[name[1]]) for name in plan.scope.uses}
    return plan.scope.evaluate(Env(page.locators.num_rows, values, now))


def delete_missing(
    unit: Unit, plan: Plan, batch: Batch, groups: Groups | None, now: datetime, check: Callable[[int], None]
) -> None:
    """Delete the rows of the table that did not come. A batch without a record is no copy of anything.

    `check` raises if so many may not be deleted.
    """
    tally = unit.gather.tally
    if not batch.rows:
        tally.warn("the batch has no records that can be read, so it is no full copy: no row was deleted")
        return
    if batch.keyless:
        tally.warn(
            f"{batch.keyless:,} records have no key that can be read, so no row can be said to be missing: none was "
            "deleted"
        )
        return
    missing = Missing(unit.session, plan, batch, now)
    if missing.failed:
        tally.warn(f"scope could not be computed for {missing.failed:,} rows that did not come; they were kept")
    if "delete" not in plan.job.allow:
        if missing.count:
            tally.warn(f"{missing.count:,} rows did not come; they were kept, since the job does not allow a delete")
        return
    check(missing.count)
    for rows in missing:
        refused = unit.writer.delete_missing(rows)
        if groups is not None:
            codes = np.full(rows.values.num_rows, DELETE)
            codes[list(refused)] = SKIP
            groups.count(tally.groups, groups.of_records(rows.values), codes)
        unit.gather.note_missing(rows, refused)


class Missing:
    """The rows within the job's scope whose keys did not come. Finding them writes nothing."""

    def __init__(self, session: Session, plan: Plan, batch: Batch, now: datetime) -> None:
        self.session, self.plan = session, plan
        self.count = 0
        self._pages: list[Existing] = []
        uses = [name for _, name in plan.scope.uses] if plan.scope is not None else []
        marks = [*plan.fixed_marks.values(), *([plan.marked] if plan.marked is not None else [])]
        uses += [*plan.fixed_marks, *(name for one in marks for _, name in one.uses)]
        columns = list(dict.fromkeys([*plan.identity, *uses, *_ends(plan)]))
        self.failed = 0
        """For how many rows the scope could not be computed; these are left out."""
        for page in session.scan(plan.info, columns, key=plan.identity):
            keys = page.values.select(plan.key)
            gone = ~batch.has(session, plan.info, keys) & ~null_keys(keys) & _in_force(plan, page)
            if plan.scope is not None:
                cells = _scope(plan, page, now)
                self.failed += int((cells.failed & gone).sum()) if cells.failed is not None else 0
                gone &= mask_of(cells.values)
            if plan.job.delete == "mark" and gone.any():
                gone &= ~is_marked(plan, page, now)
            if gone.any():
                rows = page.take(np.flatnonzero(gone))
                self.count += len(rows.positions)
                self._pages.append(Existing(rows.positions, pa.table({}), rows.locators))

    def __iter__(self) -> Iterator[Existing]:
        """The rows with all their values, some at a time, the last ones first: so deleting them moves none that is
        still to come."""
        for page in reversed(self._pages):
            for start in reversed(range(0, len(page.positions), _AT_ONCE)):
                some = page.locators.slice(start, _AT_ONCE)
                yield self.session.again(self.plan.info, Existing(np.arange(some.num_rows), pa.table({}), some))
