"""The fast path: a transaction of few records into a plain table, in as few statements as that takes.

What it cannot do, or not be sure of, it leaves: it raises NotFast, and the merge goes the whole way.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import cached_property
from typing import Any, Literal, NamedTuple

from ...core.own_tables import FIXED
from ...core.schema import TableInfo


class NotFast(Exception):
    """The fast path does not take this. Nothing of it is committed."""


class TableChanged(NotFast):
    """One of the tables is not as it was when the fast path was made; it is of no more use."""


@dataclass(frozen=True)
class FastTable:
    """What a fast path is for. The columns of `key` are unique, and have no nulls."""

    info: TableInfo
    key: tuple[str, ...]
    history: TableInfo
    stored: Mapping[str, str]
    """By old_X and new_X the column of the history."""
    batches: TableInfo

    @cached_property
    def places(self) -> dict[str, int]:
        """The place of each column of the table."""
        return {name: place for place, name in enumerate(self.info.names)}

    @cached_property
    def history_columns(self) -> list[str]:
        """The columns of the history that a change fills, in the order in which `FastChange.values` has them."""
        fixed = [column.name for column in FIXED if column.name != "reason"]
        return [*fixed, *(self.stored[f"{side}_{name}"] for side in ("old", "new") for name in self.info.names)]


Values = Sequence[Any]
"""The values of a row, one for each column of its table, as `core.plain_values` has them."""


class Found(NamedTuple):
    """What a fast path finds when it begins."""

    rows: list[Values | None]
    """For each key that was asked for the row that has it."""
    last_change: int
    """The last change of the history, or 0."""
    newest_change: int | None
    """The last change of the table's newest batch that has one."""
    held: bool
    """One of the newest batches is sealed, or has not ended."""
    last_batch: int
    """The last batch of the store, or 0."""


class FastChange(NamedTuple):
    """A row that is inserted, or updated: `columns` are those that are sent, or that change."""

    action: Literal["insert", "update"]
    columns: tuple[str, ...]
    old: Values | None
    new: Values
    number: int
    """The number of the change."""
    changed: str | None
    """The names of the columns that change, as the history has them."""

    def values(self, batch: Any, at: datetime, by: tuple[str | None, str]) -> list[Any]:
        """What the history has of it; `batch` is the number of its batch, or what stands for that."""
        old = self.old if self.old is not None else [None] * len(self.new)
        return [self.number, batch, self.action, self.changed, at, *by, *old, *self.new]


class FastBatch(NamedTuple):
    """A batch: its row without the number, and its changes."""

    row: Mapping[str, Any]
    changes: Sequence[FastChange]


class FastPath(ABC):
    """A connection with a transaction at a time: `look`, `write`, `commit`; or `undo` after any of these.

    Each of them raises NotFast if the store refuses, or if the connection is lost before the commit is on its way.
    """

    sorts = True
    """Whether the whole way goes by the order of the keys."""
    closed = False
    """It is of no more use."""

    @abstractmethod
    def look(self, keys: Sequence[Values]) -> Found:
        """Begin a transaction, wait for the turn to merge, and look up the rows of some keys. Raises TableChanged."""

    @abstractmethod
    def write(self, batches: Sequence[FastBatch], at: datetime, by: tuple[str | None, str]) -> list[int]:
        """Write batches and their changes, which are made `at` a time `by` an actor with an application. Returns the
        numbers of the batches."""

    @abstractmethod
    def commit(self) -> None:
        """Commit. Raises UncertainError if the connection is lost meanwhile."""

    @abstractmethod
    def undo(self) -> None:
        """Undo the transaction, if one is open; raises nothing."""

    @abstractmethod
    def close(self) -> None:
        """Close what is open; raises nothing. May be called again."""
