"""Tables as a store knows them: which there are, what they look like, and making them."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable, Sequence
from typing import NamedTuple

from ...core.names import closest, not_text
from ...core.schema import Column, TableInfo
from ...errors import StoreError


class Need(NamedTuple):
    """What a merge does with a table, as SQL calls it: "select", "insert" … `beside`: as in `Session.find_own`."""

    name: str
    verbs: frozenset[str]
    beside: TableInfo | None = None
    own: bool = True
    """It is one that Rapid Mender makes if it is not there."""


class Numbers(NamedTuple):
    """The numbers by which a database knows a table and its history."""

    table: int
    history: int


class Catalog(ABC):
    """The tables of a store."""

    @property
    @abstractmethod
    def where(self) -> str:
        """The store's name in messages, without passwords."""

    @abstractmethod
    def tables(self) -> list[str]:
        """The names of the tables."""

    @abstractmethod
    def find(self, name: str) -> TableInfo | None:
        """Describe a table; None if there is no such table."""

    def find_own(self, name: str, beside: TableInfo | None = None, owner: str = "") -> TableInfo | None:
        """Describe a table of Rapid Mender's own: the one beside another, or in the connection's own schema.

        Raises StoreError if it belongs to somebody whose code must not be run with this user's rights; `owner`, and
        the owner of the other table, are trusted.
        """
        return self.find(name)

    def describe(self, name: str, *, trusting: bool = False) -> TableInfo:
        """Describe a table that is to be read. Raises StoreError, naming the nearest tables, if it is not there; and if
        reading it may run code of an owner's whom the user does not trust, unless `trusting`: it is to be written to,
        which may run such code anyway."""
        if why := not_text(name):
            raise StoreError(f"there is no table {name!r} in {self.where}: {why}")
        info = self.find(name)
        if info is None:
            hint = self.unseen(name) or nearest(name, self.tables(), "tables")
            raise StoreError(f"there is no table {name!r} in {self.where}; {hint}")
        return info

    def is_another(self, before: Numbers, now: Numbers) -> bool:
        """Whether another table than before stands under a name: it has another number, and its history has not. If
        both have, the database was restored."""
        return now.history == before.history and now.table != before.table

    def fits(self, name: str) -> bool:
        """Whether the database has room for a name of a table or a column."""
        return True

    def missing_grants(self, needs: Sequence[Need]) -> list[str]:
        """What would have to be granted to the user for these needs; nothing where nobody grants anything."""
        return []

    def unseen(self, name: str) -> str | None:
        """Why the user may not see a table, if there is one that is hidden from him."""
        return None

    def behind(self, info: TableInfo) -> list[tuple[str, str]]:
        """Columns, each with what counts for it, where that stays behind if rows bring values of their own."""
        return []

    @abstractmethod
    def create(self, info: TableInfo, beside: TableInfo | None = None) -> None:
        """Create a table; beside another, whose name its own begins with, or in the connection's own schema."""

    @abstractmethod
    def add_columns(self, name: str, columns: Iterable[Column]) -> None:
        """Add nullable columns to a table."""

    @abstractmethod
    def widen_columns(self, name: str, columns: Iterable[Column]) -> None:
        """Give columns of a table other types, which hold all that they have. See `cannot_widen`."""

    def cannot_widen(self, column: Column, wanted: Column) -> str | None:
        """Why a column cannot become another one, which holds all that it has; None if it can."""
        return None

    keys_later = False
    """Whether a table is filled faster before it has its primary key."""

    def add_key(self, info: TableInfo, columns: Sequence[str]) -> None:  # noqa: B027 - see keys_later
        """Give a table a primary key. Raises StoreError if its rows have one twice."""

    def has_index(self, info: TableInfo, name: str) -> bool:
        """Whether a table has an index of a name; True where nothing needs one."""
        return True

    def add_index(self, info: TableInfo, name: str, columns: Sequence[str]) -> None:  # noqa: B027 - see has_index
        """Give a table an index."""

    def cannot_make(self, info: TableInfo) -> str | None:
        """Why the store could not hold a table like this; None if it could."""
        return None

    def tight(self, info: TableInfo) -> str | None:
        """Why some rows of such a table might not fit; None if all do, or nothing is known of it."""
        return None


def nearest(name: str, names: Iterable[str], what: str) -> str:
    """A hint for a misspelt name: "did you mean …?", or which names there are."""
    every = sorted(names)
    close = closest(name, every, cutoff=0.6)
    if close:
        return f"did you mean {close!r}?"
    if not every:
        return f"it has no {what}"
    shown = ", ".join(repr(n) for n in every[:12]) + (", …" if len(every) > 12 else "")
    return f"its {what} are {shown}"
