"""Spans of which the history of a table knows nothing."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from ..stores.contract import Session
from .details import details_of
from .lost import lost_by


@dataclass(frozen=True)
class Hole:
    """Something that is not in a history."""

    batch: int
    """The batch that noted it."""
    after: int | None
    """The last change before it, if that is known."""
    why: Literal["unrecorded", "pause", "replaced", "lost"]
    rows: int | None = None
    """How many rows the table had then, if that is known."""
    role: str | None = None
    """What its batch noted of a pause: that it began (None), ended ("resumed"), or had begun before ("found")."""

    def words(self, table: str) -> str:
        match self.why:
            case "pause" if self.role == "found":
                return f"before batch {self.batch} the capture of {table!r} had lost triggers"
            case "pause" if self.role == "resumed":
                return f"until batch {self.batch} the capture of {table!r} was paused"
            case "pause":
                return f"since batch {self.batch} the capture of {table!r} was paused"
            case "lost":
                return f"the capture of {table!r} has lost triggers: what others wrote is not recorded; refresh it"
            case "replaced":
                return f"since batch {self.batch} another table, with other rows, has the name {table!r}"
            case "unrecorded":
                return f"batch {self.batch} changed {table!r} with history = false"


_LATER = 1 << 62
"""In the place of the number of the batch that will note something."""


def holes_of(session: Session, table: str) -> list[Hole]:
    """The spans of which the history of a table knows nothing, whether it has one or not."""
    lost = [Hole(_LATER, None, "lost")] if lost_by(session, table) else []
    return noted_holes(session, table) + lost


def noted_holes(session: Session, table: str) -> list[Hole]:
    """Those of them that were noted."""
    details = details_of(session, table, "unrecorded", "pause", "replaced", "mended")
    mended = {one.of_batch for one in details if one.detail == "mended"}
    holes: dict[tuple[int, str], Hole] = {}
    paused: tuple[int, str] | None = None
    for one in details:
        if one.detail not in ("unrecorded", "pause", "replaced") or one.batch in mended:
            continue
        if one.role == "resumed" and paused is not None:  # it says of that pause where it ended
            holes.pop(paused, None)
        # a later one of a batch reaches further
        holes[one.batch, one.detail] = Hole(one.batch, one.change_no, one.detail, one.row_count, one.role)
        paused = (one.batch, one.detail) if one.detail == "pause" else paused
    return list(holes.values())
