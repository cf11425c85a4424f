"""Pruning: the oldest changes of a history are removed, and a note is left of where it begins now."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import date, datetime

import pyarrow as pa

from ..core.own_tables import FOLLOWERS_TABLE
from ..errors import JobError
from ..stores.contract import Condition, Selection, Session, Store
from ..stores.urls import opened
from .detail import Detail
from .details import bring_up_to_date
from .given import moment, whole
from .guard import any_sealed
from .past import NUMBER, Past, past_of
from .recorder import Recorder

_AT_ONCE = 50_000


@dataclass
class Pruned:
    """What pruning removed, or would remove: so many `changes`, of batches up to `last_batch`; `begins` is when the
    history begins now. `batch` is the run's own number, None where nothing was removed. `held_by` are followers who
    have still to see changes that would have gone otherwise, and the last that each has seen."""

    table: str
    store: str
    changes: int
    last_change: int | None = None
    last_batch: int | None = None
    begins: datetime | None = None
    batch: int | None = None
    held_by: dict[str, int] = field(default_factory=dict)


def prune(
    store: str | Store,
    table: str,
    *,
    before: datetime | date | str | None = None,
    before_batch: int | None = None,
    preview: bool = False,
    force: bool = False,
) -> Pruned:
    """Remove the changes of a table that were made before a time or a batch, some at a time, each part in a
    transaction of its own.

    Only whole batches go, so that what is left can be undone and verified. The run is noted among the batches, with
    the seal of the last batch that went, so that `as_of` and `verify` know where the history begins. What a follower
    has still to see is not removed, unless by `force`: then the follower has lost its place. Raises JobError if neither
    or both of `before` and `before_batch` are given; StoreError if the table has no history.
    """
    whole("before_batch", before_batch)
    if (before is None) == (before_batch is None):
        raise JobError("say how far to prune: before, a time, or before_batch")
    with opened(store) as place:
        with place.begin(write=False) as session:
            past = past_of(session, table)
            info = past.info
            followers = {} if force else _followers(session, info.name)
            pruned = _look(past, place.where, moment("before", before), before_batch, followers)
        if preview or not pruned.changes:
            return pruned
        bring_up_to_date(place)
        with place.begin(write=True, table=info) as session:  # noted first: what is half done is known to be pruned
            pruned.batch = _note(session, past_of(session, table), pruned)
        while True:
            with place.begin(write=True, table=info) as session:
                past = past_of(session, table)
                old = [[Condition(NUMBER, "<=", pruned.last_change)]]
                wanted = Selection(old, NUMBER, _AT_ONCE, first=True, columns=[NUMBER])
                rows = session.read(past.kept, wanted)
                if not len(rows.positions):
                    return pruned
                session.delete(past.kept, rows).refusals()


def _followers(session: Session, table: str) -> dict[str, int]:
    """The followers of a table, and the last change that each has seen."""
    kept = session.find_own(FOLLOWERS_TABLE)
    if kept is None:
        return {}
    rows = session.read(
        kept, Selection([[Condition("table_name", "=", table)]], kept.primary_key[0])
    ).values.to_pylist()
    last: dict[str, int] = {}
    for row in rows:  # several syncs may have one name, each into a store of its own
        last[row["follower"]] = min(row["position"], last.get(row["follower"], row["position"]))
    return last


def _look(
    past: Past, where: str, before: datetime | None, before_batch: int | None, followers: dict[str, int]
) -> Pruned:
    """What is to be removed."""
    if before is not None:
        bounds = [[Condition("finished_at", "<", before)]]
    else:
        assert before_batch is not None
        bounds = [[Condition("batch_no", "<", before_batch)]]
    done = past.runs(
        [[Condition("last_change", ">=", 1)], [Condition("status", "=", "done"), Condition("status", "=", "stopped")]]
    )
    inside = {run["batch_no"] for run in past.runs([[Condition("last_change", ">=", 1)], *bounds])}
    due = [run for run in done if run["batch_no"] in inside]
    most = min(followers.values(), default=1 << 62)
    old = [run for run in due if run["last_change"] <= most]
    young = [run for run in done if run not in old]
    oldest = max((run["last_change"] for run in due), default=0)
    last = max((run["last_change"] for run in old), default=0)
    if before is not None:  # what other programs wrote is of no batch
        until = Selection([[Condition("changed_at", "<", before)]], NUMBER, 1, columns=[NUMBER])
        others = past.session.read(past.kept, until).values[NUMBER].to_pylist()
        oldest, last = max([oldest, *others]), max([last, *others])
    held_by = {name: position for name, position in followers.items() if position < oldest}
    captured = any(one.token for one in past.session.triggers(past.info))
    if captured and not past.session.many_writers:  # the newest stays: the next is numbered after it
        last = min(last, past.session.last(past.kept.name, NUMBER) - 1)
    last = min([last, most, *(run["first_change"] - 1 for run in young)])
    cut = [run["first_change"] - 1 for run in old if run["first_change"] <= last < run["last_change"]]
    last = min([last, *cut])  # so that no batch is cut in two
    count = 0
    begins: datetime | None = None
    for page in past.changes([[Condition(NUMBER, "<=", last)]], [NUMBER, "changed_at"]):
        count += len(page.positions)
        begins = page.values["changed_at"].cast(pa.timestamp("ms", "UTC"))[-1].as_py()
    gone = [run for run in old if run["last_change"] <= last]
    newest = gone[-1]["batch_no"] if gone else None
    return Pruned(past.info.name, where, count, last if count else None, newest, begins, held_by=held_by)


def _note(session: Session, past: Past, pruned: Pruned) -> int:
    """Note among the batches where the history begins now."""
    sealed = any_sealed(past, 0)  # then the note is sealed at once, as it says which changes need not be there
    recorder = Recorder(session, past.info, None, True, kind="prune", seals=sealed)
    batch = recorder.start()
    seal = None
    if pruned.last_batch is not None:
        (run,) = past.runs([[Condition("batch_no", "=", pruned.last_batch)]])
        seal = run["seal"].get("hash")
    assert pruned.begins is not None
    begins = Detail(
        "pruned", change_no=pruned.last_change, of_batch=pruned.last_batch, at_time=pruned.begins, value=seal
    )  # fmt: skip
    counts = dict.fromkeys(("insert", "update", "delete", "skip", "reject"), 0)
    recorder.finish(counts, {"pruned": pruned.changes}, details=[begins])
    return batch
