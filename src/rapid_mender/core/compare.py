"""Which columns differ between existing rows and the records that meet them."""

from __future__ import annotations

from collections.abc import Callable, Iterable

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.types as pt

from .existing import Existing
from .keys import one_array


def differences(existing: Existing, incoming: pa.Table, columns: Iterable[str]) -> dict[str, np.ndarray]:
    """For each column a mask of the rows in which it differs. The rows of both sides meet in order."""
    found = {}
    for name in columns:
        mask = differs(one_array(existing.values[name]), one_array(incoming[name]))
        if name in existing.odd:
            mask = mask | existing.odd[name].unreadable
        found[name] = mask
    return found


def differs(old: pa.Array, new: pa.Array) -> np.ndarray:
    """A mask of the rows whose values differ. Null equals null and nothing else; NaN equals NaN."""
    if pt.is_floating(old.type):
        both_nan = pc.and_(pc.is_nan(old), pc.is_nan(new))
        unequal = pc.and_(pc.not_equal(old, new), pc.invert(both_nan))
    elif pt.is_null(old.type):
        return np.zeros(len(old), bool)
    else:
        unequal = pc.not_equal(old, new)
    if not unequal.null_count:
        return unequal.to_numpy(zero_copy_only=False)
    one_is_null = pc.xor(pc.is_null(old), pc.is_null(new))
    return pc.or_(pc.fill_null(unequal, False), one_is_null).to_numpy(zero_copy_only=False)


class Patterns:
    """Which columns changed, row by row, kept as a number a row and the few sets that there are."""

    def __init__(self, changed: dict[str, np.ndarray], rows: int) -> None:
        names = list(changed)
        code = np.zeros(rows, np.int64)
        for i, name in enumerate(names):
            if i and i % 40 == 0:  # before the bits run out, number the patterns so far
                code = np.unique(code, return_inverse=True)[1].astype(np.int64)
            code = code * 2 + changed[name]
        _, first, inverse = np.unique(code, return_index=True, return_inverse=True)
        self.code = inverse.astype(np.int32)
        """For each row the place of its set in `sets`."""
        self.sets = [tuple(name for name in names if changed[name][row]) for row in first]

    @property
    def any(self) -> np.ndarray:
        """A mask of the rows in which anything changed."""
        return np.array([bool(columns) for columns in self.sets], bool)[self.code]

    def texts(self, spell: Callable[[tuple[str, ...]], str | None]) -> pa.Array:
        """One text a row, spelled once for each set."""
        return pa.array([spell(columns) for columns in self.sets], pa.string()).take(pa.array(self.code))

    def counts(self, rows: np.ndarray) -> dict[str, int]:
        """In how many of `rows` each column changed."""
        sizes = np.bincount(self.code[rows], minlength=len(self.sets))
        out: dict[str, int] = {}
        for columns, size in zip(self.sets, sizes, strict=True):
            for name in columns:
                out[name] = out.get(name, 0) + int(size)
        return {name: count for name, count in out.items() if count}
