"""Records that come one by one, over a connection that is kept: against a look-up, a write and an audit row by hand."""

from __future__ import annotations

import json
import sqlite3
import statistics
import tempfile
import threading
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

import rapid_mender as rm

from .data import COLUMNS, DDL, KEY, existing_and_batch
from .servers import KINDS

Rows = list[tuple[str, list[float], str]]
_CALLS = 300
_THREADS = 16
_FIRST = 5
"""Calls before threads are measured."""
_REST = [name for name in COLUMNS if name not in KEY]


class ByHand:
    """What an application does itself: one transaction a record."""

    def __init__(self, kind: str, url: str) -> None:
        self.kind = kind
        if kind == "sqlite":
            self.connection: Any = sqlite3.connect(url.removeprefix("sqlite:///"), isolation_level=None)
        elif kind == "postgresql":
            import psycopg

            self.connection = psycopg.connect(url, prepare_threshold=0, autocommit=True)
        else:
            import pymysql

            self.connection = pymysql.connect(
                host="127.0.0.1", user="root", database=url.rpartition("/")[2], autocommit=True
            )
        mark = "?" if kind == "sqlite" else "%s"
        where = " AND ".join(f"{name} = {mark}" for name in KEY)
        lock = "" if kind == "sqlite" else " FOR UPDATE"
        self.look = f"SELECT {', '.join(COLUMNS)} FROM trees WHERE {where}{lock}"
        self.write = f"UPDATE trees SET {', '.join(f'{name} = {mark}' for name in _REST)} WHERE {where}"
        sides = [f"{side}_{name}" for side in ("old", "new") for name in COLUMNS]
        marks = ", ".join([mark] * (len(sides) + 1))
        self.note = (
            f"INSERT INTO audit (action, changed, changed_at, {', '.join(sides)}) "
            f"VALUES ('update', {marks.partition(', ')[0]}, CURRENT_TIMESTAMP, {marks.partition(', ')[2]})"
        )

    def merge(self, record: dict[str, Any]) -> None:
        """Look a record's row up, change it, note that, commit."""
        run = self.connection.cursor()
        run.execute("BEGIN IMMEDIATE" if self.kind == "sqlite" else "BEGIN")
        key = [record[name] for name in KEY]
        run.execute(self.look, key)
        old, new = run.fetchone(), [record[name] for name in COLUMNS]
        changed = [name for name, was, now in zip(COLUMNS, old, new, strict=True) if was != now]
        run.execute(self.write, [record[name] for name in _REST] + key)
        run.execute(self.note, [json.dumps(changed), *old, *new])
        run.execute("COMMIT")

    def close(self) -> None:
        self.connection.close()


def _audit(kind: str) -> str:
    texts = {"sqlite": "TEXT", "postgresql": "text", "mariadb": "varchar(200)"}[kind]
    number = {
        "sqlite": "INTEGER PRIMARY KEY",
        "postgresql": "bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY",
        "mariadb": "bigint AUTO_INCREMENT PRIMARY KEY",
    }[kind]
    types = ("text", "bigint", "text", "double precision", "double precision", "text", "text", "date")
    told = [texts if one == "text" else one for one in types]
    sides = ", ".join(
        f"{side}_{name} {one}" for side in ("old", "new") for name, one in zip(COLUMNS, told, strict=True)
    )
    return f"CREATE TABLE audit (change_no {number}, action {texts}, changed {texts}, changed_at timestamp, {sides})"


def _median(work: Callable[[int], object], first: int, count: int = _CALLS) -> float:
    """Seconds of a call, the median of many."""
    times = []
    for number in range(first, first + count):
        began = time.perf_counter()
        work(number)
        times.append(time.perf_counter() - began)
    return statistics.median(times)


def _together(works: list[Callable[[int], object]], first: int) -> float:
    """Seconds a record, where many write at once."""
    each = 20

    def several(at: int) -> None:
        for number in range(each):
            works[at](first + at * each + number)

    threads = [threading.Thread(target=several, args=(at,)) for at in range(len(works))]
    began = time.perf_counter()
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    return (time.perf_counter() - began) / (len(works) * each)


def measured(kind: str, existing: int, rounds: int) -> Rows:
    """Each way in turn, on one table of so many rows."""
    table, _ = existing_and_batch(existing, 100)
    with tempfile.TemporaryDirectory() as folder:
        server = None
        if kind == "sqlite":
            path = Path(folder) / "one.db"
            with sqlite3.connect(path) as made:
                made.execute("PRAGMA journal_mode = WAL")
                made.execute(DDL)
            made.close()
            url = f"sqlite:///{path}"
            rm.merge(rm.Job(store=url, table="trees", key=list(KEY), history=False), table)
        else:
            server = KINDS[kind](table)
            url = server.reset()
        try:
            return _on(kind, url, [table.slice(n * 7 % existing, 1).to_pylist()[0] for n in range(4000)], rounds)
        finally:
            if server is not None:
                server.drop()


def _on(kind: str, url: str, records: list[dict[str, Any]], rounds: int) -> Rows:
    hand = ByHand(kind, url)
    hand.connection.cursor().execute(_audit(kind))
    if kind == "sqlite":
        hand.close()  # two libraries in one process are in each other's way, see docs/design.md

    def record(number: int) -> dict[str, Any]:
        return records[number % len(records)] | {"girth_cm": 1000.0 + number}

    times: dict[str, list[float]] = {}

    def add(way: str, seconds: float) -> None:
        times.setdefault(way, []).append(seconds)

    at = 0
    for _ in range(rounds):
        hand = ByHand(kind, url)
        add("by hand", _median(lambda n, hand=hand: hand.merge(record(n)), at))  # type: ignore[misc]
        hand.close()
        with rm.Merger(rm.Job(store=url, table="trees", key=list(KEY))) as merger:
            add("a Merger, one record a call", _median(lambda n: merger.merge([record(n)]), at + 1000))
            tens = _median(lambda n: merger.merge([record(10 * n + k) for k in range(10)]), at + 2000, _CALLS // 10)
            add("a Merger, ten records a call, by record", tens / 10)
        job = rm.Job(store=_kept(kind, url), table="trees", key=list(KEY))
        add("merge, by a kept store", _median(lambda n, job=job: rm.merge(job, [record(n)]), at + 3000, _CALLS // 3))
        if kind != "sqlite":
            hands = [ByHand(kind, url) for _ in range(_THREADS)]
            ways = [lambda n, one=one: one.merge(record(n)) for one in hands]
            add(f"by hand, {_THREADS} threads", _together(ways, at + 4000))
            for one in hands:
                one.close()
            with rm.Merger(rm.Job(store=url, table="trees", key=list(KEY))) as merger:
                for number in range(_FIRST):  # it has been open for a while
                    merger.merge([record(at + 6000 + number)])
                ways = [lambda n: merger.merge([record(n)])] * _THREADS
                add(f"a Merger, {_THREADS} threads", _together(ways, at + 5000))
        at += 10_000
    return [(way, series, _ratio(way, times)) for way, series in times.items()]


def _kept(kind: str, url: str) -> Any:
    kinds = {"sqlite": rm.SQLiteStore, "postgresql": rm.PostgreSQLStore, "mariadb": rm.MariaDBStore}
    return kinds[kind](url.removeprefix("sqlite:///"))


def _ratio(way: str, times: dict[str, list[float]]) -> str:
    base = f"by hand, {_THREADS} threads" if "threads" in way else "by hand"
    if way == base:
        return "1"
    ratios = [mine / theirs for mine, theirs in zip(times[way], times[base], strict=True)]
    return f"{statistics.median(ratios):.1f} times ({', '.join(f'{one:.1f}' for one in ratios)})"


def parts(scale: int, rounds: int) -> dict[str, tuple[str, Callable[[], Rows]]]:
    """The parts of the benchmark, by name: the title, and what measures it."""
    names = {"sqlite": "SQLite (WAL)", "postgresql": "PostgreSQL", "mariadb": "MariaDB"}
    rows = 5_000_000 // scale
    return {
        f"{kind}-one": (
            f"{title}: records that come one by one, updates on {rows:,} rows",
            partial(measured, kind, rows, rounds),
        )
        for kind, title in names.items()
    }
