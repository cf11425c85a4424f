"""What the history tells of each key of a table: the rows that changes put there and took away, one after the other,
and the row that stands there now."""

from __future__ import annotations

import secrets
from collections import Counter
from collections.abc import Iterator
from contextlib import ExitStack, closing
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.existing import Existing
from ..core.hashing import hash_rows
from ..core.keys import one_array
from ..core.repeats import among
from ..errors import JobError
from ..incoming import Spool
from ..incoming.ahead import ahead
from .past import NUMBER, Past, together
from .seal_check import SealCheck

TABLE = np.int64(np.iinfo(np.int64).max)
"""The number of the event that is the row of the table itself."""
_AT_ONCE = 1 << 20  # events that are sorted at once


@dataclass(frozen=True)
class Events:
    """Events of some keys, sorted by key and then by number.

    A change has two: it takes its old row from its key (the number of the event is twice its own), and puts its new
    row there (one more).
    """

    key: np.ndarray
    """A hash of the key."""
    number: np.ndarray
    row: np.ndarray
    """A hash of the row."""
    late: list[np.ndarray]
    """For each column that the history has had since some change only, a hash of its value."""


class Chains:
    """The events of all keys, in parts that fit into memory."""

    def __init__(self, past: Past, seals: SealCheck | None = None) -> None:
        """`seals` are checked on the way."""
        self.past, self.seals = past, seals
        self.seed = secrets.randbits(64)
        self.late = {name: began for name, began in past.began.items() if name in past.columns}
        """Columns, and the first change that knows of each."""
        self.common = [name for name in past.columns if name not in self.late]
        self.columns = [*self.common, *self.late]
        self.changes = self.rows = 0
        """How many were read."""
        self.of_batch: Counter[int | None] = Counter()
        """How many changes were read of each batch."""
        self.unknown = 0
        """How many rows are in the table that the history has never seen."""
        count = past.session.count(past.kept) * 2 + past.session.count(past.info)
        self._parts = max(1, -(-count // _AT_ONCE))

    def parts(self) -> Iterator[Events]:
        with ExitStack() as stack:
            spools = [stack.enter_context(closing(Spool(1 << 20))) for _ in range(self._parts)]
            for events in self._events():
                part = events["key"].to_numpy() % np.uint64(self._parts)
                for number in range(self._parts):
                    mine = events if self._parts == 1 else events.filter(pa.array(part == number))
                    if mine.num_rows:
                        spools[number].put(mine)
            for spool in spools:
                if tables := list(spool):
                    yield self._sorted(pa.concat_tables(tables))

    def _sorted(self, events: pa.Table) -> Events:
        order = np.lexsort((events["event"].to_numpy(), events["key"].to_numpy()))
        key, number, row, *late = (events[name].to_numpy()[order] for name in events.column_names)
        return Events(key, number, row, late)

    def differ(self, events: Events, first: np.ndarray, second: np.ndarray) -> np.ndarray:
        """A mask of the pairs of events, given by their places, whose rows differ in what the history knows of both."""
        differ = events.row[first] != events.row[second]
        for since, late in zip(self.late.values(), events.late, strict=True):
            known = (events.number[first] // 2 >= since) & (events.number[second] // 2 >= since)
            differ |= (late[first] != late[second]) & known
        return differ

    def breaks(self) -> np.ndarray:
        """Pairs of events that do not follow each other, a row a pair; -1 as the second: there should be one."""
        found = [pairs for events in self.parts() for pairs in self._breaks(events)]
        return np.concatenate(found) if found else np.empty((0, 2), np.int64)

    def _breaks(self, events: Events) -> list[np.ndarray]:
        key, number = events.key, events.number
        same = key[1:] == key[:-1]  # the event and the one before it are of one key
        put, table = number % 2 == 1, number == TABLE
        put = put & ~table
        before, after = (same & put[:-1]), (same & (put[1:] | table[1:]))
        every = np.arange(len(key))
        differ = self.differ(events, every[:-1], every[1:])
        taken = ~put & ~table
        bad = before & (taken[1:] | table[1:]) & differ  # it is not what was put there
        bad |= before & put[1:]  # a row was put where there was one
        bad |= same & taken[:-1] & (taken[1:] | table[1:])  # a row was taken, or stands, where there was none
        bad |= same & table[:-1] & after  # several rows have the key
        last = np.append(~same, True)
        gone = last & put
        alone = np.append(True, ~same) & table
        self.unknown += int(alone.sum())
        if not self.past.info.identifying and (bad.any() or gone.any()):
            sound = self._hold_as_copies(events, np.unique(np.concatenate([key[:-1][bad], key[gone]])))
            bad, gone = bad & ~among(key[:-1], sound), gone & ~among(key, sound)
        pairs = [np.stack([number[:-1][bad], number[1:][bad]], axis=1)] if bad.any() else []
        if gone.any():
            pairs.append(np.stack([number[gone], np.full(int(gone.sum()), -1)], axis=1))
        return pairs

    def _hold_as_copies(self, events: Events, keys: np.ndarray) -> np.ndarray:
        """Those of some keys, which several rows may share, whose rows hang together: going back from the rows that
        stand there now, each row that a change put there is among those that there were then."""
        starts, ends = (np.searchsorted(events.key, keys, side=side) for side in ("left", "right"))
        good = [self._holds_as_copies(events, range(a, b)) for a, b in zip(starts.tolist(), ends.tolist(), strict=True)]
        return keys[np.array(good, bool)]

    def _holds_as_copies(self, events: Events, places: range) -> bool:
        rows: Counter[tuple[int | None, ...]] = Counter()
        for place in reversed(places):
            number = int(events.number[place])
            late = zip(self.late.values(), events.late, strict=True)
            row = (int(events.row[place]), *(int(one[place]) if number // 2 >= since else None for since, one in late))
            if number != TABLE and number % 2:
                known = row if rows[row] else next((one for one in rows.elements() if _may_be(one, row)), None)
                if known is None:
                    return False
                rows[known] -= 1
            else:
                rows[row] += 1
        return True

    def rows_of(self, events: np.ndarray) -> Existing:
        """The rows that events of changes put or took, given by their numbers."""
        past = self.past
        numbers, place = np.unique(events // 2, return_inverse=True)
        kept = past.session.fetch(past.kept, pa.table({NUMBER: pa.array(numbers)}))
        sides = [past.rows(kept, side, self.columns) for side in ("old", "new")]
        return together(sides).take(place + (events % 2) * len(numbers))

    def standing(self) -> Iterator[tuple[Existing, np.ndarray]]:
        """The rows of the table, some at a time, and a hash of the key of each."""
        for page in self.past.session.scan(self.past.info, self.columns, key=self.past.key):
            yield page, self.past.hash_keys(page.values, self.seed)

    def _events(self) -> Iterator[pa.Table]:
        for page, sides in ahead(self._read()):
            if page is not None and self.seals is not None:
                self.seals.add(page)
            for rows, keys, numbers in sides:
                yield self._hashed(rows, keys, numbers)

    def _read(self) -> Iterator[tuple[Existing | None, list[tuple[Existing, list[pa.Array], np.ndarray]]]]:
        """Pages of the history, each with the rows that its changes took and put; then the rows of the table. All that
        asks the store is done here, since a store answers one thread at a time."""
        past, columns = self.past, self.columns
        # only a seal is over all columns
        wanted = (
            None
            if self.seals is not None and self.seals.sealed
            else [NUMBER, "batch_no", "action", *past.stored(columns)]
        )
        for page in past.changes((), wanted):
            self.changes += len(page.positions)
            for one in pc.value_counts(page.values["batch_no"]).to_pylist():
                self.of_batch[one["values"]] += one["counts"]
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
            self.rows += len(page.positions)
            yield None, [(page, past.fold_keys(page.values), np.full(page.values.num_rows, TABLE))]

    def _hashed(self, rows: Existing, keys: list[pa.Array], numbers: np.ndarray) -> pa.Table:
        columns = {"key": hash_rows(keys, self.seed), "event": numbers}
        columns["row"] = rows.hashes(self.common, self.seed)
        columns |= {f"late{place}": rows.hashes([name], self.seed) for place, name in enumerate(self.late)}
        return pa.table(columns)


def _may_be(one: tuple[int | None, ...], other: tuple[int | None, ...]) -> bool:
    """Whether two rows may be the same: they are in all that is known of both."""
    return all(a == b or a is None or b is None for a, b in zip(one, other, strict=True))


def agrees(past: Past) -> bool:
    """Whether a table has the rows that its history says, as far as that can be told: all of both is read."""
    try:
        return not len(Chains(past).breaks())
    except JobError:  # its rows cannot be told apart, or cannot hold what they held
        return False
