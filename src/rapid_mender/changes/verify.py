"""Verifying that the history and the table say the same: for each key the rows before and after its changes hang
together, and the last one is the row."""

from __future__ import annotations

import secrets
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, closing
from dataclasses import dataclass, field

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.cast import plain
from ..core.compare import unlike
from ..core.existing import Existing
from ..core.hashing import hash_rows
from ..core.keys import one_array
from ..incoming import Spool
from ..incoming.ahead import ahead
from ..stores.contract import Store
from ..stores.urls import opened
from .past import NUMBER, Past, past_of, together
from .seal import SealCheck

_TABLE = np.int64(np.iinfo(np.int64).max)  # the number of the event that is the row of the table itself
_AT_ONCE = 1 << 20  # events that are sorted at once
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
    altered: pa.Table = field(default_factory=lambda: _ALTERED.empty_table())
    """What somebody altered in the history or in the batches, as the seals tell: batch_no, change_no, what."""
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
        past = past_of(session, table)
        verified = Verified(past.info.name, place.where, past.key)
        verified.holes = [hole.words(past.info.name) for hole in past.holes]
        return _Check(past, verified).run(expect)


class _Check:
    """Each change is two events: its old row is taken out of the slot of its key, its new row is put in.

    The events are kept as numbers, sorted by key in parts: a hash of the key, the number of the event, a hash of the
    row. `late` are columns that the history has had since some change only; each has a hash of its own.
    """

    def __init__(self, past: Past, verified: Verified) -> None:
        self.past, self.verified = past, verified
        self.seed = secrets.randbits(64)
        began = past.began
        self.late = {name: began[name] for name in past.columns if name in began}
        self.common = [name for name in past.columns if name not in began]
        count = past.session.count(past.kept) * 2 + past.session.count(past.info)
        self.parts = max(1, -(-count // _AT_ONCE))
        self.seals = SealCheck(past)

    def run(self, expect: str | None) -> Verified:
        with ExitStack() as stack:
            spools = [stack.enter_context(closing(Spool(1 << 20))) for _ in range(self.parts)]
            for events in self._events():
                part = events["key"].to_numpy() % np.uint64(self.parts)
                for number in range(self.parts):
                    mine = events if self.parts == 1 else events.filter(pa.array(part == number))
                    if mine.num_rows:
                        spools[number].put(mine)
            wrong: list[np.ndarray] = []
            for spool in spools:
                tables = list(spool)
                if tables:
                    wrong += self._wrong(pa.concat_tables(tables))
        pairs = np.concatenate(wrong) if wrong else np.empty((0, 2), np.int64)
        self.verified.found = len(pairs)
        if len(pairs):
            pairs = pairs[np.argsort(pairs[:, 0], kind="stable")][:_MOST]
            self.verified.differences = self._told(pairs)
        self.verified.sealed, self.verified.seal = self.seals.sealed, self.seals.last
        altered = list(self.seals.wrong())
        if expect is not None and not self.seals.has(expect):
            altered.append((None, None, "no batch has the seal that is expected"))
        names = _ALTERED.names
        lines = [dict(zip(names, line, strict=True)) for line in altered]
        self.verified.altered = pa.Table.from_pylist(lines, _ALTERED)
        return self.verified

    # -- events -----------------------------------------------------------------------------------------

    def _events(self) -> Iterator[pa.Table]:
        for page, sides in ahead(self._read()):
            if page is not None:
                self.seals.add(page)
            for rows, keys, numbers in sides:
                yield self._hashed(rows, keys, numbers)

    def _read(self) -> Iterator[tuple[Existing | None, list[tuple[Existing, list[pa.Array], np.ndarray]]]]:
        """Pages of the history, each with the rows that its changes took and put; then the rows of the table. All that
        asks the store is done here, since a store answers one thread at a time."""
        past, columns = self.past, [*self.common, *self.late]
        # only a seal is over all columns
        wanted = None if self.seals.sealed else [NUMBER, "action", *past.stored(columns)]
        for page in past.changes((), wanted):
            self.verified.changes += len(page.positions)
            actions = one_array(page.values["action"])
            numbers = page.values[NUMBER].to_numpy()
            sides = []
            for side, none, odd in (("old", "insert", 0), ("new", "delete", 1)):
                there = np.flatnonzero(pc.not_equal(actions, none).to_numpy(zero_copy_only=False))
                if len(there):
                    rows = past.rows(page if len(there) == len(numbers) else page.take(there), side, columns)
                    sides.append((rows, past.fold_keys(rows.values), numbers[there] * 2 + odd))
            yield page, sides
        for page in past.session.scan(past.info, columns, key=past.key):
            self.verified.rows += len(page.positions)
            yield None, [(page, past.fold_keys(page.values), np.full(page.values.num_rows, _TABLE))]

    def _hashed(self, rows: Existing, keys: list[pa.Array], numbers: np.ndarray) -> pa.Table:
        columns = {"key": hash_rows(keys, self.seed), "event": numbers}
        columns["row"] = self._image(rows, self.common)
        columns |= {f"late{place}": self._image(rows, [name]) for place, name in enumerate(self.late)}
        return pa.table(columns)

    def _image(self, rows: Existing, names: Sequence[str]) -> np.ndarray:
        """A hash of some columns of each row, also of cells for which their type has no value."""
        hashed = hash_rows([one_array(rows.values[name]) for name in names], self.seed)
        for place, name in enumerate(names):
            if name in rows.verbatim:
                cells = rows.verbatim[name]
                hashed[cells.mask] ^= hash_rows([plain(cells.text)], self.seed + place + 1)
        return hashed

    def _wrong(self, events: pa.Table) -> list[np.ndarray]:
        """Pairs of events that do not follow each other; -1 as the second: there should be one."""
        key, number, row = (events[name].to_numpy() for name in ("key", "event", "row"))
        order = np.lexsort((number, key))
        key, number, row = key[order], number[order], row[order]
        same = key[1:] == key[:-1]  # the event and the one before it are of one key
        put, table = number % 2 == 1, number == _TABLE
        put = put & ~table
        before, after = (same & put[:-1]), (same & (put[1:] | table[1:]))
        differ = row[1:] != row[:-1]
        for place, began in enumerate(self.late.values()):
            late = events[f"late{place}"].to_numpy()[order]
            known = number // 2 >= began
            differ |= (late[1:] != late[:-1]) & known[1:] & known[:-1]
        taken = ~put & ~table
        bad = before & (taken[1:] | table[1:]) & differ  # it is not what was put there
        bad |= before & put[1:]  # a row was put where there was one
        bad |= same & taken[:-1] & (taken[1:] | table[1:])  # a row was taken, or stands, where there was none
        bad |= same & table[:-1] & after  # several rows have the key
        last = np.append(~same, True)
        gone = last & put
        alone = np.append(True, ~same) & table
        self.verified.unknown += int(alone.sum())
        pairs = [np.stack([number[:-1][bad], number[1:][bad]], axis=1)] if bad.any() else []
        if gone.any():
            pairs.append(np.stack([number[gone], np.full(int(gone.sum()), -1)], axis=1))
        return pairs

    # -- differences ------------------------------------------------------------------------------------

    def _told(self, pairs: np.ndarray) -> pa.Table:
        """The differences between the rows of pairs of events, column by column."""
        past = self.past
        first, second = pairs[:, 0], pairs[:, 1]
        where = first != _TABLE
        first, second = first[where], second[where]
        before = self._rows_of(first)
        after_is_change = (second >= 0) & (second != _TABLE)
        lines: list[pa.Table] = []
        if after_is_change.any():
            some = np.flatnonzero(after_is_change)
            lines += self._compare(before.take(some), self._rows_of(second[some]), first[some], second[some])
        at_table = np.flatnonzero(second == _TABLE)
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

    def _rows_of(self, events: np.ndarray) -> Existing:
        """The rows that events put or took."""
        past, columns = self.past, [*self.common, *self.late]
        numbers, place = np.unique(events // 2, return_inverse=True)
        kept = past.session.fetch(past.kept, pa.table({NUMBER: pa.array(numbers)}))
        sides = [past.rows(kept, side, columns) for side in ("old", "new")]
        return together(sides).take(place + (events % 2) * len(numbers))

    def _compare(self, before: Existing, after: Existing, first: np.ndarray, second: np.ndarray) -> list[pa.Table]:
        taken = first % 2 == 0
        lines = []
        in_table = second == _TABLE
        for mask, words in ((taken & in_table, "the row is in the table, and the history has deleted it"),
                            (taken & ~in_table, "a change of the row is missing in between"),
                            (~taken & (second % 2 == 1) & ~in_table, "the row was put there twice")):  # fmt: skip
            places = np.flatnonzero(mask)
            if len(places):
                lines.append(self._line(before.take(places), None, None, None, first[places] // 2, words))
        rest = np.flatnonzero(~taken & ((second % 2 == 0) | in_table))
        for name in [*self.common, *self.late]:
            mask = unlike(before, after, name)
            mask[first // 2 < self.late.get(name, 0)] = False
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
