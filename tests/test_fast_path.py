"""Calls that go the fast way give what those give that go the whole way, whatever comes between them."""

from __future__ import annotations

import json
import random
import re
from collections.abc import Callable
from contextlib import closing, suppress
from datetime import UTC, date, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

import rapid_mender as rm
from rapid_mender.merging import fast_merge, fast_way

from . import databases, length
from .stores import every_kind

_TYPES = {
    "n": ("SMALLINT", [0, -5, 32767, 32768, True, 2.0, "7"]),
    "big": ("BIGINT", [1 << 62, -(1 << 63), 1 << 63, 3]),
    "x": ("DOUBLE PRECISION", [0.1, 2.5, -0.0, 1e300, 5e-324, 3, 2.5, float("nan"), 1 << 60, 1234567.891]),
    "yes": ("BOOLEAN", [True, False, 1, "true"]),
    "v": ("VARCHAR(12)", ["a", "A", "a ", "", "Grüße 🌳", "o'b\"%s\\", "thirteen chars", "nul\0", "<b>\x07", "$1 ?1"]),
    "long%text": ("TEXT", ["x" * 300, "--;", "'); DROP TABLE t; --", "NULL"]),
    "d": ("DATE", [date(2026, 2, 28), "2026-03-01", "2026-02-30", date(9999, 12, 31), date(700, 1, 1), datetime(2026, 1, 1, 5)]),
    "at": ("TIMESTAMP", [datetime(2026, 1, 2, 3, 4, 5), datetime(2026, 1, 2, 3, 4, 5, 60_001), datetime(2026, 1, 2, tzinfo=UTC)]),
    "amount": ("DECIMAL(8,2)", [Decimal("1.50"), Decimal("999999.99"), Decimal("0.005"), 7, 1.25, Decimal("1e7")]),
}
_KEYS = {"id": ("BIGINT", list(range(12))), "name": ("VARCHAR(9)", ["north", "North", "süd", "east ", "o'b", "w", "x", "y", "z", "é", "%s", "\\"])}
_ARROW = {
    "SMALLINT": pa.int16(), "BIGINT": pa.int64(), "DOUBLE PRECISION": pa.float64(), "BOOLEAN": pa.bool_(), "DATE": pa.date32(),
    "TIMESTAMP": pa.timestamp("us"), "DECIMAL(8,2)": pa.decimal128(8, 2),
}  # fmt: skip
_OF_KIND = {"mariadb": {"TIMESTAMP": "DATETIME(6)", "BOOLEAN": "TINYINT(1)", "TEXT": "LONGTEXT"}}


class Two:
    """Two equal databases; into the first calls may go the fast way."""

    def __init__(self, kind: str, dice: random.Random, stores: list[str], runs: list[Any]) -> None:
        self.kind, self.dice, self.runs = kind, dice, runs
        self.stores: list[Any] = list(stores)
        self.key = dice.choice([["id"], ["name"], ["id", "name"]])
        self.columns = {name: _KEYS[name] for name in self.key}
        rest = [name for name in _TYPES if kind != "sqlite" or name != "amount" or dice.random() < 0.1]
        self.columns |= {name: _TYPES[name] for name in dice.sample(rest, dice.randint(1, 5))}
        self.also = dice.choice([{}, {}, {"v": "DEFAULT 'none'"}, {"n": "CHECK (n < 30000)"}, {"x": "DEFAULT 0.5 NOT NULL"}])
        rest = [name for name in self.columns if name not in self.key]
        self.shapes = [[*self.key, *rest], [*dice.sample(rest, len(rest) // 2), *self.key]]
        if kind == "memory":
            empty = pa.schema([(name, _ARROW.get(kind, pa.string())) for name, (kind, _) in self.columns.items()]).empty_table()
            self.stores = [rm.MemoryStore({"t": empty}) for _ in range(2)]
        self.run(f"CREATE TABLE t ({', '.join(map(self.declared, self.columns))}, PRIMARY KEY ({', '.join(self.key)}))")

    def declared(self, name: str) -> str:
        kind = self.columns[name][0]
        quoted = f"`{name}`" if self.kind == "mariadb" else f'"{name}"'
        return f"{quoted} {_OF_KIND.get(self.kind, {}).get(kind, kind)} {'NOT NULL' if name in self.key else self.also.get(name, '')}"

    def run(self, sql: str) -> list[str]:
        """Run a statement on both. Returns what each says no with."""
        said = list[str]()
        for run in self.runs:
            try:
                run(sql)
            except Exception as error:
                said.append(type(error).__name__)
        return said

    def records(self) -> list[dict[str, Any]]:
        dice = self.dice
        sent = dice.choice(self.shapes)
        odd = dice.random() < 0.1

        def value(name: str) -> Any:
            values = self.columns[name][1]
            return None if dice.random() < (0.02 if name in self.key else 0.1) else dice.choice(values if odd or name in self.key else values[:2])

        records = [{name: value(name) for name in sent} for _ in range(dice.choice([1, 1, 1, 2, 4]))]
        if dice.random() < 0.05:
            records[-1] = {name: records[-1][name] for name in sent[:-1]} or records[-1]
        return records

    def between(self) -> None:
        """What others do."""
        dice = self.dice
        key = {name: self.columns[name][1][0] for name in self.key}
        sql = {
            "row": ["DELETE FROM t", f"UPDATE t SET {self.key[0]} = {self.key[0]}", "DELETE FROM t_history WHERE change_no = 3"],
            "column": ["ALTER TABLE t ADD COLUMN more INTEGER", "ALTER TABLE t DROP COLUMN more"],
            "rename": ["ALTER TABLE t RENAME TO u", "ALTER TABLE u RENAME TO t"],
        }
        calls: dict[str, Callable[[str], object]] = {
            "merge": lambda url: rm.merge(rm.Job(store=url, table="t", key=self.key), [key]),
            "seal": lambda url: rm.merge(rm.Job(store=url, table="t", key=self.key, seal=True), [key]),
            "undo": lambda url: rm.undo(url, rm.batches(url)["batch_no"][-1].as_py(), force=True),
            "prune": lambda url: rm.prune(url, "t", before_batch=2),
            "capture": lambda url: rm.capture(url, "t"),
            "stop": lambda url: rm.stop_capture(url, "t"),
        }
        what = dice.choice([*sql, *calls, "row", "column", "merge", "undo", "stop", "stop"])
        if what in sql:
            self.run(dice.choice(sql[what]) if what != "rename" else sql[what][0])
            self.run(sql["rename"][1] if what == "rename" and dice.random() < 0.9 else "SELECT 1")
            return
        for url in self.stores:
            with suppress(rm.Error):
                calls[what](url)

    def state(self, store: Any) -> str:
        """What is in the tables of a store."""
        self.run("ALTER TABLE u RENAME TO t")
        tables = ("t", "rmend_batches", "t_history")
        if isinstance(store, rm.MemoryStore):
            found = [store[table].to_pylist() for table in tables]
        else:
            with closing(databases.driver(store)) as connection:
                run = connection.cursor()

                def rows(sql: str) -> list[dict[str, Any]]:
                    run.execute(sql)
                    return [dict(zip([column[0] for column in run.description], row, strict=True)) for row in run.fetchall()]

                found = [rows(f"SELECT * FROM {table} ORDER BY 1") for table in tables]
        found = [[{n: v for n, v in row.items() if not n.endswith("_at")} for row in some] for some in found]
        for batch in found[1]:
            figures = {k: v for k, v in json.loads(batch["figures"]).items() if k not in ("seconds", "steps")}
            batch |= {"figures": json.dumps(figures, sort_keys=True), "seal": batch["seal"] is not None}
        return repr(found)


def _plain(told: Any) -> str:
    """Without the order of what has none, and without names that differ."""
    return re.sub(r"(/\S+\.db|\w+://\S+|rmend_test_\w+)", "", json.dumps(told, sort_keys=True, default=repr))


def _said(merger: rm.Merger, records: list[dict[str, Any]]) -> Any:
    try:
        result = merger.merge(records)
    except rm.Error as error:
        return type(error).__name__, _plain(str(error))
    told = {k: v for k, v in result.to_dict(decisions=True).items() if k not in ("seconds", "store")}
    return _plain([told, result.decisions.to_pylist()]), result.decisions.schema, result.rejects.num_rows


@every_kind
def test_the_fast_way_gives_what_the_whole_way_gives(store: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    kind = store.partition(",")[0]
    dice, went = length.dice(kind, "fast"), list[int]()
    merge = fast_merge.FastMerge.merge

    def counted(self: Any, calls: Any, check: Any) -> Any:
        outcomes = merge(self, calls, check)
        went.append(len(calls))
        return outcomes

    tries = fast_way.FastWay.tries
    whole: set[int] = set()
    monkeypatch.setattr(fast_merge.FastMerge, "merge", counted)
    monkeypatch.setattr(fast_way.FastWay, "tries", lambda self, taken: id(self) not in whole and tries(self, taken))
    for turn in range(length.some(1)):
        paths = [tmp_path / f"{turn}-{at}" for at in (0, 1)]
        for path in paths:
            path.mkdir()
        of = "sqlite" if kind == "memory" else kind
        with databases.table(of, paths[0]) as (first, run), databases.table(of, paths[1]) as (second, run_too):
            two = Two(kind, dice, [first, second], [run, run_too])
            batches = dice.choice(["all", "changes"])
            jobs = [rm.Job(store=url, table="t", key=two.key, batches=batches) for url in two.stores]
            with rm.Merger(jobs[0]) as fast, rm.Merger(jobs[1]) as slow:
                whole.add(id(slow._fast))
                for number in range(40):
                    records = two.records()
                    assert _said(fast, records) == _said(slow, records), (number, records, two.columns)
                    if dice.random() < 0.2:
                        two.between()
            states = [two.state(url) for url in two.stores]
            assert states[0] == states[1]
    assert len(went) > 4 * length.some(1), "much goes the fast way"
