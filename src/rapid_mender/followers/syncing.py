"""What all syncs have in common, whatever follows: what was done, where it is noted, how rows are sent."""

from __future__ import annotations

import logging
import time
from collections import Counter
from dataclasses import dataclass, field, replace
from functools import reduce
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..changes.lost import captured_row
from ..changes.own import rows_of
from ..changes.valid import keeping_of
from ..core.keys import one_array
from ..core.masks import mask_of
from ..core.names import in_quotes
from ..core.own_tables import FOLLOWERS
from ..core.records import known_column
from ..core.row_numbers import NO_ROW, as_indices
from ..errors import JobError, StoreError
from ..jobs.sync_job import Sync
from ..merging.result import Result
from ..stores.contract import Store
from ..stores.contract.capture import altered
from .positions import check_free, now, put_row, writing
from .sending import Sending, sending
from .tail import Tail, View

_SEEN = 30.0  # seconds after which it is noted again that a follower is there
_log = logging.getLogger("rapid_mender")


@dataclass
class Synced:
    """What a sync has done.

    `to_store` is a folder, and `to_table` empty, where files follow. `filled` rows were copied first, if what follows
    was not filled before; then `changes` were followed, up to `position`.
    `counts` are the decisions about the rows in the target, `batches` its batches.
    """

    follower: str
    store: str
    table: str
    to_store: str
    to_table: str
    position: int = 0
    filled: int = 0
    changes: int = 0
    counts: Counter[str] = field(default_factory=Counter)
    batches: list[int] = field(default_factory=list)
    rejects_path: str | None = None
    reasons: Counter[str] = field(default_factory=Counter)
    """Why rows were rejected."""
    rejected: int = 0
    """How many rows the target has not taken by now: of this run, or of an earlier one."""
    refused: list[dict[str, Any]] = field(default_factory=list)
    """The first hundred of these: the values of their `key` in the table that is followed, as texts; and `reason`."""
    files: list[str] = field(default_factory=list)
    """The files that were written, where files follow."""
    outdone: int = 0
    """How many changes were not written, as the other table's change of the row counts."""
    notes: list[str] = field(default_factory=list)
    """What is wrong with the capture of the table that is followed, so that its history lacks values."""
    held_by: list[str] = field(default_factory=list)
    """Who may still commit changes before those that are there: so these wait."""
    seconds: float = 0.0

    def add(self, result: Result) -> None:
        """Count what a merge has done."""
        self.count(result)
        self.batches += [result.batch] if result.batch is not None else []
        self.rejects_path = result.rejects_path or self.rejects_path

    def count(self, result: Result) -> None:
        """Count the decisions of a merge."""
        self.counts.update(result.counts)
        self.reasons.update(_reasons(result))

    def take_back(self, result: Result) -> None:
        """Count the rejects of a merge no longer."""
        self.counts["reject"] -= result.counts["reject"]
        self.reasons -= _reasons(result)


def _reasons(result: Result) -> Counter[str]:
    """How many records were rejected for each reason."""
    if not result.counts["reject"]:
        return Counter()
    return Counter({one["values"]: one["counts"] for one in result.rejects["rmend_reason"].value_counts().to_pylist()})


class Syncing:
    """A sync whose source is open; what follows is called `goes_to`."""

    def __init__(self, job: Sync, source: Store, tail: Tail, goes_to: str, force: bool = False) -> None:
        """`force`: also changes that were altered since they were sealed."""
        self.force = force
        self.job, self.source, self.tail, self.goes_to = job, source, tail, goes_to
        self.table = job.table
        """The table that is followed, as its store names it."""
        self.end: int | None = None
        """The last change that there was when it began to follow: who writes all the time does not keep it going."""
        self._noted: tuple[dict[str, Any], float] | None = None
        """What was noted last in the source, and when."""

    def note(self, at: dict[str, Any], held_by: list[str]) -> None:
        """Note in the source how far the target has come, for those who look, and so that it is not pruned too far. It
        is noted when it moves, and else now and then."""
        told = {"position": at["position"], "held_by": "; ".join(held_by) or None, "rejected": at.get("rejected")}
        if self._noted is not None and self._noted[0] == told and time.monotonic() - self._noted[1] < _SEEN:
            return
        self._noted = told, time.monotonic()
        values = told | {
            "batch_no": at["batch_no"],
            "fingerprint": at["fingerprint"],
            "seen_at": now(),
            "moved_at": now(),
        }
        try:
            with writing(self.source, FOLLOWERS) as session:
                same = {"follower": self.job.follower, "table_name": self.table, "goes_to": self.goes_to}
                rows = rows_of(session, FOLLOWERS, **same)
                if rows and rows[0]["position"] == at["position"]:
                    values["moved_at"] = rows[0]["moved_at"]
                put_row(session, FOLLOWERS, same, values)
        except StoreError as error:
            _log.warning("the position of %s cannot be noted in %s: %s", self.job.follower, self.source.where, error)

    def is_over(self, view: View, position: int) -> bool:
        """Whether all is followed that was there at first."""
        if self.end is None:
            self.end = view.until
        return position >= self.end

    def check_name(self, view: View) -> None:
        """Raise JobError if the name is that of another follower of the source."""
        rows = rows_of(view.session, FOLLOWERS, follower=self.job.follower)
        check_free(rows, self.job.follower, view.info.name, self.goes_to)

    def sending(self, view: View) -> Sending:
        self.table = view.info.name
        back = {to: name for name, to in self.job.rename.items()}
        key = view.past.key if view.past is not None else list(view.info.identifying)
        key = key or [known_column(view.info, back.get(name, name)).name for name in self.job.key]
        if not key:
            raise JobError(
                f"table {view.info.name!r} has no primary key and no history, so its rows cannot be told apart; give "
                "it a primary key, or give the sync a key"
            )
        keeping = keeping_of(view.session, view.info) if self.job.versions == "current" else None
        if self.job.versions == "current" and keeping is None:
            raise JobError(f"table {view.info.name!r} keeps no versions: no job with [versions] was merged into it")
        return sending(self.job, view.info, key, keeping)


def altered_under_capture(view: View) -> list[str]:
    """What has changed of the table since its capture learnt its columns: other values may not be in the history."""
    row = captured_row(view.session, view.info.name)
    return altered(view.session, view.info, row) if row is not None else []


def filled_up(view: View, send: Sending, records: pa.Table) -> pa.Table:
    """Records with the values of the table as it is now where the history has none."""
    lacking = [name for name in send.columns if name not in send.key and records[name].null_count]
    gone = one_array(records[send.flags.gone])
    empty = [pc.is_null(one_array(records[name])) for name in lacking]
    at = np.flatnonzero(mask_of(pc.and_not(reduce(pc.or_, empty), gone))) if empty else np.arange(0)
    if not len(at):
        return records
    found = view.session.fetch(view.info, records.select(send.key).take(pa.array(at)))
    index = np.full(records.num_rows, NO_ROW)
    index[at[found.positions]] = np.arange(len(found.positions))
    for name, nulls in zip(lacking, empty, strict=True):
        now = one_array(found.values[name]).take(as_indices(index))
        if now.type == records.schema.field(name).type:
            filled = pc.if_else(nulls, now, one_array(records[name]))
            records = records.set_column(records.column_names.index(name), name, filled)
    return records


def known_of(view: View, send: Sending, position: int) -> tuple[Sending, int]:
    """What can be sent of the changes after a position, and up to which change: a column that the table got later has
    no values in the changes before, and is not sent with these. Raises JobError if nothing can be sent without it."""
    if view.past is None:
        return send, view.until
    known = set(view.past.known_since(position + 1))
    if lacking := [name for name in send.asked if name not in known]:
        raise JobError(
            f"the history of {view.info.name!r} has no values of {in_quotes(lacking)} for the changes after "
            f"{position}, since the column came, or got its name, later; compare the tables, and mend what differs"
        )
    until = min([one - 1 for one in view.past.began.values() if one > position + 1], default=view.until)
    columns = [name for name in send.columns if name in known]
    return replace(send, columns=columns, needed=[name for name in send.needed if name in known]), until
