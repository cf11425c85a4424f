"""The decision on each record, and the reason for it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from .compare import Patterns
from .records import Records
from .repeats import CLASHES, OLDER, SAME, STANDS, YIELDS
from .row_numbers import NO_ROW, no_rows

INSERT, UPDATE, DELETE, SKIP, REJECT = range(5)
NAMES = ("insert", "update", "delete", "skip", "reject")
DID_NOT_COME = "did not come"
"""The reason for deleting a row of which no record came."""
UNCHANGED, NO_ROW_HAS_KEY = "unchanged", "no row has this key"
_OPEN = -1  # not decided yet: to be looked up in the table


class Decisions:
    """A decision (an index into NAMES) and a reason for each record of a chunk.

    Most records share a few reasons, so a reason is kept as a number, its place among `texts`.
    """

    def __init__(self, count: int, code: int, text: str) -> None:
        self.codes = np.full(count, code, np.int8)
        self.why = np.zeros(count, np.int32)
        self._texts = [pa.array([text], pa.string())]
        self._many = 1
        self.by_rule = np.zeros(count, bool)
        """Which records a rule has decided on, other than by default."""

    @property
    def open(self) -> np.ndarray:
        """The positions of the records that are still to be looked up in the table."""
        return np.flatnonzero(self.codes == _OPEN)

    @property
    def texts(self) -> pa.Array:
        return pa.concat_arrays(self._texts)

    def put(self, mask: np.ndarray, code: int, reasons: pa.Array | str, which: np.ndarray | None = None) -> None:
        """Decide the records of `mask`: with one reason for all; one for each; or `which` of the reasons for each."""
        if not mask.any():
            return
        texts = pa.array([reasons], pa.string()) if isinstance(reasons, str) else reasons
        if which is None:
            which = np.zeros(1, np.int32) if isinstance(reasons, str) else np.arange(len(texts))
        self.codes[mask] = code
        self.why[mask] = which + self._many
        self._texts.append(texts)
        self._many += len(texts)

    def rules_reasons(self, records: np.ndarray) -> pa.Array | None:
        """For each of `records` the reason that a rule gave, null where the default decided; None if that is all."""
        ruled = self.by_rule[records]
        if not ruled.any():
            return None
        return self.texts.take(pa.array(self.why[records], mask=~ruled))

    def reason(self, at: int) -> str:
        return str(self.texts[int(self.why[at])].as_py())


def decide_alone(records: Records, fate: np.ndarray, measure: np.ndarray, unit: str) -> Decisions:
    """Decide what can be decided without the table: records with faults, and keys that come more than once.

    `fate` and `measure` are as `keys.resolve_repeats` gives them; `unit` is "line" or "row".
    """
    count = len(records.rows)
    decisions = Decisions(count, _OPEN, "")
    if (fate != STANDS).any():
        for value, code, text in (
            (SAME, SKIP, f"the same record as {unit} {{}}"),
            (YIELDS, SKIP, f"{unit} {{}}, with the same key, counts"),
            (OLDER, SKIP, f"{unit} {{}}, with the same key, is newer"),
            (CLASHES, REJECT, f"the key comes again, with other values, in {unit} {{}}"),
        ):
            mask = fate == value
            before, after = text.split("{}")
            numbers = pa.array(measure[mask]).cast(pa.string())
            decisions.put(mask, code, pc.binary_join_element_wise(before, numbers, after, ""))
    faulty = records.faults.is_valid().to_numpy(zero_copy_only=False)
    decisions.put(faulty, REJECT, records.faults.filter(pa.array(faulty)))
    return decisions


def changed_words(columns: Sequence[str]) -> str:
    """The reason for an update that changes some columns."""
    return f"changed: {', '.join(columns)}"


def decide_matched(
    count: int,
    answered: np.ndarray,
    patterns: Patterns,
    compared: np.ndarray,
    stale: np.ndarray,
    lacking: Sequence[str],
) -> tuple[Decisions, np.ndarray]:
    """The default decisions on `count` records that were looked up.

    `answered` are the places, among them, of the records that the found rows answer to; `patterns` what differs in
    each of these rows, `compared` masks those in which that is a reason to write, and `stale` those that are
    newer than the record; `lacking` are the required columns that an insert would not have. Returns the
    decisions, and for each record the place in `answered` of the one row that it meets, or NO_ROW.
    """
    matches = np.bincount(answered, minlength=count)
    matched_row = no_rows(count)
    matched_row[answered] = np.arange(len(answered))
    one, several = matches == 1, matches > 1
    matched_row[several] = NO_ROW
    differs, old = np.zeros(count, bool), np.zeros(count, bool)
    differs[one] = compared[matched_row[one]]
    old[one] = stale[matched_row[one]]
    decisions = Decisions(count, SKIP, UNCHANGED)
    if lacking:
        words = "the column" if len(lacking) == 1 else "the columns"
        why = f"{NO_ROW_HAS_KEY}, and an insert needs {words} {', '.join(lacking)}"
        decisions.put(matches == 0, REJECT, why)
    else:
        decisions.put(matches == 0, INSERT, NO_ROW_HAS_KEY)
    if several.any():
        numbers = pa.array(matches[several]).cast(pa.string())
        decisions.put(several, REJECT, pc.binary_join_element_wise("the key matches ", numbers, " existing rows", ""))
    differs &= ~old
    if differs.any():
        texts = pa.array(map(changed_words, patterns.sets), pa.string())
        decisions.put(differs, UPDATE, texts, patterns.code[matched_row[differs]])
    decisions.put(old, SKIP, "older than the existing row")
    return decisions, matched_row
