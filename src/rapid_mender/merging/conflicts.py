"""Rows that an undo cannot put back as they were: changed since, or refused. Noted with both values."""

from __future__ import annotations

import numpy as np
import pyarrow as pa

from ..changes.past import Past
from ..core.compare import unlike
from ..core.existing import Existing
from ..core.row_numbers import is_row
from ..core.slots import Slots

LINES = pa.schema([(name, pa.string()) for name in ("column", "left", "now", "why")])
_GONE, _BACK, _CHANGED = "the row is gone", "there is a row again", "changed since"
_BEHIND = ", and the history does not say by whom"
_SINCE = "since"
"""The column of the notes that says whether the row is another one since the changes that are undone."""
_SEVERAL, _ODD = "several rows have this key", "it cannot be written back in the form that it had"


def key_of(old: Existing, new: Existing, slots: Slots, key: list[str]) -> pa.Table:
    """The key under which the row of each slot stands, or stood: of the new row after, else of the old row before."""
    both = pa.concat_tables([new.values.select(key), old.values.select(key)])
    place = np.where(slots.has, slots.after, slots.before + new.values.num_rows)
    return both.take(pa.array(place))


def sets(old: Existing, new: Existing, slots: Slots, name: str) -> np.ndarray:
    """A mask of the slots whose changes set a column: a row that came or went is set as a whole."""
    mask = np.ones(len(slots), bool)
    both = np.flatnonzero(slots.had & slots.has)
    mask[both] = unlike(new.take(slots.after[both]), old.take(slots.before[both]), name)
    return mask


class Conflicts:
    """Notes conflicts. `old` and `new` are the rows of the changes that are undone, in some columns."""

    def __init__(self, past: Past, columns: list[str], old: Existing, new: Existing) -> None:
        self.past, self.columns, self.old, self.new = past, columns, old, new
        self._noted: list[pa.Table] = []

    def __len__(self) -> int:
        return sum(len(one) for one in self._noted)

    def table(self, last: int) -> pa.Table:
        """All of them: the key, column, what was left in it, what is there now, and why. `last`: the last change that
        is to be undone."""
        if not self._noted:
            return LINES.empty_table()
        every = self._by_row(pa.concat_tables(self._noted))
        since = np.flatnonzero(every.column(every.num_columns - 1).to_numpy())
        every = every.select(range(every.num_columns - 1))
        if not len(since):
            return every
        keys = self._keys(every)
        why = every["why"].to_pylist()
        columns = every["column"].take(pa.array(since)).to_pylist()
        batches = self.past.last_batches(keys.take(pa.array(since)), columns, last)
        for at, batch in zip(since.tolist(), batches, strict=True):
            why[at] += f", by batch {batch}" if batch else ", by another program" if batch == 0 else _BEHIND
        return every.set_column(every.num_columns - 1, "why", pa.array(why, pa.string()))

    def _keys(self, lines: pa.Table) -> pa.Table:
        return lines.select(range(len(self.past.key))).rename_columns(self.past.key)

    def _by_row(self, lines: pa.Table) -> pa.Table:
        """The lines of a row together, the rows in the order in which they were met."""
        hashed = self.past.hash_keys(self._keys(lines), 0)
        _, first, row = np.unique(hashed, return_index=True, return_inverse=True)
        return lines.take(pa.array(np.argsort(first[row], kind="stable")))

    def look(self, slots: Slots, there: Existing, row: np.ndarray, matches: np.ndarray) -> np.ndarray:
        """Note the rows that are not as the batches left them. Returns a mask of these.

        `there` are the rows of the table, at the places `row`; `matches` is how many each slot has.
        """
        left = slots.has
        several = matches > 1
        gone, again = left & (matches == 0), ~left & (matches > 0) & ~several
        changed = np.zeros(len(slots), bool)
        both = np.flatnonzero(left & (matches == 1))
        if len(both):
            was, now = self.new.take(slots.after[both]), there.take(row[both])
            differing = {name: unlike(now, was, name) for name in self.columns}
            for name, mask in differing.items():
                if mask.any():  # what these changes did not set is none of theirs; what is back needs nothing
                    mask &= sets(self.old, self.new, slots.take(both), name)
                    back = np.flatnonzero(mask & slots.had[both])
                    mask[back] = unlike(now.take(back), self.old.take(slots.before[both[back]]), name)
            changed[both] = np.any(list(differing.values()), axis=0)
            for name, mask in differing.items():
                if mask.any():
                    some = np.flatnonzero(mask)
                    cells = was.texts(name, some), now.texts(name, some)
                    self.note(slots, both[some], _CHANGED, name, *cells, since=True)
        self.note(slots, np.flatnonzero(gone), _GONE, since=True)
        self.note(slots, np.flatnonzero(again), _BACK, since=True)
        self.note(slots, np.flatnonzero(several), _SEVERAL)
        return gone | again | changed

    def gone(self, slots: Slots, mask: np.ndarray) -> None:
        """Note that rows are not there any more."""
        self.note(slots, np.flatnonzero(mask), _GONE, since=True)

    def odd(self, slots: Slots, there: Existing, row: np.ndarray) -> np.ndarray:
        """A mask of the rows with a cell that stood in another form than its column's, and does so no more."""
        mask = np.zeros(len(slots), bool)
        back = np.flatnonzero(slots.had)
        old = self.old.take(slots.before[back])
        for name, cells in old.verbatim.items():
            here = cells.mask.copy()
            stands = np.flatnonzero(is_row(row[back]))
            if len(stands):
                here[stands] &= unlike(there.take(row[back][stands]), old.take(stands), name)
            if here.any():
                some = np.flatnonzero(here)
                self.note(slots, back[some], _ODD, name, old.texts(name, some))
                mask[back[some]] = True
        return mask

    def note(
        self,
        slots: Slots,
        places: np.ndarray,
        why: str | list[str],
        column: str | None = None,
        left: pa.Array | None = None,
        now: pa.Array | None = None,
        since: bool = False,
    ) -> None:
        """Note conflicts about the rows of some slots; `since`: these were changed since, by somebody who is sought."""
        count = len(places)
        if not count:
            return
        none = pa.nulls(count, pa.string())
        reasons = pa.repeat(why, count) if isinstance(why, str) else pa.array(why, pa.string())
        keys = key_of(self.old, self.new, slots.take(places), self.past.key)
        columns = {"column": pa.repeat(pa.scalar(column, pa.string()), count), "left": left, "now": now, "why": reasons}
        lines = {name: none if one is None else one for name, one in columns.items()}
        named = [*apart(keys.column_names), *lines, _SINCE]
        self._noted.append(pa.table([*keys.columns, *lines.values(), pa.repeat(since, count)], names=named))


def apart(key: list[str]) -> list[str]:
    """The names of key columns among the conflicts."""
    return [f"key_{name}" if name in LINES.names else name for name in key]
