"""Merges in the transaction of somebody else's connection: both are committed or undone together, and nothing else is."""

from __future__ import annotations

import itertools
import sqlite3
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing, contextmanager
from decimal import Decimal
from pathlib import Path
from typing import Any

import psycopg
import pyarrow as pa
import pytest
import sqlalchemy as sa
from sqlalchemy.orm import Session as OrmSession

import rapid_mender as rm
from rapid_mender.core.cast import plain
from rapid_mender.stores.adbc import AdbcLink
from rapid_mender.stores.postgresql.guest import Wire

from . import databases, length, servers
from .databases import both, every

_TABLE = "CREATE TABLE t (id INTEGER NOT NULL PRIMARY KEY, v VARCHAR(9), n INTEGER CHECK (n < 100))"


class Theirs:
    """Somebody's connection, and how to speak over it."""

    def __init__(self, connection: Any) -> None:
        self.connection = connection

    def ask(self, sql: str) -> list[tuple[Any, ...]]:
        with closing(self.connection.cursor()) as cursor:
            cursor.execute(sql)
            return list(cursor.fetchall()) if cursor.description else []


@contextmanager
def opened(kind: str, folder: Path, *statements: str) -> Iterator[tuple[str, Callable[..., None], Theirs]]:
    with databases.table(kind, folder, *(statements or (_TABLE,))) as (url, run), closing(databases.driver(url)) as connection:
        yield url, run, Theirs(connection)
        connection.rollback()


@every
def test_both_are_committed_or_undone_together(kind: str, tmp_path: Path) -> None:
    with opened(kind, tmp_path) as (url, run, theirs), rm.Merger(rm.Job(store=url, table="t", key="id"), theirs.connection) as merger:
        theirs.ask("INSERT INTO t VALUES (7, 'own', 1)")
        assert merger.merge([{"id": 1, "v": "a"}, {"id": 7, "v": "b"}]).counts == {"insert": 1, "update": 1, "delete": 0, "skip": 0, "reject": 0}
        theirs.connection.rollback()
        assert theirs.ask("SELECT count(*) FROM t") == [(0,)]
        theirs.connection.rollback()
        assert len(rm.history(url, "t")) == 0
        for value in ("a", "b"):
            theirs.ask("DELETE FROM t WHERE id = 8")
            theirs.ask("INSERT INTO t VALUES (8, 'own', 1)")
            result = merger.merge([{"id": 1, "v": value, "n": 5}, {"id": 2, "v": value, "n": 100}])
            assert result.counts["reject"] == 1, "what the database refuses is one reject, and undoes nothing else"
            theirs.connection.commit()
            assert [row["new_v"] for row in rm.history(url, "t", batch=result.batch).to_pylist()] == [value]
        assert rm.verify(url, "t").unknown == 1, "their own row has no history"
        run("ALTER TABLE t ADD COLUMN w INTEGER")
        result = merger.merge([{"id": n, "w": n} for n in range(10, 1_300)])
        theirs.connection.commit()
        assert result.batch is not None
        assert rm.undo(url, result.batch).counts["delete"] == 1_290


@every
def test_a_call_that_fails_leaves_the_rest_of_the_transaction(kind: str, tmp_path: Path) -> None:
    with opened(kind, tmp_path) as (url, run, theirs):
        before = theirs.ask(_settings(kind))
        theirs.connection.rollback()
        with rm.Merger(rm.Job(store=url, table="t", key="id", max_rejects=0), theirs.connection) as merger:
            merger.merge([{"id": 1, "v": "a"}])
            theirs.ask("INSERT INTO t VALUES (7, 'own', 1)")
            with pytest.raises(rm.LimitError):
                merger.merge([{"id": 3, "v": "x"}, {"id": 2, "n": "many"}])
            with pytest.raises(rm.JobError, match="w"):
                merger.merge([{"id": 3, "w": 1}])
            assert theirs.ask(_settings(kind)) == before
            assert theirs.ask("SELECT id FROM t ORDER BY id") == [(1,), (7,)]
            assert merger.merge([{"id": 1, "v": "b"}]).counts["update"] == 1
            theirs.connection.commit()
            assert rm.batches(url)["status"].to_pylist() == ["done", "done"]
            other = threading.Thread(target=lambda: failed.append(_error(lambda: merger.merge([{"id": 1, "v": "c"}]))))
            failed = list[str]()
            other.start()
            other.join()
            assert kind != "sqlite" or "thread" in failed[0]
            theirs.connection.rollback()
        run("DROP TABLE rmend_batches")
        with rm.Merger(rm.Job(store=url, table="t", key="id"), theirs.connection) as merger:
            assert merger.merge([{"id": 1, "v": "d"}]).batch is not None


def _settings(kind: str) -> str:
    return {
        "sqlite": "PRAGMA foreign_keys",
        "postgresql": "SELECT current_setting('jit'), current_setting('search_path'), current_setting('work_mem'), "
        "coalesce(current_setting('rmend.aside', true), '')",
        "mariadb": "SELECT @@sql_mode, @@time_zone, @@group_concat_max_len, @@join_cache_level, @@sql_notes, @rmend_aside",
    }[kind]


def _error(call: Callable[[], Any]) -> str:
    try:
        call()
    except rm.Error as error:
        return str(error)
    return ""


@every
def test_what_the_owner_changes_beside_a_merge_is_captured(kind: str, tmp_path: Path) -> None:
    with opened(kind, tmp_path) as (url, _, theirs):
        rm.capture(url, "t")
        with rm.Merger(rm.Job(store=url, table="t", key="id"), theirs.connection) as merger:
            theirs.ask("INSERT INTO t VALUES (1, 'own', 1)")
            merger.merge([{"id": 1, "v": "merge"}, {"id": 2, "v": "merge"}])
            theirs.ask("UPDATE t SET v = 'own2' WHERE id = 1")
            theirs.connection.commit()
        history = rm.history(url, "t").to_pylist()
        assert sorted((row["action"], row["new_id"], row["new_v"], row["batch_no"] is None) for row in history) == [
            ("insert", 1, "own", True), ("insert", 2, "merge", False), ("update", 1, "merge", False), ("update", 1, "own2", True),
        ]  # fmt: skip
        assert rm.verify(url, "t").holds


@every
def test_sessions_of_an_object_mapper(kind: str, tmp_path: Path) -> None:
    with databases.table(kind, tmp_path, _TABLE) as (url, _):
        spelled = {"sqlite": url, "postgresql": url.replace("postgresql:", "postgresql+psycopg:"), "mariadb": url.replace("mariadb:", "mysql+pymysql:")}
        engine = sa.create_engine(spelled[kind])
        job = rm.Job(store=url, table="t", key="id")
        with OrmSession(engine) as session:
            session.execute(sa.text("INSERT INTO t VALUES (7, 'own', 1)"))
            with rm.Merger(job, session) as merger:
                merger.merge([{"id": 1, "v": "a"}])
            session.rollback()
        with engine.begin() as connection:
            connection.execute(sa.text("INSERT INTO t VALUES (8, 'own', 1)"))
            with rm.Merger(job, connection) as merger:
                assert merger.merge([{"id": 1, "v": "b"}]).first.decision == "insert"  # type: ignore[union-attr]
            assert connection.execute(sa.text("SELECT id, v FROM t ORDER BY id")).all() == [(1, "b"), (8, "own")]
        engine.dispose()
        assert len(rm.history(url, "t")) == 1


@every
def test_what_is_no_transaction_is_refused(kind: str, tmp_path: Path) -> None:
    with databases.table(kind, tmp_path, _TABLE) as (url, _):
        job, connection = rm.Job(store=url, table="t", key="id"), databases.driver(url)
        by_itself = {"sqlite": lambda: setattr(connection, "isolation_level", None), "mariadb": lambda: connection.autocommit(True)}
        by_itself.get(kind, lambda: connection.set_autocommit(True))()
        with rm.Merger(job, connection) as merger:
            with pytest.raises(rm.JobError, match="commits every statement by itself"):
                merger.merge([{"id": 1, "v": "a"}])
            Theirs(connection).ask("BEGIN")
            assert merger.merge([{"id": 1, "v": "a"}]).counts["insert"] == 1
            Theirs(connection).ask("COMMIT")
            connection.close()
            with pytest.raises(rm.StoreError, match="closed"):
                merger.merge([{"id": 1, "v": "b"}])
        for wrong in (url, object(), sa.create_engine("sqlite://")):
            with pytest.raises(rm.JobError, match=r"connection is .*; give a connection of sqlite3, psycopg or PyMySQL"):
                rm.Merger(job, wrong)
        assert len(rm.history(url, "t")) == 1


def test_a_connection_that_turns_values_is_told_and_one_in_memory_will_do() -> None:
    with closing(sqlite3.connect(":memory:", detect_types=sqlite3.PARSE_DECLTYPES)) as connection:
        connection.row_factory = sqlite3.Row
        connection.execute("CREATE TABLE t (id INTEGER PRIMARY KEY, day DATE, v TEXT)")
        with rm.Merger(rm.Job(store="sqlite:///none.db", table="t", key="id"), connection) as merger:
            assert merger.merge([{"id": 1, "v": "é"}]).counts["insert"] == 1
            assert merger.merge([{"id": 1, "v": "ü"}]).counts["update"] == 1
            connection.execute("UPDATE t SET day = '2026-01-01'")
            with pytest.raises(rm.JobError, match="turns values into date by itself"):
                merger.merge([{"id": 1, "v": "x"}])
        assert [tuple(row) for row in connection.execute("SELECT new_v, typeof(new_v) FROM t_history")] == [("é", "text"), ("ü", "text")]


@both
def test_another_writer_of_the_same_row_waits_or_is_told(kind: str, tmp_path: Path) -> None:
    with opened(kind, tmp_path) as (url, run, theirs):
        job = rm.Job(store=url, table="t", key="id")
        rm.merge(job, [{"id": n, "v": "a"} for n in range(3)])
        with rm.Merger(job, theirs.connection) as merger, rm.Merger(job) as other:
            merger.merge([{"id": 1, "v": "b"}])
            waits = threading.Thread(target=lambda: done.append(other.merge([{"id": 1, "v": "c"}])))
            done = list[rm.Result]()
            waits.start()
            waits.join(0.3)
            assert not done, "the row is theirs until they commit"
            theirs.connection.commit()
            waits.join(20)
            assert done[0].counts["update"] == 1
            run("UPDATE t SET v = 'z' WHERE id = 2")
            assert merger.merge([{"id": 2, "v": "z"}]).counts["skip"] == 1
            theirs.connection.commit()
        assert [row["new_v"] for row in rm.history(url, "t", key={"id": 1}).to_pylist()] == ["a", "b", "c"]


@both
def test_owners_and_merges_of_their_own_wait_for_each_other(kind: str, tmp_path: Path) -> None:
    """Transactions with several merges, some rolled back, beside a Merger of its own: all goes through, none is lost."""
    with databases.table(kind, tmp_path, _TABLE.replace("CHECK (n < 100)", "")) as (url, _):
        job, landed = rm.Job(store=url, table="t", key="id"), list[tuple[int, int | None]]()
        for value in (-2, -1):
            rm.merge(job, [{"id": n, "n": value} for n in range(8)])

        def work(seat: int) -> None:
            rng, values = length.dice(kind, seat), itertools.count(seat, 3)
            with closing(databases.driver(url)) as connection, rm.Merger(job, None if seat == 2 else connection) as merger:
                for _ in range(length.some(7)):
                    made = [(value, merger.merge([{"id": rng.randrange(8), "n": value}]).batch) for value in itertools.islice(values, rng.randint(1, 3))]
                    if seat == 2 or rng.random() < 0.7:
                        connection.commit()
                        landed.extend(made)
                    else:
                        connection.rollback()

        with ThreadPoolExecutor(3) as pool:
            for one in [pool.submit(work, seat) for seat in range(3)]:
                one.result()
        assert len({value % 3 for value, _ in landed}) == 3
        assert {row["new_n"]: row["batch_no"] for row in rm.history(url, "t").to_pylist() if row["new_n"] >= 0} == dict(landed)
        assert rm.verify(url, "t").holds


@pytest.mark.postgresql
def test_values_come_over_both_drivers_alike() -> None:
    """The driver of a merge's own connection, and psycopg's results as they are read here."""
    import adbc_driver_postgresql

    rng, columns = length.dice("wire"), list[str]()
    numbers = [
        "0",
        "-1",
        "7",
        "1e-9",
        "123456789.000100",
        "-99999999999999999999999999999999999999.5",
        "0.00010000",
        "10000",
        "NaN",
        "Infinity",
        "-Infinity",
        "1e20",
    ]
    numbers += [str(Decimal(rng.randrange(-(10**30), 10**30)).scaleb(-rng.randrange(30))) for _ in range(length.some(50))]
    times = ["2026-11-30 12:34:56.789012", "0001-01-01", "infinity", "-infinity", "9999-12-31 23:59:59.999999", "4713-01-01 BC", "1999-12-31", "294276-12-31"]
    for kinds, values in (
        (["numeric", "double precision", "real", "text"], numbers),
        (["timestamp", "timestamptz", "date"], times[:-1]),
        (["bigint", "integer", "text", "varchar", "oid", "numeric(14,4)"], ["0", "1", "77", "2147483647"]),
        (["smallint"], ["-32768", "32767"]),
        (["bool"], ["true", "false"]),
        (["time"], ["00:00:00", "23:59:59.999999"]),
        (["bytea", "text", "name", "json"], ['"x"', '"é\U0001f333"', '""']),
    ):
        columns += [f"SELECT v::{kind} AS one, v::text AS two FROM (VALUES {', '.join(f'({value!r})' for value in values)}, (NULL)) AS s (v)" for kind in kinds]
    columns += ["SELECT 1 AS one WHERE false", "SELECT NULL::bigint AS one", "SELECT ''::text AS one"]
    with servers.database("postgresql") as database, psycopg.connect(database.url) as connection:
        wire, link = Wire(connection), AdbcLink(adbc_driver_postgresql.connect(database.url))
        for sql in columns:
            came = link.query(sql)
            same = pa.table([plain(column) for column in came.columns], names=came.column_names)
            assert wire.query(sql).cast(same.schema).equals(same) or str(wire.query(sql)) == str(same), sql
        link.close()
