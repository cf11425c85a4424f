"""Masks of rows, and arrays with some rows nulled: what casting, comparing and evaluating share."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

Marks = np.ndarray | None
"""A boolean mask of the rows that something is wrong with; None: no row."""


def mask_of(values: pa.Array) -> np.ndarray:
    """Boolean values as a mask; null is false."""
    if values.null_count:
        values = pc.fill_null(values, False)
    return values.to_numpy(zero_copy_only=False)


def nulled(values: pa.Array, mask: np.ndarray) -> pa.Array:
    """`values`, null where `mask` is true."""
    return pc.if_else(pa.array(mask), pa.scalar(None, values.type), values) if mask.any() else values


def either(one: Marks, other: Marks) -> Marks:
    """The rows that are marked in one of two masks."""
    return other if one is None else one if other is None else one | other


def some(mask: np.ndarray | None) -> Marks:
    """A mask, or None if it marks no row."""
    return mask if mask is not None and mask.any() else None
