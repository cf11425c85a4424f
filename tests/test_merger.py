"""A merge kept open: what it gives is what `rm.merge` gives, whatever happens between its calls."""

from __future__ import annotations

import asyncio
import os
import random
import threading
import time
from collections.abc import Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any, NamedTuple

import psycopg
import pyarrow as pa
import pytest
from hypothesis import strategies as st

import rapid_mender as rm
from rapid_mender.merging import fast_way, group_commit
from rapid_mender.merging import merger as merger_module
from rapid_mender.stores.mariadb.link import MariaDBLink
from rapid_mender.stores.sql.link import Lost

from . import databases, length, servers
from .cases import SCHEMA
from .cases import Case as Options
from .databases import both, every
from .laws import normal, on_every_store
from .stores import KINDS, STORES, TABLE, Place, every_kind

options = st.composite(lambda draw: Options(draw, False))()
_NOT_HERE = {"missing", "scope", "delete", "mark", "archive", "commit_every"}
"""Options that are about the batch as a whole."""


def parts_of(records: list[Any], rng: random.Random) -> Iterator[list[Any]]:
    while records:
        count = rng.randint(1, 3)
        yield records[:count]
        records = records[count:]


def outcome(place: Place, results: list[rm.Result]) -> tuple[Any, ...]:
    """The table, the history without its numbers, and what became of each record."""
    history = rm.history(place.store, TABLE)
    told = history.drop_columns([n for n in history.column_names if n in ("change_no", "batch_no", "changed_at")]).to_pylist()
    decided = [(one.decision, one.reason, one.changed, repr(one.key)) for result in results for one in result.each()]
    return normal(place.rows()), normal(told), sorted(decided)


@on_every_store(6, case=options, seed=st.integers(0, 999))
def test_records_in_parts_and_from_threads_are_as_those_of_one_merge(store: str, case: Options, seed: int) -> None:
    told = {name: value for name, value in case.options.items() if name not in _NOT_HERE}
    records = list({record["tag_no"]: record for record in case.batch}.values())  # of one key one record
    found = []
    beside = [] if store == "memory" else ["another's transaction"]
    for way in ("one merge", "parts", *(["threads"] if store in KINDS else []), *beside):
        with STORES[store](SCHEMA, ["tag_no"], case.rows) as place:
            job = rm.Job(store=place.store, table=TABLE, key="tag_no", **told)
            if way == "one merge":
                found.append(outcome(place, [rm.merge(job, pa.Table.from_pylist(records, case.sent))]))
                continue
            parts = [pa.Table.from_pylist(part, case.sent) for part in parts_of(records, random.Random(seed))]
            if way == "another's transaction":
                url = place.opened.where if store.startswith("sqlite") else servers.contract(store.partition(",")[0]).url
                with closing(databases.driver(url)) as connection, rm.Merger(job, connection) as merger:
                    results = [merger.merge(part) for part in parts]
                    connection.commit()
                found.append(outcome(place, results))
                continue
            with rm.Merger(job) as merger:
                if way == "threads":
                    with ThreadPoolExecutor(3) as pool:
                        results = list(pool.map(merger.merge, parts))
                else:
                    results = [merger.merge(part) for part in parts]
            found.append(outcome(place, results))
    assert all(one == found[0] for one in found)


class Named(NamedTuple):
    id: int
    v: str


@dataclass
class Classed:
    id: int
    v: str


@every
def test_what_others_do_to_the_table_between_calls_is_noticed(kind: str, tmp_path: Path) -> None:
    table = "CREATE TABLE t (id INTEGER NOT NULL PRIMARY KEY, v VARCHAR(9))"
    with databases.table(kind, tmp_path, table) as (url, run), rm.Merger(rm.Job(store=url, table="t", key="id")) as merger:
        assert merger.merge([Named(1, "a"), Classed(2, "a")]).counts["insert"] == 2
        run("ALTER TABLE t ADD COLUMN w INTEGER")
        assert merger.merge([{"id": 1, "w": 5}]).changed == {"w": 1}
        run("ALTER TABLE t DROP COLUMN w")
        with pytest.raises(rm.JobError, match="w"):
            merger.merge([{"id": 1, "w": 6}])
        assert merger.merge([{"id": 1, "v": "b"}]).changed == {"v": 1}, "one that fails does not spoil the next"
        run("ALTER TABLE t RENAME TO u")
        with pytest.raises(rm.StoreError, match="there is no table 't'"):
            merger.merge([{"id": 1, "v": "c"}])
        run(table)
        result = merger.merge([{"id": 1, "v": "c"}])
        assert result.first is not None
        assert (result.first.decision, result.first.key, result.counts["insert"]) == ("insert", {"id": 1}, 1)


@every
def test_what_a_call_gives_of_single_records(kind: str, tmp_path: Path) -> None:
    number = {
        "sqlite": "INTEGER PRIMARY KEY",
        "postgresql": "integer GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY",
        "mariadb": "INTEGER AUTO_INCREMENT PRIMARY KEY",
    }
    table = f"CREATE TABLE t (id {number[kind]}, tag VARCHAR(9) NOT NULL UNIQUE, v INTEGER)"
    with databases.table(kind, tmp_path, table) as (url, _), rm.Merger(rm.Job(store=url, table="t", key="tag")) as merger:
        inserted = merger.merge([{"tag": "a", "v": 1}]).first
        assert inserted is not None
        assert (inserted.decision, inserted.key, inserted.row) == ("insert", {"tag": "a", "id": 1}, 1)
        both_ = merger.merge([{"tag": "a", "v": 2}, {"tag": "b", "v": "x"}])
        assert [(one.decision, one.changed, one.key["tag"]) for one in both_.each()] == [("update", ["v"], "a"), ("reject", [], "b")]
        assert "v: 'x' is not a whole number" in both_.to_dict(decisions=True)["decisions"][1]["reason"]
        assert merger.merge([]).first is None
        assert merger.merge(pa.table({"tag": ["a"], "v": [2]})).to_dict()["counts"]["skip"] == 1
        for wrong, why in ((None, "nothing to merge"), ({"tag": "a"}, "put it into a list"), ([1], "is int")):
            with pytest.raises((rm.JobError, rm.IncomingError), match=why):
                merger.merge(wrong)
        if pid := os.fork():
            assert os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1]) == 7
        else:
            try:
                merger.merge([{"tag": "a", "v": 3}])
            except rm.JobError as error:
                os._exit(7 if "forked" in str(error) else 1)
            os._exit(2)
        assert merger.merge([{"tag": "a", "v": 4}]).changed == {"v": 1}
    with pytest.raises(rm.JobError, match="is closed"):
        merger.merge([{"tag": "a", "v": 5}])
    for told, why in (({"incoming": "batch.csv"}, "names what is to be merged"), ({"rejects": "r.csv"}, "keep them in a table")):
        with pytest.raises(rm.JobError, match=why):
            rm.Merger(rm.Job(store=url, table="t", key="tag", **told))


_GROUPED = pa.schema([("tag_no", pa.int64()), ("height", pa.float64()), ("note", pa.string())])


@contextmanager
def waiting_calls(merger: rm.Merger, calls: list[Any]) -> Iterator[list[Future[rm.Result]]]:
    """Calls from as many threads, which all wait while another call has the turn; within the block they go on. The last one
    that is given is that other call."""
    begun, goes_on = threading.Event(), threading.Event()

    def slow() -> Iterator[list[dict[str, Any]]]:
        begun.set()
        goes_on.wait(20)
        yield [{"tag_no": 999, "height": 1.0, "note": "slow"}]

    with ThreadPoolExecutor(len(calls) + 1) as pool:
        held = pool.submit(merger.merge, slow())
        begun.wait(20)
        done = []
        for call in calls:
            done.append(pool.submit(merger.merge, call))
            while len(merger._turns._line) < len(done):
                time.sleep(0.001)
        goes_on.set()
        held.result()
        yield [*done, held]


@every_kind
@pytest.mark.parametrize("frames", [False, True])
def test_calls_that_wait_together_are_each_as_one_alone(store: str, frames: bool, monkeypatch: pytest.MonkeyPatch) -> None:
    rng, grouped = length.dice(store, frames), list[int]()

    def together(job: Any, calls: Any, company: Any) -> None:
        group_commit.merge_together(job, calls, company)
        grouped.append(len(calls))

    monkeypatch.setattr(merger_module, "merge_together", together)
    rules = [rm.Rule(decide="reject", when="incoming.height > 90", because="too high"), rm.Rule(decide="delete", when="incoming.height < 0", because="felled")]
    for _ in range(length.some(2)):
        rows = [{"tag_no": n, "height": float(n), "note": "x"} for n in range(12)]
        keys = rng.sample(range(24), 20)
        records = [{"tag_no": key, "height": rng.choice([float(key), -1.0, 50.5, 99.0]), "note": rng.choice(["x", None, "<b>&\x07"])} for key in keys]
        calls = list(parts_of(records, rng))
        given = [pa.Table.from_pylist(call, _GROUPED) for call in calls] if frames else calls
        told = {"table": TABLE, "key": "tag_no", "rules": rules, "batches": rng.choice(["all", "changes"])}
        found = []
        for way in ("together", "alone"):
            with STORES[store](_GROUPED, ["tag_no"], rows) as place, rm.Merger(rm.Job(store=place.store, **told)) as merger:
                for _ in range(2):  # now the history is known
                    merger.merge([{"tag_no": 999, "height": rng.random(), "note": "slow"}])
                if way == "together":
                    with waiting_calls(merger, given) as done:
                        results = [one.result() for one in done[:-1]]
                else:
                    merger.merge([{"tag_no": 999, "height": 1.0, "note": "slow"}])
                    results = [merger.merge(one) for one in given]
                each, kept = [], {row["batch_no"]: row for row in rm.batches(place.store).to_pylist()}
                for result in results:
                    row = kept.get(result.batch, {})
                    span = None if row.get("first_change") is None else row["last_change"] - row["first_change"]
                    changes = rm.history(place.store, TABLE, batch=result.batch).to_pylist() if result.batch is not None else []
                    assert [one["change_no"] for one in changes] == list(range(row["first_change"], row["last_change"] + 1)) if changes else span is None
                    told_of = result.to_dict(decisions=True) | {"seconds": 0, "batch": None, "store": None}
                    said = [{k: v for k, v in one.items() if k not in ("change_no", "batch_no", "changed_at")} for one in changes]
                    counts = [row.get(name) for name in ("inserted", "updated", "deleted", "skipped", "rejected", "status", "kind")]
                    each.append((told_of, normal(said), counts, span, result.rejects.drop_columns(["rmend_batch"]).to_pylist()))
                assert rm.verify(place.store, TABLE).holds
                found.append((each, normal(place.rows())))
                changed = [result for result in results if result.landed]
                before = place.rows()
                undone = rng.choice(changed)
                rm.undo(place.store, undone.batch)
                mine = {one.key["tag_no"] for one in undone.each()}
                assert [row for row in place.rows() if row["tag_no"] not in mine] == [row for row in before if row["tag_no"] not in mine]
        assert found[0] == found[1]
    assert max(grouped, default=0) > 3


@every_kind
def test_calls_of_one_key_or_with_a_limit_or_refused_stand_alone(store: str) -> None:
    """What one caller sends is never another's trouble."""
    with STORES[store](_GROUPED, ["tag_no"], []) as place:
        with rm.Merger(rm.Job(store=place.store, table=TABLE, key="tag_no")) as merger:
            for value in (0.0, 0.5):
                merger.merge([{"tag_no": 999, "height": value, "note": "slow"}])
            calls: list[Any] = [[{"tag_no": 1, "height": float(n), "note": "x"}] for n in range(3)]
            calls += [[{"tag_no": n, "height": 1.0, "note": note}] for n, note in ((2, "y" * 50), (3, "z"))]
            calls += [[{"tag_no": 4}], [{"tag_no": 5, "height": "?"}], []]
            with waiting_calls(merger, calls) as done:
                results = [one.result() for one in done[:-1]]
            assert sorted(result.counts["insert"] + result.counts["update"] for result in results[:3]) == [1, 1, 1]
            fits = store == "memory" or store.startswith("sqlite")
            assert [result.counts["insert"] for result in results[3:]] == [1 if results[3].counts["insert"] and fits else 0, 1, 1, 0, 0]
            assert results[6].counts["reject"] == 1
            assert len({result.batch for result in results}) == len(calls)
        limited = rm.Job(store=place.store, table=TABLE, key="tag_no", max_rejects=0)
        calls = [[{"tag_no": number, "height": 1.0, "note": "a"}] for number in (10, None)]
        with rm.Merger(limited) as merger, waiting_calls(merger, calls) as done:
            assert done[0].result().counts["insert"] == 1
            with pytest.raises(rm.LimitError):
                done[1].result()
        assert rm.verify(place.store, TABLE).holds


@every_kind
def test_calls_go_on_with_one_batch_until_others_write_one(store: str) -> None:
    rng, counted = length.dice(store), {"insert": "inserted", "update": "updated", "delete": "deleted", "skip": "skipped", "reject": "rejected"}
    for _ in range(length.some(1)):
        rows = [{"tag_no": n, "height": float(n), "note": "x"} for n in range(6)]
        with STORES[store](_GROUPED, ["tag_no"], rows) as place, STORES["sqlite"](_GROUPED, ["tag_no"], rows) as copy:
            told: dict[str, Any] = {"store": place.store, "table": TABLE, "key": "tag_no"}
            results, begins, ends = list[rm.Result](), dict[int | None, Any](), True
            with rm.Merger(rm.Job(**told, batches="hourly")) as merger:
                for value in (0.5, 1.5):  # the history is made, and then known
                    results.append(merger.merge([{"tag_no": 998, "height": value, "note": "first"}]))
                for number in range(16):
                    event = ["other", "undo", *["none"] * 4][rng.randrange(6)] if number > 3 else "none"
                    if event == "other":
                        rm.merge(rm.Job(**told), [{"tag_no": 50, "height": rng.random(), "note": "other"}])
                    elif event == "undo":
                        rm.undo(place.store, results[-1].batch, force=True)
                    ends |= rm.batches(place.store, limit=1)["batch_no"][0].as_py() != results[-1].batch  # not by an undo of nothing
                    before = place.rows()
                    calls = [[{"tag_no": 10 * n + rng.randrange(6), "height": rng.choice([float(number), "?"]), "note": "y"}] for n in range(rng.randint(1, 3))]
                    made = [merger.merge(calls[0])]
                    if len(calls) > 1:
                        with waiting_calls(merger, calls[1:]) as done:
                            made += [one.result() for one in done]
                    assert number == 0 or (made[0].batch == results[-1].batch) == (not ends), (number, event)
                    ends = False
                    begins.setdefault(made[0].batch, before)
                    results += made
                    rm.sync(place.store, TABLE, copy.store, TABLE, follower="copy", key=["tag_no"])
                    assert copy.rows() == place.rows()
            assert rm.verify(place.store, TABLE).holds
            for row in rm.batches(place.store, table=TABLE).to_pylist():
                mine = [one for one in results if one.batch == row["batch_no"]]
                for name, column in counted.items() if mine else ():
                    assert row[column] == sum(one.counts[name] for one in mine)
            last = results[-1].batch
            rm.undo(place.store, last)
            assert place.rows() == begins[last]


@every_kind
def test_many_wait_without_blocking_and_one_that_is_cancelled_leaves_nothing(store: str) -> None:
    goes_on = threading.Event()

    def holds(incoming: pa.Table, _: pa.Table) -> pa.Array:
        if 1000.0 in incoming["height"].to_pylist():
            goes_on.wait(20)
        return pa.array([False] * incoming.num_rows)

    async def work(merger: rm.Merger) -> list[rm.Result]:
        held = asyncio.create_task(merger.merge_async([{"tag_no": 1, "height": 1000.0}]))
        await asyncio.sleep(0.2)
        held.cancel()
        await asyncio.sleep(0)
        goes_on.set()
        with pytest.raises(asyncio.CancelledError):
            await held
        return await asyncio.gather(*(merger.merge_async([{"tag_no": n, "height": float(n)}]) for n in range(5)))

    schema = pa.schema([("tag_no", pa.int64()), ("height", pa.float64())])
    with STORES[store](schema, ["tag_no"], []) as place:
        job = rm.Job(store=place.store, table=TABLE, key="tag_no", rules=[rm.Rule(decide="reject", when=holds)])
        with rm.Merger(job) as merger:
            results = asyncio.run(work(merger))
        assert len({result.batch for result in results}) == 5
        assert [row["height"] for row in place.rows()] == [0.0, 1.0, 2.0, 3.0, 4.0]


@both
@pytest.mark.parametrize("fast", [False, True])
def test_a_connection_that_goes_between_calls_or_at_the_commit(kind: str, fast: bool, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(fast_way, "_FIRST_LOOK", 1 if fast else 1000)
    with servers.database(kind) as database:
        database.run("CREATE TABLE t (id bigint PRIMARY KEY, v bigint)")
        with rm.Merger(rm.Job(store=database.url, table="t", key="id")) as merger:
            merger.merge([{"id": 1, "v": 1}])
            database.cut_others()
            assert merger.merge([{"id": 1, "v": 2}]).counts["update"] == 1
            assert (merger._fast._merge is not None) == fast
            place = (psycopg.Connection, "execute") if kind == "postgresql" else (MariaDBLink, "answers")
            of, name = place if fast else (type(database.link), "run")
            run, sent = getattr(of, name), list[str]()

            def lost(link: Any, sql: str, *rest: Any, **told: Any) -> Any:
                done = run(link, sql, *([] if rest and name == "answers" else rest), **told)
                if sql.startswith("COMMIT") and not sent:
                    sent.append(sql)
                    link.close()
                    raise psycopg.OperationalError("it went") if of is psycopg.Connection else Lost("the connection went")
                return done

            monkeypatch.setattr(of, name, lost)
            with pytest.raises(rm.UncertainError, match="if batch 3 is among the batches, it did") as caught:
                merger.merge([{"id": 1, "v": 3}])
            assert (caught.value.batch, caught.value.wrote) == (3, True)
            assert merger.merge([{"id": 1, "v": 3}]).counts["skip"] == 1, "it had taken effect"
            assert rm.batches(database.url)["status"].to_pylist() == ["done"] * 4


@both
def test_what_callers_were_told_is_in_the_history_once_whatever_is_cut(kind: str) -> None:
    """Threads share a Merger while connections are ended at random, also at a commit."""
    with servers.database(kind) as database:
        database.run("CREATE TABLE t (id bigint PRIMARY KEY, v bigint)")
        told: list[tuple[int, int | None]] = []
        unknown: list[tuple[int, int | None]] = []
        over, rng = threading.Event(), length.dice(kind)

        def work(number: int) -> None:
            for value in range(number * 10_000, (number + 1) * 10_000):
                if over.is_set():
                    return
                try:
                    told.append((value, merger.merge([{"id": value % 7, "v": value}]).batch))
                except rm.UncertainError as error:
                    unknown.append((value, error.batch))
                except rm.StoreError as error:
                    assert "there is no connection" in str(error)  # noqa: PT017

        with rm.Merger(rm.Job(store=database.url, table="t", key="id")) as merger, ThreadPoolExecutor(6) as pool:
            done = [pool.submit(work, number) for number in range(6)]
            for _ in range(length.some(6)):
                time.sleep(rng.uniform(0.1, 0.4))
                database.cut_others()
            over.set()
            for one in done:
                one.result()
        found = {row["new_v"]: row["batch_no"] for row in rm.history(database.url, "t").to_pylist()}
        batches = set(rm.batches(database.url)["batch_no"].to_pylist())
        assert len(told) > 5
        assert {value: batch for value, batch in [*told, *unknown] if value in found} == found, "each once, and under the batch that was told"
        assert all(value in found for value, _ in told)
        assert all((value in found) == (batch in batches) for value, batch in unknown)
        assert rm.verify(database.url, "t").holds


@every_kind
def test_nothing_grows_with_the_calls(store: str) -> None:
    def held() -> tuple[int, int]:
        return len(os.listdir("/proc/self/fd")), threading.active_count()

    with (
        STORES[store](SCHEMA, ["tag_no"], []) as place,
        rm.Merger(rm.Job(store=place.store, table=TABLE, key="tag_no", ignore=[f"x{n}" for n in range(120)])) as merger,
    ):
        for number in range(120):
            merger.merge([{"tag_no": number % 7, "note": str(number), f"x{number}": 1} if number % 2 else {"tag_no": number % 7, "girth": number}])
            if number == 20:
                before = held()
        assert held() == before
