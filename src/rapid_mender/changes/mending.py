"""Finding what was changed while the capture of a table was paused, by the last rows that its history has."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np
import pyarrow as pa

from ..core.compare import Patterns, unlike
from ..core.existing import Existing
from ..errors import StoreError
from . import form
from .chains import TABLE, Chains, Events
from .past import Past
from .recorder import Recorder, verbatim_cells

_AT_ONCE = 1 << 16
_REASON = "found when capture was resumed"


@dataclass
class Mended:
    """What was found to have changed while a capture was paused, and is recorded as one batch, by its number; None if
    there was nothing.

    Of `unknown` rows the history had no change: whether these were changed or added, or others of their kind removed,
    nobody knows. If there are any, the pause stays a hole in the history.
    """

    table: str
    batch: int | None = None
    counts: dict[str, int] = field(default_factory=lambda: dict.fromkeys(("insert", "update", "delete"), 0))
    unknown: int = 0

    @property
    def whole(self) -> bool:
        """Whether all that changed was found."""
        return not self.unknown


class _Found(NamedTuple):
    """Keys whose rows are not as the history last had them."""

    key: np.ndarray
    """A hash of each."""
    was: np.ndarray
    """The event that last put or took a row before the pause, -1 if there is none."""
    then: np.ndarray
    """The first event since, -1 if there is none."""
    action: np.ndarray

    def where(self, mask: np.ndarray) -> _Found:
        return _Found(*(one[mask] for one in self))


class Mending:
    """Compares the rows of before a pause with those of after it: what the first change since took, or what stands."""

    def __init__(self, past: Past, recorder: Recorder, position: int, rows: int | None) -> None:
        """`position` is the last change before the pause; the table had so many `rows` then, if that is known."""
        self.past, self.recorder, self.position, self.rows = past, recorder, position, rows
        self.chains = Chains(past)
        self.mended = Mended(past.info.name)
        self._live = 0

    def run(self, most: int) -> Mended:
        """Record what is found. Raises StoreError if that is more than `most`."""
        parts = [self._found(events) for events in self.chains.parts()]
        found = _Found(*(np.concatenate(each) for each in zip(*parts, strict=True))) if parts else None
        if found is None:
            return self.mended
        if self._live != self.rows:  # else the history knew every row, and a row that it does not know is new
            new = found.was < 0
            self.mended.unknown = int(new.sum()) or 1
            found = found.where(~new)
        if len(found.key) > most:
            raise StoreError(
                f"{len(found.key):,} rows of {self.past.info.name!r} changed, and numbers are kept free for {most:,}; "
                "compare the tables that follow it, and mend what differs"
            )
        gone = found.where(found.action == "delete")
        for at in range(0, len(gone.key), _AT_ONCE):
            self._record("delete", self.chains.rows_of(gone.was[at : at + _AT_ONCE]), None, None)
        for action in ("update", "insert"):
            some = found.where((found.action == action) & (found.then != TABLE))
            for at in range(0, len(some.key), _AT_ONCE):
                was, then = (one[at : at + _AT_ONCE] for one in (some.was, some.then))
                self._both(action, was, self.chains.rows_of(then))
        for some, rows in self._standing(found.where(found.then == TABLE)):
            for action in ("update", "insert"):
                here = some.action == action
                self._both(action, some.was[here], rows.take(np.flatnonzero(here)))
        return self.mended

    def _found(self, events: Events) -> _Found:
        """The keys whose last event before the pause and first one since do not fit together."""
        key, number = events.key, events.number
        first = np.flatnonzero(np.append(True, key[1:] != key[:-1]))
        ends = np.append(first[1:], len(key))
        since = first + np.add.reduceat(number // 2 <= self.position, first)
        known, later = since > first, since < ends
        was, then = np.where(known, since - 1, since), np.where(later, since, since - 1)  # places that there are
        put = known & (number[was] % 2 == 1)
        there = later & ((number[then] % 2 == 0) | (number[then] == TABLE))
        self._live += int(put.sum())
        action = np.full(len(first), "", "<U6")
        action[put & ~there] = "delete"
        action[~put & there] = "insert"
        action[put & there & self.chains.differ(events, was, then)] = "update"
        return _Found(
            key[first], np.where(known, number[was], -1), np.where(later, number[then], -1), action
        ).where(action != "")  # fmt: skip

    def _standing(self, found: _Found) -> Iterator[tuple[_Found, Existing]]:
        """Of keys the rows that stand in the table, some at a time."""
        order = np.argsort(found.key)
        found = _Found(*(one[order] for one in found))
        if not len(order):
            return
        for rows, keys in self.chains.standing():
            at = np.minimum(np.searchsorted(found.key, keys), len(order) - 1)
            hit = np.flatnonzero(found.key[at] == keys)
            if len(hit):
                some = at[hit]
                yield _Found(*(one[some] for one in found)), rows.take(hit)

    def _both(self, action: str, was: np.ndarray, new: Existing) -> None:
        """Record updates or inserts; the old rows are those that an event put."""
        if action == "insert":
            self._record("insert", None, new, None)
            return
        old = self.chains.rows_of(was)
        changed = {name: unlike(old, new, name) for name in self.chains.columns}
        for name, began in self.chains.late.items():
            changed[name][was // 2 < began] = False
        differ = np.flatnonzero(np.any(list(changed.values()), axis=0))
        changed = {name: mask[differ] for name, mask in changed.items() if mask.any()}
        texts = Patterns(changed, len(differ)).texts(form.spell_changed)
        self._record("update", old.take(differ), new.take(differ), texts)

    def _record(self, action: str, old: Existing | None, new: Existing | None, changed: pa.Array | None) -> None:
        rows = old if old is not None else new
        assert rows is not None
        count = rows.values.num_rows
        if not count:
            return
        self.recorder.await_changes()
        sides = {side: one for side, one in (("old", old), ("new", new)) if one is not None}
        values = [None if one is None else one.values for one in (old, new)]
        why = pa.repeat(_REASON, count)
        changes = form.build(self.past.info, action, values[0], values[1], changed, why)
        self.recorder.record(action, changes, verbatim_cells(**sides))
        self.mended.counts[action] += count
