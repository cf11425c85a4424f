"""The form of changes: rows with their old and new values.

A table of changes has the columns `action` (insert, update, delete), `changed` (a JSON array of column
names, on updates), and `old_X` and `new_X` for every column X. Its order is the order of the changes.
"""

from __future__ import annotations

import json
from collections.abc import Sequence

import pyarrow as pa

from ..core.keys import one_array
from ..core.schema import TableInfo


def build(
    info: TableInfo,
    action: str,
    old: pa.Table | None,
    new: pa.Table | None,
    changed: pa.Array | None = None,
    reason: pa.Array | None = None,
) -> pa.Table:
    """The changes of one action. `old` and `new` have all columns of the table; one is None where there is none."""
    count = (old if old is not None else new).num_rows  # type: ignore[union-attr]
    none = pa.nulls(count, pa.string())
    names = ["action", "changed", "reason"]
    arrays = [pa.repeat(action, count), none if changed is None else changed, none if reason is None else reason]
    for column in info.columns:
        for prefix, side in (("old", old), ("new", new)):
            names.append(f"{prefix}_{column.name}")
            arrays.append(pa.nulls(count, column.type) if side is None else one_array(side[column.name]))
    return pa.table(arrays, names=names)


def spell_changed(columns: Sequence[str]) -> str:
    """The JSON array that the history holds of the names of changed columns."""
    return json.dumps(list(columns), ensure_ascii=False)
