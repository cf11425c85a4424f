"""How a store says no."""

from __future__ import annotations

from ...errors import StoreError


class ForNow(str):
    """A reason for refusing a row that lies with other rows: it may no longer hold once these are written."""


class Refers(ForNow):
    """Such a reason: a row that is referred to is not there, or one that refers to the row is."""


class Refused(StoreError):
    """The database does not take a row: a constraint, or a trigger that says no. `reason` is its own."""

    def __init__(
        self,
        where: str,
        reason: str,
        constraint: str = "",
        unique: bool = False,
        refers: bool = False,
        excludes: bool = False,
    ) -> None:
        """`unique`: another row has the same value; `refers`: a row that is referred to is not there; `excludes`: a row
        is there that may not be there beside it."""
        self.reason, self.constraint, self.unique = reason, constraint, unique
        if unique or refers or excludes:
            self.reason = Refers(reason) if refers else ForNow(reason)
        super().__init__(f"{where}: the database refused: {reason}")


class Forbidden(StoreError):
    """The user lacks a right."""


class Unreachable(StoreError):
    """The store is locked by somebody, or the connection to it is gone: it is of no use to ask again at once."""


class Conflict(StoreError):
    """Another program wrote at the same time; all of the transaction is to be done again."""
