"""The tables and batches of the benchmarks: trees, with 30 % of a batch unchanged, 30 % changed, 40 % new."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

COLUMNS = ("district", "tag_no", "species", "girth_cm", "height_m", "vitality", "warden", "surveyed_on")
DDL = """CREATE TABLE trees (
    district TEXT NOT NULL, tag_no INTEGER NOT NULL, species TEXT NOT NULL, girth_cm REAL, height_m REAL,
    vitality TEXT, warden TEXT, surveyed_on DATE, PRIMARY KEY (district, tag_no))"""
KEY = COLUMNS[:2]
CHANGING = ("girth_cm", "height_m", "surveyed_on")


def _words(words: list[str], index: np.ndarray) -> pa.Array:
    return pa.array(words).take(pa.array(index % len(words)))


def trees(numbers: np.ndarray, rng: np.random.Generator) -> pa.Table:
    count = len(numbers)
    names = pc.binary_join_element_wise("warden", pa.array(numbers % 4093).cast(pa.string()), " ")
    return pa.table(
        {
            "district": _words(["Harbour", "Mill Lane", "Northgate", "Old Town", "Priory", "Quayside"], numbers),
            "tag_no": pa.array(numbers),
            "species": _words(["Acer campestre", "Betula pendula", "Quercus robur", "Tilia cordata"], numbers // 7),
            "girth_cm": np.round(rng.uniform(10, 400, count), 1),
            "height_m": np.round(rng.uniform(1, 40, count), 1),
            "vitality": _words(["good", "fair", "poor", "dead"], numbers // 3),
            "warden": names,
            "surveyed_on": pa.array((18_000 + numbers % 2_000).astype("int32"), pa.date32()),
        }
    )


def existing_and_batch(
    existing: int, incoming: int, unchanged: float = 0.3, changed: float = 0.3, seed: int = 7
) -> tuple[pa.Table, pa.Table]:
    """A table and a batch against it, in no order. New trees have the numbers after the last."""
    rng = np.random.default_rng(seed)
    table = trees(np.arange(existing), rng)
    same, other = int(incoming * unchanged), int(incoming * changed)
    inputs = rng.choice(existing, same + other, replace=False)
    kept, moved = table.take(pa.array(inputs[:same])), table.take(pa.array(inputs[same:]))
    for name in CHANGING[:2]:
        at = moved.column_names.index(name)
        moved = moved.set_column(at, name, pc.add(moved[name], 0.5))
    day = pa.array(np.full(other, 20_400, "int32"), pa.date32())
    moved = moved.set_column(moved.column_names.index("surveyed_on"), "surveyed_on", day)
    new = trees(np.arange(existing, existing + incoming - same - other), rng)
    batch = pa.concat_tables([kept, moved, new]).combine_chunks()
    return table, batch.take(pa.array(rng.permutation(batch.num_rows)))
