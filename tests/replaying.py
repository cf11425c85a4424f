"""What the laws of a history say: changes inverted, made net, and replayed, in a way of their own."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from rapid_mender.core.keys import fold_table, match, one_array
from rapid_mender.core.schema import Column


def invert(changes: pa.Table) -> pa.Table:
    """The changes that undo `changes`: last first, old and new exchanged."""
    back = changes.take(pa.array(np.arange(changes.num_rows)[::-1]))
    swapped = {"insert": "delete", "delete": "insert", "update": "update"}
    arrays = []
    for name in back.column_names:
        if name == "action":
            actions = one_array(back["action"]).dictionary_encode()
            arrays.append(pa.array([swapped[a] for a in actions.dictionary.to_pylist()]).take(actions.indices))
        elif name.startswith(("old_", "new_")):
            arrays.append(back[("new_" if name.startswith("old_") else "old_") + name[4:]])
        else:
            arrays.append(back[name])
    return pa.table(arrays, names=back.column_names)


def net(changes: pa.Table, key: Sequence[Column]) -> tuple[pa.Table, pa.Table]:
    """What remains of several changes to each key: the rows to take away, and the rows to put in their place.

    Both are tables with the old, or new, values of every column. A key's rows are linked by the key's values,
    folded as the database holds them equal.
    """
    inserted = pc.equal(changes["action"], "insert")
    names = [column.name for column in key]
    keys = pa.table([pc.if_else(inserted, changes[f"new_{name}"], changes[f"old_{name}"]) for name in names], names=names)
    names = [f"k{i}" for i in range(len(key))]  # a name with a dot would be taken for a path
    grouped = pa.table(fold_table(keys, list(key)), names=names).append_column("at", pa.array(np.arange(len(keys))))
    ends = grouped.group_by(names, use_threads=False).aggregate([("at", "min"), ("at", "max")])
    first, last = (changes.take(ends[f"at_{end}"]) for end in ("min", "max"))
    gone = first.filter(pc.not_equal(first["action"], "insert"))
    come = last.filter(pc.not_equal(last["action"], "delete"))
    columns = [name[4:] for name in changes.column_names if name.startswith("new_")]
    return (gone.select([f"old_{c}" for c in columns]).rename_columns(columns), come.select([f"new_{c}" for c in columns]).rename_columns(columns))


def replay(table: pa.Table, changes: pa.Table, key: Sequence[Column]) -> pa.Table:
    """`table` after `changes`. The order of its rows is not kept.

    Raises ValueError if a changed or deleted row is not in the table, or an inserted one is: then the
    changes are not changes of this table.
    """
    gone, come = net(changes, key)
    _, rows = match(fold_table(gone, list(key)), fold_table(table, list(key)))
    if len(rows) != gone.num_rows:
        raise ValueError(f"{gone.num_rows} rows were changed or deleted, and the table has {len(rows)} of them")
    keep = np.ones(table.num_rows, bool)
    keep[rows] = False
    rest = table.filter(pa.array(keep))
    _, twice = match(fold_table(come, list(key)), fold_table(rest, list(key)))
    if len(twice):
        raise ValueError(f"{len(twice)} of the inserted rows are in the table already")
    return pa.concat_tables([rest, come.select(table.column_names).cast(table.schema)])
