"""Captures that have lost their triggers: a migration has made the table anew, somebody has dropped them, or a command
that was to drop them was cut. What others write meanwhile is recorded by nobody."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from ..core.own_tables import BATCHES_TABLE, CAPTURES
from ..core.schema import TableInfo
from ..errors import JobError
from ..stores.contract import Condition, Selection, Session
from ..stores.contract.capture import Known, lacking
from .own import own, rows_of

_OFF = ("capture pause", "capture stop")
_SWITCHES = ("capture start", "capture resume", "capture refresh", *_OFF)


def captured_row(session: Session, table: str) -> dict[str, Any] | None:
    """The row of a table in rmend_captures, if it is captured, and this user may see that."""
    kept = own(session, CAPTURES)
    if kept is None or (kept.rights is not None and "select" not in kept.rights):
        return None
    return next(iter(rows_of(session, CAPTURES, table_name=table)), None)


def lost_by(session: Session, table: str) -> list[str]:
    """What is wrong with the capture of a table, if some of what others write is not recorded, and that is not noted;
    nothing if that is all right, or there is none, or this user may not see it."""
    row = captured_row(session, table)
    info = session.find(table) if row is not None else None
    return what_is_lost(session, info, row) if row is not None and info is not None else []


def what_is_lost(session: Session, info: TableInfo, row: Mapping[str, Any]) -> list[str]:
    """What is wrong with the triggers of a capture, if that is not noted."""
    if row["state"] == "on":
        return lacking(session.triggers(info), row["token"], Known.read(row["known"]).triggers)
    return ["it was paused, and that was not noted: resume it"] if was_on(session, info.name) else []


def was_on(session: Session, table: str) -> bool:
    """Whether what was noted last of a table's capture is that it records."""
    batches = session.find_own(BATCHES_TABLE)
    if batches is None or "kind" not in batches:  # of an earlier version, which notes it in another way
        return False
    switched = [[Condition("table_name", "=", table)], [Condition("kind", "=", one) for one in _SWITCHES]]
    found = session.read(batches, Selection(switched, "batch_no", 1, columns=["kind"])).values["kind"].to_pylist()
    return bool(found) and found[0] not in _OFF  # kinds that are not there are still to be written


def check_not_lost(session: Session, table: str) -> None:
    """Raise JobError if some of what others write to a table is not recorded, and that is not noted."""
    if lost := lost_by(session, table):
        raise JobError(f"the capture of {table!r} does not record what others write: {'; '.join(lost)}")
