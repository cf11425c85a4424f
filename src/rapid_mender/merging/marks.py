"""Rows that are marked instead of deleted: which are, what marking sets in them, and what brings one back."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime

import numpy as np
import pyarrow as pa

from ..core.cast import cast
from ..core.compare import Patterns, differs
from ..core.existing import Existing
from ..core.expressions import Cells, Env, Expression
from ..core.keys import one_array
from ..core.masks import mask_of
from ..errors import JobError
from ..jobs.plan import Plan
from .rows import Setting


def is_marked(plan: Plan, rows: Existing, now: datetime) -> np.ndarray:
    """A mask of the rows that are marked: by the job's own condition, or by all that a mark sets to one fixed value."""
    if plan.marked is not None:
        return mask_of(_evaluate(plan.marked, rows, now).values)
    mask = np.ones(len(rows.positions), bool)
    for name, value in _values(plan, "mark", plan.fixed_marks, rows, now).items():
        mask &= ~_differs(rows, name, value)
    return mask


def marking(plan: Plan, rows: Existing, now: datetime) -> Setting:
    """What a mark sets in rows."""
    setting = _values(plan, "mark", plan.mark, rows, now)
    changed = {name: _differs(rows, name, value) for name, value in setting.items()}
    for name, other in plan.previous.items():
        if name in changed and other not in changed:
            old = setting[other] = one_array(rows.values[name])
            changed[other] = changed[name] & differs(one_array(rows.values[other]), old)
    return Setting(pa.table(setting), changed, Patterns(changed, len(rows.positions)))


def unmarking(plan: Plan, rows: Existing, now: datetime) -> dict[str, tuple[pa.Array, np.ndarray]]:
    """What a record of a marked row sets to bring it back: by column the values, and in which rows they differ."""
    if not plan.unmark or not len(rows.positions):
        return {}
    marked = is_marked(plan, rows, now)
    values = _values(plan, "unmark", plan.unmark, rows, now) if marked.any() else {}
    return {name: (value, marked & _differs(rows, name, value)) for name, value in values.items()}


def _values(
    plan: Plan, option: str, settings: Mapping[str, Expression], rows: Existing, now: datetime
) -> dict[str, pa.Array]:
    arrays = {}
    for name, expression in settings.items():
        cells = _evaluate(expression, rows, now)
        arrays[name], bad = cast(cells.values, plan.info[name])
        wrong = int(sum(mask.sum() for mask in (bad, cells.failed) if mask is not None))
        if wrong:
            raise JobError(
                f"{option}: {name} = {expression.text} gives no value for {name} in {wrong:,} rows; nothing was written"
            )
    return arrays


def _evaluate(expression: Expression, rows: Existing, now: datetime) -> Cells:
    values = {("existing", name): one_array(rows.values[name]) for _, name in expression.uses}
    return expression.evaluate(Env(len(rows.positions), values, now))


def _differs(rows: Existing, name: str, value: pa.Array) -> np.ndarray:
    mask = differs(one_array(rows.values[name]), value)
    return mask | rows.verbatim[name].unreadable if name in rows.verbatim else mask
