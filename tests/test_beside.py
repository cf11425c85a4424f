"""A SQLite file that others in this process have open, or open while we merge; connections and files that are left."""

from __future__ import annotations

import os
import sqlite3
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import closing, suppress
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

import rapid_mender as rm
from rapid_mender.stores.sqlite import store as sqlite
from rapid_mender.stores.sqlite import worker as sqlite_worker

_EDITOR = """
import select, sqlite3, sys, time
connection = sqlite3.connect(sys.argv[1], isolation_level=None, timeout=60)
done = 0
while not select.select([sys.stdin], [], [], 0.01)[0]:
    connection.execute("BEGIN IMMEDIATE")
    connection.execute("UPDATE t SET edits = edits + 1 WHERE id = ?", (done % 500,))
    connection.execute("COMMIT")
    done += 1
print(done)
"""


def register(path: Path, rows: int = 500) -> Path:
    with closing(sqlite3.connect(path)) as connection:
        connection.execute("CREATE TABLE t (id INTEGER PRIMARY KEY, v INTEGER, edits INTEGER NOT NULL DEFAULT 0)")
        connection.executemany("INSERT INTO t (id, v) VALUES (?, 0)", ((n,) for n in range(rows)))
        connection.commit()
    return path


def looks(path: Path) -> None:
    with closing(sqlite3.connect(path, timeout=30)) as connection:
        connection.execute("SELECT count(*) FROM t").fetchone()


def edits(path: Path) -> None:
    with closing(sqlite3.connect(path, timeout=30)) as connection, suppress(sqlite3.OperationalError):
        connection.execute("UPDATE t SET edits = edits WHERE id = 1")
        connection.commit()


def copies(path: Path) -> None:
    path.read_bytes()


@pytest.mark.parametrize("beside", [looks, edits, copies])
@pytest.mark.parametrize("journal", ["delete", "wal"])
def test_no_update_of_another_program_is_lost(beside: Callable[[Path], None], journal: str, tmp_path: Path) -> None:
    """A thread of ours opens the file again and again while we merge, which drops this process's locks on it."""
    path = register(tmp_path / "r.db")
    with closing(sqlite3.connect(path)) as connection:
        connection.execute(f"PRAGMA journal_mode = {journal}")
    stop = threading.Event()

    def again_and_again() -> None:
        while not stop.is_set():
            beside(path)
            time.sleep(0.001)

    thread = threading.Thread(target=again_and_again)
    thread.start()
    words = [sys.executable, "-c", _EDITOR, str(path)]
    other = subprocess.Popen(words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
    job = rm.Job(store=f"sqlite:///{path}", table="t", key="id")
    merged = landed = 0
    end = time.perf_counter() + 60
    while landed < 8 and time.perf_counter() < end:
        merged += 1
        try:
            rm.merge(job, pa.table({"id": range(500), "v": [merged] * 500}))
            landed = merged
        except rm.StoreError as error:  # it waited for the lock in vain
            if "locked" not in str(error):
                raise
    acknowledged = int(other.communicate("")[0])
    stop.set()
    thread.join()
    with closing(sqlite3.connect(path)) as connection:
        assert connection.execute("SELECT sum(edits) FROM t").fetchone() == (acknowledged,)
        assert connection.execute("PRAGMA integrity_check").fetchone() == ("ok",)
        assert connection.execute("SELECT count(*) FROM t WHERE v = ?", (landed,)).fetchone() == (500,)
    assert landed >= 8
    assert acknowledged


def test_connections_that_stay_open_and_code_that_opens_the_file(tmp_path: Path) -> None:
    """A notebook's connection, an iterator that reads the same file, and a rule in Python that does."""
    path = register(tmp_path / "r.db", 10)
    job = rm.Job(store=f"sqlite:///{path}", table="t", key="id")
    with closing(sqlite3.connect(path)) as connection:
        assert rm.merge(job, [{"id": 1, "v": 1}]).counts["update"] == 1
        assert connection.execute("SELECT v FROM t WHERE id = 1").fetchone() == (1,)
        connection.execute("UPDATE t SET v = 5 WHERE id = 2")  # a transaction that is open
        with pytest.raises(rm.StoreError, match="another program is writing to it"):
            _hasty(rm.SQLiteStore(path, patience=0.5), job)
        connection.commit()
        assert rm.history(job.store, "t").num_rows == 1

    def from_the_same_file() -> Iterator[list[dict[str, Any]]]:
        with closing(sqlite3.connect(path)) as connection:
            for (number,) in connection.execute("SELECT id FROM t").fetchall():
                yield [{"id": number, "v": 7}]

    assert rm.merge(job, from_the_same_file()).counts["update"] == 10

    def when(incoming: pa.Table, existing: pa.Table) -> pa.Array:
        looks(path)
        return pa.array([True] * incoming.num_rows)

    ruled = job.model_copy(update={"rules": [rm.Rule(decide="skip", when=when)]})
    assert rm.merge(ruled, [{"id": 1, "v": 8}]).counts["skip"] == 1
    refusing = tmp_path / "s.db"
    with closing(sqlite3.connect(refusing)) as connection:
        connection.execute("CREATE TABLE t (id INTEGER PRIMARY KEY, v INTEGER CHECK (v < 9))")
        apart = rm.Job(store=rm.SQLiteStore(refusing), table="t", key="id")
        result = rm.merge(apart, [{"id": n, "v": n} for n in range(12)])
        assert result.rejects["rmend_reason"].to_pylist() == ["the database refused: CHECK constraint failed: v < 9"] * 3
        with pytest.raises(rm.StoreError, match="no such table"):
            list(_query(refusing, "SELECT * FROM nowhere"))


def _hasty(store: rm.SQLiteStore, job: rm.Job) -> None:
    patience, sqlite._READS = sqlite._READS, 100
    try:
        rm.merge(job.model_copy(update={"store": store}), [{"id": 1, "v": 2}])
    finally:
        sqlite._READS = patience


def _query(path: Path, sql: str) -> Iterator[pa.Table]:
    with rm.SQLiteStore(path).begin(write=False) as session:
        yield from session.query(sql)


def test_a_process_that_is_killed_and_one_that_is_forked(tmp_path: Path) -> None:
    path = register(tmp_path / "r.db", 10)
    store = rm.SQLiteStore(path, apart=True)
    job = rm.Job(store=store, table="t", key="id")
    ended = pytest.raises(rm.StoreError, match=r"process that worked on it has ended.*run again")
    with ended, store.begin(write=True) as session:
        info = session.describe("t")
        session.insert(info, pa.table({"id": [100]}), ["id"]).refusals()
        session._write.drained()._worker._process.kill()  # type: ignore[attr-defined]
        session.count(info)
    assert rm.merge(job, [{"id": 100, "v": 1}]).counts["insert"] == 1, "nothing was half done"
    child = os.fork()
    if not child:
        os._exit(0 if rm.merge(job, [{"id": 101, "v": 1}]).counts["insert"] == 1 else 1)
    assert os.waitpid(child, 0)[1] == 0
    assert rm.merge(job, [{"id": 101, "v": 1}]).counts["skip"] == 1
    assert len(sqlite_worker._idle) <= 2


# -- what a thousand calls leave behind -------------------------------------------------------------------------


def _open(path: Path) -> int:
    return sum(os.path.exists(f"/proc/self/fd/{n}") and Path(f"/proc/self/fd/{n}").resolve() == path.resolve()
               for n in os.listdir("/proc/self/fd"))  # fmt: skip


@pytest.mark.parametrize("apart", [False, True])
def test_a_thousand_calls_leave_no_file_open(apart: bool, tmp_path: Path) -> None:
    path, damaged = register(tmp_path / "r.db", 10), tmp_path / "damaged.db"
    damaged.write_bytes(b"SQLite format 3\0" + b"x" * 5000)
    before = len(os.listdir("/proc/self/fd"))
    good, bad = (rm.Job(store=rm.SQLiteStore(one, apart=apart, patience=0), table="t", key="id") for one in (path, damaged))
    patience, sqlite._READS = sqlite._READS, 1
    try:
        for n in range(100):
            rm.preview(good, [{"id": 1, "v": n}])
            for call in (lambda: rm.merge(bad, [{"id": 1}]), lambda: rm.history(bad.store, "t"), lambda: rm.check(bad)):
                with suppress(rm.StoreError):
                    call()
        holder = subprocess.Popen(
            [sys.executable, "-c", "import sqlite3, sys; c = sqlite3.connect(sys.argv[1], isolation_level=None); "
             "c.execute('BEGIN EXCLUSIVE'); print(1, flush=True); sys.stdin.read()", str(path)],
            stdin=subprocess.PIPE, stdout=subprocess.PIPE,
        )  # fmt: skip
        assert holder.stdout is not None
        holder.stdout.readline()
        for _ in range(100):
            for call in (lambda: rm.merge(good, [{"id": 1, "v": 2}]), lambda: rm.history(good.store, "t")):
                with pytest.raises(rm.StoreError, match="locked"):
                    call()
        holder.communicate(b"")
    finally:
        sqlite._READS = patience
    assert (_open(path), _open(damaged)) == (0, 0)
    assert len(os.listdir("/proc/self/fd")) <= before + 8
    assert rm.merge(good, [{"id": 1, "v": 3}]).counts["update"] == 1
