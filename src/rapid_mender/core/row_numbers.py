"""Numbers of rows in an array, where some may be missing: a record that meets no row, a slot in which none stands."""

from __future__ import annotations

import numpy as np
import pyarrow as pa

NO_ROW = np.int64(1 << 62)
"""Stands for no row. No array is as long, so that using it as an index fails; with -1 it would be the last row."""


def no_rows(count: int) -> np.ndarray:
    """So many that stand for no row."""
    return np.full(count, NO_ROW)


def is_row(numbers: np.ndarray) -> np.ndarray:
    """A mask of those that are rows."""
    return np.asarray(numbers != NO_ROW)


def as_indices(numbers: np.ndarray) -> pa.Array:
    """For `take`: where there is no row, the result is null."""
    return pa.array(numbers, mask=numbers == NO_ROW)
