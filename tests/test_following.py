"""Whoever follows a table: each change once, in order, and the table that follows is as the one that is followed."""

from __future__ import annotations

import random
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import strategies as st

import rapid_mender as rm

from .laws import Case, cases, every_store, normal, on_every_store
from .stores import STORES, TABLE, Place

COPY = "the copy's `table`"
KINDS = ("memory", "sqlite", "postgresql", "mariadb")
SCHEMA = pa.schema([pa.field("tag_no", pa.int64(), False), ("species", pa.string()), ("height", pa.float64())])


@contextmanager
def beside(place: Place, store: str, other: str, case: Case) -> Iterator[Place]:
    """A place of another kind, or the same place if it is of the kind that the store is of."""
    if store.startswith(other):
        yield place
    else:
        with STORES[other](case.schema, case.key, []) as another:
            yield another


@on_every_store(24, case=cases, other=st.sampled_from(KINDS), seed=st.integers(0, 999))
def test_a_table_that_follows_is_as_the_one_that_is_followed(store: str, case: Case, other: str, seed: int) -> None:
    """In any number of steps, from the rows that it was filled with; also undone batches; and a log has every change."""
    if other == "mariadb":
        case.make_finite()
    dice = random.Random(seed)
    with STORES[store](case.schema, case.key, case.rows) as place, beside(place, store, other, case) as target:
        follow = {"table": TABLE, "to_store": target.store, "to_table": COPY, "follower": "a copy", "key": case.key}
        log = follow | {"to_table": "log", "follower": "a log", "keep": "changes", "key": []}
        for turn in range(5):
            if turn and dice.random() < 0.6:
                step = dice.randint(1, 9)
                rm.sync(place.store, **follow, commit_every=step)
                assert normal(target.rows(COPY)) == normal(place.rows())
            if turn == 3:
                rm.undo(place.store, since=1)
            else:
                rm.merge(case.job(place), case.frame(turn % 2))
        done = rm.sync(place.store, **follow)
        assert normal(target.rows(COPY)) == normal(place.rows())
        history = rm.history(place.store, TABLE)
        assert done.position == (history["change_no"][-1].as_py() if history.num_rows else 0)
        assert rm.sync(place.store, **follow).changes == 0
        if history.num_rows:
            for step in (dice.randint(1, 5), 100):
                rm.sync(place.store, **log, commit_every=step)
            kept = sorted(target.rows("log"), key=lambda row: int(row["change_no"]))
            assert [row["change_no"] for row in kept] == history["change_no"].to_pylist()
            assert [row["action"] for row in kept] == history["action"].to_pylist()
            columns = [name for name in case.schema.names]
            side = ["old" if action == "delete" else "new" for action in history["action"].to_pylist()]
            rows = history.to_pylist()
            wanted = [{name: row[f"{one}_{name}"] for name in columns} for row, one in zip(rows, side, strict=True)]
            assert normal([{name: row[name] for name in columns} for row in kept]) == normal(wanted)


@on_every_store(18, case=cases, seed=st.integers(0, 999))
def test_net_changes_come_to_the_same_as_all_of_them(store: str, case: Case, seed: int) -> None:
    """A follower in Python, in steps of any length: nothing twice, in order, and what is net changes what differs."""
    dice = random.Random(seed)
    with STORES[store](case.schema, case.key, case.rows) as place:
        tables = {0: normal(place.rows())}
        for batch in (0, 1, 0):
            result = rm.merge(case.job(place), case.frame(batch))
            if result.batch is not None and (last := rm.batches(place.store)["last_change"][-1].as_py()):
                tables[last] = normal(place.rows())
        with rm.Follower(place.store, TABLE, "each") as each, rm.Follower(place.store, TABLE, "net", net=True) as net:
            numbers: list[int] = []
            while got := list(each.changes(dice.randint(1, 6))):
                assert list(each.changes(1))[0].to_pylist() == got[0].slice(0, 1).to_pylist(), "comes again"
                each.acknowledge(got[-1]["change_no"][-1].as_py())
                numbers += [number for page in got for number in page["change_no"].to_pylist()]
            assert numbers == rm.history(place.store, TABLE)["change_no"].to_pylist()
            rows = list(tables[0])
            for changes in net.changes():
                for change in changes.to_pylist():
                    sides = [{name[4:]: change[name] for name in change if name.startswith(side)} for side in ("old_", "new_")]
                    if change["action"] != "insert":
                        rows.remove(normal([sides[0]])[0])
                    if change["action"] != "delete":
                        rows += normal([sides[1]])
                    assert sides[0] != sides[1]
            net.acknowledge()
            assert sorted(rows, key=repr) == sorted(normal(place.rows()), key=repr)
            assert net.position == max(tables)
