"""Changes that the target did not take together, once more, one after the other.

Two rows may have exchanged a unique value by way of a third value. Of such changes nothing is left but the exchange,
and no database takes that at once.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa

from ..changes.netting import netted
from ..changes.past import Past
from ..core.existing import Existing
from ..core.hashing import hash_rows
from ..core.repeats import among
from ..incoming.rejected import kept_name
from ..merging.merge import merge_beside
from ..merging.result import Result
from .moving import Moving
from .syncing import known_of

if TYPE_CHECKING:
    from .table_sync import TableSyncing

_MOST = 1000
"""Of more changes than that all stay refused: each is a merge of its own."""


def take_one_by_one(sync: TableSyncing, refused: Result, moving: Moving) -> None:
    """Try the changes of the rows again that a step did not take, one after the other, and count them anew; not where
    none of them has more than one change. `moving`: of that step."""
    with (
        sync.tail.look(moving.before["position"], moving.before["batch_no"]) as view,
        sync.receiving(sync.sending(view)) as receiving,
    ):
        send, _ = known_of(view, receiving.send, moving.before["position"])
        names = [kept_name(name) for name in send.key]
        rejects = refused.rejects
        if view.past is None or not {*names} <= {*rejects.column_names}:
            return
        keys = rejects.select(names).rename_columns(send.key)
        pages = view.changes(moving.before["position"], moving.after["position"], send.read_of(view.past))
        lines = list(_lines(view.past, keys, pages))
        if not rejects.num_rows < len(lines) <= _MOST:
            return
        steps = [send.of_net(netted(view.past, [one], send.needed, send.apart), receiving) for one in lines]
        job = send.job(receiving.info).model_copy(update={"rejects": None, "max_rejects": None, "max_deletes": None})
    last: dict[Any, Result] = {}
    for records in steps:
        if records.num_rows:
            key = tuple(records.select(send.key).slice(0, 1).to_pylist()[0].values())
            last[key] = merge_beside(
                job, records, sync.moving(moving.after, moving.after, moving.details, records, send.key)
            )
            sync.done.batches += [one for one in (last[key].batch,) if one is not None]
    sync.done.take_back(refused)
    for result in last.values():
        sync.done.count(result)


def _lines(past: Past, keys: pa.Table, pages: Iterator[Existing]) -> Iterator[Existing]:
    """Of changes those of some rows, each by itself; no more than are of use."""
    wanted = np.unique(hash_rows(past.fold_keys(keys.select(past.key)), 0))
    count = 0
    for page in pages:
        sides = (past.rows(page, side, past.key).values for side in ("old", "new"))
        hits = [among(hash_rows(past.fold_keys(rows), 0), wanted) for rows in sides]
        for at in np.flatnonzero(np.any(hits, axis=0)).tolist():
            count += 1
            if count > _MOST + 1:
                return
            yield page.take(np.array([at]))
