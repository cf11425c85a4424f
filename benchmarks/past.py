"""What a history is put to use for: looking up one key, undoing a batch, the table as of a change, verifying."""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np
import pyarrow as pa

import rapid_mender as rm
from rapid_mender.stores.contract import Store
from rapid_mender.stores.urls import opened

from . import sqlite_peers
from .data import KEY, existing_and_batch, trees
from .servers import KINDS

_READ, _AS_OF = "the table is read", "the table as it was, before a fifth of it changed"
_BATCH, _UNDO = "a batch, half of it new", "its undo"
_KEY = "the history of one key"


@contextmanager
def database(kind: str) -> Iterator[str]:
    """The URL of a store with an empty table of trees."""
    none = existing_and_batch(1, 1)[0].slice(0, 0)
    if kind == "sqlite":
        with tempfile.TemporaryDirectory(dir=os.environ.get("BENCH_DIR")) as folder:
            sqlite_peers.make(Path(folder) / "register.db", none)
            yield f"sqlite:///{folder}/register.db"
        return
    server = KINDS[kind](none)
    try:
        yield server.reset()
    finally:
        server.drop()


def timed(work: Callable[[], object]) -> float:
    """The seconds that something takes."""
    started = time.perf_counter()
    work()
    return time.perf_counter() - started


def read(store: Store, table: str = "trees") -> None:
    """Read a table once."""
    with store.begin(write=False) as session:
        info = session.describe(table)
        sum(page.values.num_rows for page in session.scan(info, info.names))


def _as_of(store: Store, position: int) -> None:
    assert rm.as_of(store, "trees", position=position).num_rows


def measured_again(rows: pa.Table, step: float) -> pa.Table:
    """Trees with other heights."""
    height = pa.array(np.round(rows["height_m"].to_numpy() + step, 1))
    return rows.set_column(rows.column_names.index("height_m"), "height_m", height)


def past(kind: str, rows: int, rounds: int) -> list[tuple[str, list[float], str]]:
    """What takes how long on a table of `rows` rows with twice as many changes, and what that is in ratios."""
    step = rows // 5
    rng = np.random.default_rng(11)
    times: dict[str, list[float]] = {name: [] for name in (_READ, _AS_OF, _BATCH, _UNDO, _KEY)}
    verified: list[tuple[float, float, int]] = []
    with database(kind) as url, opened(url) as store:
        job = rm.Job(store=store, table="trees", key=list(KEY))
        for start in range(0, rows, step):
            rm.merge(job, trees(np.arange(start, start + step), rng))
        for again in range(4):
            rm.merge(job, measured_again(trees(rng.permutation(rows)[:step], rng), again))
        before = rm.batches(store, table="trees", limit=1)["last_change"][0].as_py()
        rm.merge(job, measured_again(trees(rng.permutation(rows)[:step], rng), 50))
        rm.index_history(store, "trees")
        for _ in range(rounds):
            times[_READ].append(timed(lambda: read(store)))
            times[_AS_OF].append(timed(lambda: _as_of(store, before)))
        for tree in rng.choice(rows, 20 * rounds, replace=False).tolist():
            key = {name: trees(np.array([tree]), rng)[name][0].as_py() for name in KEY}
            times[_KEY].append(timed(lambda key=key: rm.history(store, "trees", key=key)))  # type: ignore[misc]
        few = step // 5
        for turn in range(rounds):
            new = trees(np.arange(rows + turn * few, rows + turn * few + few // 2), rng)
            batch = pa.concat_tables([new, trees(rng.permutation(rows)[: few // 2], rng)])
            times[_BATCH].append(timed(lambda batch=batch: rm.merge(job, batch)))  # type: ignore[misc]
            times[_UNDO].append(timed(lambda: rm.undo(store, rm.batches(store, limit=1)["batch_no"][0].as_py())))
        verified += [_verify(url) for _ in range(rounds)]
    seconds, memory, changes = zip(*verified, strict=True)
    text = f"{changes[0] / statistics.median(seconds):,.0f} changes a second, {max(memory):,.0f} MiB at the peak"
    return [
        *(
            (name, times[name], "1" if name in (_READ, _BATCH) else ratios_of(times[before], times[name]))
            for before, name in ((_READ, _READ), (_READ, _AS_OF), (_BATCH, _BATCH), (_BATCH, _UNDO))
        ),
        (_KEY, times[_KEY][:: len(times[_KEY]) // 5], f"{statistics.median(times[_KEY]) * 1000:.0f} ms in the middle"),
        (f"{changes[0]:,} changes are verified", list(seconds), text),
    ]


def ratios_of(before: list[float], after: list[float]) -> str:
    """What came after in terms of what was before, round by round."""
    ratios = [mine / theirs for mine, theirs in zip(after, before, strict=True)]
    return f"{statistics.median(ratios):.2f} of that ({', '.join(f'{ratio:.2f}' for ratio in ratios)})"


def _verify(url: str) -> tuple[float, float, int]:
    """The seconds that a verification takes in a process of its own, its peak memory in MiB, and its changes."""
    script = f"""
import time
import rapid_mender as rm
started = time.perf_counter()
verified = rm.verify({url!r}, "trees")
assert verified.holds, verified
seconds = time.perf_counter() - started
status = open("/proc/self/status").read()
print(seconds, int(status.split("VmHWM:")[1].split()[0]) / 1024, verified.changes)
"""
    done = subprocess.run([sys.executable, "-c", script], check=True, capture_output=True, text=True)
    took, mebibytes, changes = done.stdout.split()
    return float(took), float(mebibytes), int(changes)
