"""Indexes by which the changes of one record are found in a large history. Merges pay for them, so they are made on
demand."""

from __future__ import annotations

import hashlib

from ..stores.contract import Store
from ..stores.urls import opened
from .past import NUMBER, Past, past_if_any, past_of

LARGE = 100_000  # changes from which on an index is worth it


def index_history(store: str | Store, table: str) -> list[str]:
    """Make the indexes of a table's history that are lacking; returns the names of those that were made.

    There are two, by the key before a change and by the key after it. Raises StoreError if the table has no history.
    """
    made = []
    with opened(store) as place, place.begin(write=True) as session:
        past = past_of(session, table)
        for name, columns in _wanted(past).items():
            if not session.has_index(past.kept, name):
                session.add_index(past.kept, name, columns)
                made.append(name)
    return made


def wants_index(store: str | Store, table: str) -> bool:
    """Whether a table's history is large and has no such index."""
    with opened(store) as place, place.begin(write=False) as session:
        past = past_if_any(session, table)
        if past is None or session.last(past.kept.name, NUMBER) < LARGE:
            return False
        return not all(session.has_index(past.kept, name) for name in _wanted(past))


def _wanted(past: Past) -> dict[str, list[str]]:
    """The columns of each index, by its name."""
    named = {}
    for side in ("old", "new"):
        columns = [*(past.names[f"{side}_{name}"] for name in past.key), NUMBER]
        told = hashlib.sha256("\0".join([past.kept.name, *columns]).encode()).hexdigest()[:16]
        named[f"rmend_{told}_{side}"] = columns
    return named
