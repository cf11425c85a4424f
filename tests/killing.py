"""Killing merges at random moments, or the server under them. At length: `python -m tests.killing STORE ROWS KILLS`.

STORE is sqlite, postgresql or mariadb; with `-server` behind it, the server is stopped at once and not the merge; with `-undo`, `-sync` or
`-fill`, these are killed, and with `-threads` a process whose threads share a Merger; `-sync` and `-fill` take the STORE that follows
behind KILLS. With `captured` at the end the table is captured.
"""

from __future__ import annotations

import json
import random
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, nullcontext
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.csv as pcsv
import pyarrow.parquet as pq

import rapid_mender as rm
from rapid_mender.core.schema import Column, TableInfo
from rapid_mender.stores.contract import Load, Store
from rapid_mender.stores.urls import open_store

from . import commands, servers
from . import replaying as changes

_PART = 0.05, 1.1
"""After which part of the time that a run takes it is killed."""
_JOB = 'store = "{}"\ntable = "trees"\nkey = "tag_no"\nincoming = "batch.csv"\n'
_TREES = TableInfo("trees", (Column("tag_no", pa.int64(), nullable=False), Column("height_m", pa.float64()), Column("note", pa.string())), ("tag_no",))


@dataclass
class Place:
    """A store to kill merges on, and what stops and mends its server."""

    url: str
    server: servers.Private | None = None


@contextmanager
def place(kind: str, folder: Path, server: bool = False) -> Iterator[Place]:
    """An empty database; with `server`, on a server of its own."""
    if kind == "sqlite":
        (folder / "register.db").touch()
        yield Place(f"sqlite:///{folder}/register.db")
        return
    private = servers.Private(kind) if server else None
    try:
        if private is not None:
            private.start()
        with servers.database(kind, private.url if private is not None else None) as database:
            yield Place(database.url, private)
    finally:
        if private is not None:
            private.remove()


def trees(url: str) -> pa.Table:
    """The table of trees, by their numbers."""
    return table_of(url, "trees").sort_by("tag_no")


def table_of(url: str, name: str) -> pa.Table:
    """A table of a store."""
    store = open_store(url)
    with store.begin(write=False) as session:
        found = session.read(session.describe(name)).values
    store.close()
    return found


def _wait_for(done: Callable[[], bool], seconds: float) -> None:
    end = time.perf_counter() + seconds
    while time.perf_counter() < end and not done():
        time.sleep(0.002)


def _killed(run: commands.Running) -> str:
    """Kill a run, and say whether it still ran."""
    word = "killed" if run.poll() is None else "ended"
    run.kill()
    ran = run.wait()
    assert ran.code in (0, -signal.SIGKILL), ran
    return word


def all_by_batches(url: str, table: str) -> None:
    """Raise AssertionError if a captured table has changes that no batch made: each was to be recorded once."""
    history = rm.history(url, table)
    assert history.num_rows
    assert history["batch_no"].null_count == 0, "what a batch did was captured too"
    assert rm.verify(url, table).holds


def kill_merges(where: Place, folder: Path, rows: int, kills: int, seed: int, commit_every: int | None = None, captured: bool = False) -> list[str]:
    """Kill `kills` merges of `rows` records; say for each whether the register was before or after.

    Raises AssertionError if it was ever between, if the history does not agree, or if a next run does not finish.
    With `commit_every` it may be between, but only by whole units of work.
    """
    rng, url = random.Random(seed), where.url
    store = open_store(url)
    with store.begin(write=True) as session:
        session.create(_TREES)
        numbers = np.arange(0, 2 * rows, 2)
        notes = pa.array([f"note {n}" for n in numbers])
        session.append(_TREES, Load(pa.table({"tag_no": numbers, "height_m": numbers / 10, "note": notes})))
    store.close()
    if captured:
        rm.capture(url, "trees")
    (folder / "job.toml").write_text(_JOB.format(url) + (f"commit_every = {commit_every}\n" if commit_every else ""))
    seen: list[str] = []
    whole = 0.0
    for round_no in range(kills + 1):
        numbers = np.random.default_rng(round_no).permutation(2 * rows)[:rows] + round_no
        notes = pa.repeat(f"round {round_no}", rows)
        batch = pa.table({"tag_no": numbers, "height_m": np.full(rows, float(round_no)), "note": notes})
        pcsv.write_csv(batch, folder / "batch.csv")
        before = trees(url)
        started = time.perf_counter()
        run = commands.Running(("merge", "job.toml", "--json"), folder)
        if not whole:  # the first is left alone, to learn how long they take
            assert run.wait().code == 0
            whole = time.perf_counter() - started
            continue
        _wait_for(lambda run=run: run.poll() is not None, rng.uniform(*_PART) * whole)  # type: ignore[misc]
        if where.server is None:
            run.kill()
            run.wait()
        else:
            where.server.stop()
            ran = run.wait()
            where.server.start()
            assert ran.code == 0 or "run again" in ran.err, ran
        after = trees(url)
        if after.equals(before):
            seen.append("before")
        else:
            last = rm.batches(url).to_pylist()[-1]
            done = sum(last[name] or 0 for name in ("inserted", "updated", "skipped"))
            seen.append("after" if done == rows else "between")
            assert done % (commit_every or rows) == 0 or done == rows, "half a unit of work"
            history = rm.history(url, "trees", batch=last["batch_no"])
            with open_store(url).begin(write=False) as session:
                key = session.describe("trees").pick(["tag_no"])
            assert changes.replay(before, history, key).sort_by("tag_no").equals(after), "between"
        finished = rm.merge(rm.Job.load(folder / "job.toml"))
        assert (finished.counts["skip"] == rows) == (seen[-1] == "after")
        assert commit_every or "between" not in seen
        table = trees(url)
        held = table.filter(pa.compute.is_in(table["tag_no"], value_set=pa.array(numbers)))
        assert held.equals(batch.sort_by("tag_no").cast(held.schema)), "the next run did not finish the job"
        if captured:
            all_by_batches(url, "trees")
    return seen


def register(url: str, rows: int) -> tuple[Store, np.ndarray]:
    """A register of trees, which is made, and their numbers."""
    store, numbers = open_store(url), np.arange(rows)
    with store.begin(write=True) as session:
        session.create(_TREES)
        session.append(_TREES, Load(pa.table({"tag_no": numbers, "height_m": numbers / 10, "note": pa.repeat("as it was", rows)})))
    return store, numbers


def kill_undos(where: Place, rows: int, kills: int, seed: int, captured: bool = False) -> list[str]:
    """Kill `kills` undos of a batch of `rows` records; say for each whether the register was before or after it."""
    rng, url = random.Random(seed), where.url
    store, numbers = register(url, rows)
    batch = pa.table({"tag_no": numbers + rows // 3, "height_m": numbers / 7, "note": pa.repeat("new", rows)})
    number = rm.merge(rm.Job(store=store, table="trees", key="tag_no"), batch).batch
    store.close()
    if captured:
        rm.capture(url, "trees")
    seen: list[str] = []
    whole = 0.0
    while len(seen) < kills:
        before = trees(url)
        started = time.perf_counter()
        run = commands.Running(("undo", url, number))
        if whole:
            _wait_for(lambda run=run: run.poll() is not None, rng.uniform(*_PART) * whole)  # type: ignore[misc]
            run.kill()
        run.wait()
        after = trees(url)
        if whole:
            seen.append("before" if after.equals(before) else "after")
        whole = whole or time.perf_counter() - started
        if after.equals(before):
            rm.undo(url, number)
        verified = rm.verify(url, "trees")
        assert verified.holds, verified.differences.to_pylist()[:5]
        undone = trees(url)
        last = rm.batches(url).to_pylist()[-1]
        assert last["undoes"] == f"[{number}]"
        assert sum(last[name] for name in ("inserted", "updated", "deleted")) == rows
        number = last["batch_no"]
        assert after.equals(before) or after.equals(undone), "between"
    if captured:
        all_by_batches(url, "trees")
    return seen


def kill_syncs(where: Place, to: Place, folder: Path, rows: int, kills: int, seed: int, captured: bool = False) -> list[str]:
    """Kill `kills` runs of syncs, into a table, a log and files, that follow a register of `rows` trees: now while they
    fill, now while they follow. In the end both are as the register, and no change was taken twice."""
    rng, url = random.Random(seed), where.url
    store, _ = register(url, rows)
    job = rm.Job(store=store, table="trees", key="tag_no", missing="delete")
    for name, keep in (("map", "rows"), ("log", "changes")):
        told = f'follower = "{name}"\nstore = "{url}"\ntable = "trees"\nto_store = "{to.url}"\nto_table = "{name}"\nkeep = "{keep}"\n'
        (folder / f"{name}.toml").write_text(f"{told}commit_every = {max(rows // 3, 1)}\n")
    told = f'follower = "files"\nstore = "{url}"\ntable = "trees"\nto_folder = "parts"\nformat = "parquet"\n'
    (folder / "files.toml").write_text(f"{told}commit_every = {max(rows // 3, 1)}\n")
    if captured:
        rm.merge(job, pa.table({"tag_no": [0]}))
        rm.sync(rm.Sync.load(folder / "map.toml"))
        rm.capture(to.url, "map")
    seen: list[str] = []
    whole = dict.fromkeys(("map", "log", "files"), 2.0)
    while len(seen) < kills:
        some = rng.sample(range(rows * 2), rows)
        rm.merge(job, pa.table({"tag_no": some, "height_m": [number / rng.randint(1, 50) for number in some], "note": pa.repeat("new", rows)}))
        for name, most in whole.items():
            began = time.perf_counter()
            run = commands.Running(("sync", folder / f"{name}.toml"))
            _wait_for(lambda run=run: run.poll() is not None, rng.uniform(*_PART) * most)  # type: ignore[misc]
            seen.append(_killed(run))
            whole[name] = time.perf_counter() - began if seen[-1] == "ended" else most * 1.1
    for name in whole:
        rm.sync(rm.Sync.load(folder / f"{name}.toml"))
    history = rm.history(url, "trees")
    store.close()
    held = [table_of(url, "trees"), table_of(to.url, "map"), table_of(to.url, "log")]
    assert held[0].sort_by("tag_no").equals(held[1].sort_by("tag_no"))
    if captured:
        all_by_batches(to.url, "map")
    parts = [one for part in sorted((folder / "parts").glob("*.parquet")) for one in pq.read_table(part)["change_no"].to_pylist()]
    assert parts == history["change_no"].to_pylist()
    assert held[2].sort_by("change_no")["change_no"].to_pylist() == history["change_no"].to_pylist()
    return seen


def kill_fills(where: Place, to: Place, folder: Path, rows: int, kills: int, seed: int) -> list[str]:
    """Kill `kills` fills of tables that follow a register of `rows` trees, change that, and go on: each is then as the
    register."""
    rng, url = random.Random(seed), where.url
    store, _ = register(url, rows)
    job = rm.Job(store=store, table="trees", key="tag_no", missing="delete")
    rm.merge(job, pa.table({"tag_no": range(rows), "note": pa.repeat("0", rows)}))
    seen: list[str] = []
    whole = 0.0
    for turn in range(kills + 1):
        sync = {"store": url, "table": "trees", "to_store": to.url, "to_table": f"map{turn}", "follower": f"map{turn}", "commit_every": max(rows // 3, 1)}
        (folder / "fill.toml").write_text("\n".join(f"{name} = {json.dumps(value)}" for name, value in sync.items()))
        began = time.perf_counter()
        run = commands.Running(("sync", folder / "fill.toml"))
        if whole:
            _wait_for(lambda run=run: run.poll() is not None, rng.uniform(*_PART) * whole)  # type: ignore[misc]
            seen.append(_killed(run))
        else:
            assert run.wait().code == 0
        whole = whole or time.perf_counter() - began
        some = rng.sample(range(rows * 2), rows)
        rm.merge(job, pa.table({"tag_no": some, "height_m": [rng.random() for _ in some], "note": pa.repeat(f"{turn}", rows)}))
        rm.sync(rm.Sync(**sync))  # type: ignore[arg-type]
        assert table_of(url, "trees").sort_by("tag_no").equals(table_of(to.url, f"map{turn}").sort_by("tag_no"))
    store.close()
    return seen


_THREADS = """
import itertools, os, sys, threading
import rapid_mender as rm
merger, told = rm.Merger(rm.Job(store=sys.argv[1], table="trees", key="tag_no")), os.open(sys.argv[2], os.O_APPEND | os.O_WRONLY | os.O_CREAT)
def work(number):
    for value in itertools.count(int(sys.argv[3]) + number, 16):
        result = merger.merge([{"tag_no": value % 40, "height_m": float(value)}])
        os.write(told, f"{value} {result.batch}\\n".encode())
for number in range(16):
    threading.Thread(target=work, args=(number,)).start()
threading.Event().wait()
"""


def kill_threads(where: Place, folder: Path, kills: int, seed: int) -> list[str]:
    """Kill `kills` processes in which 16 threads share a Merger: what each of them was told is in the history, once."""
    rng, url = random.Random(seed), where.url
    register(url, 40)[0].close()
    lines = folder / "told"
    for turn in range(kills):
        run = subprocess.Popen([sys.executable, "-c", _THREADS, url, str(lines), str((turn + 1) * 1_000_000)])
        _wait_for(lambda turn=turn: lines.exists() and f"\n{turn + 1}0" in f"\n{lines.read_text()}", 20)  # type: ignore[misc]
        time.sleep(rng.uniform(0, 1))
        assert run.poll() is None
        run.kill()
        run.wait()
    told = [line.split() for line in lines.read_text().splitlines()]
    history = rm.history(url, "trees")
    found = dict(zip(history["new_height_m"].to_pylist(), history["batch_no"].to_pylist(), strict=True))
    assert len(found) == len(history)
    assert {float(value): int(batch) for value, batch in told} == {float(value): found[float(value)] for value, _ in told}
    assert len(history) - len(told) <= 16 * kills, "of each thread one call at most was done and not told"
    assert rm.verify(url, "trees").holds
    return ["killed"] * kills


if __name__ == "__main__":
    servers.provide()
    kind, _, whom = sys.argv[1].partition("-")
    captured, others = "captured" in sys.argv, [word for word in sys.argv[4:] if word != "captured"]
    with tempfile.TemporaryDirectory() as name, place(kind, Path(name), whom == "server") as there:
        counts = int(sys.argv[2]), int(sys.argv[3]), int(time.time())
        if whom in ("sync", "fill"):
            (Path(name) / "to").mkdir()
            with place(others[0], Path(name) / "to") if others else nullcontext(there) as to:
                outcome = kill_syncs(there, to, Path(name), *counts, captured=captured) if whom == "sync" else kill_fills(there, to, Path(name), *counts)
        elif whom == "threads":
            outcome = kill_threads(there, Path(name), counts[1], counts[2])
        elif whom == "undo":
            outcome = kill_undos(there, *counts, captured=captured)
        else:
            outcome = kill_merges(there, Path(name), *counts, captured=captured)
    print(sys.argv[1], {word: outcome.count(word) for word in dict.fromkeys(outcome)})
