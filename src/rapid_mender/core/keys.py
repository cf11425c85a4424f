"""Keys: which are null, which come twice in a batch, which rows they match."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.types as pt

from .schema import Column


def folded(values: pa.Array, column: Column) -> pa.Array:
    """The keys in a form in which two are the same exactly where the database calls them equal."""
    if pt.is_floating(values.type):
        return pc.add(values, pa.scalar(0.0, values.type))  # -0.0 becomes 0.0
    if column.fold == "case":
        return pc.ascii_lower(values)
    if column.fold == "blanks":
        return pc.ascii_rtrim(values, characters=" ")
    if column.fold == "collation":  # near to it: without case, accents and blanks at the end
        bare = pc.replace_substring_regex(pc.utf8_normalize(values, form="NFKD"), r"\pM", "")
        return pc.utf8_rtrim(pc.utf8_lower(bare), characters=" ")
    return values


def fold_table(keys: pa.Table, columns: list[Column]) -> list[pa.Array]:
    return [folded(one_array(keys[column.name]), column) for column in columns]


def one_array(values: pa.ChunkedArray | pa.Array) -> pa.Array:
    if isinstance(values, pa.ChunkedArray):
        chunks = values.chunks or [pa.array([], values.type)]
        return chunks[0] if len(chunks) == 1 else pa.concat_arrays(chunks)
    return values


def null_keys(keys: pa.Table) -> np.ndarray:
    """A mask of the rows whose key is null in any column."""
    mask = np.zeros(keys.num_rows, bool)
    for name in keys.column_names:
        if keys[name].null_count:
            mask |= pc.is_null(keys[name]).to_numpy()
    return mask


def match(incoming: list[pa.Array], existing: list[pa.Array]) -> tuple[np.ndarray, np.ndarray]:
    """Pairs of positions (incoming, existing) whose keys are equal.

    Both are the folded key columns, in the same types; the incoming keys are not null. Existing rows may
    share a key: then the pairs share an incoming position. Ascending by the existing position, so that
    the rows are taken from the larger side in the order in which they lie in memory.
    """
    names = [f"k{i}" for i in range(len(incoming))]
    mine = pa.table([*incoming, np.arange(len(incoming[0]))], [*names, "mine"])
    theirs = pa.table([*existing, np.arange(len(existing[0]))], [*names, "theirs"])
    pairs = theirs.join(mine, keys=names, join_type="inner")
    left, right = pairs["mine"].to_numpy(), pairs["theirs"].to_numpy()
    order = np.argsort(right, kind="stable")
    return left[order], right[order]
