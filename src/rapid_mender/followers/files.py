"""Files that follow a table: each change in one of them, once.

A part is written under a hidden name; then the state says that it is next; then it gets its name, which tells the span
of its changes; then the state says that it is there. So after a crash it is known whether the part has its name, also
if a reader has taken it away meanwhile.
"""

from __future__ import annotations

import json
import os
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from datetime import UTC, datetime
from typing import Any

import numpy as np
import pyarrow as pa

from ..changes.events import event_lines
from ..changes.export import write_file, write_lines
from ..changes.form import build
from ..changes.past import NUMBER
from ..changes.query import as_told
from ..core.existing import Existing
from ..core.json_text import read_json
from ..core.own_tables import FIXED
from ..errors import JobError, StoreError
from ..jobs.sync_job import Sync
from ..stores.contract import Store
from .sending import Sending
from .syncing import Synced, Syncing, known_of
from .tail import Tail, View

_STATE = ".rmend.json"
_DIGITS = 12


class FolderSyncing(Syncing):
    """A sync into files of a folder."""

    def __init__(self, job: Sync, folder: str, source: Store, tail: Tail) -> None:
        super().__init__(job, source, tail, f"files in {folder}")
        self.folder = folder
        self.ending = ".events.jsonl" if job.format == "events" else ".parquet"
        self.about = {"follower": job.follower, "table": job.table}

    def go(self) -> Synced:
        """Write the changes that are there into files."""
        began, self.end = time.perf_counter(), None
        done = Synced(self.job.follower, self.source.where, self.job.table, self.folder, "")
        try:
            os.makedirs(self.folder, exist_ok=True)
            with _alone(self.folder):
                at = self._begin(done)
                while (next_at := self._step(at, done)) is not None:
                    at = next_at
        except OSError as error:
            raise StoreError(f"{self.folder} cannot be written: {error.strerror}; mend that, and run again") from error
        done.position, done.seconds = at["position"], time.perf_counter() - began
        self.note(at, done.held_by)
        return done

    # -- state ------------------------------------------------------------------------------------------

    def _begin(self, done: Synced) -> dict[str, Any]:
        """Where the files are; what was begun is brought to an end."""
        state = self._state()
        if state is None:
            return self._start(done)
        named = {name: state.get(name) for name in self.about}
        if named != self.about:
            raise JobError(
                f"{self.folder} has the files of the follower {named['follower']!r} of table {named['table']!r}; take "
                "another folder"
            )
        if "next" in state:
            hidden, path = (os.path.join(self.folder, prefix + state["next"]) for prefix in (".", ""))
            if os.path.exists(hidden):
                os.replace(hidden, path)
            state = {**state["then"], **self.about}
            self._keep(state)
        for name in os.listdir(self.folder):  # of a part that was not finished
            if (name.startswith(".") and name.endswith(self.ending)) or name.startswith(".rmend-"):
                os.remove(os.path.join(self.folder, name))
        return {name: state[name] for name in ("position", "batch_no")}

    def _state(self) -> dict[str, Any] | None:
        try:
            with open(os.path.join(self.folder, _STATE), encoding="utf-8") as file:
                text = file.read()
        except FileNotFoundError:
            return None
        state: dict[str, Any] = read_json(text, {})
        if not all(
            type(one.get(name)) is int for one in [state.get("then", state)] for name in ("position", "batch_no")
        ):
            raise JobError(f"{self.folder}/{_STATE} does not say how far the files have come; take another folder")
        return state

    def _keep(self, state: dict[str, Any]) -> None:
        path = os.path.join(self.folder, _STATE)
        with open(f"{path}.new", "w", encoding="utf-8") as file:
            json.dump(state, file)
            file.flush()
            os.fsync(file.fileno())
        os.replace(f"{path}.new", path)

    def _start(self, done: Synced) -> dict[str, Any]:
        at = {"position": 0, "batch_no": 0}
        with self.tail.look(0, 0, whole=False) as view:
            self.check_name(view)
            send = self.sending(view)
            if self.job.first:
                at = {"position": view.until, "batch_no": view.batch}
                rows = view.session.scan(view.info, send.needed, key=send.key)
                span = f"{0:0{_DIGITS}}-{at['position']:0{_DIGITS}}-first"
                done.filled = self._put(send, view, span, (self._as_inserts(send, page) for page in rows), at, done)
            else:
                self._keep(self.about | at)
        self.note(at, [])
        return at

    # -- parts ------------------------------------------------------------------------------------------

    def _step(self, at: dict[str, Any], done: Synced) -> dict[str, Any] | None:
        """Write the next part; None if there are no changes."""
        with self.tail.look(at["position"], at["batch_no"]) as view:
            done.held_by = view.held_by
            if self.is_over(view, at["position"]):
                return None
            send, until = known_of(view, self.sending(view), at["position"])
            last = min(until, self._last(view, at["position"]))
            if view.past is None or last <= at["position"]:
                return None
            then = at | {"position": last}
            name = f"{at['position'] + 1:0{_DIGITS}}-{last:0{_DIGITS}}"
            done.changes += self._put(send, view, name, self._changes(send, view, at["position"], last), then, done)
        return then

    def _last(self, view: View, position: int) -> int:
        """The last of the next so many changes."""
        count = 0
        for page in view.changes(position, columns=[NUMBER]):
            if count + len(page.positions) >= self.job.commit_every:
                return int(page.values[NUMBER][self.job.commit_every - count - 1].as_py())
            count += len(page.positions)
        return view.until

    def _changes(self, send: Sending, view: View, position: int, last: int) -> Iterator[pa.Table]:
        assert view.past is not None
        for page in view.changes(position, last):
            places = send.wanted_changes(view.past, page)
            if len(places):
                yield self._shaped(send, as_told(view.past, page.values.take(pa.array(places))))

    def _as_inserts(self, send: Sending, rows: Existing) -> pa.Table:
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
        return self._shaped(send, pa.table({**fixed, **{name: told[name] for name in sides}}))

    def _shaped(self, send: Sending, told: pa.Table) -> pa.Table:
        """Changes with the columns that are sent, by their new names."""
        names = [column.name for column in FIXED]
        pairs = {name: name for name in names}
        pairs |= {
            f"{side}_{name}": f"{side}_{self.job.rename.get(name, name)}"
            for name in send.columns
            for side in ("old", "new")
        }
        return told.select(list(pairs)).rename_columns(list(pairs.values()))

    def _put(
        self, send: Sending, view: View, span: str, pages: Iterator[pa.Table], then: dict[str, Any], done: Synced
    ) -> int:
        """Write a part, and move on. A part without changes is not written."""
        first = next(pages, None)
        if first is None:
            self._keep(self.about | then)
            return 0

        def every() -> Iterator[pa.Table]:
            yield first
            yield from pages

        name = f"{span}{self.ending}"
        hidden, path = (os.path.join(self.folder, prefix + name) for prefix in (".", ""))
        with suppress(FileNotFoundError):
            os.remove(hidden)
        if self.job.format == "events":
            key = [self.job.rename.get(one, one) for one in send.key]
            count = write_lines(hidden, event_lines(every(), self.source.where, view.info.name, key))
        else:
            count = write_file(hidden, first.schema, every())
        self._keep(self.about | {"next": name, "then": then})
        os.replace(hidden, path)
        self._keep(self.about | then)
        done.files.append(path)
        return count


@contextmanager
def _alone(folder: str) -> Iterator[None]:
    """Keep other processes from writing parts of the same folder."""
    try:
        import fcntl
    except ImportError:  # not on Windows
        yield
        return
    with open(os.path.join(folder, ".rmend.lock"), "w", encoding="utf-8") as file:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            raise JobError(f"another process writes files into {folder}; let one at a time do that") from None
        yield
