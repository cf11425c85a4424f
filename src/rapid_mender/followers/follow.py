"""Following a table in Python: its changes, each once and in order, for whatever stands outside of a database."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal

import numpy as np
import pyarrow as pa

from ..changes.given import whole
from ..changes.netting import as_changes, netted
from ..changes.past import NUMBER, past_if_any, together
from ..changes.query import as_told, whole_changes
from ..core.existing import Existing
from ..core.own_tables import FOLLOWERS
from ..errors import JobError
from ..stores.contract import Session, Store
from ..stores.urls import opened
from .fingerprints import fingerprint_at, fingerprint_of
from .positions import Place, make_ready, now, position_of, put_row, writing
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
        self._given: Place | None = None
        self.held_by: list[str] = []
        """Who may still commit changes before those that are there: so these wait."""
        self._entered = opened(store)
        self._store = self._entered.__enter__()
        try:
            with self._store.begin(write=False) as session:
                self.table = session.describe(table).name
                known = position_of(session, name, self.table)
            self._tail = Tail(self._store, self.table)
            self._at = self._begin(start) if known is None else known
            self._farthest = self._at.position
        except BaseException:
            self._entered.__exit__(None, None, None)
            raise

    def _begin(self, start: Literal["first", "last"] | int) -> Place:
        """Where a new follower begins, which is kept."""
        known = Place(start if isinstance(start, int) else 0, 0, None)
        if start != "first":
            with self._tail.look(0, 0, whole=False) as view:
                if known.position > view.until:
                    raise JobError(f"start is {start}, and the history of {self.table!r} ends with change {view.until}")
                if start == "last":
                    known = Place(view.until, view.batch, None)
        with writing(self._store, FOLLOWERS) as session:
            return position_of(session, self.name, self.table) or self._keep(session, known)

    @property
    def position(self) -> int:
        """The last change that was acknowledged."""
        return self._at.position

    def changes(self, limit: int | None = None) -> Iterator[pa.Table]:
        """The changes after the position, as far as all before them are there, as Arrow tables with the columns of the
        history; `limit`: at most so many, before they are made net. Nothing is held open in between."""
        whole("limit", limit, 1)
        at, self._given = self._at, None
        while limit is None or limit > 0:
            most = _AT_ONCE if self.net else _PAGE
            with self._tail.look(at.position, self._at.batch, fingerprint=at.fingerprint) as view:
                self.held_by = view.held_by
                told, last, count = self._step(view, at, most if limit is None else min(most, limit))
            if last.position == at.position:
                return
            at = self._given = last
            limit = None if limit is None else limit - count
            self._farthest = max(self._farthest, last.position)
            if told.num_rows:
                yield told

    def _step(self, view: View, at: Place, most: int) -> tuple[pa.Table, Place, int]:
        """The next changes; where the last of them is, and how many they were."""
        pages: list[Existing] = []
        count = 0
        for page in view.changes(at.position, most=most):
            pages.append(page.take(np.arange(min(len(page.positions), most - count))))
            count += len(pages[-1].positions)
            if count >= most:
                break
        if not count or view.past is None:
            return pa.table({}), at, 0
        last = Place(int(pages[-1].values[NUMBER][-1].as_py()), view.batch, fingerprint_of(pages[-1]))
        if self.net:
            return as_told(view.past, as_changes(view.past, netted(view.past, pages, view.past.columns))), last, count
        return as_told(view.past, whole_changes(together(pages))), last, count

    def acknowledge(self, position: int | None = None) -> None:
        """Keep that the changes up to a position are done with; without one, all that the last call of `changes` has
        given.

        Raises JobError if another process follows under the same name.
        """
        whole("position", position)
        given = self._given if position is None else Place(position, self._at.batch, None)
        if given is None or given.position == self._at.position:
            return
        if not self._at.position <= given.position <= self._farthest:
            raise JobError(
                f"{self.name} cannot acknowledge change {given.position}: it has been given those after "
                f"{self.position} up to {self._farthest}"
            )
        with self._store.begin(write=True) as session:  # its row is there, and is looked at
            make_ready(session, FOLLOWERS)
            self._at = self._keep(session, given, {"position": self._at.position})

    def _keep(self, session: Session, at: Place, expected: dict[str, int] | None = None) -> Place:
        """Keep where the follower is; with a fingerprint, if it has none."""
        if at.fingerprint is None and at.position:
            at = at._replace(fingerprint=fingerprint_at(past_if_any(session, self.table), at.position))
        values = {
            "position": at.position, "batch_no": at.batch, "fingerprint": at.fingerprint, "seen_at": now(),
            "moved_at": now(), "held_by": "; ".join(self.held_by) or None,
        }  # fmt: skip
        put_row(session, FOLLOWERS, {"follower": self.name, "table_name": self.table}, values, expected)
        return at

    def close(self) -> None:
        """Close what is held open."""
        self._tail.close()
        self._entered.__exit__(None, None, None)

    def __enter__(self) -> Follower:
        return self

    def __exit__(self, *error: object) -> None:
        self.close()
