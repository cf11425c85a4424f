"""Files that follow a table: each change in one of them, once.

A part is written under a hidden name; then the state says that it is next; then it gets its name, which tells the span
of its changes; then the state says that it is there. So after a crash it is known whether the part has its name, also
if a reader has taken it away meanwhile.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Any

import numpy as np
import pyarrow as pa

from ..changes.events import OddCells, Page, event_lines
from ..changes.export import lines_into, parquet_into
from ..changes.form import build
from ..changes.guard import guard_after
from ..changes.past import NUMBER
from ..changes.query import as_told
from ..changes.recorder import Recorder
from ..core.existing import Existing
from ..core.own_tables import FIXED
from ..errors import JobError, StoreError
from ..jobs.sync_job import Sync
from ..stores.contract import Store
from .fingerprints import fingerprint_at
from .folder import Folder
from .sending import Sending
from .syncing import Synced, Syncing, altered_under_capture, known_of
from .tail import Tail, View

_DIGITS = 12


class FolderSyncing(Syncing):
    """A sync into files of a folder."""

    def __init__(self, job: Sync, folder: str, source: Store, tail: Tail, force: bool = False) -> None:
        super().__init__(job, source, tail, f"files in {folder}", force)
        self.folder = folder
        self.ending = ".events.jsonl" if job.format == "events" else ".parquet"
        self.about = {"follower": job.follower, "table": job.table}

    def go(self) -> Synced:
        """Write the changes that are there into files."""
        began, self.end = time.perf_counter(), None
        done = Synced(self.job.follower, self.source.where, self.job.table, self.folder, "")
        with Folder(self.folder) as files, files.alone():
            at = self._begin(files, done)
            while (next_at := self._step(files, at, done)) is not None:
                at = next_at
        done.position, done.seconds = at["position"], time.perf_counter() - began
        self.note(at, done.held_by)
        return done

    # -- state ------------------------------------------------------------------------------------------

    def _begin(self, files: Folder, done: Synced) -> dict[str, Any]:
        """Where the files are; what was begun is brought to an end."""
        state = files.state()
        if state is None:
            files.check_new()
            return self._start(files, done)
        named = {name: state.get(name) for name in self.about}
        if named != self.about:
            raise JobError(
                f"{self.folder} has the files of the follower {named['follower']!r} of table {named['table']!r}; take "
                "another folder"
            )
        there = state.get("then", state)
        at = {"position": there["position"], "batch_no": there["batch_no"], "fingerprint": there.get("fingerprint")}
        self._check_position(at["position"])
        if "next" in state:
            files.show(state["next"])
            files.keep(at | self.about)
        files.clear()
        return at

    def _check_position(self, position: int) -> None:
        with self.tail.look(0, 0, whole=False) as view:
            newest = Recorder(view.session, view.info, None, True).newest()
        if position > newest:
            raise JobError(
                f"the files in {self.folder} have come to change {position}, and the history of {self.job.table!r} to "
                f"{newest}: they are of another history; take another folder"
            )

    def _start(self, files: Folder, done: Synced) -> dict[str, Any]:
        at: dict[str, Any] = {"position": 0, "batch_no": 0, "fingerprint": None}
        with self.tail.look(0, 0, whole=False, rows=self.job.first) as view:
            self.check_name(view)
            send = self.sending(view)
            if self.job.first:
                at = {
                    "position": view.until,
                    "batch_no": view.batch,
                    "fingerprint": fingerprint_at(view.past, view.until),
                }
                rows = view.session.scan(view.info, send.needed, key=send.key)
                span = f"{0:0{_DIGITS}}-{at['position']:0{_DIGITS}}-first"
                done.filled = self._put(
                    files, send, view, span, (self._as_inserts(send, page) for page in rows), at, done
                )
            else:
                files.keep(self.about | at)
        self.note(at, [])
        return at

    # -- parts ------------------------------------------------------------------------------------------

    def _step(self, files: Folder, at: dict[str, Any], done: Synced) -> dict[str, Any] | None:
        """Write the next part; None if there are no changes."""
        with self.tail.look(at["position"], at["batch_no"], fingerprint=at["fingerprint"]) as view:
            done.held_by = view.held_by
            if self.is_over(view, at["position"]):
                return None
            done.notes = altered_under_capture(view)
            send, until = known_of(view, self.sending(view), at["position"])
            last = min(until, self._last(view, at["position"]))
            if view.past is None or last <= at["position"]:
                return None
            then = at | {"position": last, "fingerprint": fingerprint_at(view.past, last)}
            name = f"{at['position'] + 1:0{_DIGITS}}-{last:0{_DIGITS}}"
            done.changes += self._put(
                files, send, view, name, self._changes(send, view, at["position"], last), then, done
            )
        return then

    def _last(self, view: View, position: int) -> int:
        """The last of the next so many changes."""
        count = 0
        for page in view.changes(position, columns=[NUMBER]):
            if count + len(page.positions) >= self.job.commit_every:
                return int(page.values[NUMBER][self.job.commit_every - count - 1].as_py())
            count += len(page.positions)
        return view.until

    def _changes(self, send: Sending, view: View, position: int, last: int) -> Iterator[Page]:
        assert view.past is not None
        guard = guard_after(view.past, position, last, not self.force)
        names = {stored: name for name, stored in view.past.names.items()}
        for page in view.changes(position, last):
            guard.add(page)
            places = send.wanted_changes(view.past, page)
            if len(places):
                some = page.take(places)
                odd = {names.get(stored, stored): cells for stored, cells in some.odd_cells().items()}
                yield self._shaped(send, as_told(view.past, some.values), odd)
        guard.check(last)

    def _as_inserts(self, send: Sending, rows: Existing) -> Page:
        """Rows as changes that insert them, of no number."""
        rows = rows.take(send.wanted_rows(rows))
        count = len(rows.positions)
        values = rows.values
        for column in send.info.columns:
            if column.name not in values.column_names:
                values = values.append_column(column.name, pa.nulls(count, column.type))
        told = build(send.info, "insert", None, values)
        fixed: dict[str, Any] = {column.name: pa.nulls(count, column.type) for column in FIXED}
        fixed["change_no"] = pa.array(np.zeros(count, np.int64))
        fixed["action"] = told["action"]
        fixed["changed_at"] = pa.repeat(pa.scalar(datetime.now(UTC), pa.timestamp("ms", "UTC")), count)
        sides = [name for name in told.column_names if name.startswith(("old_", "new_"))]
        odd = {f"new_{name}": cells for name, cells in rows.odd_cells().items()}
        return self._shaped(send, pa.table({**fixed, **{name: told[name] for name in sides}}), odd)

    def _shaped(self, send: Sending, told: pa.Table, odd: OddCells) -> Page:
        """Changes with the columns that are sent, by their new names; `odd`: cells without a value of their column's
        type. Raises StoreError if a file cannot hold these."""
        names = [column.name for column in FIXED]
        pairs = {name: name for name in names}
        pairs |= {
            f"{side}_{name}": f"{side}_{self.job.rename.get(name, name)}"
            for name in send.columns
            for side in ("old", "new")
        }
        odd = {pairs[name]: cells for name, cells in odd.items() if name in pairs}
        if odd and self.job.format == "parquet":
            name, cells = next(iter(odd.items()))
            raise StoreError(
                f"column {name[4:]!r} of {send.info.name!r} holds {next(iter(cells.values()))!r}, which is no value of "
                'its type, and so cannot go into a Parquet file; take format = "events", or leave the column out'
            )
        return Page(told.select(list(pairs)).rename_columns(list(pairs.values())), odd)

    def _put(
        self,
        files: Folder,
        send: Sending,
        view: View,
        span: str,
        pages: Iterator[Page],
        then: dict[str, Any],
        done: Synced,
    ) -> int:
        """Write a part, and move on. A part without changes is not written."""
        first = next(pages, None)
        if first is None:
            files.keep(self.about | then)
            return 0

        def every() -> Iterator[Page]:
            yield first
            yield from pages

        name = f"{span}{self.ending}"
        with files.writing(name) as file:
            if self.job.format == "events":
                key = [self.job.rename.get(one, one) for one in send.key]
                count = lines_into(file, event_lines(every(), self.source.where, view.info.name, key))
            else:
                count = parquet_into(file, first.table.schema, (one.table for one in every()))
        files.keep(self.about | {"next": name, "then": then})
        done.files.append(files.show(name))
        files.keep(self.about | then)
        return count
