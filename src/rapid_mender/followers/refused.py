"""Rows that the target of a sync did not take. They are kept beside its position, until they are taken."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
import pyarrow as pa

from ..changes.own import own, remove, rows_of
from ..core.cast import as_text, cast
from ..core.hashing import hash_rows
from ..core.json_text import read_json
from ..core.keys import one_array
from ..core.own_tables import REFUSED
from ..core.repeats import among
from ..core.schema import TableInfo
from ..incoming.rejected import kept_name
from ..stores.contract import Session
from .positions import now
from .sending import Sending

Rows = Sequence[Mapping[str, Any]]
"""Rows of rmend_refused."""


def first_of(session: Session, follower: str, count: int = 100) -> list[dict[str, Any]]:
    """The first rows that the target of a sync did not take: the values of their key, as texts, and the reason."""
    rows = rows_of(session, REFUSED, follower=follower)[:count]
    return [{"key": read_json(row["source_key"], list[Any]()), "reason": row["reason"]} for row in rows]


def keys_of(refused: Rows, info: TableInfo, key: Sequence[str]) -> pa.Table:
    """The keys of refused rows, in the types of the table that is followed, without those that somebody has altered so
    that they are none."""
    texts = _texts(refused, len(key))
    keys = pa.table({name: cast(text, info[name])[0] for name, text in zip(key, texts, strict=True)})
    return keys.drop_null()


def records_of(send: Sending, source: Session, keys: pa.Table) -> pa.Table:
    """The records of the rows of some keys, as they are now; those that are not there any more are gone."""
    found = source.fetch(send.info, keys)
    put = send.cells(found.take(send.wanted_rows(found)))
    lacking = np.ones(keys.num_rows, bool)
    lacking[found.positions] = False
    some = keys.filter(pa.array(lacking))
    none = {name: pa.nulls(some.num_rows, put.schema.field(name).type) for name in put.column_names}
    taken = pa.table(none | {name: some[name] for name in send.key})
    records = pa.concat_tables([put, taken.cast(put.schema)])
    gone = np.arange(records.num_rows) >= put.num_rows
    return records.append_column(send.flags.gone, pa.array(gone))


def note_refused(session: Session, follower: str, tried: pa.Table, rejects: pa.Table | None) -> int:
    """Note what became of rows that were tried: `tried` are their keys, and `rejects` the records that were not taken,
    with the reasons in `rmend_reason`. Returns how many rows are refused by now."""
    before, names = rows_of(session, REFUSED, follower=follower), tried.column_names
    ended: Rows = []
    if before and tried.num_rows:
        waiting, done = (hash_rows(texts, 0) for texts in (_texts(before, len(names)), _as_texts(tried)))
        ended = [before[at] for at in np.flatnonzero(among(waiting, np.unique(done))).tolist()]
        remove(session, REFUSED, ended)
    if rejects is not None and all(kept_name(name) in rejects.column_names for name in names):
        keys = pa.table({name: rejects[kept_name(name)] for name in names})
        _add(session, follower, keys, rejects["rmend_reason"])
    return len(before) - len(ended) + (rejects.num_rows if rejects is not None else 0)


def _add(session: Session, follower: str, keys: pa.Table, reasons: Any) -> None:
    texts = [one.to_pylist() for one in _as_texts(keys)]
    columns = {
        "follower": pa.repeat(pa.scalar(follower), keys.num_rows),
        "source_key": pa.array([json.dumps(row, ensure_ascii=False) for row in zip(*texts, strict=True)], pa.string()),
        "reason": one_array(reasons).cast(pa.string()),
        "tried_at": pa.repeat(pa.scalar(now(), REFUSED["tried_at"].type), keys.num_rows),
    }
    table = own(session, REFUSED)
    assert table is not None
    session.insert(table, pa.table(columns), REFUSED.primary_key).refusals()


def _texts(refused: Rows, count: int) -> list[pa.Array]:
    """The keys of refused rows as texts, column by column."""
    rows = [read_json(one["source_key"], list[str | None]()) for one in refused]
    rows = [row if len(row) == count and all(isinstance(one, str) for one in row) else [None] * count for row in rows]
    return [pa.array([row[at] for row in rows], pa.string()) for at in range(count)]


def _as_texts(keys: pa.Table) -> list[pa.Array]:
    return [as_text(one_array(keys[name]))[0].cast(pa.string()) for name in keys.column_names]
