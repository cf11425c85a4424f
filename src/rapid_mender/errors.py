"""The errors that reach a caller. Each says what is wrong, where, and how to mend it."""

from __future__ import annotations


class Error(Exception):
    """The base of every error that Rapid Mender raises on purpose."""

    wrote = False
    """Whether something of the run is in the table all the same: with commit_every, or when only its rejects failed."""


class JobError(Error):
    """The job itself is wrong: an unknown option, a column that is not there, a key that cannot be one."""


class IncomingError(Error):
    """The incoming records cannot be read at all."""


class StoreError(Error):
    """The store refused: it is not there, locked, read-only, full, or it rejected a whole statement."""


class LimitError(Error):
    """The run went past a limit of the job (max_rejects, max_deletes) and was undone."""
