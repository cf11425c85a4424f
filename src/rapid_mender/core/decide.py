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


def decide_met(count: int, met: np.ndarray, patterns: Patterns, lacking: Sequence[str]) -> tuple[Decisions, np.ndarray]:
    """Decide `count` records that were looked up.

    `met` are the places, among them, of the records that the found rows answer to; `patterns` what differs in
    each of these rows; `lacking` the required columns that an insert would not have. Returns the decisions,
    and for each record the place in `met` of a row that it meets, or -1.
    """
    matches = np.bincount(met, minlength=count)
    found = np.full(count, -1, np.int64)
    found[met] = np.arange(len(met))
    one = matches == 1
    differs = np.zeros(count, bool)
    differs[one] = patterns.any[found[one]]
    decisions = Decisions(np.full(count, SKIP, np.int8), pa.repeat(pa.scalar("unchanged", pa.string()), count))
    if lacking:
        words = "the column" if len(lacking) == 1 else "the columns"
        why = f"no row has this key, and an insert needs {words} {', '.join(lacking)}"
        decisions.put(matches == 0, REJECT, why)
    else:
        decisions.put(matches == 0, INSERT, "no row has this key")
    several = matches > 1
    if several.any():
        numbers = pa.array(matches[several]).cast(pa.string())
        decisions.put(several, REJECT, pc.binary_join_element_wise("the key matches ", numbers, " existing rows", ""))
    if differs.any():
        texts = patterns.texts(lambda columns: f"changed: {', '.join(columns)}")
        decisions.put(differs, UPDATE, texts.take(pa.array(found[differs])))
    return decisions, found
