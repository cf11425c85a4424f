"""What only database servers have: others who write, connections that end, rights, schemas, views, partitions."""

from __future__ import annotations

import json
import signal
import threading
import time
from collections.abc import Iterator
from contextlib import closing, nullcontext
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

import rapid_mender as rm
from rapid_mender.stores.contract import Store
from rapid_mender.stores.urls import open_store

from . import commands, databases, servers
from .crowd import crowd
from .killing import kill_merges, place, register, table_of

both = pytest.mark.parametrize("kind", ["postgresql", "mariadb"])


@pytest.fixture
def database(kind: str) -> Iterator[servers.Database]:
    with servers.database(kind) as made:
        yield made


@pytest.mark.slow
@both
def test_several_merges_and_another_writer_come_to_a_serial_order(database: servers.Database, tmp_path: Path) -> None:
    seen = crowd(database.url, database.run, tmp_path, merging=3, seconds=4)
    assert seen["merges"] >= 3
    assert seen["edits"] > 0


@pytest.mark.slow
@both
@pytest.mark.parametrize("server", [False, True], ids=["client", "server"])
def test_a_kill_leaves_before_or_after(kind: str, server: bool, tmp_path: Path) -> None:
    with place(kind, tmp_path, server) as there:
        assert len(kill_merges(there, tmp_path, rows=3_000, kills=2, seed=3)) == 2


@both
def test_a_sync_tells_why_rows_were_rejected(database: servers.Database) -> None:
    source = rm.MemoryStore({"t": pa.table({"id": [1, 2], "v": ["a", "b"]})})
    database.run("CREATE TABLE m (id bigint PRIMARY KEY, v varchar(20) NOT NULL)")
    job = rm.Sync(follower="f", store=source, table="t", key="id", to_store=database.url, to_table="m")
    rm.sync(job)
    rm.merge(rm.Job(store=source, table="t", key="id"), [{"id": 1, "v": None}, {"id": 3, "v": "c"}])
    done = rm.sync(job)
    assert (done.counts["insert"], done.counts["reject"], done.position) == (1, 1, 2)
    assert dict(done.reasons) == {"v is required (NOT NULL) and came without a value": 1}


@pytest.mark.slow
@both
def test_a_sync_that_goes_on_waits_for_a_server_that_is_lost(kind: str, tmp_path: Path) -> None:
    with place(kind, tmp_path, server=True) as there:
        assert there.server is not None
        (tmp_path / "map.db").touch()
        register(there.url, 100)[0].close()
        names = {"follower": "map", "store": there.url, "table": "trees", "to_store": f"sqlite:///{tmp_path}/map.db", "to_table": "map"}
        (tmp_path / "map.toml").write_text("".join(f'{name} = "{value}"\n' for name, value in names.items()))
        running = commands.Running(("sync", tmp_path / "map.toml", "--every", "100ms"))
        for turn in range(2):
            rm.merge(rm.Job(store=there.url, table="trees", key="tag_no"), [{"tag_no": 1000 + turn}])
            end = time.monotonic() + 30
            while (
                not rm.batches(f"sqlite:///{tmp_path}/map.db", table="map").num_rows or table_of(f"sqlite:///{tmp_path}/map.db", "map").num_rows != 101 + turn
            ):
                assert time.monotonic() < end
                assert running.poll() is None
                time.sleep(0.05)
            if not turn:
                there.server.stop()
                running.until(lambda run: "tries again" in run.err)
                there.server.start()
        running.send_signal(signal.SIGTERM)
        assert running.wait().code == 143


@both
def test_a_killed_connection_is_a_clear_error_and_the_next_run_finishes(database: servers.Database) -> None:
    database.run("CREATE TABLE t (id bigint PRIMARY KEY, v bigint)")
    store = type(database.store)(database.url)
    job = rm.Job(store=store, table="t", key="id")

    lost = pytest.raises(rm.StoreError, match=r"there is no connection .* run again")
    with lost, store.begin(write=True) as session:
        info = session.describe("t")
        assert not session.insert(info, pa.table({"id": range(100), "v": range(100)}), ["id"]).refusals()
        database.cut_others()
        session.count(info)
    assert rm.merge(job, [{"id": 1, "v": 5}]).counts["insert"] == 1, "nothing was half done, and the store connects anew"


@both
def test_time_outs_and_wrong_urls(database: servers.Database, kind: str) -> None:
    sleep = "pg_sleep(3)" if kind == "postgresql" else "sleep(3)"
    hasty = open_store(f"{database.url}?statement_timeout=0.2")
    with pytest.raises(rm.StoreError, match="statement_timeout in the store URL"), hasty.begin(write=False) as session:
        list(session.query(f"SELECT {sleep} AS v"))
    with pytest.raises(rm.StoreError, match="there is no connection") as error:
        rm.preview(rm.Job(store=f"{kind}://ann:s3cret@127.0.0.1:1/x?connect_timeout=2", table="t", key="id"), [{"id": 1}])
    assert "s3cret" not in str(error.value)
    with pytest.raises(rm.JobError, match="a number of seconds"):
        open_store(f"{database.url}?statement_timeout=soon")


@both
def test_a_store_that_is_kept_sees_what_others_alter(database: servers.Database, kind: str) -> None:
    database.run("CREATE TABLE t (id bigint PRIMARY KEY, v bigint)")
    job = rm.Job(store=type(database.store)(database.url), table="t", key="id")

    def newest(record: dict[str, Any]) -> dict[str, Any]:
        assert rm.merge(job, [record]).counts["reject"] == 0
        return rm.history(job.store, "t", key={"id": 1}).to_pylist()[-1]

    for v in range(4):  # what was described is now remembered
        assert newest({"id": 1, "v": v})["new_v"] == v
    wider = "MODIFY {} {}" if kind == "mariadb" else "ALTER {} TYPE {}"
    for column, narrow, wide, fits, new in (
        ("w", "varchar(5)", "varchar(9)", "abc", "abcdefgh"),
        ("n", "numeric(6,2)", "numeric(8,4)", Decimal("1.25"), Decimal("1.2345")),  # a database would round it
    ):
        database.run(f"ALTER TABLE t ADD COLUMN {column} {narrow}")
        assert newest({"id": 1, column: fits})[f"new_{column}"] == fits
        database.run(f"ALTER TABLE t {wider.format(column, wide)}")
        assert newest({"id": 1, column: new})[f"new_{column}"] == new, "the history gets as wide"
    if kind == "mariadb":
        database.run("CREATE TRIGGER more BEFORE UPDATE ON t FOR EACH ROW SET NEW.v = NEW.v + 100")
    else:
        body = "$$ BEGIN NEW.v = NEW.v + 100; RETURN NEW; END $$"
        database.run(
            f"CREATE FUNCTION more() RETURNS trigger LANGUAGE plpgsql AS {body}", "CREATE TRIGGER more BEFORE UPDATE ON t FOR EACH ROW EXECUTE FUNCTION more()"
        )
    assert newest({"id": 1, "v": 7})["new_v"] == 107, "the history has what the database stored"
    database.run("DROP TABLE t")
    with pytest.raises(rm.StoreError, match="there is no table 't'"):
        rm.merge(job, [{"id": 1, "v": 8}])


@both
def test_the_rows_of_a_query_are_merged(database: servers.Database) -> None:
    """Within one database, in the types of the query, more rows than a page."""
    database.run("CREATE TABLE t (id bigint PRIMARY KEY, v decimal(12,2), w varchar(20), d date)")
    database.run("CREATE TABLE s (id bigint, v decimal(12,2), w varchar(20), d date)")
    count = 70_000
    made = ("generate_series(1, {}) AS n", "n", "n::text") if database.kind == "postgresql" else ("seq_1_to_{}", "seq", "seq")
    database.run(f"INSERT INTO s SELECT {made[1]}, {made[1]} / 4.0, {made[2]}, '2026-02-28' FROM {made[0].format(count)}")
    job = rm.Job(store=database.store, table="t", key="id")
    rows = rm.Query(database.store, "SELECT id, v, concat('a ', w) AS w, d FROM s WHERE id > 10 -- the rest\n;")
    assert rm.merge(job, rows).counts["insert"] == count - 10
    assert not rm.merge(job, rows).landed
    with pytest.raises(rm.IncomingError, match="the query cannot be run"):
        rm.merge(job, rm.Query(database.url, "SELECT nothing FROM nowhere"))


@both
def test_rows_that_the_database_refuses_are_rejects(database: servers.Database) -> None:
    """Foreign key, check, another unique column; few and many; the others land."""
    database.run(
        "CREATE TABLE d (name varchar(9) PRIMARY KEY)", "INSERT INTO d VALUES ('N')",
        "CREATE TABLE t (id bigint PRIMARY KEY, name varchar(9), v bigint CHECK (v < 1000000), u bigint UNIQUE, "
        "FOREIGN KEY (name) REFERENCES d (name))",
    )  # fmt: skip
    job = rm.Job(store=database.store, table="t", key="id")
    records: list[dict[str, Any]] = [{"id": n, "name": "N", "v": n, "u": n} for n in range(5_000)]
    records[7]["name"], records[1234]["v"], records[4000]["u"] = "Nowhere"[:9], 2_000_000, 3999
    for batch, wanted in ((records, [8, 1235, 4001]), (records[:20], [8])):
        result = rm.merge(job, batch)
        reasons = result.rejects["rmend_reason"].to_pylist()
        assert result.rejects["rmend_row"].to_pylist() == wanted, reasons
        assert all(reason.startswith("the database refused: ") for reason in reasons)
    assert "name refers to d" in reasons[0]
    changed = rm.merge(job, [{"id": 1, "name": "Nowhere"}, {"id": 2, "name": None}])
    assert (changed.counts["update"], changed.counts["reject"]) == (1, 1)
    assert rm.history(database.store, "t").num_rows == 4_997 + 1


@pytest.mark.parametrize("kind", ["postgresql"])
def test_an_index_over_an_expression_refuses_rows_and_not_the_run(database: servers.Database) -> None:
    database.run("CREATE TABLE t (id bigint PRIMARY KEY, v text)", "CREATE UNIQUE INDEX ON t (lower(v))")
    job = rm.Job(store=database.store, table="t", key="id")
    result = rm.merge(job, [{"id": 1, "v": "a"}, {"id": 2, "v": "A"}, {"id": 3, "v": "b"}])
    assert (result.counts["insert"], result.counts["reject"], result.retries) == (2, 1, 0)


@pytest.mark.parametrize("kind", ["mariadb"])
def test_a_collation_tells_which_keys_are_equal(database: servers.Database) -> None:
    """Case, accents and blanks at the end, as the server itself has it; a change of case is a change."""
    database.run("CREATE TABLE t (k varchar(20) COLLATE utf8mb4_unicode_ci PRIMARY KEY, v varchar(9) COLLATE utf8mb4_unicode_ci)")
    job = rm.Job(store=database.store, table="t", key="k", duplicates="last")
    first = rm.merge(job, [{"k": "Ärger", "v": "a"}, {"k": "straße", "v": "b"}, {"k": "ARGER ", "v": "c"}])
    assert (first.counts["insert"], first.counts["skip"]) == (2, 1)
    again = rm.merge(job, [{"k": "arger", "v": "C"}, {"k": "STRASSE", "v": "b"}])
    assert again.counts["update"] == 2
    assert again.changed == {"k": 2, "v": 1}
    relaxed = job.model_copy(update={"columns": {"v": rm.ColumnOptions(ignore_case=True)}})
    assert not rm.merge(relaxed, [{"k": "arger", "v": "c"}]).landed


@pytest.mark.parametrize("kind", ["postgresql"])
def test_schemas_views_partitions_and_infinite_dates(database: servers.Database) -> None:
    database.run(
        'CREATE SCHEMA "North Side"',
        'CREATE TABLE "North Side"."Trees" ("Tag" bigint PRIMARY KEY, "Day" date, v int DEFAULT 3)',
        'CREATE VIEW seen AS SELECT "Tag" AS tag, "Day" AS day, v FROM "North Side"."Trees"',
        "CREATE TABLE p (d text, n bigint, v int, PRIMARY KEY (d, n)) PARTITION BY LIST (d)",
        "CREATE TABLE p1 PARTITION OF p FOR VALUES IN ('a')", "CREATE TABLE p2 PARTITION OF p DEFAULT",
        """INSERT INTO "North Side"."Trees" VALUES (1, 'infinity', 1), (2, '-infinity', 2), (3, '2026-01-01', 3)""",
    )  # fmt: skip
    store = database.store
    job = rm.Job(store=store, table="North Side.Trees", key="Tag")
    assert rm.merge(job, [{"Tag": 1, "v": 9}, {"Tag": 2, "v": 2}, {"Tag": 4, "Day": "2026-02-02"}]).counts["update"] == 1
    assert rm.merge(job, [{"Tag": 2, "Day": "2026-03-03"}]).changed == {"Day": 1}
    spelled = 'SELECT new_v, "old_Day"::text AS old, "new_Day"::text AS new FROM "North Side"."Trees_history"'
    kept = pa.concat_tables(database.link.query(f"{spelled} ORDER BY change_no")).to_pylist()
    assert kept[0] == {"new_v": 9, "old": "infinity", "new": "infinity"}
    assert kept[1] == {"new_v": 3, "old": None, "new": "2026-02-02"}
    assert kept[2] == {"new_v": 2, "old": "-infinity", "new": "2026-03-03"}

    patient = rm.Job(store=store, table="North Side.Trees", key="Tag", columns={"Day": {"null": "keep"}})
    both = [{"Tag": 1, "Day": None, "v": 10}, {"Tag": 3, "Day": "2027-01-01", "v": 3}]
    assert rm.merge(patient, pa.Table.from_pylist(both)).changed == {"v": 1, "Day": 1}
    days = pa.concat_tables(database.link.query('SELECT "Day"::text AS d FROM "North Side"."Trees" WHERE "Tag" = 1'))
    assert days["d"].to_pylist() == ["infinity"], "what stays, stays, although its column is set in another row"

    view = rm.Job(store=store, table="seen", key="tag", missing="delete")
    result = rm.merge(view, [{"tag": 1, "day": "2026-05-05"}, {"tag": 7, "day": None}])
    assert {n: c for n, c in result.counts.items() if c} == {"insert": 1, "update": 1, "delete": 3}
    assert [row["new_v"] for row in rm.history(store, "seen").to_pylist() if row["action"] == "insert"] == [3]

    parts = rm.Job(store=store, table="p", key=["d", "n"], missing="delete")
    frame = [{"d": d, "n": n, "v": n} for d in "abc" for n in range(100)]
    assert rm.merge(parts, frame).counts["insert"] == 300
    moved = [row | {"v": row["v"] + (row["n"] < 10)} for row in frame if row["n"] < 90]
    result = rm.merge(parts, moved)
    assert (result.counts["update"], result.counts["delete"], result.counts["skip"]) == (30, 30, 240)


# -- waiting, and an end of it ------------------------------------------------------------------------------------


def _wait_until_it_waits(database: servers.Database) -> None:
    """Until a statement of another connection has taken half a second."""
    if database.kind == "postgresql":
        since = "clock_timestamp() - query_start"
        waits = f"pg_stat_activity WHERE state = 'active' AND {since} > '0.5 s' AND datname = current_database()"
    else:
        waits = "information_schema.PROCESSLIST WHERE COMMAND <> 'Sleep' AND TIME_MS > 500 AND DB = DATABASE()"
    end, link = time.perf_counter() + 30, database.store.connect()  # type: ignore[attr-defined]
    while not pa.concat_tables(link.query(f"SELECT count(*) AS n FROM {waits}"))["n"][0].as_py():
        assert time.perf_counter() < end, "it never waits"
        time.sleep(0.1)
    link.close()


def _interrupted(database: servers.Database, folder: Path, records: int, **options: Any) -> commands.Ran:
    """A merge that waits, and has three seconds to end when it is interrupted."""
    told = {"store": database.url, "table": "t", "key": "id", "incoming": "b.jsonl", **options}
    (folder / "j.toml").write_text("\n".join(f"{name} = {json.dumps(value)}" for name, value in told.items()))
    (folder / "b.jsonl").write_text("\n".join(json.dumps({"id": n, "v": n}) for n in range(records)))
    merging = commands.Running(("merge", "j.toml"), folder)
    _wait_until_it_waits(database)
    merging.send_signal(signal.SIGINT)
    return merging.wait(3)


@both
@pytest.mark.parametrize("held", ["row", "table", "turn"])
@pytest.mark.parametrize("records", [1, 500])
def test_an_interrupt_ends_a_wait_at_once(database: servers.Database, kind: str, held: str, records: int, tmp_path: Path) -> None:
    database.run("CREATE TABLE t (id bigint PRIMARY KEY, v bigint)", "INSERT INTO t VALUES (0, 7)")
    rm.merge(rm.Job(store=database.store, table="t", key="id"), [{"id": -1, "v": 1}])
    database.run("BEGIN")
    release = "UNLOCK TABLES" if held == "table" and kind == "mariadb" else "ROLLBACK"
    if held == "turn":
        with database.store.begin(write=False) as session:
            wait, release = database.store.merge_lock(session.describe("t"))  # type: ignore[attr-defined]
        database.run(wait)
    elif held == "row":
        database.run("UPDATE t SET v = 8 WHERE id = 0")
    else:
        database.run("LOCK TABLE t IN ACCESS EXCLUSIVE MODE" if kind == "postgresql" else "LOCK TABLES t WRITE")
    ended = _interrupted(database, tmp_path, records)
    assert (ended.code, ended.out) == (130, "")
    assert ended.err.splitlines()[-1] == "rmend: interrupted; what was not committed is undone."
    database.run(release)
    job = rm.Job(store=database.store, table="t", key="id")
    left = rm.preview(job, [{"id": n, "v": n} for n in range(records)])
    assert (left.counts["update"], left.counts["insert"]) == (1, records - 1), "nothing was written"
    assert rm.merge(job, [{"id": 0, "v": 0}]).counts["update"] == 1


@pytest.mark.parametrize(
    ("kind", "handle"), [pytest.param("postgresql", "AdbcStatement", marks=pytest.mark.postgresql), ("sqlite", "AdbcStatement"), ("sqlite", "AdbcConnection")]
)
def test_an_interrupt_in_the_middle_of_making_a_handle_is_no_other_error(kind: str, handle: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The driver refuses to close a connection with a statement, which was made and never came to be held; and a database
    with a connection."""
    import adbc_driver_manager

    class Stopped(BaseException):
        pass

    made, held = getattr(adbc_driver_manager, handle), list[Any]()

    def interrupted(over: Any) -> Any:
        held.append(made(over))
        monkeypatch.undo()
        raise Stopped

    def look(store: Store) -> None:
        with store.begin(write=False) as session:
            monkeypatch.setattr(adbc_driver_manager, handle, interrupted)
            with store.begin(write=False) if handle == "AdbcConnection" else nullcontext():
                session.tables()

    with databases.table(kind, tmp_path, "CREATE TABLE t (id integer)") as (url, _), closing(open_store(url)) as opened:
        if isinstance(opened, rm.SQLiteStore):  # in this process, also where threads of other tests still run
            opened = rm.SQLiteStore(opened.path, apart=False)
        with pytest.raises(Stopped):
            look(opened)


@both
@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_an_interrupt_ends_a_sync_that_goes_on(database: servers.Database, kind: str, number: signal.Signals, tmp_path: Path) -> None:
    """In the middle of a statement too: what is cancelled and then fails is no store that is lost for a while."""
    database.run("CREATE TABLE t (id bigint PRIMARY KEY, v bigint)")
    job = rm.Job(store=database.store, table="t", key="id")
    rm.merge(job, [{"id": 1, "v": 1}])
    follow = {"store": database.url, "table": "t", "to_store": database.url, "to_table": "copy", "follower": "f"}
    (tmp_path / "s.toml").write_text("\n".join(f"{name} = {json.dumps(value)}" for name, value in follow.items()))
    rm.sync(rm.Sync.load(tmp_path / "s.toml"))
    rm.merge(job, [{"id": n, "v": n} for n in range(500)])
    database.run("BEGIN", "LOCK TABLE copy IN ACCESS EXCLUSIVE MODE" if kind == "postgresql" else "LOCK TABLES copy WRITE")
    syncing = commands.Running(("sync", "s.toml", "--every", "50ms"), tmp_path)
    _wait_until_it_waits(database)
    syncing.send_signal(number)
    ran = syncing.wait(5)
    assert (ran.code, ran.out) == (128 + number, ""), ran.err
    database.run("UNLOCK TABLES" if kind == "mariadb" else "ROLLBACK")
    assert rm.sync(rm.Sync.load(tmp_path / "s.toml")).changes == 499
    assert rm.sync(rm.Sync.load(tmp_path / "s.toml")).changes == 0


@both
def test_an_interrupt_between_units_of_work_is_noted(database: servers.Database, kind: str, tmp_path: Path) -> None:
    database.run("CREATE TABLE t (id bigint PRIMARY KEY, v bigint)", "INSERT INTO t VALUES (150, 7)")
    database.run("BEGIN", "UPDATE t SET v = 8 WHERE id = 150")
    assert _interrupted(database, tmp_path, 200, commit_every=100).code == 130
    database.run("ROLLBACK")
    (batch,) = rm.batches(database.url).to_pylist()
    assert (batch["status"], batch["inserted"], batch["finished_at"] is not None) == ("stopped", 100, True)


@both
def test_a_connection_that_is_killed_in_a_bulk_load_ends_at_once(database: servers.Database, kind: str) -> None:
    text = "text" if kind == "postgresql" else "longtext"
    database.run(f"CREATE TABLE t (id bigint PRIMARY KEY, v {text})")
    batch = pa.table({"id": range(400_000), "v": ["the same long text " * 12] * 400_000})
    over, killed = threading.Event(), []

    def kill() -> None:
        while not over.is_set():
            if kind == "postgresql":
                others = "FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()"
                pages = database.link.query(f"SELECT pid::bigint AS id {others} AND state = 'active' AND query LIKE 'COPY%STDIN%'")
                found = [number for page in pages for number in page["id"].to_pylist()]
                killed.extend(time.perf_counter() for _ in found)
                database.run(*(f"SELECT pg_terminate_backend({number})" for number in found))
            else:
                doing = "FROM information_schema.PROCESSLIST WHERE DB = DATABASE() AND INFO LIKE 'LOAD DATA%'"
                found = [row["id"] for row in database.link.ask(f"SELECT ID AS id {doing}")]
                killed.extend(time.perf_counter() for _ in found)
                database.run(*(f"KILL {number}" for number in found))
            if found:
                return
            time.sleep(0.002)

    thread = threading.Thread(target=kill)
    thread.start()
    try:
        with pytest.raises(rm.StoreError, match="run again"):
            rm.merge(rm.Job(store=database.url, table="t", key="id"), batch)
        assert killed
        assert time.perf_counter() - killed[0] < 20
    finally:
        over.set()
        thread.join()
    assert rm.merge(rm.Job(store=database.url, table="t", key="id"), batch.slice(0, 10)).counts["insert"] == 10
