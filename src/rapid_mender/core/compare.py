"""Which columns differ between existing rows and the records that meet them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from decimal import Decimal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.types as pt

from .cast import as_text
from .existing import Existing
from .json_text import says_same
from .keys import one_array
from .masks import mask_of
from .parsers import PER_SECOND


@dataclass(frozen=True)
class Likeness:
    """When two values of a column that are not equal count as the same, and what a null does."""

    tolerance: Decimal | None = None
    """In the column's unit; for dates days, for times seconds."""
    ignore_case: bool = False
    trim: bool = False
    keep_on_null: bool = False
    """An incoming null changes nothing."""
    json: bool = False
    """Two texts that say the same as JSON count as the same: with their keys in another order, or other escapes."""

    def names(self) -> list[str]:
        """The settings, as a job spells them."""
        given = (
            (f"tolerance = {self.tolerance}", self.tolerance is not None), ("ignore_case", self.ignore_case),
            ("trim", self.trim), ("what the JSON says", self.json), ('null = "keep"', self.keep_on_null),
        )  # fmt: skip
        return [name for name, is_set in given if is_set]


def differences(
    existing: Existing, incoming: pa.Table, columns: Iterable[str], like: Mapping[str, Likeness]
) -> dict[str, np.ndarray]:
    """For each column a mask of the rows in which it differs. The rows of both sides meet in order."""
    differing = {}
    for name in columns:
        old, new = one_array(existing.values[name]), one_array(incoming[name])
        mask = differs(old, new)
        setting = like.get(name)
        if setting is not None and mask.any():
            rows = np.flatnonzero(mask)
            some = pa.array(rows)
            mask = mask.copy()
            mask[rows] = ~alike(old.take(some), new.take(some), setting)
        if name in existing.verbatim:
            mask = mask | existing.verbatim[name].unreadable
        if setting is not None and setting.keep_on_null and new.null_count:
            mask = mask & new.is_valid().to_numpy(zero_copy_only=False)
        differing[name] = mask
    return differing


def differs(old: pa.Array, new: pa.Array) -> np.ndarray:
    """A mask of the rows whose values differ. Null equals null and nothing else; NaN equals NaN."""
    if pt.is_floating(old.type):
        both_nan = pc.and_(pc.is_nan(old), pc.is_nan(new))
        unequal = pc.and_(pc.not_equal(old, new), pc.invert(both_nan))
    elif pt.is_null(old.type):
        return np.zeros(len(old), bool)
    else:
        if pt.is_nested(old.type):
            old, new = as_text(old)[0], as_text(new)[0]
        unequal = pc.not_equal(old, new)
    if not unequal.null_count:
        return unequal.to_numpy(zero_copy_only=False)
    one_is_null = pc.xor(pc.is_null(old), pc.is_null(new))
    return pc.or_(pc.fill_null(unequal, False), one_is_null).to_numpy(zero_copy_only=False)


def unlike(now: Existing, then: Existing, name: str) -> np.ndarray:
    """A mask of the rows that differ in a column, also where that has no value of its type."""
    mask = differs(one_array(now.values[name]), one_array(then.values[name]))
    mine, theirs = now.verbatim.get(name), then.verbatim.get(name)
    if mine is None and theirs is None:
        return mask
    count = len(mask)
    texts = []
    for cells in (mine, theirs):
        text = np.full(count, None, object)
        if cells is not None:
            text[cells.mask] = cells.text.to_pylist()
        texts.append(text)
    odd = np.array([one is not None or other is not None for one, other in zip(*texts, strict=True)])
    return np.where(odd, texts[0] != texts[1], mask)


def alike(old: pa.Array, new: pa.Array, setting: Likeness) -> np.ndarray:
    """A mask of the rows whose values, both not null, count as the same by a setting."""
    if setting.json:
        pairs = zip(old.to_pylist(), new.to_pylist(), strict=True)
        return np.array([one is not None and other is not None and says_same(one, other) for one, other in pairs], bool)
    if pt.is_string(old.type):
        for wanted, done in ((setting.trim, pc.utf8_trim_whitespace), (setting.ignore_case, pc.utf8_lower)):
            if wanted:
                old, new = done(old), done(new)
        close = pc.equal(old, new)
    elif setting.tolerance is not None:
        close = _near(old, new, setting.tolerance)
    else:
        return np.zeros(len(old), bool)
    return mask_of(close)


def _near(old: pa.Array, new: pa.Array, tolerance: Decimal) -> pa.Array:
    kind = old.type
    if pt.is_decimal(kind):
        wide = pa.decimal256(min(kind.precision + 1, 76), kind.scale)
        apart = pc.abs(pc.subtract(pc.cast(old, wide), pc.cast(new, wide)))
        return pc.less_equal(apart, pa.scalar(tolerance))
    if pt.is_floating(kind):
        # what is written 10.2 and 10.3 lies 0.1 apart, although the nearest floats lie a little farther
        slack = pc.multiply(
            pc.max_element_wise(pc.abs(old), pc.abs(new)), 4 * float(np.finfo(kind.to_pandas_dtype()).eps)
        )
        near = pc.less_equal(pc.abs(pc.subtract(old, new)), pc.add(slack, float(tolerance)))
        return pc.and_(near, pc.is_finite(slack))  # nothing but itself is near to infinity
    unit = 1
    if pt.is_date(kind):
        old, new = old.cast(pa.int32()), new.cast(pa.int32())
    elif pt.is_temporal(kind):
        unit = PER_SECOND[kind.unit]
        old, new = (v.view(pa.int64() if kind.bit_width == 64 else pa.int32()) for v in (old, new))
    # unsigned, so that the difference of two numbers far apart does not overflow
    high, low = pc.max_element_wise(old, new, skip_nulls=False), pc.min_element_wise(old, new, skip_nulls=False)
    words = [v.cast(pa.int64()).view(pa.uint64()) if v.type != pa.uint64() else v for v in (high, low)]
    return pc.less_equal(pc.subtract(*words), pa.scalar(min(int(tolerance * unit), 2**64 - 1), pa.uint64()))


def takes_tolerance(kind: pa.DataType) -> bool:
    numeric = pt.is_integer(kind) or pt.is_floating(kind) or pt.is_decimal(kind)
    return bool(numeric or (pt.is_temporal(kind) and not pt.is_duration(kind) and not pt.is_interval(kind)))


class Patterns:
    """Which columns changed in each row: a number for each row, into the few distinct sets."""

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

    def having(self, columns: Iterable[str]) -> np.ndarray:
        """A mask of the rows in which any of `columns` changed."""
        wanted = set(columns)
        return np.array([not wanted.isdisjoint(names) for names in self.sets], bool)[self.code]

    def texts(self, spell: Callable[[tuple[str, ...]], str | None]) -> pa.Array:
        """One text for each row; each distinct set is spelled once."""
        return pa.array([spell(columns) for columns in self.sets], pa.string()).take(pa.array(self.code))

    def counts(self, rows: np.ndarray) -> dict[str, int]:
        """In how many of `rows` each column changed."""
        sizes = np.bincount(self.code[rows], minlength=len(self.sets))
        out: dict[str, int] = {}
        for columns, size in zip(self.sets, sizes, strict=True):
            for name in columns:
                out[name] = out.get(name, 0) + int(size)
        return {name: count for name, count in out.items() if count}
