"""Keys that come more than once in a batch: found by their hashes, and what becomes of their records."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

import numpy as np

Duplicates = Literal["reject", "first", "last"]


STANDS, SAME, YIELDS, CLASHES, OLDER = range(5)
"""What becomes of a record whose key comes more than once: it stands for its key; it is the same as the
record that stands; it yields to it; it clashes with another record; it is older than another."""


@dataclass
class RepeatFinder:
    """Finds the keys that come more than once in a batch, in eight bytes a record.

    First pass: `add` the hashes of each chunk's keys. `repeated` are the hashes seen twice or more. Second
    pass, only over records with such hashes: `candidates`, then `resolve_repeats`.
    """

    _hashes: list[np.ndarray] = field(default_factory=list)

    def add(self, hashes: np.ndarray) -> None:
        self._hashes.append(hashes)

    def repeated(self) -> np.ndarray:
        """The hashes that came twice or more, sorted. Forgets the rest."""
        if not self._hashes:
            return np.empty(0, np.uint64)
        every = np.concatenate(self._hashes)
        self._hashes.clear()
        every.sort()
        return np.unique(every[1:][every[1:] == every[:-1]])


def among(hashes: np.ndarray, repeated: np.ndarray) -> np.ndarray:
    """A mask of the `hashes` that are in the sorted array `repeated`."""
    if not len(repeated):
        return np.zeros(len(hashes), bool)
    at = np.searchsorted(repeated, hashes)
    at[at == len(repeated)] = 0
    return repeated[at] == hashes


def resolve_repeats(
    rows: np.ndarray,
    key_a: np.ndarray,
    key_b: np.ndarray,
    record: np.ndarray,
    duplicates: Duplicates,
    age: np.ndarray | None = None,
) -> tuple[np.ndarray, np.ndarray]:
    """Decide what becomes of records whose keys repeat.

    `rows` are the records' numbers in the batch; (`key_a`, `key_b`) two independent hashes of the key, that
    is 128 bits which stand for it; `record` a hash of all the values; `age` a rank, the newest highest, which
    counts before `duplicates` does. Returns, in the order of `rows`, the fate of each record (STANDS, SAME,
    YIELDS, CLASHES, OLDER) and the number of the row that it is measured by: the one that stands, or for a
    clash another record with the key.
    """
    ages = np.zeros(len(rows), np.int64) if age is None else age
    order = np.lexsort((rows, -ages, key_b, key_a))  # in each group the newest first
    a, b, number, values, when = key_a[order], key_b[order], rows[order], record[order], ages[order]
    starts = np.ones(len(order), bool)
    starts[1:] = (a[1:] != a[:-1]) | (b[1:] != b[:-1])
    group = np.cumsum(starts) - 1
    first = np.flatnonzero(starts)
    newest = when == when[first[group]]
    size = np.bincount(group[newest], minlength=len(first))  # of the newest records of each group
    fate = np.full(len(order), STANDS, np.int8)
    measure = number.copy()

    stands = first if duplicates != "last" else first + size - 1
    standing = stands[group]
    same = (values == values[standing]) & (np.arange(len(order)) != standing)
    other = (values != values[standing]) & newest
    if duplicates == "reject":
        mixed = np.zeros(len(first), bool)
        mixed[group[other]] = True
        clash = mixed[group] & newest
        fate[same & ~clash] = SAME
        fate[clash] = CLASHES
        first_other = np.zeros(len(first), np.int64)  # of each group, the first record that is not as its first
        where = np.flatnonzero(other)[::-1]
        first_other[group[where]] = where
        partner = np.where(other, first[group], first_other[group])
        measure[clash] = number[partner[clash]]
        measure[fate == SAME] = number[standing[fate == SAME]]
    else:
        fate[same] = SAME
        fate[other] = YIELDS
        measure[same | other] = number[standing[same | other]]
    fate[~newest] = OLDER
    measure[~newest] = number[standing[~newest]]
    back = np.empty(len(order), np.int64)
    back[order] = np.arange(len(order))
    return fate[back], measure[back]
