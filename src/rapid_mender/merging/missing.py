"""Existing rows that did not come with a batch that is a full copy."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

import numpy as np
import pyarrow as pa

from ..core.existing import Existing
from ..core.expressions import Cells, Env
from ..core.keys import null_keys, one_array
from ..core.masks import mask_of
from ..jobs.plan import Plan
from ..stores.contract import Session
from .batch import Batch
from .marks import is_marked

_AT_ONCE = 1 << 16


def in_scope(session: Session, plan: Plan, now: datetime) -> int:
    """How many rows are within the job's scope."""
    if plan.scope is None:
        return session.count(plan.info)
    uses = list(dict.fromkeys(name for _, name in plan.scope.uses)) or plan.key
    pages = session.scan(plan.info, uses)
    return sum(int(mask_of(_scope(plan, page, now).values).sum()) for page in pages)


def _scope(plan: Plan, page: Existing, now: datetime) -> Cells:
    assert plan.scope is not None
    values = {name: one_array(page.values[name[1]]) for name in plan.scope.uses}
    return plan.scope.evaluate(Env(page.locators.num_rows, values, now))


class Leaving:
    """The rows within the job's scope whose keys did not come. Finding them writes nothing."""

    def __init__(self, session: Session, plan: Plan, batch: Batch, now: datetime) -> None:
        self.session, self.plan = session, plan
        self.count = 0
        self._pages: list[Existing] = []
        came = batch.came(session)
        uses = [name for _, name in plan.scope.uses] if plan.scope is not None else []
        marks = [*plan.fixed_marks.values(), *([plan.marked] if plan.marked is not None else [])]
        uses += [*plan.fixed_marks, *(name for one in marks for _, name in one.uses)]
        columns = list(dict.fromkeys([*plan.key, *uses]))
        failed = 0
        for page in session.scan(plan.info, columns, key=plan.key):
            keys = page.values.select(plan.key)
            gone = ~came(keys) & ~null_keys(keys)
            if plan.scope is not None:
                cells = _scope(plan, page, now)
                failed += int((cells.failed & gone).sum()) if cells.failed is not None else 0
                gone &= mask_of(cells.values)
            if plan.job.delete == "mark" and gone.any():
                gone &= ~is_marked(plan, page, now)
            if gone.any():
                rows = page.take(np.flatnonzero(gone))
                self.count += len(rows.positions)
                self._pages.append(Existing(rows.positions, pa.table({}), rows.locators))
        if failed:
            plan.warn(f"scope could not be computed for {failed:,} rows that did not come; they were kept")

    def __iter__(self) -> Iterator[Existing]:
        """The rows with all their values, some at a time; the last first, so that deleting moves none of the others."""
        for page in reversed(self._pages):
            for start in reversed(range(0, len(page.positions), _AT_ONCE)):
                some = page.locators.slice(start, _AT_ONCE)
                yield self.session.again(self.plan.info, Existing(np.arange(some.num_rows), pa.table({}), some))
