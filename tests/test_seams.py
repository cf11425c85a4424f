"""Following where databases differ, are altered, prepared and lost sight of: each case was wrong once."""

from __future__ import annotations

import json
import os
import threading
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow.parquet as pq
import pytest

import rapid_mender as rm
from rapid_mender.stores.urls import opened

from . import commands, databases, followed, length

Table = tuple[str, Callable[..., None]]
PLAIN = "CREATE TABLE t (id INTEGER NOT NULL PRIMARY KEY, v INTEGER)"


@pytest.fixture
def made(tmp_path: Path) -> Iterator[Callable[..., Table]]:
    """Makes tables of a kind, each in a database of its own."""
    with ExitStack() as stack:

        def make(kind: str, *sql: str) -> Table:
            folder = tmp_path / str(len(list(tmp_path.iterdir())))
            folder.mkdir()
            return stack.enter_context(databases.table(kind, folder, *sql))

        yield make


def put(url: str, *records: dict[str, Any], **options: Any) -> rm.Result:
    return rm.merge(rm.Job(store=url, table="t", key="id", **options), list(records))


def rows(url: str, table: str = "t") -> list[tuple[Any, ...]]:
    with opened(url) as store, store.begin(write=False) as session:
        found = session.read(session.describe(table)).values.to_pylist()
    return sorted((tuple(row.values()) for row in found), key=repr)


def sync_of(source: str, target: str, **options: Any) -> rm.Sync:
    return rm.Sync(store=source, table="t", to_store=target, to_table="t", follower="f", **options)


@pytest.mark.mariadb
def test_a_prepared_transaction_holds_followers_up_when_its_connection_has_ended(made: Callable[..., Table]) -> None:
    (a, run), (b, _) = made("mariadb", PLAIN), made("sqlite")
    put(a, {"id": 1, "v": 1})
    rm.capture(a, "t")
    sync = sync_of(a, b)
    rm.sync(sync)
    name = a.rpartition("/")[2]
    connection = databases.driver(a)
    cursor = connection.cursor()
    for sql in ("XA START '{}'", "INSERT INTO t VALUES (2, 2)", "XA END '{}'", "XA PREPARE '{}'"):
        cursor.execute(sql.format(name))
    connection.close()
    run("INSERT INTO t VALUES (3, 3)")
    for _ in range(2):
        done = rm.sync(sync)
        assert done.changes == 0
        assert any("XA RECOVER" in one for one in done.held_by)
    run(f"XA COMMIT '{name}'")
    rm.sync(sync)
    assert rows(b) == rows(a) == [(1, 1), (2, 2), (3, 3)]


ROUNDED = [
    ("postgresql", "text", "jsonb", '{"b": 1,   "a": 2}'),
    ("postgresql", "numeric(12,4)", "numeric(10,2)", "1.005"),
    ("postgresql", "timestamp(6)", "timestamp(0)", "2026-01-01 10:00:00.6"),
    ("mariadb", "double", "decimal(10,2)", 1.005),
]


@pytest.mark.postgresql
@pytest.mark.mariadb
@pytest.mark.parametrize(("kind", "type_", "to", "value"), ROUNDED)
def test_what_the_target_rounds_is_no_conflict(kind: str, type_: str, to: str, value: Any, made: Callable[..., Table]) -> None:
    a, b = (made(kind, f"CREATE TABLE t (id INTEGER PRIMARY KEY, v {one}, w INTEGER)")[0] for one in (type_, to))
    put(a, {"id": 1, "v": value, "w": 1})
    sync = sync_of(a, b, conflict="reject", history=True)
    rm.sync(sync)
    put(a, {"id": 1, "w": 2})
    assert rm.sync(sync).counts == {"insert": 0, "update": 1, "delete": 0, "skip": 0, "reject": 0}
    put(a, {"id": 1, "w": 3})
    put(b, {"id": 1, "w": 3})
    assert rm.sync(sync).counts["skip"] == 1, "a row that is as the record says"
    put(b, {"id": 1, "w": 9})
    put(a, {"id": 1, "w": 4})
    assert rm.sync(sync).counts["reject"] == 1


@databases.both
def test_keys_that_only_the_source_calls_equal(kind: str, made: Callable[..., Table]) -> None:
    word = "citext" if kind == "postgresql" else "VARCHAR(9)"
    first = ["CREATE EXTENSION citext"] if kind == "postgresql" else []
    (a, run), (b, _) = made(kind, *first, f"CREATE TABLE t (id {word} PRIMARY KEY, v INTEGER)"), made("sqlite")
    put(a, {"id": "abc", "v": 1}, {"id": "def", "v": 2})
    rm.capture(a, "t")
    there, back = sync_of(a, b), rm.Sync(store=b, table="t", to_store=a, to_table="u", follower="b")
    rm.sync(there)
    run("UPDATE t SET id = 'ABC' WHERE id = 'abc'")
    assert rm.sync(there).counts == {"insert": 1, "update": 0, "delete": 1, "skip": 0, "reject": 0}
    assert rows(b) == rows(a)
    run(f"CREATE TABLE u (id {word} PRIMARY KEY, v INTEGER)")
    rm.capture(b, "t")
    rm.sync(back)
    with opened(b) as store, store.begin(write=True) as session:
        info = session.describe("t")
        found = session.read(info)
        session.update(info, found, found.values.set_column(0, "id", [[one.lower() for one in found.values["id"].to_pylist()]]))
    assert rm.sync(back).counts["reject"] == 0, "a row goes, and another one comes, that are the same there"
    assert [row[1] for row in rows(a, "u")] == [1, 2]


def test_a_key_that_is_derived_in_part(made: Callable[..., Table]) -> None:
    (a, _), (b, _) = (
        made("sqlite", "CREATE TABLE t (id TEXT PRIMARY KEY, v INTEGER)"),
        made("sqlite", "CREATE TABLE t (town TEXT, id TEXT, v INTEGER, PRIMARY KEY (town, id))"),
    )
    sync = sync_of(a, b, key=["town", "id"], derive={"town": "'Harrowmere'"})
    put(a, {"id": "x", "v": 1})
    rm.sync(sync)
    put(a, {"id": "x", "v": 2})
    rm.sync(sync)
    assert rows(b) == [("Harrowmere", "x", 2)]


def test_cells_that_are_no_value_of_their_column_are_not_lost(made: Callable[..., Table], tmp_path: Path) -> None:
    a, run = made("sqlite", PLAIN)
    put(a, {"id": 1, "v": 1})
    rm.capture(a, "t")
    run("INSERT INTO t VALUES (2, 'word')")
    with rm.Follower(a, "t", "p", start="first") as follower:
        assert [page["new_v"].to_pylist() for page in follower.changes()] == [["1", "word"]]
    assert rm.history(a, "t")["new_v"].to_pylist() == ["1", "word"]
    for first in (False, True):
        folder = tmp_path / f"files {first}"
        rm.sync(a, "t", to_folder=str(folder), follower=f"f {first}", first=first)
        told = [json.loads(line)["data"]["new"]["v"] for part in sorted(folder.glob("*.jsonl")) for line in part.read_text().splitlines()]
        assert told == [1, "word"]
    with pytest.raises(rm.StoreError, match="column 'v' of 't' holds 'word', which is no value of its type"):
        rm.sync(a, "t", to_folder=str(tmp_path / "parquet"), follower="g", format="parquet")
    run("DELETE FROM t WHERE id = 2")
    assert rm.sync(a, "t", to_folder=str(tmp_path / "later"), follower="h", format="parquet", first=True).filled == 1
    assert [pq.read_table(one).num_rows for one in (tmp_path / "later").glob("*.parquet")] == [1]


def test_a_folder_that_lost_its_state_gets_no_parts_that_overlap(made: Callable[..., Table], tmp_path: Path) -> None:
    a, _ = made("sqlite", PLAIN)
    put(a, {"id": 1, "v": 1})
    folder = tmp_path / "files"
    rm.sync(a, "t", to_folder=str(folder), follower="f")
    (folder / ".rmend.json").unlink()
    with pytest.raises(rm.JobError, match=r"has parts \(000000000001-.*put that back, or take another folder"):
        rm.sync(a, "t", to_folder=str(folder), follower="f")


def test_a_table_cannot_follow_itself_by_another_name(made: Callable[..., Table]) -> None:
    a, _ = made("sqlite", PLAIN)
    put(a, {"id": 1, "v": 1})
    link = a.removeprefix("sqlite:///") + ".link"
    os.symlink(a.removeprefix("sqlite:///"), link)
    for store, table in ((f"sqlite:///{link}", "t"), (a, "T")):
        with pytest.raises(rm.JobError, match="cannot follow itself"):
            rm.sync(a, "t", store, table, follower="f")


@databases.every
def test_several_that_begin_under_one_name_at_once(kind: str, made: Callable[..., Table]) -> None:
    (a, _), (b, _) = made(kind, PLAIN), made(kind)
    put(a, {"id": 1, "v": 1})
    ends: list[str] = []

    def begin() -> None:
        try:
            rm.sync(sync_of(a, b))
            rm.Follower(a, "t", "g").close()
        except Exception as error:
            ends.append(f"{type(error).__name__}: {error}")

    threads = [threading.Thread(target=begin) for _ in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert all(one.startswith("JobError: another process follows as") for one in ends), ends
    assert rm.sync(sync_of(a, b)).changes == 0
    assert rows(b) == [(1, 1)]
    followers = rm.followers_of(a)["follower"].to_pylist()
    assert sorted(followers) == sorted(set(followers))
    assert "f" in followers


@databases.both
def test_a_column_that_comes_later(kind: str, made: Callable[..., Table], tmp_path: Path, rmend: Callable[..., commands.Ran]) -> None:
    (a, run), (b, other) = made(kind, PLAIN), made("sqlite")
    put(a, {"id": 1, "v": 1})
    rm.sync(sync_of(a, b))
    run("ALTER TABLE t ADD COLUMN w INTEGER")
    put(a, {"id": 1, "v": 2, "w": 2}, {"id": 2, "v": 3})
    with pytest.raises(rm.JobError, match="has no column 'w', into which 'w' of 't' would go: new_columns = \"add\""):
        rm.sync(sync_of(a, b))
    assert rm.sync(sync_of(a, b, new_columns="ignore")).counts["update"] == 1
    assert rows(b) == [(1, 2), (2, 3)]
    put(a, {"id": 1, "w": 4})
    assert rm.sync(sync_of(a, b, new_columns="add")).counts["update"] == 1
    assert rows(b) == [(1, 2, 4), (2, 3, None)]
    (tmp_path / "s.toml").write_text(f'store = "{a}"\ntable = "t"\nto_store = "{b}"\nto_table = "t"\nfollower = "f"\n')
    run("ALTER TABLE t ADD COLUMN word VARCHAR(99)")
    put(a, {"id": 3, "word": "a"})
    ran = rmend("sync", "s.toml")
    assert (ran.code, "new_columns" in ran.err) == (2, True)
    other("ALTER TABLE t ADD COLUMN word INTEGER")
    put(a, {"id": 4, "word": "b"}, {"id": 5, "word": "c"})
    assert rmend("sync", "s.toml", "--strict").code == 3, "a word is no number"
    assert "3 changes for f rejected" in rmend("followers", a).out
    put(a, {"id": 3, "word": "7"})
    assert "2 rows of t not taken by t so far" in rmend("sync", "s.toml").out, "the next change of a row is tried"
    assert rm.sync(sync_of(a, b), retry=True).rejected == 2
    other("ALTER TABLE t DROP COLUMN word", "ALTER TABLE t ADD COLUMN word TEXT")
    rm.merge(rm.Job(store=a, table="t", key=["id"], rules=[rm.Rule(decide="delete", when="incoming.id = 5")]), [{"id": 5}])
    assert rm.sync(sync_of(a, b), retry=True).counts["insert"] == 1
    assert rm.followers_of(a)["rejected"].to_pylist() == [0]
    assert rm.compare(sync_of(a, b), mend=True).different == 1, "row 3 lost its word"
    assert rows(b) == rows(a)


@pytest.mark.postgresql
def test_values_that_a_capture_left_out_are_read_from_the_table(made: Callable[..., Table], rmend: Callable[..., commands.Ran], tmp_path: Path) -> None:
    (a, run), (b, _) = made("postgresql", "CREATE TABLE t (id INTEGER PRIMARY KEY, v VARCHAR(5), w INTEGER)"), made("sqlite")
    put(a, {"id": 1, "v": "short", "w": 1}, {"id": 2, "v": None, "w": 1})
    rm.capture(a, "t")
    rm.sync(sync_of(a, b))
    run("ALTER TABLE t ALTER v TYPE varchar(50)", "UPDATE t SET v = 'much longer', w = 2 WHERE id = 1", "UPDATE t SET w = 3 WHERE id = 2")
    (tmp_path / "s.toml").write_text(f'store = "{a}"\ntable = "t"\nto_store = "{b}"\nto_table = "t"\nfollower = "f"\n')
    ran = rmend("sync", "s.toml")
    assert "column 'v' was character varying(5) and is character varying(50): refresh the capture" in " ".join(ran.out.split())
    assert rows(b) == rows(a) == [(1, "much longer", 2), (2, None, 3)]
    rm.refresh_capture(a, "t")
    assert rm.sync(sync_of(a, b)).notes == []


@pytest.mark.postgresql
@pytest.mark.mariadb
def test_numbers_that_the_other_database_has_no_type_for(made: Callable[..., Table]) -> None:
    (a, _), (b, _) = made("mariadb", "CREATE TABLE t (id BIGINT UNSIGNED PRIMARY KEY, v INT UNSIGNED, w TINYINT UNSIGNED)"), made("postgresql")
    put(a, {"id": 18446744073709551615, "v": 4000000000, "w": 200})
    rm.sync(sync_of(a, b))
    assert rows(b) == [(Decimal(18446744073709551615), 4000000000, 200)]
    (a, _), (b, _) = made("postgresql", "CREATE TABLE t (id INTEGER PRIMARY KEY, v numeric)"), made("mariadb")
    put(a, {"id": 1, "v": "1.25"}, {"id": 2, "v": "123456789012345678901234567890.5"})
    assert (rm.sync(sync_of(a, b)).counts["reject"], [(n, float(v)) for n, v in rows(b)]) == (1, [(1, 1.25)])


def test_a_comparison_goes_by_what_was_sent(made: Callable[..., Table]) -> None:
    (a, _), (b, run) = made("sqlite", PLAIN), made("sqlite", "CREATE TABLE t (id INTEGER PRIMARY KEY, v INTEGER, d TEXT)")
    put(a, {"id": 1, "v": 0}, {"id": 2, "v": 0})
    sync = sync_of(a, b, when="new.v = 0 OR old.v = 0", derive={"d": "'tree ' || incoming.id"})
    rm.sync(sync)
    put(a, {"id": 1, "v": 1})
    rm.sync(sync)
    assert rows(b) == [(1, 1, "tree 1"), (2, 0, "tree 2")]
    assert rm.compare(sync).alike, "it was sent when it was felled"
    run("UPDATE t SET d = 'wrong' WHERE id = 2", "INSERT INTO t VALUES (3, 0, 'extra')")
    assert [(one["what"], one["id"]) for one in rm.compare(sync).differences.to_pylist()] == [("different", 2), ("extra", 3)]


@databases.both
def test_an_empty_table_that_a_cut_run_left_is_filled(kind: str, made: Callable[..., Table], rmend: Callable[..., commands.Ran]) -> None:
    url, run = made(kind, PLAIN)
    put(url, {"id": 1, "v": 1})
    words = ("as-of", url, "--table", "t", "--position", 1, "--to", url, "--to-table", "u")
    run("CREATE TABLE u (id INTEGER PRIMARY KEY, v INTEGER)")
    assert rmend(*words).code == 0
    assert rows(url, "u") == [(1, 1)]
    assert "already" in rmend(*words).err


@databases.every
def test_tables_that_follow_are_as_a_model_of_them_says(kind: str, tmp_path: Path) -> None:
    for number in range(length.some(2)):
        dice = length.dice("followed", kind, number)
        kinds = dice.sample([kind, "sqlite"], 2)
        (folder := tmp_path / str(number)).mkdir()
        followed.play((kinds[0], kinds[1]), folder, (length.SEED, number), steps=14)


@databases.both
def test_json_is_compared_by_what_it_says(kind: str, made: Callable[..., Table]) -> None:
    a, _ = made(kind, "CREATE TABLE t (id INTEGER PRIMARY KEY, v JSON)")
    b, _ = made(kind, "CREATE TABLE t (id INTEGER PRIMARY KEY, v JSON)")
    put(a, {"id": 1, "v": '{"b": 1.50, "a": ["\\u00e9", null]}'}, {"id": 2, "v": "1"})
    rm.sync(sync_of(a, b))
    same = [{"id": 1, "v": '{"a":["é",null],"b":1.50}'}, {"id": 2, "v": " 1 "}]
    with rm.Merger(rm.Job(store=b, table="t", key=["id"])) as merger:
        assert [merger.merge(same).counts["skip"] for _ in range(3)] == [2, 2, 2]
    assert rm.compare(sync_of(a, b)).alike
    for value in ('{"a":["é",null],"b":1.5}', '{"a":["É",null],"b":1.50}', '{"a":[null,"é"],"b":1.50}', "null", None):
        assert put(b, {"id": 1, "v": value}).counts["update"] == 1, value


@databases.every
def test_unique_values_that_were_exchanged_in_several_steps(kind: str, made: Callable[..., Table]) -> None:
    (a, run), (b, other) = (made(kind, "CREATE TABLE t (id INTEGER NOT NULL PRIMARY KEY, v VARCHAR(9) UNIQUE, w INTEGER)") for _ in "ab")
    put(a, *({"id": at, "v": value} for at, value in enumerate("abc")))
    rm.capture(a, "t")
    rm.sync(sync_of(a, b))
    other("ALTER TABLE t ADD CONSTRAINT few CHECK (w < 5)" if kind != "sqlite" else "CREATE UNIQUE INDEX few ON t (w)")
    other("INSERT INTO t VALUES (9, 'z', 4)" if kind != "sqlite" else "INSERT INTO t VALUES (9, 'z', 7)")
    steps = [("x", 0), ("a", 1), ("b", 2), ("c", 0)]
    run(*(f"UPDATE t SET v = '{value}' WHERE id = {at}" for value, at in steps), "INSERT INTO t VALUES (7, 'q', 7)", "UPDATE t SET v = 'r' WHERE id = 7")
    done = rm.sync(sync_of(a, b))
    assert (done.counts["update"], done.counts["reject"], sum(done.reasons.values()), done.rejected) == (3, 1, 1, 1)
    assert [row[:2] for row in rows(b)] == [(0, "c"), (1, "a"), (2, "b"), (9, "z")]
    assert rm.sync(sync_of(a, b)).rejected == 1
