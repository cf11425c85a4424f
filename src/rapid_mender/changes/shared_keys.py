"""Keys that several rows share, in a table where nothing forbids it.

Such rows are told apart by all that they hold, and alike ones by nothing: what changes do to a key is how many copies
of each row they put there and took away.
"""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.existing import Existing, concatenated
from ..core.keys import null_keys, one_array
from ..core.masks import mask_of
from ..core.repeats import among
from ..core.row_numbers import is_row, no_rows
from ..core.slots import Slots
from ..stores.contract import Condition, Selection
from .past import Past


@dataclass(frozen=True)
class SharedKeys:
    """What changes did to keys that several rows share, now or in between.

    `old` are the old rows of all changes that were looked at, in the columns `names`.
    """

    past: Past
    old: Existing
    names: Sequence[str]
    changed: np.ndarray
    """A mask of the changes that are about such a key."""
    keys: np.ndarray
    """Hashes of these keys, ascending, with `seed`."""
    seed: int
    there: Existing
    """The rows that have one of these keys now."""
    row: np.ndarray
    """Different rows that such changes put or took: for each the place of a change that has it, as its new row if more
    copies of it were put than taken, else as its old row."""
    copies: np.ndarray
    """How many copies of each row the changes put, more than they took away."""
    hashes: np.ndarray
    """A hash of each row."""

    def keys_of(self, rows: pa.Table) -> np.ndarray:
        """Hashes of the keys of rows, as in `keys`."""
        return self.past.hash_keys(rows, self.seed)

    def slots(self) -> tuple[Slots, np.ndarray]:
        """A slot for each copy that the changes put or took, as one that holds no other row; and where in `there` the
        copy is that they put, NO_ROW if it is not there any more."""
        which = np.repeat(np.arange(len(self.row)), np.abs(self.copies))
        came = self.copies[which] > 0
        change = self.row[which]
        none = no_rows(len(which))
        have = self.there.hashes(self.names, self.seed)
        order = np.argsort(have, kind="stable")
        first, end = (np.searchsorted(have[order], self.hashes, side=side) for side in ("left", "right"))
        total = np.cumsum(np.abs(self.copies))
        at = first[which] + np.arange(len(which)) - (total - np.abs(self.copies))[which]
        there = came & (at < end[which])
        row = none.copy()
        row[there] = order[at[there]]
        return Slots(np.where(came, none, change), np.where(came, change, none), change), row

    def before(self) -> pa.Table:
        """The rows that had one of these keys before the changes."""
        slots, row = self.slots()
        stay = np.delete(np.arange(len(self.there.positions)), row[is_row(row)])
        names = list(self.names)
        back = self.old.values.take(pa.array(slots.before[slots.had]))
        return pa.concat_tables([self.there.values.select(names).take(pa.array(stay)), back.select(names)])


def shared_keys(
    past: Past, changes: Existing, old: Existing, new: Existing, since: Existing | None = None
) -> SharedKeys | None:
    """What changes, in their order, did to keys that several rows share; None if there is none among those that they
    touch. `old` and `new` are the rows of the changes, in the same columns. `since`: all changes since the first of
    them, with these columns, if others are among these."""
    if past.info.identifying or not len(changes.positions):
        return None
    seed, count = secrets.randbits(64), len(changes.positions)
    names = old.values.column_names
    takes, puts = _sides(changes)
    was, now = (past.hash_keys(rows.values, seed) for rows in (old, new))
    every = [past.rows(since, side, names) for side in ("old", "new")] if since is not None else [old, new]
    keyed = [past.hash_keys(rows.values, seed) for rows in every]
    sides = _sides(since if since is not None else changes)
    shared, empty = _broken(sides, keyed, [rows.hashes(names, seed) for rows in every])
    touched = np.concatenate([np.flatnonzero(puts), np.flatnonzero(takes) + count])
    both = pa.concat_tables([new.values.select(past.key), old.values.select(past.key)])
    hashed, first = np.unique(np.concatenate([now, was])[touched], return_index=True)
    keys = both.take(pa.array(touched[first]))
    others = [column.name for column in past.info.columns if column.name not in past.key]
    there = past.session.fetch(past.info, keys, fresh=True, by=others)
    stand = np.bincount(there.positions, minlength=len(hashed))
    without = null_keys(keys)  # of these any number may stand there, which are found by no value
    several = hashed[(stand > 1) | ((stand == 1) & among(hashed, empty)) | without]
    shared = np.union1d(shared[among(shared, hashed)], several)
    while True:  # a change that brings a row from one key to another is about both
        changed = (takes & among(was, shared)) | (puts & among(now, shared))
        wider = np.union1d(np.union1d(shared, was[changed & takes]), now[changed & puts])
        if len(wider) == len(shared):
            break
        shared = wider
    if not len(shared):
        return None
    if without.any():
        nulls = past.session.read(past.info, Selection([[Condition(name, "=", None) for name in past.key]]))
        located = nulls.locators.select(there.locators.column_names)
        there = concatenated([there, replace(nulls, locators=located)])
    there = there.take(np.flatnonzero(among(past.hash_keys(there.values, seed), shared)))
    came, went = np.flatnonzero(changed & puts), np.flatnonzero(changed & takes)
    image = np.concatenate([new.hashes(names, seed)[came], old.hashes(names, seed)[went]])
    hashes, which = np.unique(image, return_inverse=True)
    change, sign = np.concatenate([came, went]), np.repeat([1, -1], [len(came), len(went)])
    copies = np.zeros(len(hashes), np.int64)
    np.add.at(copies, which, sign)
    row = np.zeros(len(hashes), np.int64)
    fitting = sign == np.sign(copies)[which]
    row[which[fitting]] = change[fitting]
    return SharedKeys(past, old, names, changed, shared, seed, there, row, copies, hashes)


def _sides(changes: Existing) -> tuple[np.ndarray, np.ndarray]:
    """Masks of the changes that take a row away, and of those that put one."""
    actions = one_array(changes.values["action"])
    return mask_of(pc.not_equal(actions, "insert")), mask_of(pc.not_equal(actions, "delete"))


def _broken(
    sides: Sequence[np.ndarray], keys: Sequence[np.ndarray], rows: Sequence[np.ndarray]
) -> tuple[np.ndarray, np.ndarray]:
    """Hashes of the keys to which a row came where one stood already, or from which another went than that which stood
    there; and of those from which the last change took one. Each of the arguments is of the rows that changes took, and
    of those that they put."""
    places = [np.flatnonzero(side) for side in sides]
    key, row = (np.concatenate([one[at] for one, at in zip(each, places, strict=True)]) for each in (keys, rows))
    event = np.concatenate([places[0] * 2, places[1] * 2 + 1])
    order = np.lexsort((event, key))
    key, event, row = key[order], event[order], row[order]
    alike, takes = event[1:] % 2 == event[:-1] % 2, event[1:] % 2 == 0
    same = key[1:] == key[:-1]
    last = np.append(~same, True)[: len(key)]
    return np.unique(key[1:][same & (alike | (takes & (row[1:] != row[:-1])))]), key[last & (event % 2 == 0)]
