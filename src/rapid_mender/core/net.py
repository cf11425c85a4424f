"""Net changes: what remains of several changes to each key."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from .compare import unlike
from .existing import Existing
from .slots import Slots


@dataclass(frozen=True)
class Net:
    """What several changes come to, as the slots of each action. A row's old values are those that its first change
    took, its new values those that the last one put."""

    inserts: Slots
    updates: Slots
    deletes: Slots
    passing: Slots
    """Those into which a row came, and went again; the last change has it as its old row."""
    changed: dict[str, np.ndarray]
    """For each column a mask of the updates in which it differs in the end."""

    def __len__(self) -> int:
        return len(self.inserts) + len(self.updates) + len(self.deletes)


def net_of(slots: Slots, old: Existing, new: Existing, columns: Sequence[str] | None, same: bool = False) -> Net:
    """The net changes of those whose slots, old rows and new rows these are.

    An insert and its delete vanish; a delete and then an insert are an update; what is as it was at first vanishes; a
    row whose key changed is a delete and an insert. Without `columns`, and with `same`, what is as it was at first is
    an update too.
    """
    before, after = slots.had, slots.has
    both = slots.take(np.flatnonzero(before & after))
    inserts, deletes = slots.take(np.flatnonzero(~before & after)), slots.take(np.flatnonzero(before & ~after))
    passing = slots.take(np.flatnonzero(~before & ~after))
    if columns is None:
        return Net(inserts, both, deletes, passing, {})
    was, now = old.take(both.before), new.take(both.after)
    changed = {name: unlike(was, now, name) for name in columns}
    differing = np.flatnonzero(np.any(list(changed.values()), axis=0)) if changed else np.arange(0)
    differing = np.arange(len(both)) if same else differing
    differ = {name: mask[differing] for name, mask in changed.items()}
    return Net(inserts, both.take(differing), deletes, passing, differ)
