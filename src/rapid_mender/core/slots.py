"""What several changes make of each key: a slot in which one row stands at a time.

A change takes its old row out of the slot of its old key, and puts its new row into the slot of its new key. So what
stood in a slot before some changes is the old row of the first that touches it, if that takes one out; what stands in
it after them is the new row of the last, if that puts one in. A row whose key changes leaves one slot for another.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pyarrow as pa

from .compare import differs
from .hashing import hash_rows
from .row_numbers import NO_ROW, is_row


@dataclass(frozen=True)
class Slots:
    """For each slot that changes touch: the change with the row before all of them in `before`, as its old row, and
    with the row after them in `after`, as its new row; NO_ROW where there is none. The `last` that touches it."""

    before: np.ndarray
    after: np.ndarray
    last: np.ndarray

    @property
    def had(self) -> np.ndarray:
        """A mask of those in which a row stood before."""
        return is_row(self.before)

    @property
    def has(self) -> np.ndarray:
        """A mask of those in which a row stands after."""
        return is_row(self.after)

    def without_passing(self) -> Slots:
        """Without those into which a row came, and from which it went again."""
        return self.take(np.flatnonzero(self.had | self.has))

    def among(self, places: np.ndarray) -> Slots:
        """The same slots where the changes are some among others, at these places."""
        before, after = self.before.copy(), self.after.copy()
        before[self.had], after[self.has] = places[before[self.had]], places[after[self.has]]
        return Slots(before, after, places[self.last])

    def __len__(self) -> int:
        return len(self.before)

    def take(self, places: np.ndarray) -> Slots:
        """Some of them."""
        return Slots(self.before[places], self.after[places], self.last[places])


def slots_of(
    takes: np.ndarray, puts: np.ndarray, old: Sequence[pa.Array], new: Sequence[pa.Array], seeds: tuple[int, int]
) -> Slots:
    """The slots of changes, in the order of these. `takes` and `puts` mask those with an old and with a new row; `old`
    and `new` are the columns of their keys, folded so that keys that the database calls equal are the same.

    Keys are told apart by 128 bits of hash; `seeds` are drawn anew for each call.
    """
    moves = takes & puts
    if moves.any():  # of the others each is one event
        moves &= np.any([differs(was, now) for was, now in zip(old, new, strict=True)], axis=0)
    each = 1 + moves
    change = np.repeat(np.arange(len(takes)), each)
    leaves, enters = np.zeros(len(change), bool), np.zeros(len(change), bool)
    at = (np.cumsum(each) - each)[moves]
    leaves[at], enters[at + 1] = True, True
    takes, puts = takes[change] & ~enters, puts[change] & ~leaves
    keys = list(new)
    if not puts.all():
        place = pa.array(np.where(puts, change, change + len(each)))
        keys = [pa.concat_arrays([now, was]).take(place) for was, now in zip(old, new, strict=True)]
    first, second = (hash_rows(keys, seed) for seed in seeds)
    order = np.argsort(first, kind="stable")
    starts = np.ones(len(order), bool)
    starts[1:] = np.diff(first[order]) != 0
    if (~starts[1:] & (np.diff(second[order]) != 0)).any():  # two keys of one hash
        order = np.lexsort((second, first))
        starts[1:] = (np.diff(first[order]) != 0) | (np.diff(second[order]) != 0)
    ends = np.ones(len(order), bool)
    ends[:-1] = starts[1:]
    begin, end = order[starts], order[ends]
    last = change[end]
    return Slots(np.where(takes[begin], change[begin], NO_ROW), np.where(puts[end], last, NO_ROW), last)
