"""Where changes came from in the end, so that none goes in a circle: each batch of a sync notes the tables that its
changes have come by, and a fingerprint of the last change that it brought from each."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from typing import NamedTuple

import numpy as np
import pyarrow as pa

from ..changes.detail import Detail
from ..changes.details import batches_between, details_by_batch, details_of
from ..changes.past import NUMBER, past_if_any
from ..core.own_tables import BATCHES
from ..stores.contract import Condition, Selection, Session
from .fingerprints import fingerprint_of, number_of


class Way(NamedTuple):
    """The tables by which the changes of a batch have come."""

    origins: tuple[Detail, ...] = ()
    ours: bool = False
    """They began at the table to which they are to go."""
    number: int = 0
    """If they did: the last change of that table which is among them."""
    where: str | None = None
    """If they did: what the store of that table called itself then."""

    def is_like(self, other: Way) -> bool:
        """Whether changes that came these two ways may go on together."""
        return self.ours == other.ours and [one.name for one in self.origins] == [one.name for one in other.origins]


def origin(token: str, where: str, fingerprint: str | None) -> Detail:
    """That a batch brings changes of the table that a token stands for, up to the one of a fingerprint; `where`: what
    the table's store calls itself."""
    return Detail("origin", where, token, value=fingerprint)


def origins_of(source: Session, table: str, first: int, last: int) -> dict[int, list[Detail]]:
    """By which tables the changes of some batches have come, where these are of a sync; not those that began there."""
    return details_by_batch(details_of(source, table, "origin", where=batches_between(first, last)))


def ways_to(target: Session, to_table: str, found: Mapping[int, Sequence[Detail]]) -> dict[int, Way]:
    """The ways by which the changes of batches have come, as the table sees them to which they are to go."""
    token = token_of(target, to_table)
    fingerprints = {one.value for way in found.values() for one in way if one.name == token}
    ours = _ours(target, to_table, fingerprints)
    ways = {}
    for batch, way in found.items():
        began = [one for one in way if one.name == token and one.value in ours]
        last = max(began, key=lambda one: number_of(one.value), default=None)
        ways[batch] = Way(
            tuple(way), last is not None, *((number_of(last.value), last.role) if last is not None else ())
        )
    return ways


def _ours(session: Session, table: str, fingerprints: set[str | None]) -> set[str | None]:
    """Those of some fingerprints that are of a table's own history, and not of that of a copy of the table, which went
    on by itself. Of a change that was pruned, or has no fingerprint, that is taken to be so."""
    numbers = {fingerprint: number_of(fingerprint) for fingerprint in fingerprints if fingerprint is not None}
    past = past_if_any(session, table) if numbers else None
    if past is None:
        return fingerprints - numbers.keys()
    gone = past.begins.change if past.begins is not None else 0
    there = past.session.fetch(past.kept, pa.table({NUMBER: pa.array(sorted(set(numbers.values())), pa.int64())}))
    ours = {fingerprint_of(there.take(np.array([place]))) for place in range(len(there.positions))}
    return {
        fingerprint
        for fingerprint in fingerprints
        if fingerprint is None or fingerprint in ours or numbers[fingerprint] <= gone
    }


def is_of_table(session: Session, table: str, fingerprint: str | None) -> bool:
    """Whether a fingerprint is of a table's own history."""
    return fingerprint is not None and fingerprint in _ours(session, table, {fingerprint})


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
