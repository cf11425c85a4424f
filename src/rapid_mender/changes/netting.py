"""Several changes of a table as what they come to."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pyarrow as pa

from ..core.compare import Patterns
from ..core.existing import Existing
from ..core.keys import one_array
from ..core.net import Net, net_of
from ..core.row_numbers import as_indices
from ..errors import StoreError
from .form import spell_changed
from .past import NUMBER, Past, together


@dataclass(frozen=True)
class Netted:
    """Changes, the rows before and after each, and what they come to."""

    past: Past
    changes: Existing
    old: Existing
    new: Existing
    net: Net

    def taken(self, places: np.ndarray) -> Existing:
        """The old rows of some changes, all columns of them."""
        columns = self.new.values.column_names
        if self.old.values.column_names == columns:
            return self.old.take(places)
        numbers = self.changes.values.select([NUMBER]).take(pa.array(places))
        found = self.past.session.fetch(self.past.kept, numbers)
        if len(found.positions) != len(places):
            raise StoreError(f"changes of {self.past.info.name!r} vanished while they were read; run again")
        return self.past.rows(found.take(np.argsort(found.positions)), "old", columns)


def netted(
    past: Past, pages: list[Existing], columns: list[str], apart: list[str] | None = None, same: bool = False
) -> Netted:
    """The net changes of some columns, the key among them. With `apart` only these columns of the old rows were read,
    the key among them: then nobody knows which rows are as they were at first. `same`: rows that are count too."""
    changes = together(pages or [past.nothing()])
    old, new = past.rows(changes, "old", columns if apart is None else apart), past.rows(changes, "new", columns)
    net = net_of(past.slots(changes), old, new, columns if apart is None else None, same)
    return Netted(past, changes, old, new, net)


def as_changes(past: Past, netted: Netted) -> pa.Table:
    """Net changes in the form of a history, in the order of the last change of each: action, changed and values are of
    the whole, the number and all that goes with it of that last one."""
    net, kept = netted.net, netted.changes
    parts = ((net.inserts, "insert"), (net.updates, "update"), (net.deletes, "delete"))
    last = np.concatenate([slots.last for slots, _ in parts])
    before, after = (np.concatenate([getattr(slots, side) for slots, _ in parts]) for side in ("before", "after"))
    order = np.argsort(last, kind="stable")
    actions = pa.concat_arrays([pa.repeat(word, len(slots)) for slots, word in parts])
    patterns = Patterns(net.changed, len(net.updates)).texts(spell_changed)
    none = [pa.nulls(len(slots), pa.string()) for slots, _ in parts]
    changed = pa.concat_arrays([none[0], patterns, none[2]])
    rows = kept.values.take(pa.array(last))
    for name, values in (("action", actions), ("changed", changed)):
        rows = rows.set_column(rows.column_names.index(name), name, values)
    for side, places in (("old", before), ("new", after)):
        index = as_indices(places)
        for name in netted.old.values.column_names:
            stored = past.names[f"{side}_{name}"]
            values = one_array(kept.values[stored]).take(index)
            rows = rows.set_column(rows.column_names.index(stored), stored, values)
    return rows.take(pa.array(order))
