"""Measure, print a table of times and ratios, and keep it in docs/benchmarks.md."""

from __future__ import annotations

import argparse
import os
import platform
import re
import shutil
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import date
from functools import partial
from pathlib import Path

import numpy as np
import pyarrow as pa

import rapid_mender as rm

from . import capture, following, servers, single, versions
from . import sqlite_peers as peers
from .data import COLUMNS, KEY, existing_and_batch
from .past import past

_DOC = Path(__file__).parent.parent / "docs" / "benchmarks.md"
Rows = list[tuple[str, list[float], str]]


def _timed(work: Callable[[], object]) -> float:
    started = time.perf_counter()
    work()
    return time.perf_counter() - started


def _ours(path: Path, batch: pa.Table) -> None:
    result = rm.merge(rm.Job(store=f"sqlite:///{path}", table="trees", key=list(KEY)), batch)
    assert result.counts["reject"] == 0


def _state(path: Path) -> tuple[object, ...]:
    """What must come out the same whichever way was taken."""
    names = ", ".join(COLUMNS)
    with sqlite3.connect(path) as connection:
        sums = "count(*), sum(tag_no), total(girth_cm), total(height_m), sum(julianday(surveyed_on))"
        actions = "SELECT action, changed, count(*) FROM trees_history GROUP BY 1, 2 ORDER BY 1, 2"
        last = f"SELECT {names} FROM trees ORDER BY tag_no DESC LIMIT 1"
        one = connection.execute(f"SELECT {sums} FROM trees").fetchone()
        rounded = tuple(round(value, 3) for value in one)
        return rounded, connection.execute(actions).fetchall(), connection.execute(last).fetchone()


def sqlite(existing: int, incoming: int, rounds: int, rest: float) -> Rows:
    """Each way on a fresh copy of one file, in turn, `rounds` times, after a `rest` in seconds.

    Without it a shared machine that has been busy gives a program with two threads less than one with one.
    """
    table, batch = existing_and_batch(existing, incoming)
    ways: dict[str, Callable[[Path, pa.Table], None]] = {
        "row at a time, by hand": peers.row_at_a_time,
        "upsert with audit triggers": peers.upsert_with_triggers,
        "upsert with audit triggers, staged in key order": partial(peers.upsert_with_triggers, in_order=True),
        "set-based SQL by hand": peers.set_based_sql,
        "set-based SQL by hand, staged in key order": partial(peers.set_based_sql, in_order=True),
        "Rapid Mender": _ours,
    }
    times: dict[str, list[float]] = {name: [] for name in ways}
    with tempfile.TemporaryDirectory(dir=os.environ.get("BENCH_DIR")) as folder:
        base, copy = Path(folder) / "base.db", Path(folder) / "copy.db"
        small, few = existing_and_batch(1000, 100)
        for way in ways.values():  # what is imported on first use is not to be measured
            peers.make(copy, small)
            way(copy, few)
            copy.unlink()
        peers.make(base, table)
        shutil.copy(base, copy)
        _ours(copy, batch)
        writes = peers.writes_of(copy)
        copy.unlink()
        ways["the writes alone, as a floor"] = lambda path, _: peers.writes_alone(path, *writes)
        times["the writes alone, as a floor"] = []
        states = {}
        for _ in range(rounds):
            for name, way in ways.items():
                shutil.copy(base, copy)
                os.sync()
                time.sleep(rest)
                times[name].append(_timed(lambda way=way: way(copy, batch)))  # type: ignore[misc]
                states[name] = _state(copy)
                copy.unlink()
        wrong = [name for name, state in states.items() if state != states["Rapid Mender"]]
        assert not wrong, f"these ways end in another state: {wrong}"
    return _ratios(times, "Rapid Mender")


def memory(existing: int, incoming: int, rounds: int) -> Rows:
    """Matching, comparing and deciding, against a join and comparison in DuckDB."""
    import duckdb

    table, batch = existing_and_batch(existing, incoming)
    store = rm.MemoryStore({"trees": table})
    job = rm.Job(store=store, table="trees", key=list(KEY))
    differs = " OR ".join(f"i.{c} IS DISTINCT FROM e.{c}" for c in COLUMNS[2:])
    query = (
        "SELECT i.district, i.tag_no, CASE WHEN e.tag_no IS NULL THEN 'insert' "
        f"WHEN {differs} THEN 'update' ELSE 'skip' END AS decision FROM batch i "
        "LEFT JOIN held e USING (district, tag_no)"
    )
    connection = duckdb.connect()
    connection.register("held", table)
    connection.register("batch", batch)
    counts: dict[str, object] = {}

    def theirs() -> None:
        decisions = connection.sql(query).to_arrow_table()["decision"].value_counts().to_pylist()
        counts["theirs"] = {one["values"]: one["counts"] for one in decisions}

    def ours() -> None:
        counts["ours"] = {name: n for name, n in rm.preview(job, batch).counts.items() if n}

    times: dict[str, list[float]] = {"DuckDB, join and compare": [], "Rapid Mender, preview": []}
    for _ in range(rounds):
        times["DuckDB, join and compare"].append(_timed(theirs))
        times["Rapid Mender, preview"].append(_timed(ours))
    assert counts["ours"] == counts["theirs"], counts
    return _ratios(times, "Rapid Mender, preview")


_CONDITIONS = (
    "incoming.height_m > 120", "incoming.girth_cm < 0", "incoming.species = 'Ulmus'", "incoming.warden LIKE 'x%'",
    "incoming.vitality IN ('a', 'b', 'c')", "incoming.height_m > existing.height_m * 10", "incoming.tag_no < 0",
    "matched AND existing.species = 'none'", "changed('species') AND incoming.species IS NULL",
    "incoming.surveyed_on > '2030-01-01'", "incoming.surveyed_on < existing.surveyed_on - INTERVAL '20' YEAR",
    "NOT matched AND incoming.height_m > 100", "incoming.girth_cm / 2 > 1000", "COALESCE(incoming.warden, 'x') = 'x'",
    "incoming.height_m BETWEEN 200 AND 300", "incoming.girth_cm IS NULL",
    "existing.vitality <> incoming.vitality AND incoming.vitality = 'gone'",
    "incoming.district = 'Nowhere' OR incoming.district = 'Else'",
    "ABS(incoming.height_m - existing.height_m) > 500",
    "CASE WHEN incoming.height_m > 30 THEN incoming.girth_cm < -5 ELSE FALSE END",
)  # fmt: skip
_SETTINGS = {
    "girth_cm": {"tolerance": 0.2, "null": "keep"}, "height_m": {"tolerance": 0.2}, "surveyed_on": {"tolerance": 1},
    "species": {"ignore_case": True, "trim": True}, "vitality": {"ignore_case": True, "null": "keep"},
    "warden": {"trim": True, "compare": False},
}  # fmt: skip


def rules(existing: int, incoming: int, rounds: int) -> Rows:
    """Twenty rules, of which none is ever true, and ten compare settings, against neither."""
    table, batch = existing_and_batch(existing, incoming)
    plain = {"store": rm.MemoryStore({"trees": table}), "table": "trees", "key": list(KEY)}
    every = [rm.Rule(decide="reject", when=when) for when in _CONDITIONS]
    jobs = {"no rules": rm.Job(**plain), "twenty rules, ten settings": rm.Job(**plain, rules=every, columns=_SETTINGS)}
    times: dict[str, list[float]] = {name: [] for name in jobs}
    for _ in range(rounds):
        for name, job in jobs.items():
            times[name].append(_timed(lambda job=job: rm.preview(job, batch)))  # type: ignore[misc]
    return _ratios(times, "twenty rules, ten settings")


def refusals(incoming: int, rounds: int) -> Rows:
    """Ten records that violate a foreign key, against none."""
    rng = np.random.default_rng(5)
    good = pa.table(
        {"tag_no": rng.permutation(incoming), "height_m": np.arange(incoming) / 2, "district": ["N"] * incoming}
    )
    names = np.where(np.isin(np.arange(incoming), rng.choice(incoming, 10, replace=False)), "Nowhere", "N")
    batches = {"every row is taken": good, "ten rows are refused": good.set_column(2, "district", pa.array(names))}
    times: dict[str, list[float]] = {name: [] for name in batches}
    for _ in range(rounds):
        for name, batch in batches.items():
            with tempfile.TemporaryDirectory(dir=os.environ.get("BENCH_DIR")) as folder:
                with sqlite3.connect(f"{folder}/register.db") as connection:
                    connection.execute("CREATE TABLE districts (name TEXT PRIMARY KEY)")
                    connection.execute("INSERT INTO districts VALUES ('N')")
                    connection.execute(
                        "CREATE TABLE trees (tag_no INTEGER PRIMARY KEY, height_m REAL, district REFERENCES districts)"
                    )
                connection.close()
                job = rm.Job(store=f"sqlite:///{folder}/register.db", table="trees", key="tag_no")
                wanted = 0 if batch is good else 10
                times[name].append(_timed(partial(_merge_with_rejects, job, batch, wanted)))
    return _ratios(times, "ten rows are refused")


def _merge_with_rejects(job: rm.Job, batch: pa.Table, wanted: int) -> None:
    assert rm.merge(job, batch).counts["reject"] == wanted


def csv_memory(incoming: int) -> Rows:
    """The peak memory of a process that merges a large CSV file into an empty SQLite table."""
    with tempfile.TemporaryDirectory(dir=os.environ.get("BENCH_DIR")) as folder:
        script = f"""
import sys; sys.path.insert(0, {str(Path(__file__).parent.parent)!r})
import numpy as np, pyarrow.csv as pc
from benchmarks.data import trees
rng = np.random.default_rng(3)
numbers = rng.permutation({incoming})
with pc.CSVWriter({folder + "/batch.csv"!r}, trees(numbers[:1], rng).schema) as writer:
    for start in range(0, {incoming}, 500_000):
        writer.write_table(trees(numbers[start:start + 500_000], rng))
"""
        subprocess.run([sys.executable, "-c", script], check=True)
        path = Path(folder) / "register.db"
        peers.make(path, existing_and_batch(1, 1)[0].slice(0, 0))
        script = f"""
import rapid_mender as rm
result = rm.merge(rm.Job(store="sqlite:///{path}", table="trees", key={list(KEY)}), {folder + "/batch.csv"!r})
assert result.counts["insert"] == {incoming}, result.counts
status = open("/proc/self/status").read()  # getrusage would count the process that started this one
print(int(status.split("VmHWM:")[1].split()[0]) / 1024, result.seconds)
"""
        done = subprocess.run([sys.executable, "-c", script], check=True, capture_output=True, text=True)
        mebibytes, seconds = map(float, done.stdout.split())
    return [
        (
            "Rapid Mender",
            [seconds],
            f"{mebibytes:.0f} MiB at the peak, {incoming / seconds:,.0f} records a second",
        )
    ]


def _ratios(times: dict[str, list[float]], ours: str) -> Rows:
    """Each way's times, and its ratio to ours: the median over the rounds."""
    rows: Rows = []
    for name, series in times.items():
        ratios = [mine / theirs for mine, theirs in zip(times[ours], series, strict=True)]
        each = ", ".join(f"{ratio:.2f}" for ratio in ratios)
        text = "1" if name == ours else f"ours is {statistics.median(ratios):.2f} of it ({each})"
        rows.append((name, series, text))
    return rows


def _server_titles(scale: int) -> dict[str, str]:
    def rows(count: int) -> str:
        return f"{count // scale:,}"

    every = "8 columns, history on"
    return {
        "postgresql": f"PostgreSQL: {rows(1_000_000)} incoming on {rows(5_000_000)} rows, {every}",
        "postgresql-unchanged": f"PostgreSQL: {rows(1_000_000)} unchanged on {rows(5_000_000)} rows",
        "mariadb": f"MariaDB: {rows(400_000)} incoming on {rows(2_000_000)} rows, {every}",
    }


def _past_titles(scale: int) -> dict[str, str]:
    kinds = {"sqlite": "SQLite", "postgresql": "PostgreSQL", "mariadb": "MariaDB"}
    rows = 5_000_000 // scale
    text = "history put to use: {:,} rows, {:,} changes, with indexes on the history"
    return {f"{kind}-past": f"{title}, {text.format(rows, rows * 2)}" for kind, title in kinds.items()}


_PARTS = (
    "sqlite",
    "memory",
    "rules",
    "refusals",
    *_server_titles(1),
    "growth",
    "csv",
    *_past_titles(1),
    *following.parts(1, 1),
    *capture.parts(1, 1),
    *versions.parts(1, 1),
    *single.parts(1, 1),
)


def _on_server(name: str, scale: int, rounds: int, rest: float) -> Rows:
    kind, _, what = name.partition("-")
    if what == "unchanged":
        times = servers.unchanged(kind, 5_000_000 // scale, 1_000_000 // scale, rounds, rest)
        return _ratios(times, "Rapid Mender, all unchanged")
    existing, incoming = (5_000_000, 1_000_000) if kind == "postgresql" else (2_000_000, 400_000)
    return _ratios(servers.against(kind, existing // scale, incoming // scale, rounds, rest), "Rapid Mender")


def _growth(scale: int) -> str:
    found = {kind: servers.growth(kind, scale) for kind in servers.KINDS}
    servers.plot(found, scale, _DOC.parent / "growth.png")
    title = f"## How the cost grows on servers (sizes divided by {scale})" if scale > 1 else "## How the cost grows"
    return f"{title}\n\n![How the cost grows](growth.png)\n\n{servers.table_of(found)}"


def _table(title: str, rows: Rows, rounds: int) -> str:
    measured = f"{date.today()}, {rounds} rounds."
    lines = [f"## {title}", "", measured, "", "| way | seconds, each round | ratio |", "| --- | --- | --- |"]
    lines += [f"| {name} | {', '.join(_seconds(t) for t in times)} | {text} |" for name, times, text in rows]
    return "\n".join(lines) + "\n"


def _seconds(time: float) -> str:
    return f"{time:.2f}" if time >= 0.01 else f"{time:.6f}"


def _cpu_lines() -> list[str]:
    place = Path("/proc/cpuinfo")
    return place.read_text().splitlines() if place.exists() else []


def _machine() -> str:
    cpu = next((line.split(":")[1].strip() for line in _cpu_lines() if line.startswith("model name")), "")
    memory = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") >> 30
    return (
        f"{os.cpu_count()} cores ({cpu or platform.machine()}), {memory} GiB, {platform.system()}, "
        f"Python {platform.python_version()}, pyarrow {pa.__version__}, SQLite peers through the same driver"
    )


def main() -> None:
    parser = argparse.ArgumentParser(prog="python -m benchmarks", description=__doc__)
    parser.add_argument("--small", action="store_true", help="a hundredth of the size, only to see that it runs")
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--rest", type=float, default=0.0, help="seconds of rest before each timing on SQLite")
    parser.add_argument("--only", nargs="+", choices=_PARTS)
    parser.add_argument("--scale", type=int, default=1, help="divide the sizes on servers by this")
    parser.add_argument("--keep", action="store_true", help="write docs/benchmarks.md")
    options = parser.parse_args()
    size = 100 if options.small else 1
    parts = {
        "sqlite": (
            f"SQLite: {400_000 // size:,} incoming on {2_000_000 // size:,} rows, 8 columns, history on",
            lambda: sqlite(2_000_000 // size, 400_000 // size, options.rounds, options.rest),
        ),
        "memory": (
            f"In memory: match, compare, decide {1_000_000 // size:,} on {5_000_000 // size:,} rows, 8 columns",
            lambda: memory(5_000_000 // size, 1_000_000 // size, options.rounds),
        ),
        "rules": (
            f"In memory: rules and settings on {1_000_000 // size:,} records",
            lambda: rules(1_000_000 // size, 1_000_000 // size, options.rounds),
        ),
        "refusals": (
            f"SQLite: rows that the database refuses, of {100_000 // size:,}",
            lambda: refusals(100_000 // size, options.rounds),
        ),
        **{
            name: (title, partial(_on_server, name, size * options.scale, options.rounds, options.rest))
            for name, title in _server_titles(size * options.scale).items()
        },
        **{
            name: (title, partial(past, name.split("-")[0], 5_000_000 // (size * options.scale), options.rounds))
            for name, title in _past_titles(size * options.scale).items()
        },
        **following.parts(size * options.scale, options.rounds),
        **capture.parts(size * options.scale, options.rounds),
        **versions.parts(size * options.scale, options.rounds),
        **single.parts(size * options.scale, options.rounds),
        "csv": (
            f"A CSV file of {10_000_000 // size:,} records into an empty SQLite table, history on",
            lambda: csv_memory(10_000_000 // size),
        ),
    }
    done: dict[str, str] = {}
    for name, (title, work) in parts.items():
        if options.only is None or name in options.only:
            done[name] = _table(title, work(), options.rounds)
            print(done[name], flush=True)
    if options.only is None or "growth" in options.only:
        done["growth"] = _growth(size * options.scale)
        print(done["growth"], flush=True)
    if options.keep:
        _keep(done)


def _keep(done: dict[str, str]) -> None:
    """Put what was measured into the document, in place of what was measured before."""
    old = re.findall(r"<!-- (\S+) -->\n(.*?)(?=<!-- |\Z)", _DOC.read_text() if _DOC.exists() else "", re.S)
    sections = {name: text.rstrip() for name, text in old} | {name: text.rstrip() for name, text in done.items()}
    intro = (
        f"`make bench` on {_machine()}. "
        "Of each batch 30 % is unchanged, 30 % changed (three columns of seven), 40 % new. "
        "Every way starts from the same Arrow table in memory, in turn; the ratios compare the runs of one round. "
        "Before each timing on a database the machine rests (`--rest`): without it a shared machine that has been busy "
        "gives a program with two threads less."
    )
    texts = [f"<!-- {name} -->\n{sections[name]}\n" for name in _PARTS if name in sections]
    _DOC.write_text("\n".join(["# Benchmarks\n", intro + "\n", *texts]))


if __name__ == "__main__":
    main()
