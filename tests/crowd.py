"""Many processes that merge into one table, while another writes to it. At length: `python -m tests.crowd STORE 60`;
with followers into another store: `python -m tests.crowd STORE 60 STORE`, and of a captured table, with programs that know nothing of
any history, `python -m tests.crowd STORE 60 STORE captured`.

Every value that is written is written once, so that what happened to a row can be put in order afterwards: what the
history says, and what the other program says that it did.
"""

from __future__ import annotations

import json
import random
import signal
import sys
import tempfile
import time
from collections import defaultdict
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq

import rapid_mender as rm
from rapid_mender.core.schema import Column, TableInfo
from rapid_mender.stores.contract import Conflict
from rapid_mender.stores.sql.link import Pick
from rapid_mender.stores.urls import open_store

from . import commands, servers
from .killing import place, trees
from .test_capture import replayed, rows, statements, writer
from .test_capture import trees as captured_trees

_ROWS, _BATCH = 2_000, 200


def merge_on(url: str, number: int, seconds: float, log: Path) -> None:
    """One of the processes that merge: batches of random keys, over and over."""
    rng, end, value = random.Random(number), time.time() + seconds, number * 10_000_000
    job = rm.Job(store=open_store(url), table="trees", key="tag_no")
    with log.open("w") as out:
        while time.time() < end:
            keys = rng.sample(range(_ROWS + _ROWS // 4), _BATCH)
            value += _BATCH
            records = [{"tag_no": key, "height": value + i} for i, key in enumerate(keys)]
            result = rm.merge(job, records)
            print(json.dumps([result.batch, result.retries, records]), file=out)


def write_on(url: str, number: int, seconds: float, log: Path) -> None:
    """The other program: it changes a row, and adds to a counter, in a transaction of its own."""
    rng, end, value = random.Random(number), time.time() + seconds, 0
    store: Any = open_store(url)
    link = store.connect()
    with log.open("w") as out:
        while time.time() < end:
            key, value = rng.randrange(_ROWS), value - 1
            try:
                link.run("BEGIN")
                held = link.select([Pick("height", "h", pa.int64())], f"FROM trees WHERE tag_no = {key} FOR UPDATE")
                link.run(f"UPDATE trees SET height = {value}, edits = edits + 1 WHERE tag_no = {key}")
                link.run("COMMIT")
            except Conflict:
                link.run("ROLLBACK")
                continue
            print(json.dumps([key, held["h"][0].as_py(), value]), file=out)


def _write(url: str, folder: Path, words: list[tuple[str, int]], seconds: float) -> None:
    """Start the processes that write, each with its log, and wait for their ends."""
    for end in [commands.forked(_WRITERS[what], url, number, seconds, folder / f"{number}.log") for what, number in words]:
        end()


def crowd(url: str, run: Any, folder: Path, merging: int, seconds: float) -> dict[str, int]:
    """Let them write, and check what came of it. Raises AssertionError if it is no serial order."""
    run("CREATE TABLE trees (tag_no bigint PRIMARY KEY, height bigint, edits bigint NOT NULL DEFAULT 0)")
    rm.merge(rm.Job(store=url, table="trees", key="tag_no"), [{"tag_no": n, "height": -(10**9) - n} for n in range(_ROWS)])
    words = [("merge", n) for n in range(1, merging + 1)] + [("write", 0)]
    _write(url, folder, words, seconds)
    table = {row["tag_no"]: row for row in trees(url).to_pylist()}
    history = rm.history(url, "trees").to_pylist()
    merges = [json.loads(line) for n in range(1, merging + 1) for line in (folder / f"{n}.log").open()]
    edits = [json.loads(line) for line in (folder / "0.log").open()]

    # no change lost, none recorded twice: the history and the other's edits make one chain for each row
    mine, theirs = defaultdict(list), defaultdict(list)
    for change in history:
        mine[change["new_tag_no"]].append(change)
    for key, old, new in edits:
        theirs[key].append((old, new))
    for key, row in table.items():
        value, count = None, 0
        left, right = mine[key][::-1], theirs[key][::-1]
        while left or right:
            if left and left[-1]["old_height"] == value:
                change = left.pop()
                assert change["new_edits"] == count, "the history has another state of a row than there was"
                assert (change["action"] == "insert") == (value is None)
                value = change["new_height"]
            else:
                assert right, f"row {key}: {left[-1]} follows nothing; at {value}"
                assert right[-1][0] == value, f"row {key}: {right[-1]} follows nothing; at {value}"
                value, count = right.pop()[1], count + 1
        assert (value, count) == (row["height"], row["edits"]), "a change was lost"

    # the merges came one after the other: each batch's changes stand together, and are what its records say
    by_batch = defaultdict(list)
    for change in history:
        by_batch[change["batch_no"]].append(change)
    for batch, _, records in merges:
        numbers = [change["change_no"] for change in by_batch[batch]]
        assert numbers == list(range(numbers[0], numbers[0] + len(numbers))), "two batches are mixed"
        assert {c["new_tag_no"]: c["new_height"] for c in by_batch[batch]} == {r["tag_no"]: r["height"] for r in records}
    assert len(by_batch) == len(merges) + 1
    return {"merges": len(merges), "edits": len(edits), "retries": sum(one[1] for one in merges)}


def _followed(url: str, folder: Path, syncs: list[str], words: list[tuple[str, int]], seconds: float) -> None:
    """Start the processes that write, beside those that sync, and wait for their ends; then sync once more."""
    following = [commands.Running(("sync", folder / f"{name}.toml", "--every", "100ms")) for name in syncs]
    _write(url, folder, words, seconds)
    for one in following:
        one.send_signal(signal.SIGTERM)
    ends = [one.wait() for one in following]
    assert not any("error" in ran.err.lower() for ran in ends), ends
    for name in syncs:
        rm.sync(rm.Sync.load(folder / f"{name}.toml"))


def crowd_followed(url: str, to_url: str, folder: Path, merging: int, seconds: float) -> dict[str, int]:
    """Let them merge while a table, a log and a folder of files follow. Raises AssertionError if one of these is not in the
    end what the history says."""
    store = open_store(url)
    with store.begin(write=True) as session:
        session.create(TableInfo("trees", (Column("tag_no", pa.int64(), nullable=False), Column("height", pa.int64())), ("tag_no",)))
    store.close()
    rm.merge(rm.Job(store=url, table="trees", key="tag_no"), [{"tag_no": n, "height": -n} for n in range(_ROWS)])
    at = f'to_store = "{to_url}"\nto_table = '
    ways = {"map": f'{at}"map"\n', "log": f'{at}"log"\nkeep = "changes"\n', "files": 'to_folder = "parts"\nformat = "parquet"\n'}
    for name, told in ways.items():
        (folder / f"{name}.toml").write_text(f'follower = "{name}"\nstore = "{url}"\ntable = "trees"\n{told}')
    _followed(url, folder, list(ways), [("merge", n) for n in range(1, merging + 1)], seconds)
    history = rm.history(url, "trees")
    numbers = history["change_no"].to_pylist()
    store = open_store(to_url)
    with store.begin(write=False) as session:
        here, log = (session.read(session.describe(name)).values for name in ("map", "log"))
    store.close()
    held = {}
    for row in history.to_pylist():
        held[row["new_tag_no"]] = row["new_height"]
    assert {row["tag_no"]: row["height"] for row in here.to_pylist()} == held
    assert held == {row["tag_no"]: row["height"] for row in trees(url).to_pylist()}
    assert log.sort_by("change_no").select(["change_no", "tag_no", "height"]).to_pylist() == [
        {"change_no": row["change_no"], "tag_no": row["new_tag_no"], "height": row["new_height"]} for row in history.to_pylist()
    ]
    parts = sorted((folder / "parts").glob("*.parquet"))
    assert [number for part in parts for number in pq.read_table(part)["change_no"].to_pylist()] == numbers
    runs = rm.batches(to_url, table="map").num_rows
    return {"changes": len(numbers), "batches": rm.batches(url).num_rows, "steps of the table": runs, "parts": len(parts)}


def write_anything(url: str, number: int, seconds: float, log: Path) -> None:
    """One of the programs that know nothing of any history: it does all that a program may do."""
    rng, end, done = random.Random(number), time.time() + seconds, 0
    kind = url.partition(":")[0]
    with writer(kind, url, Path()) as write:
        while time.time() < end:
            done += write(*(one for one in statements(kind, rng) if "wards" not in one)) is None
            write("ROLLBACK")
    log.write_text(str(done))


def crowd_captured(url: str, to_url: str, folder: Path, writing: int, seconds: float) -> dict[str, int]:
    """Let programs write to a captured table, beside one that merges, while a table and a log follow. Raises AssertionError
    if the history does not give the table, or one that follows is not as it is."""
    kind, store = url.partition(":")[0], open_store(url)
    with writer(kind, url, folder) as write:
        assert write(captured_trees(kind)) is None
    rm.capture(url, "trees")
    ways = {"map": '"map"\n', "log": '"log"\nkeep = "changes"\n'}
    for name, told in ways.items():
        (folder / f"{name}.toml").write_text(f'follower = "{name}"\nstore = "{url}"\ntable = "trees"\nto_store = "{to_url}"\nto_table = {told}')
    words = [("anything", n) for n in range(1, writing + 1)] + [("merge", 0)]
    _followed(url, folder, list(ways), words, seconds)
    numbers = rm.history(url, "trees")["change_no"].to_pylist()
    assert replayed([], url) == sorted(rows(url), key=repr)
    assert sorted(rows(to_url, "map"), key=repr) == sorted(rows(url), key=repr)
    assert sorted(row["change_no"] for row in rows(to_url, "log")) == numbers
    store.close()
    return {
        "changes": len(numbers),
        "batches": rm.batches(url).num_rows,
        "transactions": sum(int((folder / f"{n}.log").read_text()) for n in range(1, writing + 1)),
    }


_WRITERS = {"merge": merge_on, "write": write_on, "anything": write_anything}

if __name__ == "__main__":
    servers.provide()
    with tempfile.TemporaryDirectory() as name:
        if len(sys.argv) == 3:
            with servers.database(sys.argv[1]) as database:
                print(sys.argv[1], crowd(database.url, database.run, Path(name), 8, float(sys.argv[2])))
        else:
            with place(sys.argv[1], Path(name)) as there, place(sys.argv[3], Path(name)) as to:
                go = crowd_captured if "captured" in sys.argv else crowd_followed
                print(*sys.argv[1:], go(there.url, to.url, Path(name), 8, float(sys.argv[2])))
