"""The end of a history: the changes after a position, as far as none can come before them any more.

A number is taken before its change is committed, and transactions may commit in another order than they took their
numbers, or never. So a number that is missing may still come. It is missing for good when it is missing still after
everybody has ended who wrote to the history when it was first seen to be missing. Up to the first that is not, changes
are given in the order of their numbers; of one key this is the order in which they were made, since whoever changes a
row has it locked when the number is taken.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..changes.holes import noted_holes
from ..changes.lost import captured_row, check_not_lost
from ..changes.past import NUMBER, Past, past_if_any
from ..core.existing import Existing
from ..core.own_tables import BATCHES_TABLE
from ..core.schema import TableInfo
from ..errors import JobError, StoreError
from ..stores.contract import Condition, OneWriter, Selection, Session, Store, Watch
from .fingerprints import check_fingerprint
from .side_by_side import are_many, read_side_by_side


@dataclass(frozen=True)
class View:
    """A table and its history at one moment, within a session."""

    store: Store
    session: Session
    info: TableInfo
    past: Past | None
    """None as long as the table has no history."""
    until: int
    """The last change up to which all are there for good."""
    batch: int
    """The newest batch of the table: merges into one table take turns, so none of a lower number can come."""
    held_by: list[str] = field(default_factory=list)
    """Who may still commit one before those that are there."""

    def changes(
        self, after: int, until: int | None = None, columns: Sequence[str] | None = None, most: int | None = None
    ) -> Iterator[Existing]:
        """The changes after a position, in order, some at a time; `columns`: only these of theirs. `most`: as many are
        wanted, or a few more."""
        if self.past is not None:
            until = self.until if until is None else min(until, self.until)
            wanted = until if most is None else min(until, after + most)
            if self.store.reads_by_spans and are_many(after, wanted):
                yield from read_side_by_side(self.store, self.past, after, until, columns)
                return
            yield from self.past.changes(self.past.between(after, until), columns)


_MANY = 1000


class Tail:
    """Looks at the end of a history, again and again."""

    def __init__(self, store: Store, table: str) -> None:
        self.store, self.table = store, table
        self._watch: Watch | None = None
        self._settled = 0
        """Up to this change nothing can come any more."""
        self._pending: tuple[int, Any] | None = None
        """Up to which change somebody may still commit one, and who."""
        self._checked = -1
        """The newest batch when it was seen that nothing is lacking."""
        self._captured = False
        """The table was captured then."""

    def close(self) -> None:
        """Close what is held open."""
        if self._watch is not None:
            watch, self._watch = self._watch, None
            watch.close()

    @contextmanager
    def look(
        self, position: int, batch: int, whole: bool = True, rows: bool = False, fingerprint: str | None = None
    ) -> Iterator[View]:
        """The table and the changes after a position, which was noted when `batch` was the newest, or an older one.
        Raises JobError if some of these changes are gone, or were not kept; not so unless the `whole` is wanted.
        `rows`: those of the table are read too, as of the same moment. `fingerprint` tells the history that was
        followed from another one: JobError if it is another."""
        for last in (False, True):
            if self._pending is not None and self._is_over():
                self._settled, self._pending = max(self._settled, self._pending[0]), None
            with self.store.begin(write=False) as session:
                info = session.describe(self.table)
                if rows:
                    session.hold(info)
                past = past_if_any(session, info.name, info)
                check_fingerprint(past, info.name, fingerprint)
                newest_batch = _newest_batch(session, info.name)
                is_new = whole and newest_batch != self._checked  # also where a capture began
                if is_new:
                    self._captured = captured_row(session, info.name) is not None
                if whole and self._captured:
                    check_not_lost(session, info.name)
                if is_new:
                    _check(session, info.name, past, position, batch)
                    self._checked = newest_batch
                if past is None:
                    yield View(self.store, session, info, None, position, newest_batch)
                    return
                if not whole and past.begins is not None:  # what was pruned is there no more, and nobody waits for it
                    position = max(position, past.begins.change)
                until, newest = self._until(past, position, last)
                over = until != newest and self._mark(past, newest)
                if until is not None and (last or not over):
                    held = self._holders() if until < newest else []
                    yield View(self.store, session, info, past, until, newest_batch, held)
                    return

    def _until(self, past: Past, position: int, certain: bool) -> tuple[int | None, int]:
        """Up to which change all are there for good, and the newest. Unless that is to be `certain`, many are not
        looked at, and it is None: as a rule nobody writes, and then whatever is missing is so for good."""
        newest = past.session.last(past.kept.name, NUMBER)
        if isinstance(self._watch_of(past), OneWriter):
            return max(newest, position), max(newest, position)
        at = max(position, self._settled)
        if newest - at > _MANY and not certain and self._pending is None:
            return None, newest
        pages = past.changes([[Condition(NUMBER, ">", at)]], [NUMBER])
        for page in pages:
            numbers = page.values[NUMBER].to_numpy()
            newest = max(newest, int(numbers[-1]))
            gaps = np.flatnonzero(numbers != np.arange(at + 1, at + 1 + len(numbers)))
            if len(gaps):
                return at + int(gaps[0]), newest
            at = int(numbers[-1])
        return at, at

    def _watch_of(self, past: Past) -> Watch:
        if self._watch is None:
            self._watch = self.store.watch(past.kept)
        return self._watch

    def _mark(self, past: Past, newest: int) -> bool:
        """Note who may still fill a gap, unless that is noted. Returns whether all of them have ended by now."""
        if self._pending is None:
            self._pending = newest, self._watch_of(past).mark()
        return self._is_over()

    def _is_over(self) -> bool:
        """Whether all have ended who may fill a gap. Who cannot be asked now is asked next time."""
        assert self._pending is not None
        if self._watch is None:
            self._pending = None
            return False
        try:
            return self._watch.over(self._pending[1])
        except StoreError:
            self._pending = None
            with suppress(StoreError):
                self.close()
            raise

    def _holders(self) -> list[str]:
        if self._pending is None or self._watch is None:
            return []
        return self._watch.holders(self._pending[1])


def _newest_batch(session: Session, table: str) -> int:
    kept = session.find_own(BATCHES_TABLE)
    if kept is None:
        return 0
    of_table = [[Condition("table_name", "=", table)]]
    newest = session.read(kept, Selection(of_table, "batch_no", 1, columns=["batch_no"])).values["batch_no"]
    return int(newest[0].as_py()) if len(newest) else 0


def _check(session: Session, table: str, past: Past | None, position: int, batch: int) -> None:
    """Raise JobError if changes after a position were removed, or never kept."""
    begins = past.begins if past is not None else None
    if begins is not None and position < begins.change:
        raise JobError(
            f"the history of {table!r} begins on {begins.words}, after change {begins.change}: the "
            f"changes after {position} that are to be followed were pruned; compare the tables, and mend what differs"
        )
    for hole in noted_holes(session, table):
        if hole.batch > batch and (hole.after is None or hole.after >= position):
            raise JobError(
                f"{hole.words(table)}, so nobody can follow what was done; compare the tables, and mend what differs"
            )
