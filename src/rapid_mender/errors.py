"""The errors that reach a caller. Each says what is wrong, where, and how to mend it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any


class Error(Exception):
    """The base of every error that Rapid Mender raises on purpose."""

    wrote = False
    """Whether something of the run is in the table all the same: with commit_every, or when only its rejects failed."""


class JobError(Error):
    """The job itself is wrong: an unknown option, a column that is not there, a key that cannot be one."""

    def __init__(self, message: str, problems: Sequence[str] = ()) -> None:
        """`problems`: each thing that is wrong, where there are several."""
        super().__init__(message)
        self.problems = tuple(problems) or (message,)


class IncomingError(Error):
    """The incoming records cannot be read at all."""

    def __init__(self, message: str, source: str = "", place: str = "") -> None:
        """`source`: the file, or what else the records come from, which is put before the message, together with
        `place`: where in it, such as "line 17"."""
        where = f"{source}, {place}" if place else source
        super().__init__(f"{where}: {message}" if source else message)
        self.source, self.place = source, place


class StoreError(Error):
    """The store refused: it is not there, locked, read-only, full, or it rejected a whole statement."""


class AlteredError(StoreError):
    """Batches whose changes are to be used were altered since they were sealed."""

    def __init__(self, message: str, batches: Sequence[int] = ()) -> None:
        """`batches`: their numbers."""
        super().__init__(message)
        self.batches = tuple(batches)


class UncertainError(StoreError):
    """The connection went while the commit was on its way, and nobody knows whether it took effect."""

    wrote = True

    def __init__(self, message: str, batch: int | None = None) -> None:
        """`batch`: the number of the batch; if it is among the batches of the store, all of it is there."""
        super().__init__(message)
        self.batch = batch


class ConflictError(Error):
    """Rows that an undo would put back are not as the batch left them; nothing was undone."""

    def __init__(self, message: str, undone: Any = None) -> None:
        """`undone`: what the undo would have done, an `Undone` with the conflicts."""
        super().__init__(message)
        self.undone = undone


class LimitError(Error):
    """The run went past a limit of the job and was undone."""

    def __init__(self, message: str, limit: str = "") -> None:
        """`limit`: "max_rejects" or "max_deletes"."""
        super().__init__(message)
        self.limit = limit
