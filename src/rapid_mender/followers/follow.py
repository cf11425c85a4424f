"""Following a table in Python: its changes, each once and in order, for whatever stands outside of a database."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal

import numpy as np
import pyarrow as pa

from ..changes.given import whole
from ..changes.netting import as_changes, netted
from ..changes.past import NUMBER, together
from ..changes.query import as_told
from ..core.existing import Existing
from ..core.own_tables import FOLLOWERS
from ..errors import JobError
from ..stores.contract import Session, Store
from ..stores.urls import opened
from .positions import now, position_of, put_row
from .tail import Tail, View

_AT_ONCE = 1 << 20  # changes that are made net at once
_PAGE = 1 << 17  # changes that are given at once otherwise


class Follower:
    """Follows the changes of a table from where it was left off.

        with rm.Follower("sqlite:///register.db", "trees", "printer") as follower:
            for changes in follower.changes():
                print(changes.to_pylist())
                follower.acknowledge()

    Changes come at least once, and never out of order: those that were not acknowledged come again. `start` is where a
    follower begins whom nobody knows yet: with the "first" change of the history, after the "last" one, or after a
    position. With `net`, what several changes of a row come to is given as one.

    Raises JobError if there is a follower of that name of another table, or if changes that are to come were pruned or
    never kept; StoreError if the table is not there.
    """

    def __init__(
        self,
        store: str | Store,
        table: str,
        name: str,
        *,
        net: bool = False,
        start: Literal["first", "last"] | int = "first",
    ) -> None:
        if not isinstance(name, str) or not name.strip():
            raise JobError("a follower needs a name, by which its position is kept")
        if start not in ("first", "last"):
            if isinstance(start, str):
                raise JobError(f"start is 'first', 'last' or a position, not {start!r}")
            whole("start", start)
        self.name, self.net = name, net
        self._given: tuple[int, int] | None = None
        self.held_by: list[str] = []
        """Who may still commit changes before those that are there: so these wait."""
        self._entered = opened(store)
        self._store = self._entered.__enter__()
        try:
            with self._store.begin(write=False) as session:
                self.table = session.describe(table).name
                known = position_of(session, name, self.table)
            self._tail = Tail(self._store, self.table)
            self._position, self._batch = self._begin(start) if known is None else known
            self._farthest = self._position
        except BaseException:
            self._entered.__exit__(None, None, None)
            raise

    def _begin(self, start: Literal["first", "last"] | int) -> tuple[int, int]:
        """Where a new follower begins, which is kept."""
        known = (start if isinstance(start, int) else 0), 0
        if start != "first":
            with self._tail.look(0, 0, whole=False) as view:
                if known[0] > view.until:
                    raise JobError(f"start is {start}, and the history of {self.table!r} ends with change {view.until}")
                known = (view.until, view.batch) if start == "last" else known
        with self._store.begin(write=True) as session:
            self._keep(session, known)
        return known

    @property
    def position(self) -> int:
        """The last change that was acknowledged."""
        return self._position

    def changes(self, limit: int | None = None) -> Iterator[pa.Table]:
        """The changes after the position, as far as all before them are there, as Arrow tables with the columns of the
        history; `limit`: at most so many, before they are made net. Nothing is held open in between."""
        whole("limit", limit, 1)
        at, self._given = self._position, None
        while limit is None or limit > 0:
            most = _AT_ONCE if self.net else _PAGE
            with self._tail.look(at, self._batch) as view:
                self.held_by = view.held_by
                told, last, count = self._step(view, at, most if limit is None else min(most, limit))
            if last == at:
                return
            at, limit, self._given = last, None if limit is None else limit - count, (last, view.batch)
            self._farthest = max(self._farthest, last)
            if told.num_rows:
                yield told

    def _step(self, view: View, at: int, most: int) -> tuple[pa.Table, int, int]:
        """The next changes; the number of the last of them, and how many they were."""
        pages: list[Existing] = []
        count = 0
        for page in view.changes(at, most=most):
            pages.append(page.take(np.arange(min(len(page.positions), most - count))))
            count += len(pages[-1].positions)
            if count >= most:
                break
        if not count or view.past is None:
            return pa.table({}), at, 0
        last = int(pages[-1].values[NUMBER][-1].as_py())
        if self.net:
            return as_told(view.past, as_changes(view.past, netted(view.past, pages, view.past.columns))), last, count
        return as_told(view.past, together(pages).values), last, count

    def acknowledge(self, position: int | None = None) -> None:
        """Keep that the changes up to a position are done with; without one, all that the last call of `changes` has
        given.

        Raises JobError if another process follows under the same name.
        """
        whole("position", position)
        given = self._given if position is None else (position, self._batch)
        if given is None or given[0] == self._position:
            return
        if not self._position <= given[0] <= self._farthest:
            raise JobError(
                f"{self.name} cannot acknowledge change {given[0]}: it has been given those after {self._position} up "
                f"to {self._farthest}"
            )
        with self._store.begin(write=True) as session:
            self._keep(session, given, {"position": self._position})
        self._position, self._batch = given

    def _keep(self, session: Session, at: tuple[int, int], expected: dict[str, int] | None = None) -> None:
        values = {
            "position": at[0], "batch_no": at[1], "seen_at": now(), "moved_at": now(),
            "held_by": "; ".join(self.held_by) or None,
        }  # fmt: skip
        put_row(session, FOLLOWERS, {"follower": self.name, "table_name": self.table}, values, expected)

    def close(self) -> None:
        """Close what is held open."""
        self._tail.close()
        self._entered.__exit__(None, None, None)

    def __enter__(self) -> Follower:
        return self

    def __exit__(self, *error: object) -> None:
        self.close()
