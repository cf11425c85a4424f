"""Verifying that the history and the table say the same: for each key the rows before and after its changes hang
together, and the last one is the row."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np
import pyarrow as pa

from ..core.compare import unlike
from ..core.existing import Existing
from ..stores.contract import Store
from ..stores.urls import opened
from .chains import TABLE, Chains
from .past import Past, changes_made, past_of
from .seal_check import SealCheck

_MOST = 10_000
_ALTERED = pa.schema([("batch_no", pa.int64()), ("change_no", pa.int64()), ("what", pa.string())])
_LINE = pa.schema([
    ("column", pa.string()), ("before", pa.string()), ("after", pa.string()), ("change_no", pa.int64()),
    ("what", pa.string()),
])  # fmt: skip


@dataclass
class Verified:
    """What came of verifying a table against its history.

    `differences` has a line for each column of a row that is not as the change before it left it: the key; `column`;
    its value `before`, as the history last left it; what there is `after`, in the next change or in the table; the
    `change_no` since which it is so; and `what` is wrong, in words. It has no rows when all holds, and 10,000 at most;
    `found` is how many places there are. `unknown` rows are in the table, and the history has never seen them.
    """

    table: str
    store: str
    key: list[str]
    changes: int = 0
    rows: int = 0
    unknown: int = 0
    found: int = 0
    holes: list[str] = field(default_factory=list)
    """Spans of which the history knows nothing, in words."""
    sealed: int = 0
    """How many batches are sealed."""
    seal: str | None = None
    """The hash at the end of their chain."""
    unsealed: list[str] = field(default_factory=list)
    """What no seal covers, though some batches of the table are sealed, in words: somebody may have altered it."""
    altered: pa.Table = field(default_factory=lambda: _ALTERED.empty_table())
    """What somebody altered in the history or in the batches, as the seals tell, or the counts of a batch without one:
    batch_no, change_no, what."""
    differences: pa.Table = field(default_factory=lambda: _LINE.empty_table())

    @property
    def holds(self) -> bool:
        """Whether nothing differs."""
        return not self.found and not self.altered.num_rows


def verify(store: str | Store, table: str, *, expect: str | None = None) -> Verified:
    """Whether replaying the history gives the table, and the seals hold: all of it is read, and nothing written.

    `expect` is the hash of a seal that somebody noted elsewhere: one of the chain must have it.

    Memory does not grow with the history. Raises StoreError if the table is not there or has no history.
    """
    with opened(store) as place, place.begin(write=False) as session:
        past = past_of(session, table, hold=True)
        verified = Verified(past.info.name, place.where, past.key)
        past.check_key(past.begins.change + 1 if past.begins is not None else 1)
        verified.holes = [hole.words(past.info.name) for hole in past.holes]
        if past.identity.replaced:
            verified.holes.append(past.replaced_words)
        return _Check(past, verified).run(expect)


class _Check:
    def __init__(self, past: Past, verified: Verified) -> None:
        self.past, self.verified = past, verified
        self.seals = SealCheck(past)
        self.chains = Chains(past, self.seals)

    def run(self, expect: str | None) -> Verified:
        pairs = self.chains.breaks()
        self.verified.changes, self.verified.rows = self.chains.changes, self.chains.rows
        self.verified.unknown = self.chains.unknown
        self.verified.found = len(pairs)
        if len(pairs):
            pairs = pairs[np.argsort(pairs[:, 0], kind="stable")][:_MOST]
            self.verified.differences = self._told(pairs)
        self.verified.sealed, self.verified.seal = self.seals.sealed, self.seals.last
        self.verified.unsealed = self.seals.unsealed.words()
        altered = [*self.seals.wrong(), *self._lacking()]
        if expect is not None and not self.seals.has(expect):
            altered.append((None, None, "no batch has the seal that is expected"))
        names = _ALTERED.names
        lines = [dict(zip(names, line, strict=True)) for line in altered]
        self.verified.altered = pa.Table.from_pylist(lines, _ALTERED)
        return self.verified

    def _lacking(self) -> Iterator[tuple[int, None, str]]:
        """The batches that are not sealed, and whose rows tell of more changes than the history has."""
        for run in self.seals.not_sealed():
            number, told = run["batch_no"], changes_made(run)
            there = self.chains.of_batch[number]
            if run["first_change"] is not None and there < told:
                yield number, None, f"{told - there:,} of its {told:,} changes are not in the history"

    # -- differences ------------------------------------------------------------------------------------

    def _told(self, pairs: np.ndarray) -> pa.Table:
        """The differences between the rows of pairs of events, column by column."""
        past = self.past
        first, second = pairs[:, 0], pairs[:, 1]
        where = first != TABLE
        first, second = first[where], second[where]
        before = self.chains.rows_of(first)
        after_is_change = (second >= 0) & (second != TABLE)
        lines: list[pa.Table] = []
        if after_is_change.any():
            some = np.flatnonzero(after_is_change)
            lines += self._compare(before.take(some), self.chains.rows_of(second[some]), first[some], second[some])
        at_table = np.flatnonzero(second == TABLE)
        if len(at_table):
            was = before.take(at_table)
            there = past.session.fetch(past.info, was.values.select(past.key))
            _, one = np.unique(there.positions, return_index=True)
            rows = there.take(one)
            some = at_table[rows.positions]
            lines += self._compare(before.take(some), rows, first[some], second[some])
        gone = np.flatnonzero(second == -1)
        if len(gone):
            lines.append(
                self._line(before.take(gone), None, None, None, first[gone] // 2, "the row is not in the table")
            )
        return pa.concat_tables(lines) if lines else _LINE.empty_table()

    def _compare(self, before: Existing, after: Existing, first: np.ndarray, second: np.ndarray) -> list[pa.Table]:
        taken = first % 2 == 0
        lines = []
        in_table = second == TABLE
        for mask, words in ((taken & in_table, "the row is in the table, and the history has deleted it"),
                            (taken & ~in_table, "a change of the row is missing in between"),
                            (~taken & (second % 2 == 1) & ~in_table, "the row was put there twice")):  # fmt: skip
            places = np.flatnonzero(mask)
            if len(places):
                lines.append(self._line(before.take(places), None, None, None, first[places] // 2, words))
        rest = np.flatnonzero(~taken & ((second % 2 == 0) | in_table))
        for name in self.chains.columns:
            mask = unlike(before, after, name)
            mask[first // 2 < self.chains.late.get(name, 0)] = False
            places = rest[mask[rest]]
            if len(places):
                what = np.where(in_table[places], "the table has another value", "the next change began elsewhere")
                some = before.take(places)
                texts = before.texts(name, places), after.texts(name, places)
                lines.append(self._line(some, name, *texts, first[places] // 2, what.tolist()))
        return lines

    def _line(
        self,
        rows: Existing,
        column: str | None,
        before: pa.Array | None,
        after: pa.Array | None,
        since: np.ndarray,
        what: str | list[str],
    ) -> pa.Table:
        count, key = len(since), self.past.key
        none = pa.nulls(count, pa.string())
        cells = [
            pa.repeat(pa.scalar(column, pa.string()), count), none if before is None else before,
            none if after is None else after, pa.array(since),
            pa.repeat(what, count) if isinstance(what, str) else pa.array(what, pa.string()),
        ]  # fmt: skip
        names = [f"key_{name}" if name in _LINE.names else name for name in key]
        return pa.table([*rows.values.select(key).columns, *cells], names=[*names, *_LINE.names])
