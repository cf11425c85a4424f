"""Where changes came from in the end, so that none goes in a circle: each batch of a sync notes the tables that its
changes have come by, and a mark of the last change that it brought from each."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from typing import NamedTuple

import numpy as np
import pyarrow as pa

from ..changes.detail import Detail
from ..changes.details import details_by_batch, details_of
from ..changes.past import NUMBER, Past, past_if_any
from ..core.own_tables import BATCHES
from ..stores.contract import Condition, Selection, Session
from .marks import mark_of


class Way(NamedTuple):
    """The tables by which the changes of a batch have come."""

    origins: tuple[Detail, ...] = ()
    ours: bool = False
    """They began at the table to which they are to go."""

    def is_like(self, other: Way) -> bool:
        """Whether changes that came these two ways may go on together."""
        return self.ours == other.ours and [one.name for one in self.origins] == [one.name for one in other.origins]


def origin(token: str, mark: str | None) -> Detail:
    """That a batch brings changes of the table that a token stands for, up to the one of a mark."""
    return Detail("origin", name=token, value=mark)


def origins_of(source: Session, table: str, first: int, last: int) -> dict[int, list[Detail]]:
    """By which tables the changes of some batches have come, where these are of a sync; not those that began there."""
    span = [[Condition("batch_no", ">=", first)], [Condition("batch_no", "<=", last)]]
    return details_by_batch(details_of(source, table, "origin", where=span))


def ways_to(target: Session, to_table: str, found: Mapping[int, Sequence[Detail]]) -> dict[int, Way]:
    """The ways by which the changes of batches have come, as the table sees them to which they are to go."""
    token = token_of(target, to_table)
    known = _Known(target, to_table, [one for way in found.values() for one in way if one.name == token])
    return {batch: Way(tuple(way), any(map(known.has, way))) for batch, way in found.items()}


class _Known:
    """Which origins with the token of a table are of its own history, and not of that of a copy of the table, which
    went on by itself."""

    def __init__(self, session: Session, table: str, origins: Sequence[Detail]) -> None:
        self._token = origins[0].name if origins else None
        marks = {one.value for one in origins if one.value is not None}
        past = past_if_any(session, table) if marks else None
        self._marks = _marks_of(past, marks) if past is not None else set()

    def has(self, one: Detail) -> bool:
        return one.name == self._token and self._token is not None and (one.value is None or one.value in self._marks)


def _marks_of(past: Past, marks: set[str]) -> set[str]:
    """Those of some marks that fit the history, or are of changes that were pruned."""
    gone = past.begins.change if past.begins is not None else 0
    numbers = {mark: int(mark.partition(":")[0]) for mark in marks}
    there = past.session.fetch(past.kept, pa.table({NUMBER: pa.array(sorted(set(numbers.values())), pa.int64())}))
    ours = {mark_of(there.take(np.array([place]))) for place in range(len(there.positions))}
    return {mark for mark in marks if mark in ours or numbers[mark] <= gone}


def token_of(session: Session, table: str) -> str | None:
    """What stands for a table with a history, in any store: made of its first batch. None if it has none. A copy of the
    table has the same."""
    kept = session.find_own(BATCHES.name)
    if kept is None:
        return None
    first = session.read(kept, Selection([[Condition("table_name", "=", table)]], "batch_no", 1, first=True))
    if not len(first.positions):
        return None
    names = ("batch_no", "table_name", "actor", "application", "started_at")
    row = first.values.select(names).to_pylist()[0]
    return hashlib.sha256(repr([str(row[name]) for name in names]).encode()).hexdigest()[:16]
