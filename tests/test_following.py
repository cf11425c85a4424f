"""Whoever follows a table: each change once, in order, and the table that follows is as the one that is followed."""

from __future__ import annotations

import json
import random
import signal
import sqlite3
import threading
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import strategies as st

import rapid_mender as rm
from rapid_mender.followers import tail
from rapid_mender.followers.going_on import going_on

from . import commands, servers
from .laws import Case, cases, normal, on_every_store
from .stores import KINDS, STORES, TABLE, Place, every_kind

COPY = "the copy's `table`"
SCHEMA = pa.schema([pa.field("tag_no", pa.int64(), False), ("species", pa.string()), ("height", pa.float64())])


@contextmanager
def beside(place: Place, store: str, other: str, case: Case) -> Iterator[Place]:
    """A place of another kind, or the same place if it is of the kind that the store is of."""
    if store.startswith(other):
        yield place
    else:
        with STORES[other](case.schema, case.key, []) as another:
            yield another


@pytest.mark.postgresql
@pytest.mark.mariadb
@on_every_store(6, case=cases, other=st.sampled_from(KINDS), seed=st.integers(0, 999))
def test_a_table_that_follows_is_as_the_one_that_is_followed(store: str, case: Case, other: str, seed: int) -> None:
    """In any number of steps, from the rows that it was filled with; also undone batches; and a log has every change."""
    if other == "mariadb":
        case.make_finite()
    dice = random.Random(seed)
    with STORES[store](case.schema, case.key, case.rows) as place, beside(place, store, other, case) as target:
        keeps = seed % 2 == 0  # then the rows go in one by one, and else all at once, when the copy is filled
        follow = {"table": TABLE, "to_store": target.store, "to_table": COPY, "follower": "a copy", "key": case.key, "history": keeps}
        log = follow | {"to_table": "log", "follower": "a log", "keep": "changes", "key": [], "history": False}
        for turn in range(5):
            if turn and dice.random() < 0.6:
                step = dice.randint(1, 9)
                rm.sync(place.store, **follow, commit_every=step)
                assert normal(target.rows(COPY)) == normal(place.rows())
            if turn == 3:
                rm.undo(place.store, since_batch=1)
            else:
                rm.merge(case.job(place), case.frame(turn % 2))
        done = rm.sync(place.store, **follow)
        assert normal(target.rows(COPY)) == normal(place.rows())
        history = rm.history(place.store, TABLE)
        assert done.position == (history["change_no"][-1].as_py() if history.num_rows else 0)
        assert rm.sync(place.store, **follow).changes == 0
        assert not keeps or not target.rows(COPY) or rm.verify(target.store, COPY).holds
        if history.num_rows:
            for step in (dice.randint(1, 5), 100):
                rm.sync(place.store, **log, commit_every=step)
            kept = sorted(target.rows("log"), key=lambda row: int(row["change_no"]))
            assert [row["change_no"] for row in kept] == history["change_no"].to_pylist()
            assert [row["action"] for row in kept] == history["action"].to_pylist()
            columns = list(case.schema.names)
            side = ["old" if action == "delete" else "new" for action in history["action"].to_pylist()]
            rows = history.to_pylist()
            wanted = [{name: row[f"{one}_{name}"] for name in columns} for row, one in zip(rows, side, strict=True)]
            assert normal([{name: row[name] for name in columns} for row in kept]) == normal(wanted)


@on_every_store(8, case=cases, seed=st.integers(0, 999))
def test_net_changes_come_to_the_same_as_all_of_them(store: str, case: Case, seed: int) -> None:
    """A follower in Python, in steps of any length: nothing twice, in order, and what is net changes what differs."""
    dice = random.Random(seed)
    with STORES[store](case.schema, case.key, case.rows) as place:
        tables = {0: normal(place.rows())}
        for batch in (0, 1, 0):
            result = rm.merge(case.job(place), case.frame(batch))
            if result.batch is not None and (last := rm.batches(place.store)["last_change"][-1].as_py()):
                tables[last] = normal(place.rows())
        with rm.Follower(place.store, TABLE, "each") as each, rm.Follower(place.store, TABLE, "net", net=True) as net:
            numbers: list[int] = []
            while got := list(each.changes(dice.randint(1, 6))):
                assert next(each.changes(1)).to_pylist() == got[0].slice(0, 1).to_pylist(), "comes again"
                each.acknowledge(got[-1]["change_no"][-1].as_py())
                numbers += [number for page in got for number in page["change_no"].to_pylist()]
            assert numbers == rm.history(place.store, TABLE)["change_no"].to_pylist()
            rows = list(tables[0])
            for changes in net.changes():
                for change in changes.to_pylist():
                    sides = [{name[4:]: change[name] for name in change if name.startswith(side)} for side in ("old_", "new_")]
                    if change["action"] != "insert":
                        rows.remove(normal([sides[0]])[0])
                    if change["action"] != "delete":
                        rows += normal([sides[1]])
                    assert sides[0] != sides[1]
            net.acknowledge()
            assert sorted(rows, key=repr) == sorted(normal(place.rows()), key=repr)
            assert net.position == max(tables)


@contextmanager
def register(store: str) -> Iterator[tuple[Place, Any]]:
    """A table of trees, and a function that merges some into it."""
    rows = [{"tag_no": n, "species": "Elm", "height": n / 2} for n in (1, 2, 3)]
    with STORES[store](SCHEMA, ["tag_no"], rows) as place:

        def merge(*records: dict[str, Any], **options: Any) -> int:
            batch = rm.merge(rm.Job(store=place.store, table=TABLE, key="tag_no", **options), list(records)).batch
            assert batch is not None
            return batch

        yield place, merge


def trees(place: Place, table: str) -> list[tuple[Any, ...]]:
    return [tuple(row.values()) for row in sorted(place.rows(table), key=lambda row: int(row.get("tag_no") or row.get("tag")))]


@every_kind
def test_what_is_sent_and_what_becomes_of_it(store: str) -> None:
    """Renamed, left out, conditional, marked; rows that somebody changed in the target: overwritten, skipped, rejected."""
    with register(store) as (place, merge):
        follow = {"table": TABLE, "to_store": place.store, "rename": {"tag_no": "tag", "height": "height_m"}, "key": "tag"}
        plans: dict[str, dict[str, Any]] = {
            "bare": {"ignore": ["species"]},
            "tall": {"only": ["height"], "when": "new.height >= 1 OR old.height >= 1"},
            "species": {"changes_to": ["species"]},
            "skips": {"conflict": "skip"},
            "rejects": {"conflict": "reject"},
            "kept": {"history": True},
        }
        for name, options in plans.items():
            assert rm.sync(place.store, **follow, to_table=name, follower=name, **options).filled == (2 if name == "tall" else 3)
        with place.opened.begin(write=True) as session:
            for name in ("skips", "rejects", "bare"):
                info = session.describe(name)
                session.update(info, session.fetch(info, pa.table({"tag": [1]})), pa.table({"height_m": [99.0]}))
        merge({"tag_no": 1, "height": 0.6}, {"tag_no": 2, "species": "Oak", "height": 7.0}, {"tag_no": 4, "height": 0.1})
        merge({"tag_no": 3}, rules=[{"decide": "delete", "when": "matched"}])
        done = {name: rm.sync(place.store, **follow, to_table=name, follower=name, **plan) for name, plan in plans.items()}
        assert trees(place, "bare") == [(1, 0.6), (2, 7.0), (4, 0.1)]
        assert trees(place, "tall") == [(2, 7.0)]
        assert trees(place, "species") == [(1, "Elm", 0.5), (2, "Oak", 7.0), (4, None, 0.1)]
        for name in ("skips", "rejects"):
            assert trees(place, name) == [(1, "Elm", 99.0), (2, "Oak", 7.0), (4, None, 0.1)]
            assert done[name].counts[name.removesuffix("s")] == 1
        assert rm.verify(place.store, "kept").holds
        assert rm.history(place.store, "kept").num_rows == 7
        told = {row["follower"]: (row["table_name"], row["position"], row["behind"]) for row in rm.followers_of(place.store).to_pylist()}
        assert told == dict.fromkeys(plans, (TABLE, 4, 0))


@every_kind
def test_who_loses_the_place_is_told(store: str) -> None:
    """Names that are taken, changes that were pruned or never kept, another process; pruning waits for a follower."""
    with register(store) as (place, merge):
        follow = {"table": TABLE, "to_store": place.store, "to_table": COPY, "follower": "a copy", "key": "tag_no"}
        rm.sync(place.store, **follow)
        first = merge({"tag_no": 1, "height": 5.0})
        with rm.Follower(place.store, TABLE, "one") as one, rm.Follower(place.store, TABLE, "one") as other:
            assert [next(each.changes()).num_rows for each in (one, other)] == [1, 1]
            one.acknowledge()
            with pytest.raises(rm.JobError, match="another process follows as 'one'"):
                other.acknowledge()
        with pytest.raises(rm.JobError, match="there is a follower 'one' of table"):
            rm.Follower(place.store, COPY, "one")
        with pytest.raises(rm.JobError, match=r"there is a follower 'a copy', .* already"):
            rm.Follower(place.store, TABLE, "a copy")
        with pytest.raises(rm.JobError, match=r"there is a follower 'one' of table .* already"):
            rm.sync(place.store, **follow | {"follower": "one", "to_table": "another"})
        with pytest.raises(rm.JobError, match=r"there is a follower 'a copy' in .* already"):
            rm.sync(place.store, **follow | {"to_table": "another"})
        merge({"tag_no": 1, "height": 6.0})
        held = rm.prune(place.store, TABLE, before="9999-01-01", preview=True)
        assert (held.changes, held.held_by) == (0, {"a copy": 0, "one": 1})
        rm.prune(place.store, TABLE, before_batch=first + 1, force=True)
        with pytest.raises(rm.JobError, match=r"the history of .* begins on .*compare the tables"):
            rm.sync(place.store, **follow)
        rm.prune(place.store, TABLE, before="9999-01-01", force=True)  # of the history nothing is left
        assert rm.compare(rm.Sync(store=place.store, **follow), mend=True).mended
        assert rm.sync(place.store, **follow).position == rm.sync(place.store, **follow | {"follower": "anew", "to_table": "anew"}).position > 0
        rm.forget(place.store, "one")
        with pytest.raises(rm.JobError, match=r"there is no follower 'one' in .*; known are 'a copy', 'anew'"):
            rm.forget(place.store, "one")
        with rm.Follower(place.store, TABLE, "one", start="last") as again:
            merge({"tag_no": 2, "height": 6.0})
            merge({"tag_no": 3, "height": 6.0}, history=False)
            with pytest.raises(rm.JobError, match=r"batch \d+ changed .* with history = false"):
                list(again.changes())


@every_kind
def test_files_have_each_change_once(store: str, tmp_path: Path) -> None:
    """Also if a reader takes them away, and if a run ended between writing a part and noting that."""
    with register(store) as (place, merge):
        merge({"tag_no": 1, "height": 5.0}, {"tag_no": 7, "species": "Oak"})
        events = {"table": TABLE, "follower": "events", "to_folder": str(tmp_path / "e"), "first": True, "rename": {"height": "h"}}
        parts = {"table": TABLE, "follower": "parts", "to_folder": str(tmp_path / "p"), "format": "parquet", "commit_every": 2}
        done = rm.sync(place.store, **events)
        assert (done.filled, len(done.files)) == (4, 1)
        rm.sync(place.store, **parts)
        merge({"tag_no": 1, "height": 6.0}, {"tag_no": 2, "height": 6.0}, {"tag_no": 3, "height": 6.0})
        state = tmp_path / "p" / ".rmend.json"
        before = state.read_text()
        written = [Path(name).name for name in rm.sync(place.store, **parts).files]
        assert written == ["000000000003-000000000004.parquet", "000000000005-000000000005.parquet"]
        then = json.loads(state.read_text()) | {"position": 4, "fingerprint": None}
        state.write_text(json.dumps(json.loads(before) | {"next": written[0], "then": then}))
        (tmp_path / "p" / written[1]).unlink()  # as if the run had ended before this one
        assert rm.sync(place.store, **parts).changes == 1
        numbers = [n for part in sorted((tmp_path / "p").glob("*.parquet")) for n in pq.read_table(part)["change_no"].to_pylist()]
        assert numbers == rm.history(place.store, TABLE)["change_no"].to_pylist()
        assert len(rm.sync(place.store, **events).files) == 1
        lines = [json.loads(line) for part in sorted((tmp_path / "e").glob("*.jsonl")) for line in part.open()]
        lines.sort(key=lambda one: (one["id"].partition("/")[0], one["subject"]))  # filled in the database's own order
        assert [one["id"] for one in lines] == [f"0/tag_no={n}" for n in (1, 2, 3, 7)] + ["3", "4", "5"]
        assert [one["data"]["new"]["h"] for one in lines] == [5.0, 1.0, 1.5, None, 6.0, 6.0, 6.0]
        with pytest.raises(rm.JobError, match=r"has the files of the follower 'parts' of table"):
            rm.sync(place.store, **parts | {"follower": "others"})


@pytest.mark.postgresql
@pytest.mark.mariadb
@on_every_store(6, case=cases, other=st.sampled_from(KINDS), seed=st.integers(0, 999))
def test_what_differs_is_found_and_mended(store: str, case: Case, other: str, seed: int) -> None:
    """Rows that somebody removed, added and changed in the target; and following goes on, though changes were lost."""
    if other == "mariadb":
        case.make_finite()
    dice = random.Random(seed)
    with STORES[store](case.schema, case.key, case.rows) as place, beside(place, store, other, case) as target:
        follow = rm.Sync(store=place.store, table=TABLE, to_store=target.store, to_table=COPY, follower="a copy", key=case.key)
        rm.merge(case.job(place), case.frame())
        rm.sync(follow)
        assert rm.compare(follow).alike
        with target.opened.begin(write=True) as session:
            info = session.describe(COPY)
            rows = session.read(info)
            removed = [n for n in range(rows.values.num_rows) if dice.random() < 0.4]
            session.delete(info, rows.take(np.array(removed, int))).refusals()
        before = target.rows(COPY)
        found = rm.compare(follow)
        assert (found.missing, found.extra, found.different, found.rows) == (len(removed), 0, 0, len(place.rows()))
        assert target.rows(COPY) == before
        unkept = rm.merge(case.job(place).model_copy(update={"history": False, "missing": "delete"}), case.frame(1))
        if unkept.landed:
            with pytest.raises(rm.JobError, match="with history = false"):
                rm.sync(follow)
        mended = rm.compare(follow, mend=True)
        assert mended.alike or mended.mended
        assert normal(target.rows(COPY)) == normal(place.rows())
        assert rm.compare(follow).alike
        rm.merge(case.job(place), case.frame())
        rm.sync(follow)
        assert normal(target.rows(COPY)) == normal(place.rows())


OUT_OF_ORDER = {  # how numbers are taken by others than us: before the commit, and for good
    "postgresql": ("CREATE SEQUENCE numbers START 2", "ALTER TABLE t_history ALTER change_no SET DEFAULT nextval('numbers')"),
    "mariadb": ("ALTER TABLE t_history MODIFY change_no bigint NOT NULL AUTO_INCREMENT",),
}


@pytest.mark.slow
@pytest.mark.parametrize(("kind", "user"), [("postgresql", ""), ("mariadb", ""), ("mariadb", "may not know who writes")])
def test_changes_that_are_committed_in_another_order(kind: str, user: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """Two writers whose transactions commit otherwise than they took their numbers, or not; one is open for a second."""
    monkeypatch.setattr(tail, "_MANY", 1000 if user else 0)  # as if they were many: then who writes is asked first
    follow_writers(kind, 60, user)


def follow_writers(kind: str, rounds: int, user: str = "") -> None:
    with servers.database(kind) as database:
        database.run("CREATE TABLE t (id integer PRIMARY KEY)")
        url = database.url
        if user:  # one who has all rights on the database, and none on the server
            name = f"r{database.name[-10:]}"
            for host in ("%", "localhost"):
                database.run(f"CREATE USER '{name}'@'{host}' IDENTIFIED BY 'x'", f"GRANT ALL ON {database.name}.* TO '{name}'@'{host}'")
            url = url.replace("root@", f"{name}:x@")
        rm.merge(rm.Job(store=database.url, table="t", key="id"), [{"id": 0}])
        database.run(*OUT_OF_ORDER[kind])
        writers = [database.store.connect() for _ in range(2)]  # type: ignore[attr-defined]
        seen: list[int] = []
        held: set[str] = set()
        over = threading.Event()

        def follow() -> None:
            with rm.Follower(url, "t", "all", start=1) as follower:
                ended = False
                while not ended:
                    ended = over.is_set() and not follower.held_by
                    for changes in follower.changes():
                        seen.extend(changes["new_id"].to_pylist())
                        follower.acknowledge()
                        ended = False
                    held.update(follower.held_by)
                    time.sleep(0.01)

        thread = threading.Thread(target=follow)
        thread.start()
        dice, wanted, number = random.Random(rounds), list[int](), 0
        for turn in range(rounds):
            mine: tuple[list[int], list[int]] = [], []
            for writer in writers:
                writer.run("BEGIN")
            long = turn == rounds // 2  # then the second number is committed for a second before the first one is
            for who in (0, 1) if long else dice.choices((0, 1), k=dice.randint(2, 4)):
                number += 1
                writers[who].run(f"INSERT INTO t_history (action, changed_at, new_id) VALUES ('insert', CURRENT_TIMESTAMP, {number})")
                mine[who].append(number)
            time.sleep(dice.random() / 50)
            for who in (1, 0) if long else dice.sample((0, 1), 2):
                lands = long or dice.random() < 0.75
                writers[who].run("COMMIT" if lands else "ROLLBACK")
                wanted += mine[who] if lands else []
                time.sleep(1.0 if long else dice.random() / 50)
        over.set()
        thread.join()
        for writer in writers:
            writer.close()
        if user:
            database.run(f"DROP USER '{name}'@'%', '{name}'@'localhost'")
        assert seen == sorted(wanted), "each once, by their numbers"
        assert held, "who held the others up is told"
        if kind == "postgresql":
            database.run("ALTER SEQUENCE numbers CACHE 20")
            with rm.Follower(url, "t", "late") as late, pytest.raises(rm.StoreError, match=r"hands out 20 numbers .* CACHE 1"):
                list(late.changes())
        assert not user or all("the right PROCESS" in one for one in held)


BAD: list[tuple[dict[str, Any], str]] = [
    ({"rename": {"nix": "x"}}, "has no column 'nix'"),
    ({"rename": {"height": "nowhere"}, "to_table": "there"}, "has no column 'nowhere', into which 'height' of"),
    ({"only": ["height"], "ignore": ["height"]}, "only and ignore both name height"),
    ({"ignore": ["tag_no"]}, "is of the key"),
    ({"when": "new.nix > 1"}, r"when: the row after has no column 'nix'"),
    ({"when": "new.height"}, "this must be true or false"),
    ({"changes_to": ["nix"]}, "has no column 'nix'"),
    ({"key": ["nix"], "to_table": "there"}, "has no column 'nix', which is of the key"),
    ({"keep": "changes", "delete": "mark", "mark": {"height": 0}}, "leave out delete"),
    ({"keep": "changes", "rename": {"species": "reason"}}, "a log has columns named 'species' itself"),
    ({"delete": "mark"}, "needs the columns to set"),
    ({"to_folder": "x"}, "say where changes go"),
    ({"to_store": None, "to_folder": "x", "history": True}, "files have no to_table, history"),
    ({"follower": " "}, "follower is the name"),
    ({"bogus": 1}, "there is no option 'bogus'"),
    ({"table": "nix"}, "there is no table 'nix'"),
    ({"commit_every": 0}, "commit_every"),
]


@pytest.mark.parametrize(("options", "words"), BAD)
def test_a_sync_says_what_is_wrong(options: dict[str, Any], words: str) -> None:
    with register("sqlite") as (place, merge):
        merge({"tag_no": 9})
        follow = {"table": TABLE, "to_store": place.store, "to_table": COPY, "follower": "a copy"}
        rm.sync(place.store, **follow | {"to_table": "there", "follower": "another"})
        with pytest.raises(rm.Error, match=words):
            rm.sync(place.store, **follow | options)


@pytest.mark.slow
def test_sync_on_the_command_line(rmend: Any, tmp_path: Path) -> None:
    assert rmend("demo", "h").code == 0
    with closing(sqlite3.connect(tmp_path / "h" / "map.db")) as connection:
        connection.execute("UPDATE map_trees SET height = 1 WHERE district = 'Mere End' AND number = 1")
        connection.commit()
    found = rmend("sync", "h/map.toml", "--compare", "--json")
    assert (found.code, found.json["different"], found.json["differences"][0]["number"]) == (4, 1, 1)
    drawn = rmend("sync", "h/map.toml", "--compare")
    assert (drawn.code, "different  Mere End  1       height" in drawn.out) == (4, True)
    assert "What differed is mended" in rmend("sync", "h/map.toml", "--mend").out
    assert rmend("sync", "h/map.toml", "--compare").code == 0
    assert rmend("sync", "h/map.toml", "--json").json["changes"] == 0
    files, printer, told = rmend("followers", "sqlite:///h/register.db", "--json").json["followers"]
    assert (files["follower"], printer["follower"]) == ("files", "printer")
    assert (told["follower"], told["table_name"], told["behind"]) == ("public-map", "trees", 0)
    for words, said in ((("sync", "h/nix.toml"), "there is no job file"), (("sync", "h/map.toml", "--every", "5"), "is no length of time"),
                        (("sync", "h/survey-1.toml"), "there is no option 'incoming'")):  # fmt: skip
        refused = rmend(*words)
        assert (refused.code, said in refused.err) == (2, True), refused.err
    run = commands.Running(("sync", "h/map.toml", "--every", "50ms"), tmp_path)
    rmend("undo", "h/survey-4.toml", "8", "--force")
    run.until(lambda run: run.out.endswith("\n"))
    run.send_signal(signal.SIGINT)
    ran = run.wait()
    assert ran.out.startswith("map_trees: 60 changes, up to 843")
    assert (ran.code, "interrupted" in ran.err) == (130, True)


def test_an_interrupt_is_none_that_is_waited_for() -> None:
    """What it cancels fails once more while it is undone; a store that is lost would be asked again, for ever."""

    class Cut(rm.MemoryStore):
        begun = 0

        def begin(self, *args: Any, **options: Any) -> Any:
            self.begun += 1
            assert self.begun == 1, "it was tried again"
            try:
                raise KeyboardInterrupt
            finally:
                self.lose()

        def lose(self) -> None:
            raise rm.StoreError("the connection is gone")

    job = rm.Sync(store=Cut({}), table=TABLE, to_store=rm.MemoryStore({}), to_table=COPY, follower="f")
    with pytest.raises(KeyboardInterrupt):
        next(going_on(job, 1.0))
