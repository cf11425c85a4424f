"""Pauses of captures: nothing is recorded for a while, and what changed meanwhile is found in the end."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import ExitStack
from datetime import datetime
from typing import Any

from ..core.own_tables import CAPTURES
from ..core.schema import TableInfo
from ..errors import JobError
from ..stores.contract import Session, Store
from ..stores.urls import opened
from .capture import again
from .captured import NONE, last_change, needed, note, options_of, turn
from .detail import Detail
from .details import newest_details
from .holes import Hole, noted_holes
from .lost import what_is_lost
from .mending import Mended, Mending
from .past import past_of
from .recorder import Recorder


def pause_capture(store: str | Store, table: str) -> None:
    """Record nothing until `resume_capture`; that there is a span without records is noted.

    Raises JobError if the table is not captured, or paused already.
    """
    with opened(store) as place, turn(place, table, True) as (session, info):
        row = needed(session, info)
        if row["state"] == "paused" and not what_is_lost(session, info, row):
            raise JobError(f"the capture of {info.name!r} is paused already")
        # first, so that it is told if this is cut
        session.define(info, [session.note_sql(CAPTURES, {"state": "paused"}, row["capture_no"], ("changed_at",))])
        rows = session.define_alone(info, session.release_sql(info, row["token"]))
        note(session, info, "pause", [Detail("pause", change_no=last_change(session, info), row_count=rows)])


def resume_capture(store: str | Store, table: str, *, mend: bool = False) -> Mended | None:
    """Record again, after `pause_capture`.

    With `mend` the table is compared with the last rows that its history has: what differs is recorded as one batch,
    as found, not as done by somebody, and the history has no hole any more. That finds everything if the history knew
    every row when the capture was paused; else only what became of the rows that it knew, see `Mended.unknown`.

    Raises JobError if the table is not captured, or not paused; with `mend` also if the capture has options by which
    it does not record everything. With `mend` it may be called once more if that was interrupted.
    """
    with opened(store) as place:
        with turn(place, table, True) as (session, info):
            row = needed(session, info)
            if mend:
                _check_mends(session, info, row)
            lost = bool(what_is_lost(session, info, row))
            if lost and mend:
                note(session, info, "pause", [Detail("pause", "found", change_no=last_change(session, info))])
                row = {**row, "state": "paused"}
            if lost or row["state"] == "paused":
                again(session, info, row, "resume", _room(session, info) if mend else 0)
            elif not mend or _resumed(session, info) is None:
                raise JobError(f"the capture of {info.name!r} is not paused")
        return _mend(place, info.name) if mend else None


def _check_mends(session: Session, info: TableInfo, row: Mapping[str, Any]) -> None:
    told = options_of(row).others()
    if some := [name for name in ("columns", "actions", "when") if name in told]:
        raise JobError(
            f"the capture of {info.name!r} does not record everything ({', '.join(some)}), so its history does not "
            "tell what changed; resume it without mending, compare what follows the table, and mend that"
        )
    past_of(session, info.name, info).key  # noqa: B018  # a table without a key has rows that cannot be told apart


def _room(session: Session, info: TableInfo) -> int:
    """As many numbers as changes may be found, also while others write."""
    return 2 * session.count(info) + session.count(past_of(session, info.name, info).kept) + 1000


def _resumed(session: Session, info: TableInfo) -> tuple[Hole, datetime, list[int]] | None:
    """The last pause, if it is a hole still, when it ended, and the numbers kept free for what is found: after which,
    and how many."""
    pauses = [hole for hole in noted_holes(session, info.name) if hole.why == "pause"]
    resumes = newest_details(session, info.name, "resume")
    if not pauses or not resumes or pauses[-1].batch > resumes[-1].batch or pauses[-1].after is None:
        return None
    resume = resumes[-1]
    assert resume.change_no is not None  # all three are looked at when it is read
    assert resume.row_count is not None
    assert resume.at_time is not None
    return pauses[-1], resume.at_time, [resume.change_no, resume.row_count]


def _mend(place: Store, table: str) -> Mended:
    """Record what changed in the last pause, by numbers that come before those of what others did since."""
    with ExitStack() as stack:
        session, info = stack.enter_context(turn(place, table, True))
        seen = stack.enter_context(place.begin(write=False)) if session.many_writers else session  # as of one moment
        resumed = _resumed(session, info)
        assert resumed is not None
        pause, at, (after, room) = resumed
        assert pause.after is not None
        recorder = Recorder(session, info, "capture mend", True, after=after, at=at, kind="capture mend")
        mended = Mending(past_of(seen, table, hold=seen is not session), recorder, pause.after, pause.rows).run(room)
        if mended.whole or any(mended.counts.values()):
            mended.batch = recorder.start()
            whole = [Detail("mended", of_batch=pause.batch)] if mended.whole else []
            recorder.finish(NONE | mended.counts, {}, details=whole)
        return mended
