"""Killing merges at random moments. `python -m tests.killing ROWS KILLS` does it at length."""

from __future__ import annotations

import random
import signal
import sqlite3
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.csv as pcsv

import rapid_mender as rm
from rapid_mender.core import changes
from rapid_mender.stores.base import open_store

_JOB = 'store = "sqlite:///register.db"\ntable = "trees"\nkey = "tag_no"\nincoming = "batch.csv"\n'


def _table(url: str) -> pa.Table:
    with open_store(url).begin(write=False) as session:
        return session.read(session.describe("trees")).sort_by("tag_no")


def kill_merges(folder: Path, rows: int, kills: int, seed: int, commit_every: int | None = None) -> list[str]:
    """Kill `kills` merges of `rows` records; say for each whether the register was before or after.

    Raises AssertionError if it was ever between, if the history does not agree, or if a next run does not finish.
    With `commit_every` it may be between, but only by whole units of work.
    """
    rng = random.Random(seed)
    path, url = folder / "register.db", f"sqlite:///{folder}/register.db"
    with sqlite3.connect(path) as connection:
        connection.execute("CREATE TABLE trees (tag_no INTEGER PRIMARY KEY, height_m REAL, note TEXT)")
        records = ((n, n / 10, f"note {n}") for n in range(0, 2 * rows, 2))
        connection.executemany("INSERT INTO trees VALUES (?, ?, ?)", records)
    connection.close()
    (folder / "job.toml").write_text(_JOB + (f"commit_every = {commit_every}\n" if commit_every else ""))
    seen = []
    for round_no in range(kills):
        numbers = np.random.default_rng(round_no).permutation(2 * rows)[:rows] + round_no
        notes = pa.repeat(f"round {round_no}", rows)
        batch = pa.table({"tag_no": numbers, "height_m": np.full(rows, float(round_no)), "note": notes})
        pcsv.write_csv(batch, folder / "batch.csv")
        before = _table(url)
        started = time.perf_counter()
        whole = rng.uniform(0.1, 1.0)
        run = subprocess.Popen(
            [sys.executable, "-m", "rapid_mender", "merge", "job.toml", "--json"], cwd=folder, stdout=-3
        )
        while time.perf_counter() - started < whole * (1.5 + rows / 100_000) and run.poll() is None:
            time.sleep(0.002)
        run.send_signal(signal.SIGKILL)
        run.wait()
        after = _table(url)
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
        held = _table(url).filter(pa.compute.is_in(_table(url)["tag_no"], value_set=pa.array(numbers)))
        assert held.equals(batch.sort_by("tag_no").cast(held.schema)), "the next run did not finish the job"
    return seen


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as name:
        outcome = kill_merges(Path(name), int(sys.argv[1]), int(sys.argv[2]), int(time.time()))
    print({word: outcome.count(word) for word in ("before", "after")})
