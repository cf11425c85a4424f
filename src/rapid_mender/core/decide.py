"""The decision on each record, and the reason for it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from .compare import Patterns
from .keys import CLASHES, SAME, STANDS, YIELDS
from .records import Records

INSERT, UPDATE, DELETE, SKIP, REJECT = range(5)
NAMES = ("insert", "update", "delete", "skip", "reject")
_OPEN = -1  # not decided yet: to be looked up in the table


@dataclass
class Decisions:
    """One decision (an index into NAMES) and one reason for each record of a chunk."""

    codes: np.ndarray
    reasons: pa.Array

    @property
    def open(self) -> np.ndarray:
        """The positions of the records that are still to be looked up in the table."""
        return np.flatnonzero(self.codes == _OPEN)

    def put(self, mask: np.ndarray, code: int, reasons: pa.Array | str) -> None:
        """Decide the records of `mask`, with one reason for all or one for each."""
        if not mask.any():
            return
        self.codes[mask] = code
        if isinstance(reasons, str):
            self.reasons = pc.if_else(pa.array(mask), reasons, self.reasons)
        else:
            self.reasons = pc.replace_with_mask(self.reasons, mask, reasons)

    def counts(self) -> np.ndarray:
        return np.bincount(self.codes, minlength=len(NAMES))


def decide_alone(records: Records, fate: np.ndarray, measure: np.ndarray, unit: str) -> Decisions:
    """Decide what needs no look at the table: records with faults, and keys that come more than once.

    `fate` and `measure` are as `keys.settle_repeats` gives them; `unit` is "line" or "row".
    """
    count = len(records.rows)
    decisions = Decisions(np.full(count, _OPEN, np.int8), pa.nulls(count, pa.string()))
    if (fate != STANDS).any():
        for value, code, text in (
            (SAME, SKIP, f"the same record as {unit} {{}}"),
            (YIELDS, SKIP, f"{unit} {{}}, with the same key, counts"),
            (CLASHES, REJECT, f"the key comes again, with other values, in {unit} {{}}"),
        ):
            mask = fate == value
            before, after = text.split("{}")
            numbers = pa.array(measure[mask]).cast(pa.string())
            decisions.put(mask, code, pc.binary_join_element_wise(before, numbers, after, ""))
    faulty = records.faults.is_valid().to_numpy(zero_copy_only=False)
    decisions.put(faulty, REJECT, records.faults.filter(pa.array(faulty)))
    return decisions


def decide_met(
    decisions: Decisions,
    asked: np.ndarray,
    met: np.ndarray,
    patterns: Patterns,
    lacking: Sequence[str],
) -> None:
    """Decide the records that were looked up.

    `asked` are their positions in the chunk; `met` the positions, within `asked`, of the existing rows that
    were found, ascending; `patterns` what changed in each of these; `lacking` the required columns that an
    insert would not have.
    """
    matches = np.bincount(met, minlength=len(asked))
    count = len(decisions.codes)

    def over_chunk(mask: np.ndarray) -> np.ndarray:
        out = np.zeros(count, bool)
        out[asked[mask]] = True
        return out

    none = over_chunk(matches == 0)
    if lacking:
        words = "the column" if len(lacking) == 1 else "the columns"
        decisions.put(none, REJECT, f"no row has this key, and an insert needs {words} {', '.join(lacking)}")
    else:
        decisions.put(none, INSERT, "no row has this key")
    several = matches > 1
    if several.any():
        numbers = pa.array(_in_chunk_order(asked, several, matches)).cast(pa.string())
        reasons = pc.binary_join_element_wise("the key matches ", numbers, " existing rows", "")
        decisions.put(over_chunk(several), REJECT, reasons)
    single = matches[met] == 1
    changed = np.zeros(count, bool)
    changed[asked[met[single & patterns.any]]] = True
    same = np.zeros(count, bool)
    same[asked[met[single & ~patterns.any]]] = True
    decisions.put(same, SKIP, "unchanged")
    if changed.any():
        place = np.zeros(count, np.int64)
        place[asked[met]] = np.arange(len(met))
        texts = patterns.texts(lambda columns: f"changed: {', '.join(columns)}")
        decisions.put(changed, UPDATE, texts.take(pa.array(place[changed])))


def _in_chunk_order(asked: np.ndarray, mask: np.ndarray, values: np.ndarray) -> np.ndarray:
    order = np.argsort(asked[mask])
    return values[mask][order]
