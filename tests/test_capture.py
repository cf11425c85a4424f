"""Capture: whatever other programs write is in the history, once, whoever they are and however they do it."""

from __future__ import annotations

import importlib
import itertools
import json
import random
import re
import sqlite3
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing, contextmanager, suppress
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

import rapid_mender as rm
from rapid_mender.errors import StoreError
from rapid_mender.stores.urls import open_store, opened

from . import captured, databases, followed, length
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
            assert json.loads(change["changed"]) == [name for name in new if new[name] != old[name]], change
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
    ignore = {
        "sqlite": "INSERT OR IGNORE INTO trees VALUES {}",
        "postgresql": "INSERT INTO trees VALUES {} ON CONFLICT DO NOTHING",
        "mariadb": "INSERT IGNORE INTO trees VALUES {}",
    }[kind].format(row)
    replace = {
        "sqlite": f"INSERT OR REPLACE INTO trees VALUES {row}",
        "postgresql": f"WITH gone AS (DELETE FROM trees WHERE tag_no = {tag} RETURNING tag_no) INSERT INTO trees SELECT tag_no, {ward}, {code}, 1 FROM gone",
        "mariadb": f"REPLACE INTO trees VALUES {row}",
    }[kind]
    move = {"sqlite": "UPDATE OR REPLACE trees", "postgresql": "UPDATE trees", "mariadb": "UPDATE trees"}[kind] + f" SET tag_no = {other} WHERE tag_no = {tag}"
    merge = f"MERGE INTO trees AS t USING (VALUES {row}) AS s (tag_no, ward, code, height) ON t.tag_no = s.tag_no"
    merge += " WHEN MATCHED THEN UPDATE SET height = s.height WHEN NOT MATCHED THEN INSERT VALUES (s.tag_no, s.ward, NULL, s.height)"
    gone = f"DELETE FROM trees WHERE ward = {ward}"
    many = {"sqlite": gone, "mariadb": gone, "postgresql": rng.choice(["TRUNCATE trees", merge])}[kind]
    shift = {
        "sqlite": "UPDATE trees SET tag_no = -1 - tag_no WHERE tag_no >= 0",
        "postgresql": "UPDATE trees SET tag_no = 1000 - tag_no",
        "mariadb": "UPDATE trees SET tag_no = tag_no + 1 ORDER BY tag_no DESC",
    }[kind]
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
@pytest.mark.parametrize("seed", range(2))
def test_replaying_what_others_wrote_gives_the_table(kind: str, tmp_path: Path, seed: int) -> None:
    refers = "" if kind == "mariadb" else ", FOREIGN KEY (ward) REFERENCES wards ON DELETE CASCADE ON UPDATE CASCADE"
    wards = "CREATE TABLE wards (ward INTEGER PRIMARY KEY)"
    with databases.table(
        kind,
        tmp_path,
        wards,
        trees(kind, refers),
        "INSERT INTO wards VALUES (0), (1), (2), (3), (4)",
        "INSERT INTO trees VALUES (1, 1, 'c1', 1), (2, 2, NULL, NULL)",
    ) as (url, _):
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
        assert 0 < refused < 120
        assert {row["batch_no"] is None for row in merged} == {True, False}


TAKEN = [  # options, statements, the actions that are recorded of them
    ({"columns": ["height"]}, ["UPDATE trees SET ward = 9", "UPDATE trees SET ward = 8, height = 7"], [("update", '["height"]')] * 2),
    ({"actions": ["delete"]}, ["UPDATE trees SET ward = 9", "INSERT INTO trees (tag_no) VALUES (7)", "DELETE FROM trees WHERE tag_no = 1"], [("delete", None)]),
    (
        {"when": "new.height > 5 OR old.height > 5"},
        [
            *(f"UPDATE trees SET height = {height}" for height in (6, 1, 2)),
            "INSERT INTO trees (tag_no, height) VALUES (7, 8), (8, 1)",
            "DELETE FROM trees",
        ],
        [("update", '["height"]')] * 4 + [("insert", None), ("delete", None)],
    ),
]  # fmt: skip


@every
@pytest.mark.parametrize("given", range(len(TAKEN)))
def test_only_what_is_asked_for_is_recorded(kind: str, tmp_path: Path, given: int) -> None:
    options, written, expected = TAKEN[given]
    with databases.table(kind, tmp_path, trees(kind), "INSERT INTO trees VALUES (1, 1, 'a', 1), (2, 2, 'b', 2)") as (url, _):
        rm.capture(url, "trees", **options)
        with writer(kind, url, tmp_path) as write:
            assert write(*written) is None
        assert [(one["action"], one["changed"]) for one in rm.history(url, "trees").to_pylist()] == expected
        assert rm.captures(url)[0].options == {name: tuple(value) if isinstance(value, list) else value for name, value in options.items()}


@every
def test_a_guard_keeps_everybody_from_deleting(kind: str, tmp_path: Path) -> None:
    with (
        databases.table(kind, tmp_path, trees(kind), "INSERT INTO trees VALUES (1, 1, 'a', 1), (2, 2, 'b', 2)") as (url, _),
        writer(kind, url, tmp_path) as write,
    ):
        rm.capture(url, "trees", deletes="refuse", says="trees of Harrowmere's are 'kept'")
        replace = {
            "sqlite": "INSERT OR REPLACE INTO trees VALUES (1, 1, 'b', 1)",
            "postgresql": "TRUNCATE trees",
            "mariadb": "REPLACE INTO trees VALUES (1, 1, 'b', 1)",
        }[kind]
        for statement in ("DELETE FROM trees WHERE tag_no = 1", replace):
            assert "trees of Harrowmere's are 'kept'" in str(write(statement))
        job = rm.Job(store=url, table="trees", key="tag_no", rules=[rm.Rule(decide="delete", when="matched")])
        refused = rm.merge(job, [{"tag_no": 1}])
        assert (refused.counts["reject"], "'kept'" in refused.rejects["rmend_reason"][0].as_py()) == (1, True)
        assert (len(rows(url)), rm.history(url, "trees").num_rows) == (2, 0)
        rm.stop_capture(url, "trees")
        rm.capture(url, "trees", deletes="mark", mark={"ward": "-1"}, says="no")
        assert (write("DELETE FROM trees WHERE tag_no = 1") is None) == (kind != "mariadb")
        assert sorted(row["ward"] for row in rows(url)) == ([1, 2] if kind == "mariadb" else [-1, 2])
        changes = rm.history(url, "trees").to_pylist()
        assert [(one["action"], one["changed"]) for one in changes] == ([] if kind == "mariadb" else [("update", '["ward"]')])
        marked = rm.merge(job, [{"tag_no": 2}])
        assert (marked.counts["reject"], len(rows(url))) == (1, 2)


@every
def test_a_table_that_is_altered_does_not_break_its_writers(kind: str, tmp_path: Path) -> None:
    altered = {
        "sqlite": "ALTER TABLE trees RENAME COLUMN {} TO {}",
        "postgresql": "ALTER TABLE trees RENAME COLUMN {} TO {}",
        "mariadb": "ALTER TABLE trees RENAME COLUMN {} TO {}",
    }[kind]
    widen = {"sqlite": [], "postgresql": ["ALTER TABLE trees ALTER COLUMN small TYPE bigint"], "mariadb": ["ALTER TABLE trees MODIFY small bigint"]}[kind]
    drop = [] if kind == "sqlite" else ["ALTER TABLE trees DROP COLUMN code"]  # SQLite itself refuses to drop what a trigger names
    with databases.table(kind, tmp_path, trees(kind, ", small SMALLINT")) as (url, run):
        before = rows(url)
        rm.capture(url, "trees")
        stop, said = threading.Event(), []

        def busy() -> None:
            with writer(kind, url, tmp_path) as write:
                tag = 0
                while not stop.is_set():
                    tag += 1
                    why = write(f"INSERT INTO trees (tag_no, height) VALUES ({tag}, 1)", f"UPDATE trees SET height = 2 WHERE tag_no = {tag}")
                    said.extend([] if why is None or "locked" in why else [why])
                    time.sleep(0.002)

        working = threading.Thread(target=busy)
        working.start()
        for statement in ("ALTER TABLE trees ADD COLUMN extra integer", *drop, altered.format("ward", "district"), *widen):
            run(statement)
            time.sleep(0.2)
        stop.set()
        working.join()
        assert said == []
        with writer(kind, url, tmp_path) as write:
            assert write("UPDATE trees SET small = 5000, height = 3 WHERE tag_no = 1") is None
            if widen:
                assert write("UPDATE trees SET small = 5000000000 WHERE tag_no = 1") is None
                assert "refresh" in rm.history(url, "trees").to_pylist()[-1]["reason"]
        (told,) = rm.captures(url)
        for word in ("'extra' is new", "'district' is new", "no column 'ward'", *(["no column 'code'", "'small' was smallint"] if widen else [])):
            assert any(word in note for note in told.notes), (word, told.notes)
            warned = rm.check(rm.Job(store=url, table="trees", key="tag_no")).warnings
            assert any(word in warning for warning in warned), (word, warned)
        rm.refresh_capture(url, "trees")
        with writer(kind, url, tmp_path) as write:
            assert write("UPDATE trees SET small = 7000, district = 5, extra = 6 WHERE tag_no = 1") is None
        last = rm.history(url, "trees").to_pylist()[-1]
        assert (last["changed"], last["new_extra"], last["reason"]) == ('["district", "small", "extra"]', 6, None)
        assert len(before) == 0
        assert not any("column" in note for note in rm.captures(url)[0].notes)


@every
def test_a_pause_is_known_to_all_who_read_the_history(kind: str, tmp_path: Path) -> None:
    with databases.table(kind, tmp_path, trees(kind)) as (url, _), writer(kind, url, tmp_path) as write:
        rm.capture(url, "trees")
        write("INSERT INTO trees VALUES (1, 1, 'a', 1)")
        with rm.Follower(url, "trees", "map") as follower:
            list(follower.changes())
            follower.acknowledge()
        rm.pause_capture(url, "trees")
        write("UPDATE trees SET height = 5")
        rm.resume_capture(url, "trees")
        write("UPDATE trees SET height = 6")
        assert [one["new_height"] for one in rm.history(url, "trees").to_pylist()] == [1, 6]
        found = rm.verify(url, "trees")
        assert (found.holds, len(found.holes)) == (False, 1)
        with pytest.raises(rm.JobError, match="was paused"):
            rm.as_of(url, "trees", position=1)
        assert rm.as_of(url, "trees", position=2).num_rows == 1
        with rm.Follower(url, "trees", "map") as follower, pytest.raises(rm.JobError, match="was paused"):
            list(follower.changes())
        assert [one.state for one in rm.captures(url)] == ["on"]
        rm.stop_capture(url, "trees")
        write("UPDATE trees SET height = 7")
        assert (rm.captures(url), rm.history(url, "trees").num_rows) == ([], 2)


@pytest.mark.slow
@every
@pytest.mark.parametrize("seed", range(3))
def test_what_changed_in_a_pause_is_found(kind: str, tmp_path: Path, seed: int) -> None:
    """While others write all the time: each change once, in an order that a follower can go by."""
    with databases.table(kind, tmp_path, "CREATE TABLE wards (ward INTEGER PRIMARY KEY)", trees(kind)) as (url, _):
        rm.capture(url, "trees")
        stop = threading.Event()

        def busy(number: int) -> None:
            rng = random.Random(seed * 10 + number)
            with writer(kind, url, tmp_path) as write:
                while not stop.is_set():
                    if write(*statements(kind, rng)):
                        write("ROLLBACK")
                    time.sleep(0.01)

        (tmp_path / "to").mkdir()
        with databases.table("sqlite", tmp_path / "to", trees("sqlite")) as (to, _):
            working = [threading.Thread(target=busy, args=(number,), daemon=True) for number in range(2)]
            for one in working:
                one.start()
            time.sleep(0.3)
            rm.sync(url, "trees", to, "trees", follower="map")
            rm.pause_capture(url, "trees")
            time.sleep(0.3)
            mended = rm.resume_capture(url, "trees", mend=True)
            time.sleep(0.3)
            stop.set()
            for one in working:
                one.join()
            assert mended is not None
            assert mended.whole
            assert mended.batch
            assert replayed([], url) == sorted(rows(url), key=repr)
            verified = rm.verify(url, "trees")
            assert verified.holds
            assert not verified.holes
            assert set(rm.history(url, "trees", batch=mended.batch)["reason"].to_pylist()) <= {"found when capture was resumed"}
            rm.sync(url, "trees", to, "trees", follower="map")
            assert sorted(rows(to), key=repr) == sorted(rows(url), key=repr)


@pytest.mark.postgresql
def test_a_table_that_is_truncated_is_read_as_of_one_moment(tmp_path: Path) -> None:
    """TRUNCATE empties a table for those too whose snapshot is older; so it waits for whoever reads rows and history."""
    with databases.table("postgresql", tmp_path, trees("postgresql")) as (url, _), writer("postgresql", url, tmp_path) as write:
        rm.capture(url, "trees")
        write("INSERT INTO trees SELECT n, 1, NULL, 1 FROM generate_series(1, 3000) AS n")
        stop, looks = threading.Event(), length.some(6)

        def busy() -> None:
            with writer("postgresql", url, tmp_path) as write:
                while not stop.is_set():
                    assert not write("TRUNCATE trees", "INSERT INTO trees SELECT n, 1, NULL, 1 FROM generate_series(1, 300) AS n")

        with ThreadPoolExecutor(1) as pool:
            working = pool.submit(busy)
            try:
                seen = [(rm.verify(url, "trees").found, rm.as_of(url, "trees", position=3000).num_rows) for _ in range(looks)]
            finally:
                stop.set()
            working.result()
        assert seen == [(0, 3000)] * looks


@every
def test_what_the_history_never_knew_is_not_found(kind: str, tmp_path: Path) -> None:
    with (
        databases.table(kind, tmp_path, trees(kind), "INSERT INTO trees VALUES (1, 1, 'a', 1), (2, 2, 'b', 2)") as (url, _),
        writer(kind, url, tmp_path) as write,
    ):
        rm.capture(url, "trees")
        write("UPDATE trees SET height = 3 WHERE tag_no = 1")
        rm.pause_capture(url, "trees")
        write("UPDATE trees SET height = height + 5")
        mended = rm.resume_capture(url, "trees", mend=True)
        assert mended is not None
        assert (mended.whole, mended.unknown, mended.counts["update"]) == (False, 1, 1)
        assert [(one["new_height"], one["reason"]) for one in rm.history(url, "trees").to_pylist()] == [(3, None), (8, "found when capture was resumed")]
        assert len(rm.verify(url, "trees").holes) == 1
        again = rm.resume_capture(url, "trees", mend=True)
        assert again is not None
        assert (again.unknown, again.batch) == (1, None)
        rm.stop_capture(url, "trees")
        rm.capture(url, "trees", columns=["height"])
        rm.pause_capture(url, "trees")
        with pytest.raises(rm.JobError, match="does not record everything"):
            rm.resume_capture(url, "trees", mend=True)
        assert rm.captures(url)[0].state == "paused"


@every
def test_what_others_did_is_sealed_with_the_next_batch(kind: str, tmp_path: Path) -> None:
    """Also what is committed only after a seal."""
    with databases.table(kind, tmp_path, trees(kind)) as (url, run), writer(kind, url, tmp_path) as write, writer(kind, url, tmp_path) as slow:
        rm.capture(url, "trees")
        job = rm.Job(store=url, table="trees", key="tag_no", seal=True)
        write("INSERT INTO trees VALUES (1, 1, 'a', 1), (2, 2, 'b', 2)")
        if kind != "sqlite":
            assert slow("BEGIN", "INSERT INTO trees VALUES (7, 1, 'slow', 1)") is None
        rm.merge(job, [{"tag_no": 3, "height": 3}])
        write("UPDATE trees SET height = 4 WHERE tag_no <= 2")
        if kind != "sqlite":
            assert rm.verify(url, "trees").holds
            slow("COMMIT")
        rm.merge(job, [{"tag_no": 3, "height": 5}])
        write("UPDATE trees SET height = 6 WHERE tag_no <= 2")
        whole = rm.verify(url, "trees")
        assert (whole.holds, whole.sealed) == (True, 2)
        history = rm.history(url, "trees").to_pylist()
        for change in history:
            if change["change_no"] > max(one["change_no"] for one in history if one["batch_no"]):
                continue
            old = "NULL" if change["actor"] is None else "'" + change["actor"] + "'"
            run(f"UPDATE trees_history SET actor = 'nobody' WHERE change_no = {change['change_no']}")
            assert rm.verify(url, "trees").altered.num_rows, change
            run(f"UPDATE trees_history SET actor = {old} WHERE change_no = {change['change_no']}")
            assert rm.verify(url, "trees").holds
        run(f"DELETE FROM trees_history WHERE change_no = {history[0]['change_no']}")
        assert "some were removed" in str(rm.verify(url, "trees").altered.to_pylist())


@every
def test_what_a_program_did_can_be_undone(kind: str, tmp_path: Path) -> None:
    who = {"sqlite": "(SELECT name FROM who)", "postgresql": "(SELECT name FROM public.who)", "mariadb": "(SELECT name FROM who)"}[kind]
    with (
        databases.table(kind, tmp_path, trees(kind), "CREATE TABLE who (name VARCHAR(20))", "INSERT INTO who VALUES ('office')") as (url, _),
        writer(kind, url, tmp_path) as write,
    ):
        write("INSERT INTO trees VALUES (1, 1, 'a', 1), (2, 2, 'b', 2), (3, 3, 'c', 3), (4, 4, 'd', 4)")
        before = rows(url)
        rm.capture(url, "trees", application=who)
        write(
            "UPDATE trees SET height = 10 WHERE tag_no < 4",
            "DELETE FROM trees WHERE tag_no = 2",
            "INSERT INTO trees VALUES (9, 9, 'z', 9)",
            "UPDATE trees SET tag_no = 8 WHERE tag_no = 4",
        )
        write(
            "UPDATE who SET name = 'field'",
            "UPDATE trees SET height = 11 WHERE tag_no = 3",
            "UPDATE who SET name = 'office'",
            "UPDATE trees SET height = 12 WHERE tag_no = 3",
        )
        with pytest.raises(rm.ConflictError, match="what was done by office") as error:
            rm.undo(url, table="trees", application="office")
        assert error.value.undone.conflicts["why"].to_pylist() == ["others changed it in between"]
        done = rm.undo(url, table="trees", application="office", since="2020-01-01", rest=True)
        assert (done.counts, done.kept) == ({"insert": 1, "update": 2, "delete": 1}, 1)
        assert sorted(rows(url), key=repr) == sorted(
            [*(row for row in before if row["tag_no"] != 3), next(row for row in before if row["tag_no"] == 3) | {"height": 12}], key=repr
        )
        assert rm.verify(url, "trees").holds
        assert rm.undo(url, table="trees", application="nobody").batch is None


@every
def test_names_are_quoted_and_the_printed_sql_does_the_same(kind: str, tmp_path: Path) -> None:
    quoted = (lambda name: "`" + name.replace("`", "``") + "`") if kind == "mariadb" else (lambda name: '"' + name.replace('"', '""') + '"')
    table, odd = 'it\'s a "tree" `of` [Mere.End] %s', "rmend_n %1$s 'old' \"new\" \\ größe"
    text = {"sqlite": "TEXT", "postgresql": "text", "mariadb": "varchar(50)"}[kind]
    made = f"CREATE TABLE {quoted(table)} (how INTEGER PRIMARY KEY, {quoted(odd)} {text}, {quoted('n' * 55)} {text}, rmend_n INTEGER)"
    with databases.table(kind, tmp_path, made) as (url, _), writer(kind, url, tmp_path) as write:
        told = rm.capture(url, table, preview=True)
        assert rm.captures(url) == []
        assert write(*told.statements) is None
        assert [(one.state, one.notes[:0]) for one in rm.captures(url)] == [("on", [])]
        hostile = "'; DROP TABLE x; -- [bold]\\ %s \" \t".replace("'", "''")
        assert (
            write(
                f"INSERT INTO {quoted(table)} (how, {quoted(odd)}) VALUES (1, '{hostile}'), (2, NULL)",
                f"UPDATE {quoted(table)} SET {quoted(odd)} = '{hostile}x', {quoted('n' * 55)} = 'y'",
            )
            is None
        )
        assert replayed([], url, table, ["how"]) == sorted(rows(url, table), key=repr)
        assert rm.merge(rm.Job(store=url, table=table, key="how"), [{"how": 2, "rmend_n": 5}]).counts["update"] == 1
        assert replayed([], url, table, ["how"]) == sorted(rows(url, table), key=repr)
        assert write(*rm.stop_capture(url, table, preview=True)) is None
        assert (rm.captures(url), write(f"DELETE FROM {quoted(table)}"), rm.history(url, table).num_rows) == ([], None, 5)


REFUSED = [
    (lambda url: rm.capture(url, "trees_history"), "Rapid Mender's own"), (lambda url: rm.capture(url, "rmend_batches"), "Rapid Mender's own"),
    (lambda url: rm.capture(url, "trees"), "captured already"), (lambda url: rm.capture(url, "tree"), "did you mean 'trees'"),
    (lambda url: rm.capture(url, "low"), "view"), (lambda url: rm.stop_capture(url, "wards"), "not captured; captured are 'trees'"),
    (lambda url: rm.pause_capture(url, "wards"), "not captured"), (lambda url: rm.resume_capture(url, "trees"), "not paused"),
    (lambda url: rm.capture(url, "wards", columns=["height"]), "'height'"),
    (lambda url: rm.capture(url, "wards", when="new.nope > 1"), "when"),
    (lambda url: rm.capture(url, "wards", when="ward > 1"), "when"),
    (lambda url: rm.capture(url, "wards", when="new.ward > 1); DROP TABLE trees; --"), "not one expression"),
    (lambda url: rm.capture(url, "wards", actor="nobody(1)"), "actor"), (lambda url: rm.capture(url, "wards", actions=["upsert"]), "actions"),
    (lambda url: rm.capture(url, "wards", deletes="mark"), "needs the columns to set"), (lambda url: rm.capture(url, "taken"), "not a history"),
    (lambda url: rm.capture(rm.MemoryStore({"trees": pa.table({"a": [1]})}), "trees"), "memory has no triggers"),
]  # fmt: skip


@every
def test_what_cannot_be_captured_says_why(kind: str, tmp_path: Path) -> None:
    wards, taken = "CREATE TABLE wards (ward INTEGER PRIMARY KEY)", "CREATE TABLE taken (a INTEGER PRIMARY KEY)"
    others = wards, taken, "CREATE TABLE taken_history (a INTEGER)", "CREATE VIEW low AS SELECT * FROM trees"
    with databases.table(kind, tmp_path, trees(kind), *others) as (url, run):
        rm.capture(url, "trees")
        for act, said in REFUSED:
            with pytest.raises((rm.JobError, rm.StoreError), match=said):
                act(url)
        assert [one.table for one in rm.captures(url)] == ["trees"]
        run("DROP VIEW low", "DROP TABLE trees" + (" CASCADE" if kind == "postgresql" else ""))
        assert [one.state for one in rm.captures(url)] == ["broken"]
        rm.stop_capture(url, "trees")
        assert rm.captures(url) == []
        with writer(kind, url, tmp_path) as write:  # nothing of what was refused is left behind
            assert write("INSERT INTO wards VALUES (1)", "DELETE FROM wards", "INSERT INTO taken VALUES (1)") is None


@pytest.mark.postgresql
def test_rows_that_move_between_partitions_are_captured_once(tmp_path: Path) -> None:
    parts = (
        "CREATE TABLE trees (tag_no int, ward int, height int, PRIMARY KEY (tag_no, ward)) PARTITION BY LIST (ward)",
        "CREATE TABLE east PARTITION OF trees FOR VALUES IN (1, 2)",
        "CREATE TABLE west (height int, tag_no int NOT NULL, gone int, ward int NOT NULL)",
        "ALTER TABLE west DROP COLUMN gone",
        "ALTER TABLE trees ATTACH PARTITION west FOR VALUES IN (3, 4)",
    )
    with databases.table("postgresql", tmp_path, *parts) as (url, _), writer("postgresql", url, tmp_path) as write:
        rm.capture(url, "trees")
        many = "INSERT INTO trees SELECT n, 1 + n % 4, n FROM generate_series(1, 300) AS n"
        moves = (
            "UPDATE trees SET ward = 3 WHERE ward = 1",
            "UPDATE trees SET ward = 5 - ward, height = height + 1",
            "INSERT INTO west (tag_no, ward, height) VALUES (900, 3, 1)",
        )
        assert (
            write(
                many,
                *moves,
                "UPDATE east SET height = 0",
                "DELETE FROM west WHERE tag_no < 50",
                "TRUNCATE east",
                "COPY west (tag_no, ward) FROM PROGRAM 'echo 901 4' DELIMITER ' '",
            )
            is None
        )
        assert replayed([], url, key=["tag_no", "ward"]) == sorted(rows(url), key=repr)
        job = rm.Job(store=url, table="trees", key=["tag_no", "ward"])
        assert rm.merge(job, [{"tag_no": 900, "ward": 3, "height": 7}, {"tag_no": 1, "ward": 1, "height": 7}]).counts["insert"] == 1
        assert replayed([], url, key=["tag_no", "ward"]) == sorted(rows(url), key=repr)
        assert write("CREATE TABLE south PARTITION OF trees FOR VALUES IN (6)") is None
        rm.refresh_capture(url, "trees")
        assert write("INSERT INTO south VALUES (1, 6, 1)") is None
        rm.stop_capture(url, "trees")
        assert replayed([], url, key=["tag_no", "ward"]) == sorted(rows(url), key=repr)


@pytest.mark.slow
@every
def test_a_merge_that_is_killed_is_recorded_once(kind: str, tmp_path: Path) -> None:
    from .killing import kill_merges, place

    with place(kind, tmp_path) as where:
        assert len(kill_merges(where, tmp_path, rows=2_000, kills=3, seed=1, commit_every=500, captured=True)) == 3


@pytest.mark.slow
@databases.both
def test_many_programs_and_those_who_follow_them(kind: str, tmp_path: Path) -> None:
    from .crowd import crowd_captured

    with databases.table(kind, tmp_path) as (url, _):
        (tmp_path / "to.db").touch()
        assert crowd_captured(url, f"sqlite:///{tmp_path}/to.db", tmp_path, writing=3, seconds=4)["changes"] > 100


@every
def test_what_others_wrote_is_pruned_and_numbers_go_on(kind: str, tmp_path: Path) -> None:
    with databases.table(kind, tmp_path, trees(kind)) as (url, _), writer(kind, url, tmp_path) as write:
        rm.capture(url, "trees")
        write("INSERT INTO trees VALUES (1, 1, 'a', 1)", "UPDATE trees SET height = 2", "UPDATE trees SET height = 3")
        assert rm.prune(url, "trees", before="2020-01-01").changes == 0
        assert rm.prune(url, "trees", before="2100-01-01").changes == (2 if kind == "sqlite" else 3)
        write("UPDATE trees SET height = 4")
        assert rm.history(url, "trees")["change_no"].to_pylist()[-1] == 4
        assert rm.verify(url, "trees").holds


@databases.both
def test_writers_need_no_rights_and_cannot_plant_code(kind: str, tmp_path: Path) -> None:
    with databases.table(kind, tmp_path, trees(kind), "INSERT INTO trees VALUES (1, 1, 'a', 1)") as (url, run):
        user, at, theirs = f"rmend_clerk_{random.randrange(10**9)}", "trees", url
        rm.capture(url, "trees", truncate="refuse")
        if kind == "postgresql":
            at, theirs = "public.trees", url + "?options=-csearch_path%3Devil,pg_catalog,public"
            run(
                f"CREATE ROLE {user} LOGIN",
                "CREATE SCHEMA evil",
                f"GRANT USAGE ON SCHEMA evil TO {user}",
                f"GRANT SELECT, INSERT, UPDATE, DELETE ON trees TO {user}",
            )
            raising = "LANGUAGE plpgsql AS $$BEGIN RAISE EXCEPTION 'run as %', current_user; END$$"
            for number, one in enumerate(("text", "int4", "numeric", "int8")):
                run(f"CREATE FUNCTION evil.f{number}(pg_catalog.{one}, pg_catalog.{one}) RETURNS boolean {raising}")
                for sign in ("=", "<>", "||"):
                    run(f"CREATE OPERATOR evil.{sign} (LEFTARG = pg_catalog.{one}, RIGHTARG = pg_catalog.{one}, FUNCTION = evil.f{number})")
            run(f"CREATE FUNCTION evil.clock_timestamp() RETURNS timestamptz {raising}", "CREATE DOMAIN evil.text AS pg_catalog.text CHECK (false)")
            gone = [f"REVOKE ALL ON trees FROM {user}", f"REVOKE ALL ON SCHEMA evil FROM {user}", f"DROP ROLE {user}"]
        else:
            run(f"CREATE USER '{user}'@'%'", f"GRANT SELECT, INSERT, UPDATE, DELETE ON {url.rsplit('/', 1)[1]}.trees TO '{user}'@'%'")
            gone = [f"DROP USER '{user}'@'%'"]
        try:
            with writer(kind, re.sub("://([^/@]*@)?", f"://{user}@", theirs, count=1), tmp_path) as write:
                where = "tag_no OPERATOR(pg_catalog.=) 2" if kind == "postgresql" else "tag_no = 2"
                pretending = {
                    "postgresql": "SELECT set_config('rmend.aside', (SELECT substr(tgname, 15, 12) FROM pg_trigger ORDER BY tgname DESC LIMIT 1), false)",
                    "mariadb": "SET @rmend_aside = (SELECT SUBSTR(TRIGGER_NAME, 15, 12) FROM information_schema.TRIGGERS LIMIT 1)",
                }[kind]  # fmt: skip
                assert write(pretending, f"INSERT INTO {at} VALUES (2, 2, 'b', 2), (3, 3, 'c', 3)") is None
                assert write(f"UPDATE {at} SET code = 'x', ward = 9 WHERE {where}") is None
                assert write(f"DELETE FROM {at}_history") is not None
                run("ALTER TABLE trees ADD COLUMN extra integer", "ALTER TABLE trees DROP COLUMN code")
                assert write(f"UPDATE {at} SET ward = 8 WHERE {where}") is None
            told = rm.history(url, "trees").to_pylist()
            assert [one["action"] for one in told] == ["insert", "insert", "update", "update"]
            assert {one["actor"].partition("@")[0] for one in told} == {user}
        finally:
            run(*gone)


PLAIN = "(id INTEGER NOT NULL PRIMARY KEY, v VARCHAR(10))"
COPIED = [f"CREATE TABLE t_new {PLAIN}", "INSERT INTO t_new SELECT * FROM t"]
REMADE = [*COPIED, "DROP TABLE t", "ALTER TABLE t_new RENAME TO t"]
SWAPPED = [*COPIED, "ALTER TABLE t RENAME TO t_old", "ALTER TABLE t_new RENAME TO t"]


@every
@pytest.mark.parametrize(("steps", "mend"), [(REMADE, False), (REMADE, True), (SWAPPED, False)])
def test_a_capture_that_has_lost_its_triggers_is_told_to_all_who_read(kind: str, steps: list[str], mend: bool, tmp_path: Path) -> None:
    """As a migration does it that makes a table anew."""
    (tmp_path / "to").mkdir()
    with databases.table(kind, tmp_path, f"CREATE TABLE t {PLAIN}") as (url, run), databases.table("sqlite", tmp_path / "to") as (to, _):
        run("INSERT INTO t VALUES (1, 'a'), (2, 'b')")
        rm.merge(rm.Job(store=url, table="t", key=["id"]), [{"id": 1, "v": "A"}])
        rm.capture(url, "t")
        sync = rm.Sync(store=url, table="t", to_store=to, to_table="copy", follower="f")
        rm.sync(sync)
        run(*steps, "UPDATE t SET v = 'lost' WHERE id = 1")
        lost = "capture of '?t'? (does not record what others write|has lost triggers)"
        for reads in (lambda: rm.sync(sync), lambda: rm.as_of(url, "t", position=1)):
            with pytest.raises(rm.JobError, match=lost):
                reads()
        assert re.search(lost, str(rm.verify(url, "t").holes))
        assert re.search(lost, str(rm.check(rm.Job(store=url, table="t", key=["id"])).warnings))
        assert re.search(lost, str(rm.merge(rm.Job(store=url, table="t", key=["id"]), [{"id": 3, "v": "c"}]).warnings))
        assert [one.state for one in rm.captures(url)] == ["broken"]
        done = rm.resume_capture(url, "t", mend=True) if mend else rm.refresh_capture(url, "t")
        assert not mend or done.counts == {"insert": 0, "update": 1, "delete": 0}  # type: ignore[union-attr]
        assert [one.state for one in rm.captures(url)] == ["on"]
        assert "had lost triggers" in str(rm.verify(url, "t").holes)
        with pytest.raises(rm.JobError, match="compare the tables, and mend"):
            rm.sync(sync)
        rm.compare(sync, mend=True)
        run("DELETE FROM t WHERE id = 2", *(["INSERT INTO t_old VALUES (9, 'old')"] if steps == SWAPPED else []))
        assert rm.sync(sync).counts["delete"] == 1
        assert rows(to, "copy") == rows(url, "t")


LINKS = {"sqlite": "sqlite.link.Link", "postgresql": "postgresql.link.PostgreSQLLink", "mariadb": "mariadb.link.MariaDBLink"}


@every
@pytest.mark.parametrize("command", ["start", "pause", "resume", "mend", "refresh", "stop"])
def test_a_command_that_is_cut_leaves_no_change_unrecorded_and_untold(kind: str, command: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """At each of its statements: the connection is lost before it."""
    module, _, name = LINKS[kind].rpartition(".")
    link = getattr(importlib.import_module(f"rapid_mender.stores.{module}"), name)
    plain = link.run
    with databases.table(kind, tmp_path, f"CREATE TABLE t {PLAIN}") as (url, run):
        do: dict[str, Callable[[], Any]] = {
            "start": lambda: rm.capture(url, "t"), "pause": lambda: rm.pause_capture(url, "t"), "resume": lambda: rm.resume_capture(url, "t"),
            "mend": lambda: rm.resume_capture(url, "t", mend=True), "refresh": lambda: rm.refresh_capture(url, "t"), "stop": lambda: rm.stop_capture(url, "t"),
        }  # fmt: skip
        before = {"start": ["stop"], "resume": ["pause"], "mend": ["pause"]}.get(command, [])
        after = {"start": [], "pause": ["mend"], "stop": ["start"]}.get(command, [])
        do["start"]()
        every = max(1, round(12 / length.TIMES))  # all of them in a long run
        for at in itertools.count(length.dice(kind, command).randrange(every), every):
            for other in before:
                do[other]()
            count = itertools.count()

            def cut(self: Any, *given: Any, count: Any = count, at: int = at) -> Any:
                if next(count) >= at:
                    raise StoreError("the connection was lost")
                return plain(self, *given)

            with monkeypatch.context() as patch:
                patch.setattr(link, "run", cut)
                try:
                    do[command]()
                except StoreError:
                    done = False
                else:
                    done = True
            run(f"INSERT INTO t VALUES ({at}, 'a')")
            (state,) = [one.state for one in rm.captures(url)] or ["none"]
            recorded = rm.history(url, "t", key={"id": at}).num_rows == 1 if state != "none" or command == "stop" else False
            assert recorded or state in ("none", "broken", "paused") or rm.verify(url, "t").holes, (at, state)
            if not done:  # it may be given again; but for what the first one did to its end
                with suppress(rm.JobError):
                    do[command]()
            (state,) = [one.state for one in rm.captures(url)] or ["none"]
            assert state == {"pause": "paused", "stop": "none"}.get(command, "on"), at
            if command == "mend":
                assert rm.history(url, "t", key={"id": at}).num_rows == 1 or rm.verify(url, "t").holes, at
            if command != "stop" and not recorded:
                assert command in ("start", "mend") or rm.verify(url, "t").holes, at
            for other in after:
                do[other]()
            if done:
                assert at > 3
                break


@every
def test_captured_tables_are_as_their_replayed_histories_say(kind: str, tmp_path: Path) -> None:
    for number in range(length.some(3)):
        (folder := tmp_path / str(number)).mkdir()
        captured.play(kind, folder, (length.SEED, number), steps=25)


@pytest.mark.mariadb
def test_a_dump_of_a_captured_database_is_another_database(tmp_path: Path) -> None:
    first = followed.Base("mariadb", tmp_path)
    try:
        first.sql(f"CREATE TABLE t {PLAIN}")
        rm.capture(first.url, "t")
        first.sql("INSERT INTO t VALUES (1, 'a')")
        rm.merge(rm.Job(store=first.url, table="t", key=["id"]), [{"id": at, "v": "m"} for at in range(2, 3000)])
        second = first.copied()
        try:
            second.sql("UPDATE t SET v = 'b' WHERE id = 1")
            rm.merge(rm.Job(store=second.url, table="t", key=["id"]), [{"id": 1, "v": "c"}])
            assert (rm.history(first.url, "t").num_rows, rm.history(second.url, "t").num_rows) == (2999, 3001)
            numbers = rm.history(second.url, "t")["change_no"].to_pylist()
            assert sorted(set(numbers)) == numbers
            assert rm.verify(second.url, "t").holds
        finally:
            second.close()
    finally:
        first.close()


@pytest.mark.postgresql
def test_what_triggers_do_not_see_is_told(tmp_path: Path) -> None:
    parts = [
        "CREATE TABLE t (id int, a int, b int, PRIMARY KEY (id, a)) PARTITION BY LIST (a)",
        *(f"CREATE TABLE t{n} PARTITION OF t FOR VALUES IN ({n})" for n in (1, 2)),
    ]
    others = ["CREATE TABLE u (id int PRIMARY KEY DEFERRABLE, a int)", "CREATE TABLE v () INHERITS (u)"]
    with databases.table("postgresql", tmp_path, *parts, *others) as (url, run):
        rm.capture(url, "t")
        told = str(rm.capture(url, "u").notes)
        for word in ("public.v, which inherits", "u_pkey is checked at the commit only"):
            assert word in told
        run("ALTER TABLE t DETACH PARTITION t1", "CREATE TABLE t3 PARTITION OF t FOR VALUES IN (3)", "ALTER TABLE t DROP COLUMN b", "ALTER TABLE t ADD b int")
        run(f"ALTER ROLE postgres IN DATABASE {url.rpartition('/')[2]} SET session_replication_role = replica")
        notes = {one.table: " ".join(one.notes) for one in rm.captures(url)}
        warned = " ".join(rm.check(rm.Job(store=url, table="t", key=["id", "a"])).warnings)
        for word in ("t1 is recorded too", "t3 is new among", "'b' is another one"):
            assert word in notes["t"]
            assert word in warned
        assert "session_replication_role" in notes["u"]
        rm.refresh_capture(url, "t")
        assert all(word not in str(rm.captures(url)[0].notes) for word in ("recorded too", "new among", "another one"))


@pytest.mark.postgresql
def test_a_mark_moves_with_its_partition_and_leaves_nothing_dangling(tmp_path: Path) -> None:
    made = ["CREATE TABLE p (id int PRIMARY KEY)", "INSERT INTO p VALUES (1), (2)"]
    made.append("CREATE TABLE t (id int, a int, gone bool DEFAULT false, p int REFERENCES p ON DELETE CASCADE, PRIMARY KEY (id, a)) PARTITION BY LIST (a)")
    made += [f"CREATE TABLE t{n} PARTITION OF t FOR VALUES IN ({n})" for n in (1, 2)]
    with databases.table("postgresql", tmp_path, *made) as (url, _), writer("postgresql", url, tmp_path) as write:
        rm.capture(url, "t", deletes="mark", mark={"gone": "true"}, says="they stay")
        assert (
            write("INSERT INTO t VALUES (1, 1, false, 1), (2, 1, false, 2), (3, 1, false, 2)", "UPDATE t SET a = 2 WHERE id = 2", "DELETE FROM t WHERE id = 3")
            is None
        )
        forged = "SELECT 'rmend.m' || substr(tgname, 15, 12) FROM pg_trigger WHERE tgname ^@ 'rmend_capture_' LIMIT 1"
        for refused in ("DELETE FROM p WHERE id = 1", f"DELETE FROM t WHERE set_config(({forged}), concat(tableoid, ctid), true) IS NOT NULL"):
            assert "they stay" in str(write(refused))
        assert sorted((row["id"], row["a"], row["gone"]) for row in rows(url, "t")) == [(1, 1, False), (2, 2, False), (3, 1, True)]
        assert replayed([], url, "t", ["id", "a"]) == sorted(rows(url, "t"), key=repr)
        who = "CREATE FUNCTION who() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE EXCEPTION 'run as %', current_user; END $$"
        assert (
            write(
                f"CREATE ROLE r_{url[-9:]}",
                "GRANT ALL ON t, t1 TO r_" + url[-9:],
                who,
                "CREATE TRIGGER w BEFORE UPDATE ON t1 FOR EACH ROW EXECUTE FUNCTION who()",
            )
            is None
        )
        assert f"run as r_{url[-9:]}" in str(write(f"SET ROLE r_{url[-9:]}", "DELETE FROM t WHERE id = 1"))
        write("RESET ROLE", f"DROP OWNED BY r_{url[-9:]}", f"DROP ROLE r_{url[-9:]}")


@databases.both
def test_who_did_it_is_unknown_where_the_expression_fails(kind: str, tmp_path: Path) -> None:
    made = [f"CREATE TABLE t {PLAIN}", "CREATE TABLE who (name varchar(9))", "INSERT INTO who VALUES ('ann')"]
    with databases.table(kind, tmp_path, *made) as (url, run):
        with pytest.raises(rm.JobError, match="actor"):
            rm.capture(url, "t", actor="(SELECT nobody FROM who)")
        rm.capture(url, "t", actor="(SELECT name FROM public.who)" if kind == "postgresql" else "(SELECT name FROM who)")
        run(
            "INSERT INTO t VALUES (1, 'a')",
            "INSERT INTO who VALUES ('bob')",
            "UPDATE t SET v = 'b'",
            "ALTER TABLE t ADD COLUMN more integer",
            "UPDATE t SET v = 'c'",
        )
        assert rm.history(url, "t")["actor"].to_pylist() == ["ann", None, None]
        run("DROP TABLE t_history", "DELETE FROM who")
        with pytest.raises(StoreError):
            run("UPDATE t SET v = 'd'")
        assert "writers are refused" in str(rm.captures(url)[0].notes)
        rm.refresh_capture(url, "t")
        run("UPDATE t SET v = 'e'")
        assert rm.history(url, "t").num_rows == 1
        assert "had lost" in str(rm.verify(url, "t").holes)


WIDER = [
    ("varchar(10)", "varchar(400)", "x" * 300),
    ("smallint", "bigint", 1 << 40),
    ("decimal(6, 2)", "decimal(20, 2)", 12345678901),
    ("varchar(40)", "varchar(9)", "short"),
]


@every
@pytest.mark.parametrize("is_captured", [False, True])
def test_a_history_gets_as_wide_as_its_table(kind: str, is_captured: bool, tmp_path: Path) -> None:
    first = ", ".join(f"c{at} {was}" for at, (was, _, _) in enumerate(WIDER))
    then = ", ".join(f"c{at} {now}" for at, (_, now, _) in enumerate(WIDER))
    with databases.table(kind, tmp_path, f"CREATE TABLE t (id integer NOT NULL PRIMARY KEY, x integer, {first})") as (url, run):
        if is_captured:
            rm.capture(url, "t")
        job = rm.Job(store=url, table="t", key=["id"])
        rm.merge(job, [{"id": 1, **{f"c{at}": 12 for at in range(len(WIDER))}}])
        to = {"postgresql": "ALTER c{} TYPE {}", "mariadb": "MODIFY c{} {}"}.get(kind, "")
        if to:
            run(*(f"ALTER TABLE t {to.format(at, now)}" for at, (_, now, _) in enumerate(WIDER)))
        else:
            run(
                f"CREATE TABLE n (id integer NOT NULL PRIMARY KEY, x integer, {then})",
                "INSERT INTO n SELECT * FROM t",
                "DROP TABLE t",
                "ALTER TABLE n RENAME TO t",
            )
        assert rm.check(job).problems == []
        wide = {f"c{at}": value for at, (_, _, value) in enumerate(WIDER)}
        result = rm.merge(job, [{"id": 1, **wide}, {"id": 2, **wide}])
        assert (result.counts["update"], result.counts["insert"]) == (1, 1)
        last = rm.history(url, "t").to_pylist()[-1]
        assert {name: last[f"new_{name}"] for name in wide} == wide
        rm.undo(url, result.batch)
        assert [row["c1"] for row in rows(url, "t")] == [12]
        assert rm.verify(url, "t").differences.num_rows == 0
        run("ALTER TABLE t ALTER x TYPE text" if kind == "postgresql" else "ALTER TABLE t MODIFY x varchar(9)" if kind == "mariadb" else "SELECT 1")
        if kind != "sqlite":
            assert "Rename t_history" in str(rm.check(job).problems)
            with pytest.raises(StoreError, match="neither holds"):
                rm.merge(job, [{"id": 1, "x": "word"}])


@every
def test_a_table_that_got_another_name_leaves_no_triggers_behind(kind: str, tmp_path: Path) -> None:
    with databases.table(kind, tmp_path, f"CREATE TABLE t {PLAIN}") as (url, run):
        rm.capture(url, "t")
        run("ALTER TABLE t RENAME TO other", "INSERT INTO other VALUES (1, 'a')")
        assert [one.state for one in rm.captures(url)] == ["broken"]
        rm.stop_capture(url, "t")
        rm.capture(url, "other")
        run("INSERT INTO other VALUES (2, 'a')")
        with closing(databases.driver(url)) as connection:
            (cursor := connection.cursor()).execute("SELECT count(*) FROM t_history")
            assert (cursor.fetchone()[0], rm.history(url, "other").num_rows) == (1, 1)
