"""What following costs: netting, a sync of many changes, of one, a fill, and comparing."""

from __future__ import annotations

import json
import os
import signal
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from functools import partial
from pathlib import Path

import numpy as np
import pyarrow as pa

import rapid_mender as rm
from rapid_mender.changes.netting import netted
from rapid_mender.changes.past import past_of
from rapid_mender.stores.contract import Store
from rapid_mender.stores.urls import opened

from . import sqlite_peers
from .data import COLUMNS, KEY, existing_and_batch, trees
from .past import database, measured_again, ratios_of, read, timed
from .servers import KINDS

Rows = list[tuple[str, list[float], str]]


@contextmanager
def _second(kind: str, url: str) -> Iterator[str]:
    """The URL of an empty store: a file, or another database of the server."""
    if kind == "sqlite":
        with database(kind) as to_url:
            yield to_url
        return
    drop = "DROP DATABASE IF EXISTS rmend_bench_to"
    server = KINDS[kind].__new__(KINDS[kind])
    server.admin(drop, "CREATE DATABASE rmend_bench_to")
    try:
        yield url.replace("rmend_bench", "rmend_bench_to")
    finally:
        server.admin(drop)


@contextmanager
def _two(kind: str, to_kind: str) -> Iterator[tuple[str, str]]:
    """The URLs of a store with an empty table of trees, and of one of another kind, or the same."""
    with database(kind) as url:
        if kind == to_kind:
            with _second(kind, url) as to_url:
                yield url, to_url
        else:
            with database(to_kind) as to_url:
                yield url, to_url


def _ratio(times: dict[str, list[float]]) -> Rows:
    """The times of several ways, with their ratios to the first."""
    (first, base), *others = times.items()
    return [(first, base, "1"), *((name, series, ratios_of(base, series)) for name, series in others)]


def netting(changes: int, keys: int, rounds: int) -> Rows:
    """Changes to fewer keys made net in memory, against a window function in DuckDB."""
    import duckdb

    store = rm.MemoryStore({"trees": existing_and_batch(keys * 2, 1)[0]})
    _change_many(store, keys * 2, changes, keys, np.random.default_rng(3))
    connection = duckdb.connect()
    with store.begin(write=False) as session:
        past = past_of(session, "trees")
        pages = list(past.changes())
        connection.register("changes", pa.concat_tables([page.values for page in pages]))
        key = ", ".join(f"COALESCE(new_{name}, old_{name})" for name in KEY)
        over = f"OVER (PARTITION BY {key} ORDER BY change_no"
        firsts = ", ".join(f"FIRST_VALUE(old_{name}) {over}) AS was_{name}" for name in COLUMNS)
        differs = " OR ".join(f"new_{name} IS DISTINCT FROM was_{name}" for name in COLUMNS)
        query = (
            f"SELECT * FROM (SELECT *, FIRST_VALUE(action) {over}) AS first_action, {firsts}, "
            f"ROW_NUMBER() {over} DESC) AS back FROM changes) WHERE back = 1 AND ({differs}) "
            "AND NOT (first_action = 'insert' AND action = 'delete')"
        )
        counts: dict[str, int] = {}

        def ours() -> None:
            counts["ours"] = len(netted(past, pages, list(COLUMNS)).net)

        def theirs() -> None:
            counts["theirs"] = connection.sql(query).to_arrow_table().num_rows

        times: dict[str, list[float]] = {"DuckDB, a window function": [], "Rapid Mender": []}
        for _ in range(rounds):
            times["DuckDB, a window function"].append(timed(theirs))
            times["Rapid Mender"].append(timed(ours))
    assert counts["ours"] == counts["theirs"], counts
    return _ratio(times)


def _change_many(store: Store, rows: int, changes: int, keys: int, rng: np.random.Generator) -> None:
    """Make so many changes to so many trees, a fifth of these new."""
    job = rm.Job(store=store, table="trees", key=list(KEY))
    step = rng.uniform(5, 10)
    made = 0
    pool = rng.permutation(rows)[: keys * 4 // 5]
    new = np.arange(rows, rows + keys // 5) + int(rng.integers(1, 1000)) * 10 * rows
    while made < changes:
        numbers = np.concatenate([pool, new]) if not made else rng.permutation(np.concatenate([pool, new]))
        batch = measured_again(trees(numbers[: changes - made], rng), step * (made + 1))
        rm.merge(job, batch)
        made += batch.num_rows


def syncing(kind: str, to_kind: str, rows: int, changes: int, keys: int, rounds: int) -> Rows:
    """A sync of changes to fewer keys, against a merge of what they come to into an equal table."""
    rng = np.random.default_rng(5)
    times: dict[str, list[float]] = {"the net rows, merged as a batch": [], "the sync": []}
    with _two(kind, to_kind) as (url, to_url), opened(url) as store, opened(to_url) as target:
        rm.merge(rm.Job(store=store, table="trees", key=list(KEY)), trees(np.arange(rows), rng))
        sync = rm.Sync(follower="map", store=store, table="trees", to_store=target, to_table="map")
        other = rm.Sync(follower="plain", store=store, table="trees", to_store=target, to_table="plain")
        for job in (sync, other):
            rm.sync(job)
        plain = rm.Job(store=target, table="plain", key=list(KEY), history=False)
        with rm.Follower(store, "trees", "net", start="last", net=True) as follower:
            for turn in range(rounds):
                _change_many(store, rows, changes, keys, rng)
                parts = list(follower.changes())
                new = [f"new_{name}" for name in COLUMNS]
                net = pa.concat_tables([one.select(new) for one in parts]).rename_columns(list(COLUMNS))
                follower.acknowledge()
                ways = [
                    ("the net rows, merged as a batch", lambda net=net: rm.merge(plain, net)),  # type: ignore[misc]
                    ("the sync", lambda: rm.sync(sync)),
                ]
                for name, way in ways if turn % 2 else reversed(ways):
                    times[name].append(timed(way))
        with target.begin(write=False) as session:
            both = [_sorted(session, name) for name in ("map", "plain")]
        assert both[0].equals(both[1]), "the sync and the merge end in other rows"
    return _ratio(times)


def _sorted(session: object, table: str) -> pa.Table:
    info = session.describe(table)  # type: ignore[attr-defined]
    pages = [page.values for page in session.scan(info, info.names)]  # type: ignore[attr-defined]
    return pa.concat_tables(pages).sort_by([(name, "ascending") for name in KEY]).combine_chunks()


def filling(kind: str, rows: int, rounds: int) -> Rows:
    """The first sync, against the database's own copy into a table like it."""
    times: dict[str, list[float]] = {"the database's own copy": [], "the fill": []}
    peaks = []
    with database(kind) as url, opened(url) as store:
        job = rm.Job(store=store, table="trees", key=list(KEY))
        rng = np.random.default_rng(5)
        step = max(1, rows // 5)
        for start in range(0, rows, step):
            rm.merge(job, trees(np.arange(start, min(start + step, rows)), rng))
        with _second(kind, url) as to_url:
            for turn in range(rounds):
                times["the database's own copy"].append(_own_copy(kind, url, f"copy{turn}"))
                seconds, peak = _fill(url, to_url, f"map{turn}")
                times["the fill"].append(seconds)
                peaks.append(peak)
                _forget(kind, url, f"copy{turn}")
                _forget(kind, to_url, f"map{turn}")
    ratios = _ratio(times)
    return [ratios[0], (*ratios[1][:2], f"{ratios[1][2]}, {max(peaks):,.0f} MiB at the peak")]


def _own_copy(kind: str, url: str, name: str) -> float:
    """The seconds that a database takes to copy the trees into a table like theirs."""
    with _connected(kind, url) as execute:
        if kind == "postgresql":
            execute(f"CREATE TABLE {name} (LIKE trees INCLUDING ALL)")
        elif kind == "mariadb":
            execute(f"CREATE TABLE {name} LIKE trees")
        else:
            execute(sqlite_peers.DDL.replace("trees", name))
        return timed(lambda: execute(f"INSERT INTO {name} SELECT * FROM trees"))


def _forget(kind: str, url: str, name: str) -> None:
    with _connected(kind, url) as execute:
        execute(f"DROP TABLE {name}")


@contextmanager
def _connected(kind: str, url: str) -> Iterator[Callable[[str], object]]:
    if kind == "sqlite":
        import sqlite3

        with closing(sqlite3.connect(url.removeprefix("sqlite:///"), isolation_level=None)) as connection:
            yield connection.execute
    elif kind == "postgresql":
        from adbc_driver_postgresql import dbapi

        with closing(dbapi.connect(url, autocommit=True)) as connection, closing(connection.cursor()) as cursor:
            yield cursor.execute
    else:
        with opened(url) as store, store.begin(write=True) as session:
            yield session._write.drained().run  # type: ignore[attr-defined]


def _fill(url: str, to_url: str, name: str) -> tuple[float, float]:
    """The seconds that a fill takes in a process of its own, and its peak memory in MiB."""
    script = f"""
import time
import rapid_mender as rm
started = time.perf_counter()
done = rm.sync({url!r}, "trees", {to_url!r}, {name!r}, follower={name!r})
seconds = time.perf_counter() - started
status = open("/proc/self/status").read()
print(seconds, int(status.split("VmHWM:")[1].split()[0]) / 1024)
"""
    done = subprocess.run([sys.executable, "-c", script], check=True, capture_output=True, text=True)
    took, mebibytes = done.stdout.split()
    return float(took), float(mebibytes)


def comparing(kind: str, rows: int, rounds: int) -> Rows:
    """Two equal tables held against each other, against reading both."""
    times: dict[str, list[float]] = {"both tables are read": [], "they are compared": []}
    with _two(kind, kind) as (url, to_url), opened(url) as store, opened(to_url) as target:
        rm.merge(rm.Job(store=store, table="trees", key=list(KEY)), trees(np.arange(rows), np.random.default_rng(5)))
        sync = rm.Sync(follower="map", store=store, table="trees", to_store=target, to_table="map")
        rm.sync(sync)
        for _ in range(rounds):
            times["both tables are read"].append(timed(lambda: [read(store, "trees"), read(target, "map")]))
            times["they are compared"].append(timed(lambda: _alike(rm.compare(sync))))
    return _ratio(times)


def _alike(compared: rm.Compared) -> None:
    assert compared.alike, compared


def one_change(kind: str, to_kind: str, changes: int) -> Rows:
    """From the commit of one change at the source to its commit at the target, by `rmend sync --every 100ms`; and the
    CPU of the polls in between, when nothing comes."""
    rng = np.random.default_rng(5)
    seconds = []
    with _two(kind, to_kind) as (url, to_url), tempfile.TemporaryDirectory() as folder:
        job = Path(folder) / "map.toml"
        names = {"follower": "map", "store": url, "table": "trees", "to_store": to_url, "to_table": "map"}
        job.write_text("".join(f"{name} = {json.dumps(value)}\n" for name, value in names.items()))
        with opened(url) as store, opened(to_url) as target:
            merge = rm.Job(store=store, table="trees", key=list(KEY))
            rm.merge(merge, trees(np.arange(1000), rng))
            rm.sync(rm.Sync.load(job))
            command = [sys.executable, "-m", "rapid_mender", "sync", str(job), "--every", "100ms"]
            running = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
            time.sleep(3)
            for turn in range(changes):
                time.sleep(rng.uniform(0, 0.1))
                rm.merge(merge, trees(np.array([10_000 + turn]), rng))
                began = time.perf_counter()
                while not _has(target, 10_000 + turn):
                    time.sleep(0.002)
                seconds.append(time.perf_counter() - began)
            before, idle = _cpu(running.pid), 20
            time.sleep(idle)
            each = (_cpu(running.pid) - before) / (idle * 10)
            running.send_signal(signal.SIGINT)
            running.wait(timeout=30)
    parts = [statistics.median(seconds), max(seconds)]
    text = f"{parts[0] * 1000:.0f} ms in the middle of {changes:,}, at most {parts[1] * 1000:.0f} ms"
    return [
        ("one change", sorted(seconds)[:: max(1, changes // 5)], text),
        ("a poll that finds nothing", [each], f"{each * 1000:.1f} ms of CPU"),
    ]


def _has(store: Store, tag_no: int) -> bool:
    from rapid_mender.stores.contract import Condition, Selection

    with store.begin(write=False) as session:
        info = session.describe("map")
        return bool(session.read(info, Selection([[Condition("tag_no", "=", tag_no)]], "tag_no", 1)).values.num_rows)


def _cpu(pid: int) -> float:
    """The seconds of CPU that a process has had."""
    fields = Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


def parts(scale: int, rounds: int) -> dict[str, tuple[str, Callable[[], Rows]]]:
    """What is measured here: for each part its title, and what measures it."""
    million, keys, five = 1_000_000 // scale, 300_000 // scale, 5_000_000 // scale
    names = {"sqlite": "SQLite", "postgresql": "PostgreSQL", "mariadb": "MariaDB"}
    found: dict[str, tuple[str, Callable[[], Rows]]] = {
        "netting": (
            f"In memory: {million:,} changes to {keys:,} keys made net",
            lambda: netting(million, keys, rounds),
        )
    }
    for kind, to_kind in (("sqlite", "postgresql"), ("postgresql", "postgresql")):
        found[f"{kind}-{to_kind}-sync"] = (
            f"{names[kind]} to {names[to_kind]}: a sync of {million:,} changes to {keys:,} keys of {million:,} rows",
            partial(syncing, kind, to_kind, million, million, keys, rounds),
        )
    for kind, name in names.items():
        found[f"{kind}-fill"] = (
            f"{name}: a table of {five:,} rows is filled, from another file or database",
            partial(filling, kind, five, rounds),
        )
    for kind in ("sqlite", "postgresql"):
        found[f"{kind}-compare"] = (
            f"{names[kind]}: two equal tables of {five:,} rows are compared",
            partial(comparing, kind, five, rounds),
        )
    found["follow"] = (
        "SQLite to PostgreSQL: from the commit of a change to its commit in the table that follows, every 100 ms",
        partial(one_change, "sqlite", "postgresql", max(10, 1000 // scale)),
    )
    return found
