"""Capture: whatever other programs write is in the history, once, whoever they are and however they do it."""

from __future__ import annotations

import random
import sqlite3
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

import pytest

import rapid_mender as rm
from rapid_mender.errors import StoreError
from rapid_mender.stores.urls import open_store, opened

from . import databases
from .databases import every

Write = Callable[..., str | None]
"""Runs statements; returns why one was refused, after which the others are left out."""
KEY = ["tag_no"]


@contextmanager
def writer(kind: str, url: str, path: Path) -> Iterator[Write]:
    """A program of its own that writes to a database; each statement is a transaction, unless it begins one."""
    with closing(sqlite3.connect(path / "r.db", isolation_level=None) if kind == "sqlite" else open_store(url).connect()) as connection:  # type: ignore[attr-defined]
        run = connection.execute if kind == "sqlite" else connection.run
        if kind == "sqlite":
            run("PRAGMA foreign_keys = ON")

        def write(*statements: str) -> str | None:
            for statement in statements:
                try:
                    run(statement)
                except (sqlite3.Error, StoreError) as error:
                    return str(error)
            return None

        yield write


def trees(kind: str, more: str = "", name: str = "trees") -> str:
    text = {"sqlite": "TEXT", "postgresql": "text", "mariadb": "varchar(30)"}[kind]
    return f"CREATE TABLE {name} (tag_no INTEGER PRIMARY KEY, ward INTEGER, code {text} UNIQUE, height DECIMAL(8,2){more})"


def rows(url: str, table: str = "trees") -> list[dict[str, Any]]:
    with opened(url) as store, store.begin(write=False) as session:
        return list(session.read(session.describe(table)).values.to_pylist())


def replayed(before: list[dict[str, Any]], url: str, table: str = "trees", key: list[str] = KEY) -> list[dict[str, Any]]:
    """The rows after the changes of the history, one after the other; each must fit."""
    there = {tuple(row[name] for name in key): row for row in before}
    for change in rm.history(url, table).to_pylist():
        old, new = ({name[4:]: value for name, value in change.items() if name.startswith(side)} for side in ("old_", "new_"))
        if change["action"] != "insert":
            gone = there.pop(tuple(old[name] for name in key), None)
            assert gone == old, (change, gone)
        if change["action"] != "delete":
            assert tuple(new[name] for name in key) not in there, change
            there[tuple(new[name] for name in key)] = new
        if change["action"] == "update":
            assert change["changed"] == str([name for name in new if new[name] != old[name]]).replace("'", '"'), change
    return sorted(there.values(), key=repr)


def statements(kind: str, rng: random.Random) -> list[str]:
    """One thing that a program may do, also what the database refuses."""
    tag, other, ward = rng.randrange(60), rng.randrange(60), rng.randrange(5)
    height, code = rng.randrange(9), rng.choice(["NULL", f"'c{rng.randrange(60)}'"])
    row = f"({tag}, {ward}, {code}, {height})"
    bulk = ", ".join(f"({n}, {ward}, NULL, {height})" for n in rng.sample(range(60, 120), rng.randrange(1, 30)))
    upsert = {
        "sqlite": f"INSERT INTO trees VALUES {row} ON CONFLICT (tag_no) DO UPDATE SET height = excluded.height + 1",
        "postgresql": f"INSERT INTO trees VALUES {row} ON CONFLICT (tag_no) DO UPDATE SET height = excluded.height + 1",
        "mariadb": f"INSERT INTO trees VALUES {row} ON DUPLICATE KEY UPDATE height = {height} + 1",
    }[kind]
    ignore = {"sqlite": "INSERT OR IGNORE INTO trees VALUES {}", "postgresql": "INSERT INTO trees VALUES {} ON CONFLICT DO NOTHING", "mariadb": "INSERT IGNORE INTO trees VALUES {}"}[kind].format(row)
    replace = {
        "sqlite": f"INSERT OR REPLACE INTO trees VALUES {row}",
        "postgresql": f"WITH gone AS (DELETE FROM trees WHERE tag_no = {tag} RETURNING tag_no) INSERT INTO trees SELECT tag_no, {ward}, {code}, {height} FROM gone",
        "mariadb": f"REPLACE INTO trees VALUES {row}",
    }[kind]
    move = {"sqlite": "UPDATE OR REPLACE trees", "postgresql": "UPDATE trees", "mariadb": "UPDATE trees"}[kind] + f" SET tag_no = {other} WHERE tag_no = {tag}"
    many = {
        "sqlite": f"DELETE FROM trees WHERE ward = {ward}", "mariadb": f"DELETE FROM trees WHERE ward = {ward}",
        "postgresql": rng.choice(["TRUNCATE trees", f"MERGE INTO trees AS t USING (VALUES {row}) AS s (tag_no, ward, code, height) ON t.tag_no = s.tag_no WHEN MATCHED THEN UPDATE SET height = s.height WHEN NOT MATCHED THEN INSERT VALUES (s.tag_no, s.ward, NULL, s.height)"]),
    }[kind]  # fmt: skip
    shift = {"sqlite": "UPDATE trees SET tag_no = -1 - tag_no WHERE tag_no >= 0", "postgresql": "UPDATE trees SET tag_no = 1000 - tag_no", "mariadb": "UPDATE trees SET tag_no = tag_no + 1 ORDER BY tag_no DESC"}[kind]
    plain = [
        f"INSERT INTO trees VALUES {row}", f"INSERT INTO trees VALUES {bulk}", f"UPDATE trees SET height = {height}", upsert, ignore, replace, move,
        f"UPDATE trees SET height = height, code = {code} WHERE tag_no = {tag}", f"DELETE FROM trees WHERE tag_no = {tag}", many, shift,
        f"UPDATE wards SET ward = {ward} WHERE ward = {rng.randrange(5)}", f"DELETE FROM wards WHERE ward = {ward}", f"INSERT INTO wards VALUES ({ward})",
    ]  # fmt: skip
    one = rng.choice(plain)
    around = rng.randrange(6)
    if around == 0:
        return ["BEGIN", one, rng.choice(plain), "ROLLBACK"]
    if around == 1:
        return ["BEGIN", rng.choice(plain), "SAVEPOINT s", one, "ROLLBACK TO s", rng.choice(plain), "COMMIT"]
    return [one]


@every
@pytest.mark.parametrize("seed", range(4))
def test_replaying_what_others_wrote_gives_the_table(kind: str, tmp_path: Path, seed: int) -> None:
    refers = "" if kind == "mariadb" else ", FOREIGN KEY (ward) REFERENCES wards ON DELETE CASCADE ON UPDATE CASCADE"
    wards = "CREATE TABLE wards (ward INTEGER PRIMARY KEY)"
    with databases.table(kind, tmp_path, wards, trees(kind, refers), "INSERT INTO wards VALUES (0), (1), (2), (3), (4)", "INSERT INTO trees VALUES (1, 1, 'c1', 1), (2, 2, NULL, NULL)") as (url, run):
        before = rows(url)
        rm.capture(url, "trees")
        rng, refused = random.Random(seed), 0
        job = rm.Job(store=url, table="trees", key="tag_no", rules=[rm.Rule(decide="delete", when="incoming.height = 3 AND matched", because="low")])
        with writer(kind, url, tmp_path) as write:
            for step in range(150):
                if write(*statements(kind, rng)):
                    refused += 1
                    write("ROLLBACK")
                if step % 50 == 49:
                    result = rm.merge(job, [{"tag_no": rng.randrange(60), "height": rng.randrange(9)} for _ in range(30)])
                    if step == 99 and result.counts["insert"]:
                        rm.undo(url, result.batch)
        assert replayed(before, url) == sorted(rows(url), key=repr)
        assert rm.verify(url, "trees").holds
        merged = rm.history(url, "trees").to_pylist()
        assert 0 < refused < 120 and {row["batch_no"] is None for row in merged} == {True, False}
