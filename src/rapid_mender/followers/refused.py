"""Rows that the target of a sync did not take. They are kept beside its position, until they are taken."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa

from ..changes.own import own
from ..core.cast import as_text, cast
from ..core.hashing import hash_rows
from ..core.json_text import read_json
from ..core.keys import one_array
from ..core.own_tables import REFUSED
from ..core.repeats import among
from ..core.schema import TableInfo
from ..incoming.rejected import kept_name
from ..stores.contract import Condition, Selection, Session
from .positions import now


def refused_of(session: Session, follower: str) -> pa.Table:
    """The rows that the target of a sync did not take: refused_no, source_key (their keys, as JSON), reason,
    tried_at."""
    table = own(session, REFUSED)
    if table is None:
        return REFUSED.schema.empty_table()
    mine = Selection([[Condition("follower", "=", follower)]], "refused_no")
    found = session.read(table, mine).values.select(REFUSED.names)
    # a database may call names equal that differ in case
    return found.filter(pa.array(np.array([one == follower for one in found["follower"].to_pylist()], bool)))


def first_of(refused: pa.Table, count: int = 100) -> list[dict[str, Any]]:
    """The first of some refused rows, as documents."""
    lines = refused.slice(0, count).to_pylist()
    return [{"key": read_json(one["source_key"], list[Any]()), "reason": one["reason"]} for one in lines]


def keys_of(refused: pa.Table, info: TableInfo, key: Sequence[str]) -> pa.Table:
    """The keys of refused rows, in the types of the table that is followed, without those that somebody has altered so
    that they are none."""
    texts = _texts(refused, len(key))
    keys = pa.table({name: cast(text, info[name])[0] for name, text in zip(key, texts, strict=True)})
    return keys.drop_null()


def note_refused(session: Session, follower: str, tried: pa.Table, rejects: pa.Table | None) -> int:
    """Note what became of rows that were tried: `tried` are their keys, and `rejects` the records that were not taken,
    with the reasons in `rmend_reason`. Returns how many rows are refused by now."""
    before = refused_of(session, follower)
    names = tried.column_names
    if before.num_rows and tried.num_rows:
        waiting, done = (hash_rows(texts, 0) for texts in (_texts(before, len(names)), _as_texts(tried)))
        ended = before.filter(pa.array(among(waiting, np.unique(done))))
        _remove(session, ended)
    else:
        ended = before.slice(0, 0)
    if rejects is not None and all(kept_name(name) in rejects.column_names for name in names):
        keys = pa.table({name: rejects[kept_name(name)] for name in names})
        _add(session, follower, keys, rejects["rmend_reason"])
    return int(before.num_rows - ended.num_rows + (rejects.num_rows if rejects is not None else 0))


def forget_refused(session: Session, follower: str) -> None:
    """Forget the rows that the target of a sync did not take."""
    _remove(session, refused_of(session, follower))


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


def _remove(session: Session, rows: pa.Table) -> None:
    table = own(session, REFUSED)
    if table is not None and rows.num_rows:
        session.delete(table, session.fetch(table, rows.select(["refused_no"]), fresh=True)).refusals()


def _texts(refused: pa.Table, count: int) -> list[pa.Array]:
    """The keys of refused rows as texts, column by column."""
    rows = [read_json(text, list[str | None]()) for text in refused["source_key"].to_pylist()]
    rows = [row if len(row) == count and all(isinstance(one, str) for one in row) else [None] * count for row in rows]
    return [pa.array([row[at] for row in rows], pa.string()) for at in range(count)]


def _as_texts(keys: pa.Table) -> list[pa.Array]:
    return [as_text(one_array(keys[name]))[0].cast(pa.string()) for name in keys.column_names]
