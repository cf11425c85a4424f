"""What other code depends on is in columns of its own: whatever users call theirs, and in stores of earlier versions."""

from __future__ import annotations

import json
import random
import shutil
import sqlite3
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing, suppress
from itertools import count
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

import rapid_mender as rm
from rapid_mender.changes.detail import Detail
from rapid_mender.changes.details import bring_up_to_date, details_of
from rapid_mender.core.own_tables import BATCHES, DETAILS
from rapid_mender.stores.urls import open_store, opened

from . import databases, length
from .databases import every
from .stores import STORES, TABLE, every_kind

OURS = [
    "key", "began", "gone", "pruned", "history", "after", "capture", "room", "mends", "came_from", "archive", "unarchive", "versions",
    "records", "missing", "changed", "rules", "steps", "rejects", "stopped", "retries", "undoes_changes", "hash", "seal", "kind",
]  # fmt: skip
"""Words that stand, or stood, in what is written of a batch."""
NAMED = pa.schema([("tag_no", pa.int64()), *((name, pa.int64()) for name in dict.fromkeys([*OURS, *BATCHES.names, *DETAILS.names]))])


@every_kind
def test_columns_may_be_called_as_anything_of_ours(store: str) -> None:
    names = NAMED.names[1:]
    with STORES[store](NAMED, ["tag_no"], []) as place:
        job = rm.Job(store=place.store, table=TABLE, key="tag_no", seal=True)
        tables = []
        for value in range(3):
            rm.merge(job, [{"tag_no": n, **dict.fromkeys(names, 10 * value + n)} for n in range(3)])
            tables.append(place.rows())
        assert rm.verify(place.store, TABLE).holds
        assert rm.as_of(place.store, TABLE, batch=1).num_rows == 3
        with rm.Follower(place.store, TABLE, "f") as follower:
            assert sum(page.num_rows for page in follower.changes()) == 9
        assert rm.sync(place.store, TABLE, place.store, "copy", follower="c").filled == 3
        rm.undo(place.store, 3)
        assert place.rows() == tables[1]
        assert rm.sync(place.store, TABLE, place.store, "copy", follower="c").changes == 3
        assert place.rows("copy") == tables[1]
        assert rm.life(place.store, TABLE, {"tag_no": 1}).num_rows == 4
        assert rm.prune(place.store, TABLE, before_batch=2, force=True).changes == 3
        whole = rm.verify(place.store, TABLE)
        assert (whole.holds, whole.holes) == (True, [])
        assert sorted(rm.as_of(place.store, TABLE, batch=2).to_pylist(), key=repr) == tables[1]
        with pytest.raises(rm.JobError, match="were pruned"):
            rm.as_of(place.store, TABLE, position=2)
        kinds = [row["kind"] for row in rm.batches(place.store, table=TABLE).to_pylist()]
        assert kinds == ["merge", "merge", "merge", "undo", "prune"]


@every
def test_a_column_that_a_later_unit_of_work_finds_is_noted(kind: str, tmp_path: Path) -> None:
    """The history is prepared by the first unit of work that changes a row; the first one here changes none."""
    text = {"sqlite": "TEXT", "postgresql": "text", "mariadb": "varchar(30)"}[kind]
    with databases.table(kind, tmp_path, f"CREATE TABLE t (id INTEGER NOT NULL, v {text})") as (url, run):
        job = rm.Job(store=url, table="t", key="id")
        rm.merge(job, [{"id": n, "v": "a"} for n in range(4)])
        run(f"ALTER TABLE t ADD COLUMN late {text}")
        rm.merge(job.model_copy(update={"commit_every": 2}), [{"id": n, "late": "so" if n > 1 else None} for n in range(4)])
        assert rm.as_of(url, "t", position=2).column_names == ["id", "v"]
        assert rm.verify(url, "t").holds


# -- stores of the version before there were details --------------------------------------------------------------


def told_of(url: str, tables: str) -> dict[str, Any]:
    """What the history of each table says, as far as its details bear on it."""
    told: dict[str, Any] = {}
    for table in tables:
        found = rm.verify(url, table)
        told[table] = found.holds, found.altered.num_rows, found.sealed, found.holes, found.key
    for position in (1, 4, 6, 10):
        try:
            told[f"a at {position}"] = sorted(rm.as_of(url, "a", position=position).to_pylist(), key=repr)
        except rm.JobError as error:
            told[f"a at {position}"] = str(error)
    return told


def test_a_store_of_an_earlier_version_is_read_and_then_brought_up_to_date(tmp_path: Path) -> None:
    """The file was made by the version before: four tables with all that a batch can say of them, two of them sealed."""
    path = tmp_path / "r.db"
    with closing(sqlite3.connect(path)) as connection:
        connection.executescript((Path(__file__).parent / "data" / "earlier.sql").read_text())
    url = f"sqlite:///{path}"
    before = told_of(url, "abcde")
    assert before["a"] == (True, 0, 5, [], ["id"])
    assert before["c"] == (True, 0, 0, [], ["id"]), "the key of its merges is that of the table, which has none"
    assert (before["b"][3], before["e"][3]) == (["batch 9 changed 'b' with history = false"], ["since batch 18 the capture of 'e' was paused"])
    assert [len(before[f"a at {position}"]) for position in (4, 6, 10)] == [3, 3, 3]
    assert ("pruned" in before["a at 1"], "late" in before["a at 6"][0], "late" in before["a at 10"][0]) == (True, False, True)
    (then,) = rm.at(url, "d", "2026-01-15").to_pylist()
    assert (then["tag"], then["v"]) == (1, "a")
    assert rm.merge(rm.Job(store=url, table="c", key="id"), [{"id": 1, "v": "new"}]).counts["update"] == 1
    assert told_of(url, "abcde") == before
    assert rm.at(url, "d", "2026-01-15").to_pylist() == [then]
    kinds = [row["kind"] for row in rm.batches(url).to_pylist()]
    assert [kinds[at] for at in (0, 3, 13, 14, 15, 16)] == ["merge", "prune", "capture start", "capture pause", "capture resume", "capture mend"]
    assert rm.undo(url, 8, table="b", force=True).counts["insert"] == 1
    with closing(sqlite3.connect(path)) as connection:
        assert connection.execute("SELECT count(*) FROM b_gone").fetchone() == (0,), "it came back out of the archive"
        for detail, batch in (("pruned", 4), ("began", 6)):  # under seals of that version
            connection.execute("UPDATE rmend_details SET change_no = change_no + 1 WHERE detail = ? AND batch_no = ?", (detail, batch))
            connection.commit()
            assert rm.verify(url, "a").altered.num_rows, detail
            connection.execute("UPDATE rmend_details SET change_no = change_no - 1 WHERE detail = ? AND batch_no = ?", (detail, batch))
            connection.commit()
    assert rm.verify(url, "a").holds


def as_before(run: Callable[..., None], url: str) -> list[Detail]:
    """Make of a store what the version before would have left. Returns its details."""
    with opened(url) as store, store.begin(write=False) as session:
        details = [one for table in "aec" for one in details_of(session, table) if one.detail not in ("column", "table")]
    figures: dict[int, dict[str, Any]] = {}
    for one in details:
        into = figures.setdefault(one.batch, {})
        match one.detail:
            case "key":
                into["key"] = [*into.get("key", []), one.name]
            case "began":
                into["began"] = into.get("began", {}) | {one.name: one.change_no}
            case "pruned":
                assert one.at_time is not None
                into["pruned"] = {"change": one.change_no, "batch": one.of_batch, "time": one.at_time.isoformat(), "seal": one.value, "changes": 1}
            case "captured":
                into["capture"] = "start"
            case "pause":
                into |= {"capture": "pause", "history": False, "after": one.change_no, "rows": one.row_count}
            case "unrecorded":
                into |= {"history": False, "after": one.change_no}
            case _:
                raise AssertionError(one)
    for batch, told in figures.items():
        run(f"UPDATE rmend_batches SET figures = '{json.dumps(told)}' WHERE batch_no = {batch}")
    run("ALTER TABLE rmend_followers DROP COLUMN fingerprint", "ALTER TABLE rmend_synced DROP COLUMN fingerprint")
    mariadb = url.startswith("mariadb")
    run("DROP TABLE rmend_details", f"DROP INDEX rmend_batches_newest{' ON rmend_batches' if mariadb else ''}", "ALTER TABLE rmend_batches DROP COLUMN kind")
    if mariadb:
        run("ALTER TABLE rmend_batches MODIFY table_name longtext COLLATE utf8mb4_nopad_bin NOT NULL")
    return details


@every
@pytest.mark.parametrize("cut", [False, True])
def test_every_database_is_brought_up_to_date_in_its_way(kind: str, cut: bool, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    text = {"sqlite": "TEXT", "postgresql": "text", "mariadb": "varchar(30)"}[kind]
    tables = [f"CREATE TABLE {name} (id INTEGER {'NOT NULL' if name == 'c' else 'PRIMARY KEY'}, v {text})" for name in "aec"]
    with databases.table(kind, tmp_path, *tables) as (url, run):
        for table in "aec":
            for value in "xyz":
                rm.merge(rm.Job(store=url, table=table, key="id"), [{"id": n, "v": value} for n in range(3)])
        rm.prune(url, "a", before_batch=2)
        run(f"ALTER TABLE a ADD COLUMN late {text}")
        rm.merge(rm.Job(store=url, table="a", key="id"), [{"id": 1, "late": "so"}])
        rm.merge(rm.Job(store=url, table="c", key="id", history=False), [{"id": 1, "v": "unseen"}])
        rm.capture(url, "e")
        rm.pause_capture(url, "e")
        follow = {"table": "a", "to_store": url, "to_table": "copy of a", "follower": "copy"}
        rm.Follower(url, "a", "f", start="last").close()
        rm.sync(url, **follow)
        before = told_of(url, "aec")
        details = as_before(run, url)
        assert told_of(url, "aec") == before, "read before anything is written"
        store = open_store(url)
        if cut:  # when the details are there, and the kinds are not
            monkeypatch.setattr("rapid_mender.changes.details.kind_in", lambda *_: 1 / 0)
            with pytest.raises(ZeroDivisionError):
                rm.merge(rm.Job(store=store, table="a", key="id"), [{"id": 2, "v": "new"}])
            monkeypatch.undo()
            assert told_of(url, "aec") == before
        else:
            with ThreadPoolExecutor(3) as pool:  # several programs find it so at once
                list(pool.map(lambda _: bring_up_to_date(open_store(url)), range(3)))
        assert rm.merge(rm.Job(store=store, table="a", key="id"), [{"id": 2, "v": "new"}]).counts["update"] == 1
        assert told_of(url, "aec") == before
        with store.begin(write=False) as session:
            now = [one for table in "aec" for one in details_of(session, table) if one.detail not in ("column", "table")]
        assert [one.said for one in now] == [one.said for one in details]
        if not cut or kind != "mariadb":  # which commits as a column is added
            assert {row["kind"] for row in rm.batches(url).to_pylist()} >= {"merge", "prune", "capture start", "capture pause"}
        with rm.Follower(store, "a", "f") as follower:
            assert [page.num_rows for page in follower.changes()] == [1]
            follower.acknowledge()
        assert (rm.sync(store, **follow).changes, rm.sync(store, **follow).changes) == (1, 0)
        store.close()


# -- one way for whatever writes --------------------------------------------------------------------------------


@every
def test_what_a_merge_would_refuse_an_undo_refuses(kind: str, tmp_path: Path) -> None:
    """Rows that the database deletes or changes along with others, which the history would not have."""
    table = "CREATE TABLE t (id INTEGER PRIMARY KEY, code INTEGER UNIQUE, up INTEGER, FOREIGN KEY (up) REFERENCES t (code) ON {})"
    for number, (on, refused) in enumerate((("DELETE CASCADE", "delete"), ("UPDATE CASCADE", "update"))):
        if kind == "mariadb" and refused == "update":
            continue  # which knows no such constraint within a table
        path = tmp_path / str(number)
        path.mkdir()
        with databases.table(kind, path, table.format(on)) as (url, _):
            job = rm.Job(store=url, table="t", key="id", history=refused == "delete")
            first = rm.merge(job, [{"id": 1, "code": 1}]).batch
            if refused == "delete":
                rm.merge(job, [{"id": 2, "code": 2, "up": 1}])
                with pytest.raises(rm.JobError, match="along with a deleted one"):
                    rm.merge(job.model_copy(update={"missing": "delete"}), [{"id": 2, "code": 2, "up": 1}])
                for more in ({}, {"force": True}, {"preview": True}):
                    with pytest.raises(rm.JobError, match=r"cannot be undone: constraint .* along with a deleted one"):
                        rm.undo(url, first, **more)
            else:
                with pytest.raises(rm.JobError, match="changes other rows"):
                    rm.merge(job.model_copy(update={"history": True}), [{"id": 1, "code": 2}])
            with opened(url) as place, place.begin(write=False) as session:
                assert session.count(session.describe("t")) == (2 if refused == "delete" else 1)


# -- which history it was -----------------------------------------------------------------------------------------


@every
@pytest.mark.parametrize("more", [0, 3])
def test_a_history_with_the_same_numbers_is_told_from_the_one_that_was_followed(kind: str, more: int, tmp_path: Path) -> None:
    """The source is as it was some changes ago, and goes on with their numbers, up to the position or past it."""
    copy = "CREATE TABLE kept AS SELECT * FROM {}"
    with databases.table(kind, tmp_path, "CREATE TABLE t (id INTEGER PRIMARY KEY, v INTEGER)") as (url, run):
        job = rm.Job(store=url, table="t", key="id")
        to = f"sqlite:///{tmp_path}/to.db"
        (tmp_path / "to.db").touch()
        follow = {"table": "t", "to_store": to, "to_table": "t", "follower": "map"}
        files = {"table": "t", "to_folder": str(tmp_path / "files"), "follower": "files"}
        (tmp_path / "files").mkdir()
        rm.merge(job, [{"id": 1, "v": 1}])
        run(copy.format("t_history"))  # a backup
        rm.sync(url, **follow)
        rm.merge(job, [{"id": 1, "v": 2}, {"id": 2, "v": 2}])
        follower = rm.Follower(url, "t", "program")
        list(follower.changes())
        follower.acknowledge()
        follower.close()
        rm.sync(url, **follow)
        rm.sync(url, **files)
        run(
            "DELETE FROM t_history",
            "INSERT INTO t_history SELECT * FROM kept",
            "DELETE FROM t WHERE id = 2",
            "UPDATE t SET v = 1",
            "DELETE FROM rmend_batches WHERE batch_no > 1",
        )
        for value in range(10, 10 + more):
            rm.merge(job, [{"id": 1, "v": value}])
        for call in (lambda: rm.sync(url, **follow), lambda: rm.sync(url, **files), lambda: list(rm.Follower(url, "t", "program").changes())):
            with pytest.raises(rm.JobError, match=r"of another history|is not the one that was followed"):
                call()
        mended = rm.compare(rm.Sync(store=url, **follow), mend=True)
        assert (mended.mended, rm.compare(rm.Sync(store=url, **follow)).alike) == (True, True)
        rm.merge(job, [{"id": 5, "v": 5}])
        assert rm.sync(url, **follow).changes == 1
        rm.prune(url, "t", before="9999-01-01", force=True)
        assert rm.sync(url, **follow).changes == 0, "a change that was pruned is no other one"
        rm.forget(url, "program")
        with rm.Follower(url, "t", "program", start="last") as follower:
            assert not list(follower.changes())


@every
def test_a_copy_of_a_database_is_not_the_database(kind: str, tmp_path: Path) -> None:
    """A and B follow each other; C is a copy of A, and follows B: what A did since reaches C, and C's own work stays."""
    table = "CREATE TABLE t (id INTEGER PRIMARY KEY, v INTEGER)"
    folders = [tmp_path / name for name in "abc"]
    for folder in folders:
        folder.mkdir()
    with databases.table("sqlite", folders[0], table) as (a, _), databases.table(kind, folders[1], table) as (b, _):

        def work(store: str, **row: Any) -> None:
            rm.merge(rm.Job(store=store, table="t", key="id"), [row])

        def sync(source: str, target: str) -> int:
            name = {a: "a", b: "b"}.get(source, "c") + {a: "a", b: "b"}.get(target, "c")
            return rm.sync(source, "t", target, "t", follower=name, history=True).changes

        def rows(store: str) -> list[tuple[int, int]]:
            with opened(store) as place, place.begin(write=False) as session:
                return sorted((row["id"], row["v"]) for row in session.read(session.describe("t")).values.to_pylist())

        work(a, id=1, v=1)
        work(b, id=2, v=2)
        for source, target in ((a, b), (b, a), (a, b), (b, a)):
            sync(source, target)
        assert rows(a) == rows(b) == [(1, 1), (2, 2)]
        copy = folders[2] / "c.db"
        shutil.copy(folders[0] / "r.db", copy)
        c = f"sqlite:///{copy}"
        work(a, id=1, v=10)
        work(c, id=3, v=3)
        sync(a, b)
        assert rows(b) == [(1, 10), (2, 2)]
        sync(b, c)
        assert rows(c) == [(1, 10), (2, 2), (3, 3)], "what A did after it was copied is no work of the copy"
        sync(c, b)
        sync(b, a)
        assert rows(a) == rows(b) == [(1, 10), (2, 2), (3, 3)]
        before = rm.history(a, "t").num_rows
        for _ in range(3):
            for source, target in ((a, b), (b, a), (b, c), (c, b)):
                sync(source, target)
        assert rm.history(a, "t").num_rows == before, "nothing goes in a circle"
        assert rows(a) == rows(b) == rows(c)


# -- which column it was ------------------------------------------------------------------------------------------


@pytest.mark.postgresql
@pytest.mark.parametrize("captured", [False, True])
def test_columns_that_are_renamed_swapped_or_made_anew_keep_their_past(captured: bool, tmp_path: Path) -> None:
    """On PostgreSQL, which numbers them; also of a table that was restored, where they have other numbers."""
    with databases.table("postgresql", tmp_path, "CREATE TABLE t (id integer PRIMARY KEY, a text, b text)") as (url, run):
        job = rm.Job(store=url, table="t", key="id", seal=True)
        copies: dict[int, list[dict[str, Any]]] = {}
        if captured:
            rm.capture(url, "t")

        def rows() -> list[dict[str, Any]]:
            with opened(url) as place, place.begin(write=False) as session:
                return sorted(session.read(session.describe("t")).values.to_pylist(), key=lambda row: row["id"])

        def merge(*records: dict[str, Any]) -> int:
            batch = rm.merge(job, list(records)).batch
            assert batch is not None
            copies[batch] = rows()
            whole = rm.verify(url, "t")
            assert (whole.holds, whole.altered.num_rows, whole.found) == (True, 0, 0), whole.differences.to_pylist()
            return batch

        def alter(*statements: str) -> None:
            run(*statements)
            if captured:
                rm.refresh_capture(url, "t")

        merge(*({"id": n, "a": f"a{n}", "b": f"b{n}"} for n in range(3)))
        one = merge({"id": 1, "a": "changed"})
        alter("ALTER TABLE t RENAME a TO c")
        merge({"id": 2, "c": "of the same column"})
        assert [row["c"] for row in rm.as_of(url, "t", batch=one).sort_by("id").to_pylist()] == ["a0", "changed", "a2"]
        assert rm.undo(url, one).counts["update"] == 1
        assert [row["c"] for row in rows()] == ["a0", "a1", "of the same column"]
        alter("ALTER TABLE t RENAME c TO x", "ALTER TABLE t RENAME b TO c", "ALTER TABLE t RENAME x TO b")  # swapped
        swapped = merge({"id": 0, "b": "was a", "c": "was b"})
        assert rm.undo(url, swapped).counts["update"] == 1
        assert rows()[0] == {"id": 0, "b": "a0", "c": "b0"}
        assert rm.verify(url, "t").holds
        alter("ALTER TABLE t DROP COLUMN c", "ALTER TABLE t ADD COLUMN c text")  # another one, of its name
        anew = merge({"id": 0, "c": "new"})
        assert rm.as_of(url, "t", batch=swapped).column_names == ["id", "b"], "of the new column nothing is known then"
        first = rm.undo(url, since_batch=one, preview=True, force=True)
        assert all(column != "c" for line in first.samples for column, *_ in line.cells), "and nothing is put back into it"
        assert rm.undo(url, anew).counts["update"] == 1
        assert {row["c"] for row in rows()} == {None}
        if not captured:
            run(
                "ALTER TABLE t RENAME TO gone",
                "CREATE TABLE t (id integer PRIMARY KEY, c text, b text)",
                "INSERT INTO t SELECT id, c, b FROM gone",
                "DROP TABLE gone",
            )
            assert rm.verify(url, "t").holds, "a table that was restored has other numbers"
            merge({"id": 0, "b": "restored"})
            assert rows()[0] == {"id": 0, "b": "restored", "c": None}
        assert rm.history(url, "t").column_names.count("old_c") == 1


class Columns:
    """The columns of a table, by name, each with an identity of its own, and random alterations of them."""

    def __init__(self, rng: random.Random) -> None:
        self.rng, self.identities = rng, count()
        self.named = {name: next(self.identities) for name in "abc"}
        self.spare = list("defgh")

    def alter(self) -> list[str]:
        """Statements that alter table t."""
        name, other = self.rng.sample(sorted(self.named), 2)
        match self.rng.choice(["rename", "drop", "add", "anew", "swap"]):
            case "rename":
                to = self.spare.pop()
                self.spare.insert(0, name)
                self.named[to] = self.named.pop(name)
                return [f"ALTER TABLE t RENAME {name} TO {to}"]
            case "drop" if len(self.named) > 2:
                self.named.pop(name)
                self.spare.append(name)
                return [f"ALTER TABLE t DROP COLUMN {name}"]
            case "anew":
                self.named[name] = next(self.identities)
                return [f"ALTER TABLE t DROP COLUMN {name}", f"ALTER TABLE t ADD COLUMN {name} text"]
            case "swap":
                self.named[name], self.named[other] = self.named[other], self.named[name]
                return [f"ALTER TABLE t RENAME {name} TO between", f"ALTER TABLE t RENAME {other} TO {name}", f"ALTER TABLE t RENAME between TO {other}"]
            case _:
                to = self.spare.pop()
                self.named[to] = next(self.identities)
                return [f"ALTER TABLE t ADD COLUMN {to} text"]


@pytest.mark.postgresql
@pytest.mark.parametrize("captured", [False, True])
def test_alterations_in_any_order_keep_the_past_of_each_column(captured: bool, tmp_path: Path) -> None:
    for seed in range(length.some(2)):
        with databases.table("postgresql", tmp_path, "CREATE TABLE t (id integer PRIMARY KEY, a text, b text, c text)") as (url, run):
            altered_and_looked_at(url, run, captured, length.dice(captured, seed))


def altered_and_looked_at(url: str, run: Callable[..., None], captured: bool, rng: random.Random) -> None:
    columns, job = Columns(rng), rm.Job(store=url, table="t", key="id", seal=rng.random() < 0.5)
    then: dict[int, tuple[set[int], dict[int, dict[int, Any]]]] = {}
    recorded: set[int] = set()
    """Those that the history has: a batch that changes nothing adds none to it."""
    if captured:
        rm.capture(url, "t")
    for step in range(12):
        chance, batch = rng.random() if step else 0, None
        if chance < 0.45:
            sent = rng.sample(sorted(columns.named), rng.randrange(1, len(columns.named) + 1))
            batch = rm.merge(job, [{"id": n, **{name: rng.choice([None, f"{step}{name}{n}"]) for name in sent}} for n in rng.sample(range(5), 3)]).batch
        elif chance < 0.85:
            run(*columns.alter())
            if captured:
                rm.refresh_capture(url, "t")
        elif captured and chance < 0.93:
            run(f"UPDATE t SET {rng.choice(sorted(columns.named))} = 's{step}' WHERE id < 3")
        else:
            with suppress(rm.JobError):  # it is undone already
                batch = rm.undo(url, max(then), force=True).batch
        if batch is not None:
            with opened(url) as place, place.begin(write=False) as session:
                found = session.read(session.describe("t")).values.to_pylist()
            rows = {row["id"]: {columns.named[name]: row[name] for name in columns.named} for row in found}
            then[batch] = set(columns.named.values()), rows
            if captured or rm.history(url, "t", batch=batch).num_rows:
                recorded |= then[batch][0]
        whole = rm.verify(url, "t")
        assert (whole.holds, whole.altered.num_rows) == (True, 0), (whole.differences.to_pylist(), whole.altered.to_pylist())
    for batch, (there, rows) in then.items():
        was = rm.as_of(url, "t", batch=batch)
        names = {name: one for name, one in columns.named.items() if one in there & recorded}
        assert set(names) <= set(was.column_names), "each column that there was, by its name of now"
        found = {row["id"]: {one: row[name] for name, one in names.items()} for row in was.to_pylist()}
        assert found == {n: {one: row[one] for one in names.values()} for n, row in rows.items()}, batch


# -- which table it was -------------------------------------------------------------------------------------------


@every
def test_another_table_under_the_name_is_told(kind: str, tmp_path: Path) -> None:
    """Made anew with the same rows it goes on; with others nobody knows what was before. MariaDB does not number tables."""
    made = "CREATE TABLE {} (id INTEGER PRIMARY KEY, {} INTEGER, {} INTEGER)"
    with databases.table(kind, tmp_path, made.format("t", "a", "b")) as (url, run):
        job = rm.Job(store=url, table="t", key="id")

        def known(batch: int) -> bool:
            with suppress(rm.JobError):
                return bool(rm.as_of(url, "t", batch=batch).num_rows)
            return False

        for value in (1, 2):
            rm.merge(job, [{"id": 1, "a": value, "b": -value}, {"id": 2, "a": value, "b": -value}])
        was = rm.as_of(url, "t", batch=1).sort_by("id").to_pylist()
        run(made.format("n", "b", "a"), "INSERT INTO n SELECT id, b, a FROM t", "DROP TABLE t", "ALTER TABLE n RENAME TO t")
        for merged in (False, True):
            if merged:
                rm.merge(job, [{"id": 2, "a": 3}])
            assert rm.as_of(url, "t", batch=1).select(["id", "a", "b"]).sort_by("id").to_pylist() == was, "columns go by name"
            assert (rm.verify(url, "t").holds, bool(rm.verify(url, "t").holes)) == (True, not merged and kind != "mariadb")
        if kind == "sqlite":
            run("VACUUM")  # which numbers tables anew
        rm.sync(url, "t", url, "copy", follower="f")
        run(made.format("n", "a", "b"), "INSERT INTO n VALUES (1, 9, 9)", "ALTER TABLE t RENAME TO old", "ALTER TABLE n RENAME TO t")
        assert not rm.verify(url, "t").holds
        for _ in range(2):  # before a batch has noted it, and after
            assert known(2) == (kind == "mariadb")
            batch = rm.merge(job, [{"id": 3, "a": 1}]).batch
            assert batch is not None
            assert known(batch), "since then all is known"
            assert rm.as_of(url, "t", batch=2, force=True).num_rows, "if somebody knows better"
        if kind != "mariadb":
            with pytest.raises(rm.JobError, match=f"since batch {batch - 1} another table, with other rows, has the name 't'"):
                rm.sync(url, "t", url, "copy", follower="f")
            run("ALTER TABLE t RENAME TO n", "ALTER TABLE old RENAME TO t")  # back again
            assert known(2) is False
            for look in (rm.history, rm.verify):
                with pytest.raises(rm.StoreError, match="table 'n' has no history: 'n' was named 't'"):
                    look(url, "n")
            assert rm.merge(rm.Job(store=url, table="n", key="id"), [{"id": 4}]).warnings == [
                f"'n' was named 't' when batch {batch - 1} ran, and its changes until then are in t_history; rename it back to go on with that history"
            ]
