"""Nobody gains rights through what runs with another's: the triggers of a capture, and tables that others planted."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from typing import Any

import pyarrow as pa
import pytest

import rapid_mender as rm
from rapid_mender.stores.urls import open_store

from . import servers

_GRAB = """CREATE OR REPLACE FUNCTION {schema}.grab() RETURNS pg_catalog.bool LANGUAGE plpgsql AS $$ BEGIN
  IF current_user OPERATOR(pg_catalog.<>) '{mallory}' THEN PERFORM pg_catalog.nextval('public.caught'); END IF;
  RETURN true; END $$"""
"""What Mallory wants to be run by others: it counts, also where what it is part of is undone."""


class Mallory:
    """A role that may log in, and what others who own things are called: bob owns tables, sue schemas."""

    def __init__(self, database: servers.Database) -> None:
        self.database = database
        self.me, self.bob, self.sue = (f"{name}_{database.name[-8:]}" for name in ("mallory", "bob", "sue"))

    @contextmanager
    def at_work(self, *statements: str, role: str = "") -> Iterator[Any]:
        """A connection of a role's own, Mallory's unless told."""
        store = open_store(self.database.url.replace("//postgres@", f"//{role or self.me}@").replace("//root@", f"//{role or self.me}@"))
        link = store.connect()  # type: ignore[attr-defined]
        try:
            for statement in statements:
                link.run(statement)
            yield link
        finally:
            link.close()
            store.close()

    def grab(self, schema: str) -> str:
        return _GRAB.format(schema=schema, mallory=self.me)

    def gained(self) -> int:
        """How often Mallory's code has run with the rights of somebody else."""
        (part,) = self.database.link.query("SELECT CASE WHEN is_called THEN last_value ELSE 0 END AS n FROM public.caught")
        return int(part["n"][0].as_py())


@pytest.fixture
def mallory() -> Iterator[Mallory]:
    with servers.database("postgresql") as database:
        one = Mallory(database)
        roles = (one.me, one.bob, one.sue)
        database.run(*(f"CREATE ROLE {name} LOGIN" for name in roles))
        database.run("CREATE SEQUENCE caught", "GRANT ALL ON SEQUENCE caught TO PUBLIC", "CREATE SCHEMA lair", f"ALTER SCHEMA lair OWNER TO {one.me}")
        try:
            yield one
        finally:
            database.run("RESET ROLE")
            for name in roles:
                database.run(f"DROP OWNED BY {name} CASCADE", f"DROP ROLE {name}")


# -- the triggers of a capture: who may write gains nothing ---------------------------------------------------

_WRITES = {
    "insert": "INSERT INTO public.trees VALUES (9, 'x', 1, '\\\\'), (10, 'y', 2, NULL)",
    "update": "UPDATE public.trees SET height = 7",
    "one-row update": "UPDATE public.trees SET height = 7 WHERE tag OPERATOR(pg_catalog.=) 1",
    "delete": "DELETE FROM public.trees",
    "truncate": "TRUNCATE public.trees",
}
_NAMES = ["text", "int2", "int4", "int8", "oid", "record", "regclass", "bool", "name", "tid", "regrole", '"char"', "float8", "numeric"]
_CALLS = ["row_number()", "concat(text, text, text)", "current_setting(text, bool)", "clock_timestamp()", "pg_get_userbyid(oid)"]


def _types(at: str) -> list[str]:
    return [f"CREATE DOMAIN {at}.{name} AS pg_catalog.{name if name != 'record' else 'text'} CHECK ({at}.grab())" for name in _NAMES]


def _functions(at: str) -> list[str]:
    body = f"LANGUAGE plpgsql AS $$ BEGIN PERFORM {at}.grab(); RETURN NULL; END $$"
    made = [f"CREATE FUNCTION {at}.{call} RETURNS pg_catalog.text {body}" for call in _CALLS]
    for kind in ("text", "int4", "numeric", "bool", "oid"):
        kind = f"pg_catalog.{kind}"
        made.append(f"CREATE FUNCTION {at}.alike({kind}, {kind}) RETURNS pg_catalog.bool {body}")
        made += [f"CREATE OPERATOR {at}.{sign} (LEFTARG = {kind}, RIGHTARG = {kind}, FUNCTION = {at}.alike)" for sign in ("=", "<>", "||", "+")]
    return made


def _tables(at: str) -> list[str]:
    names = ["pg_attribute", "pg_class", "rmend_old", "rmend_new", "trees", "trees_history"]
    return [f"CREATE {'TEMPORARY ' if at == 'pg_temp' else ''}VIEW {at}.{name} AS SELECT *, {at}.grab() AS g FROM public.trees" for name in names]


def _settings(at: str) -> list[str]:
    return ["SET standard_conforming_strings = off", "SET transform_null_equals = on", "SET rmend.aside = 'x'"]


_PLANTED = {"types": _types, "functions": _functions, "tables": _tables, "settings": _settings}
_PATHS = {"pg_temp": "pg_temp, public", "lair": "lair, public, pg_catalog", "both": "pg_temp, lair, pg_catalog, public"}
_ALTERED = ["ALTER TABLE trees ALTER COLUMN height TYPE bigint", "ALTER TABLE trees RENAME COLUMN kind TO species"]


@pytest.mark.parametrize("path", _PATHS)
@pytest.mark.parametrize("write", _WRITES)
def test_who_writes_to_a_captured_table_gains_no_rights(mallory: Mallory, write: str, path: str) -> None:
    """Mallory may do one thing to a table that a superuser has captured, and sets up his session as he likes."""
    verb = write.split()[-1].upper()
    run = mallory.database.run
    run('CREATE TABLE trees (tag int PRIMARY KEY, kind text, height int, "a\\\'b" text)', "INSERT INTO trees VALUES (1, 'a', 1), (2, 'b', 2)")
    run(f"GRANT {verb}, SELECT ON trees TO {mallory.me}")
    url, own = mallory.database.url, "coalesce(old.kind, new.kind, '') <> 'c:\\'"
    schemas = ["pg_temp", "lair"] if path == "both" else [path]
    for state in ("as made", "altered", "with SQL of its owner's"):
        if state != "altered":
            rm.capture(url, "trees", when=own if "SQL" in state else None)
        for sort, plant in _PLANTED.items():
            run("DELETE FROM trees", "INSERT INTO trees VALUES (1, 'a', 1), (2, 'b', 2)", "DELETE FROM trees_history")
            with mallory.at_work() as link:
                for at in schemas:
                    link.run(mallory.grab(at))
                    for statement in plant(at):
                        link.run(statement)
                link.run(f"SET search_path = {_PATHS[path]}")
                link.run(_WRITES[write])
                link.run("RESET ALL")
                link.run("DROP SCHEMA lair CASCADE")
                link.run("DISCARD TEMP")
            run(f"CREATE SCHEMA lair AUTHORIZATION {mallory.me}")
            assert mallory.gained() == 0, (sort, state)
            recorded = pa.concat_tables(mallory.database.link.query("SELECT DISTINCT action FROM trees_history WHERE batch_no IS NULL"))
            assert recorded["action"].to_pylist() == [{"truncate": "delete"}.get(write, write.split()[-1])], (sort, state)
        if state == "as made":
            run(*_ALTERED)
        elif state == "altered":
            rm.stop_capture(url, "trees")
            run("ALTER TABLE trees RENAME COLUMN species TO kind")


def test_a_capture_gives_the_owner_of_the_table_nobodys_rights(mallory: Mallory) -> None:
    """A superuser captures a table of Mallory's, who gives a column a type with a cast of his."""
    run, url = mallory.database.run, mallory.database.url
    run("CREATE TABLE lair.trees (tag int PRIMARY KEY, kind text)", f"ALTER TABLE lair.trees OWNER TO {mallory.me}")
    rm.capture(url, "lair.trees")
    run("INSERT INTO lair.trees VALUES (1, 'a')")
    assert rm.history(url, "lair.trees").num_rows == 1
    assert rm.captures(url)[0].notes == []
    pair = "CREATE FUNCTION lair.cast_pair(lair.pair) RETURNS pg_catalog.text LANGUAGE plpgsql AS $$ BEGIN PERFORM lair.grab(); RETURN 'x'; END $$"
    cast = "CREATE CAST (lair.pair AS pg_catalog.text) WITH FUNCTION lair.cast_pair AS IMPLICIT"
    alter = "ALTER TABLE lair.trees ALTER COLUMN kind TYPE lair.pair USING NULL"
    with mallory.at_work(mallory.grab("lair"), "CREATE TYPE lair.pair AS (a int)", pair, cast, alter):
        pass
    run("INSERT INTO lair.trees VALUES (2, ROW(3))", "UPDATE lair.trees SET kind = ROW(4)", "TRUNCATE lair.trees")
    assert mallory.gained() == 0
    merged = rm.captures(url)[0].notes
    assert any("kind" in note for note in merged)


@pytest.mark.parametrize("given", ["a history of a superuser's", "a trigger of another's", "a history of another's", "another's table"])
def test_a_capture_that_would_give_rights_away_is_refused(mallory: Mallory, given: str) -> None:
    run, url = mallory.database.run, mallory.database.url
    run("CREATE TABLE trees (tag int PRIMARY KEY, kind text)")
    rm.merge(rm.Job(store=url, table="trees", key="tag"), [{"tag": 1}])
    trap = "CREATE FUNCTION lair.trap() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN PERFORM lair.grab(); RETURN NEW; END $$"
    user, said, error = url, "", rm.JobError
    if given == "a history of a superuser's":
        run(f"ALTER TABLE trees OWNER TO {mallory.me}")
        said = f'could act with the rights of postgres.*ALTER TABLE .* OWNER TO "{mallory.me}"'
    elif given == "a trigger of another's":
        run(f"GRANT TRIGGER ON trees_history TO {mallory.me}")
        with mallory.at_work(mallory.grab("lair"), trap, "CREATE TRIGGER trap BEFORE INSERT ON public.trees_history FOR EACH ROW EXECUTE FUNCTION lair.trap()"):
            pass
        said = f"trap of {mallory.me}.*rights of postgres.*drop"
    elif given == "a history of another's":
        run(f"ALTER TABLE trees OWNER TO {mallory.bob}", f"ALTER TABLE trees_history OWNER TO {mallory.me}")
        said, error = f"trees_history belongs to {mallory.me}", rm.StoreError
    else:
        run(
            f"ALTER TABLE trees OWNER TO {mallory.bob}",
            f"ALTER TABLE trees_history OWNER TO {mallory.bob}",
            f"GRANT ALL ON trees, trees_history TO {mallory.me}",
            f"GRANT CREATE ON SCHEMA public TO {mallory.me}",
            "GRANT SELECT, INSERT, UPDATE ON rmend_batches, rmend_details TO PUBLIC",
        )
        user, said = url.replace("postgres@", f"{mallory.me}@"), f"let {mallory.bob} run it"
    with pytest.raises(error, match=said):
        rm.capture(user, "trees")
    run("INSERT INTO trees VALUES (2, 'b')")
    assert mallory.gained() == 0
    assert rm.captures(url) == []


_REPLACED = [("DROP TABLE yard.trees_history",), ("ALTER SCHEMA yard RENAME TO yard2", "CREATE SCHEMA yard", "GRANT ALL ON SCHEMA yard, yard2 TO PUBLIC")]


@pytest.mark.parametrize("replaced", _REPLACED, ids=["history", "schema"])
def test_the_owner_of_a_schema_cannot_slip_in_a_table_of_theirs(mallory: Mallory, replaced: tuple[str, ...]) -> None:
    """Bob captures his table in Mallory's schema, who puts other tables where the triggers write to, or read from."""
    run, bob = mallory.database.run, mallory.database.url.replace("postgres@", f"{mallory.bob}@") + "?options=-csearch_path%3Dyard"
    run(
        f"CREATE SCHEMA yard AUTHORIZATION {mallory.me}",
        f"GRANT ALL ON SCHEMA yard TO {mallory.bob}",
        f"GRANT CREATE ON DATABASE {mallory.database.name} TO {mallory.me}",
    )
    with mallory.at_work(
        "CREATE TABLE yard.trees (tag int PRIMARY KEY, kind text)", "INSERT INTO yard.trees VALUES (1, 'a'), (2, 'b')", role=mallory.bob
    ) as link:
        rm.capture(bob, "trees", deletes="mark", mark={"kind": "'gone'"}, truncate="record")
        link.run("CREATE TABLE yard.logs (tag int PRIMARY KEY)")
        rm.capture(bob, "logs")
        trap = "CREATE FUNCTION lair.trap() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN PERFORM lair.grab(); RETURN NULL; END $$"
        with mallory.at_work(mallory.grab("lair"), "GRANT USAGE ON SCHEMA lair TO PUBLIC", trap) as evil:
            for statement in replaced:
                evil.run(statement)
            columns = "change_no bigint GENERATED BY DEFAULT AS IDENTITY, batch_no bigint, action text, changed text, changed_at timestamptz"
            columns += ", actor text, application text, reason text"
            evil.run(f"CREATE TABLE yard.trees_history ({columns}, old_tag int, new_tag int, old_kind text, new_kind text)")
            made = ["trees_history"]
            if len(replaced) > 1:
                evil.run("CREATE TABLE yard.trees (tag int, kind text)")
                evil.run("CREATE VIEW yard.logs AS SELECT 1 AS tag WHERE lair.grab()")
                made.append("trees")
            for name in made:
                evil.run(f"CREATE TRIGGER trap BEFORE INSERT OR UPDATE ON yard.{name} FOR EACH STATEMENT EXECUTE FUNCTION lair.trap()")
                evil.run(f"GRANT ALL ON yard.{name} TO PUBLIC")
        at = "yard2" if len(replaced) > 1 else "yard"
        writes = [f"INSERT INTO {at}.trees VALUES (7, 'x')", f"UPDATE {at}.trees SET kind = 'y'", f"DELETE FROM {at}.trees"]
        for write in [*writes, *([f"TRUNCATE {at}.logs"] if at == "yard2" else [])]:
            with pytest.raises(rm.StoreError, match="refresh"):
                link.run(write)
    assert mallory.gained() == 0


def test_captures_of_earlier_versions_are_found_and_mended(mallory: Mallory) -> None:
    run, url = mallory.database.run, mallory.database.url
    run("CREATE TABLE trees (tag int PRIMARY KEY, kind text)")
    rm.capture(url, "trees")
    job, tags = rm.Job(store=url, table="trees", key="tag"), itertools.count()

    def told() -> list[list[str]]:
        return [rm.check(job).warnings, rm.captures(url)[0].notes, rm.merge(job, [{"tag": next(tags)}]).warnings]

    assert not any("rights" in note for notes in told() for note in notes)
    names = "SELECT p.oid::regprocedure::text AS n FROM pg_catalog.pg_proc AS p WHERE p.proname ^@ 'rmend_capture_'"
    for row in pa.concat_tables(mallory.database.link.query(names)).to_pylist():
        run(f"ALTER FUNCTION {row['n']} RESET search_path")
    for notes in told():
        assert any("can act with the rights of postgres" in note and "refresh the capture now" in note for note in notes), notes
    rm.refresh_capture(url, "trees")
    assert not any("rights" in note for notes in told() for note in notes)
    run(f"ALTER TABLE trees_history OWNER TO {mallory.bob}")
    (danger,) = rm.captures(url)[0].notes
    assert f"history belongs to {mallory.bob}, and its triggers to postgres" in danger


# -- tables that others planted, and tables that are only looked at -------------------------------------------

_OURS = ["rmend_batches", "rmend_details", "trees_history", "rmend_followers", "rmend_captures", "rmend_synced", "trees"]
_PAIR = [
    "CREATE TYPE lair.pair AS (a pg_catalog.text)",
    "CREATE FUNCTION lair.read(lair.pair) RETURNS pg_catalog.text LANGUAGE plpgsql AS $$ BEGIN PERFORM lair.grab(); RETURN ($1).a; END $$",
    "CREATE CAST (lair.pair AS pg_catalog.text) WITH FUNCTION lair.read AS IMPLICIT",
]
_ENUM = [
    "CREATE TYPE lair.word AS ENUM ('merge', 'insert', 'done', 'trees', 'on', 'map')",
    "CREATE FUNCTION lair.read(lair.word) RETURNS pg_catalog.text LANGUAGE plpgsql AS $$ BEGIN PERFORM lair.grab(); RETURN 'x'; END $$",
    "CREATE CAST (lair.word AS pg_catalog.text) WITH FUNCTION lair.read AS IMPLICIT",
]
_TRUE = "CREATE FUNCTION lair.seen(int) RETURNS int IMMUTABLE LANGUAGE plpgsql AS $$ BEGIN PERFORM lair.grab(); RETURN 1; END $$"
_TRAPS: dict[str, list[str]] = {
    # what Mallory makes of a table {t} with a text column {c} and a number {n}
    "composite": [*_PAIR, "ALTER TABLE {t} ALTER COLUMN {c} TYPE lair.pair USING ROW({c})"],
    "enum": [*_ENUM, "ALTER TABLE {t} ALTER COLUMN {c} TYPE lair.word USING 'on'"],
    "domain": ["CREATE DOMAIN lair.word AS pg_catalog.text CHECK (lair.grab())", "ALTER TABLE {t} ALTER COLUMN {c} TYPE lair.word"],
    "domain of numbers": ["CREATE DOMAIN lair.word AS pg_catalog.int8 CHECK (lair.grab())", "ALTER TABLE {t} ALTER COLUMN {n} TYPE lair.word"],
    "array": [*_PAIR, "ALTER TABLE {t} ALTER COLUMN {c} TYPE lair.pair[] USING '{}'"],
    "index": [_TRUE, "CREATE INDEX i ON {t} ((lair.seen(1)))"],
    "partial index": [_TRUE, "CREATE INDEX i ON {t} ({n}) WHERE lair.seen(1) = 1"],
    "statistics": [_TRUE, "CREATE STATISTICS lair.s ON {n}, (lair.seen(1)) FROM {t}"],
    "check of a child": [_TRUE, "CREATE TABLE lair.child (CHECK (lair.seen(1) = 1)) INHERITS ({t})"],
    "row security": ["ALTER TABLE {t} ENABLE ROW LEVEL SECURITY", "CREATE POLICY p ON {t} TO PUBLIC USING (lair.grab())"],
    "view": ["ALTER TABLE {t} RENAME TO behind", "CREATE VIEW {t} AS SELECT * FROM public.behind WHERE lair.grab()"],
    "rule": ["CREATE RULE r AS ON UPDATE TO {t} DO ALSO SELECT lair.grab()"],
    "trigger": [
        "CREATE FUNCTION lair.trap() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN PERFORM lair.grab(); RETURN NEW; END $$",
        "CREATE TRIGGER trap BEFORE INSERT OR UPDATE OR DELETE ON {t} FOR EACH STATEMENT EXECUTE FUNCTION lair.trap()",
    ],
    "default": ["ALTER TABLE {t} ADD COLUMN extra pg_catalog.bool DEFAULT lair.grab()"],
}  # fmt: skip
_COLUMNS = {
    "rmend_batches": ("job", "skipped"), "trees_history": ("reason", "batch_no"), "rmend_followers": ("held_by", "batch_no"),
    "rmend_details": ("role", "row_count"), "rmend_captures": ("options", "position"), "rmend_synced": ("source", "batch_no"), "trees": ("kind", "height"),
}  # fmt: skip


def _looks(store: rm.PostgreSQLStore, to: rm.MemoryStore) -> dict[str, Any]:
    """All that only looks at a store, or at our own tables in it, by name."""
    job = rm.Job(store=store, table="trees", key="tag")
    batch = [{"tag": 1, "kind": "z"}, *({"tag": n} for n in range(100, 200))]
    found = {"table": "trees", "match": {"tag": "n"}, "take": "kind", "none": "null"}
    pair = rm.Sync(store=store, table="trees", to_store=to, to_table="trees", follower="map")
    return {
        "preview": lambda: rm.preview(job, batch), "explain": lambda: rm.explain(job, batch, key={"tag": 1}), "check": lambda: rm.check(job, batch),
        "history": lambda: rm.history(store, "trees", actor="x"), "life": lambda: rm.history(store, "trees", key={"tag": 1}),
        "batches": lambda: rm.batches(store), "verify": lambda: rm.verify(store, "trees"), "as_of": lambda: rm.as_of(store, "trees", batch=1),
        "undo": lambda: rm.undo(store, 1, preview=True), "prune": lambda: rm.prune(store, "trees", before_batch=1, preview=True),
        "captures": lambda: rm.captures(store), "capture": lambda: rm.capture(store, "logs", preview=True), "followers": lambda: rm.followers_of(store),
        "lookup": lambda: rm.preview(rm.Job(store=store, table="safe", key="tag", lookup={"kind": found}), [{"tag": 1, "n": 1}]),
        "sync": lambda: rm.sync(pair), "compare": lambda: rm.compare(pair),
    }  # fmt: skip


@pytest.mark.slow
@pytest.mark.parametrize("trap", _TRAPS)
def test_looking_runs_nobody_elses_code(mallory: Mallory, trap: str) -> None:
    """A superuser looks where one table after the other is Mallory's, who has made something of it that runs."""
    run = mallory.database.run
    for table in _OURS:
        run(
            "DROP TABLE IF EXISTS trees, logs, trees_history, rmend_batches, rmend_details, rmend_followers, rmend_captures, rmend_synced, behind, safe CASCADE"
        )
        run("CREATE TABLE safe (tag int PRIMARY KEY, kind text)")
        run("CREATE TABLE trees (tag int PRIMARY KEY, kind text, height bigint)", "CREATE TABLE logs (tag int PRIMARY KEY)")
        store = rm.PostgreSQLStore(mallory.database.url)
        memory = rm.MemoryStore({"trees": pa.table({"tag": pa.array([], pa.int32()), "kind": pa.array([], pa.string()), "height": pa.array([], pa.int64())})})
        job = rm.Job(store=store, table="trees", key="tag")
        rm.merge(job, [{"tag": n, "kind": "oak", "height": 3} for n in range(60)])
        rm.capture(store, "trees")
        with rm.Follower(store, "trees", "reader") as follower:
            list(follower.changes())
            follower.acknowledge()
        run("CREATE TABLE IF NOT EXISTS rmend_synced (sync_no bigint GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY, source text, batch_no bigint)")
        run(f"ALTER TABLE {table} OWNER TO {mallory.me}", f"GRANT CREATE, USAGE ON SCHEMA public TO {mallory.me}")
        text, number = _COLUMNS[table]
        with mallory.at_work(mallory.grab("lair"), "SET row_security = off") as link:
            for statement in _TRAPS[trap]:
                link.run(statement.replace("{t}", f"public.{table}").replace("{c}", text).replace("{n}", number))
        refused = {}
        for name, look in _looks(store, memory).items():
            try:
                look()
            except rm.Error as error:
                refused[name] = str(error)
        assert mallory.gained() == 0, (table, refused)
        store.close()
        if trap in ("trigger", "default", "rule"):  # which only run when somebody writes, or not at all
            assert table != "trees" or "preview" not in refused
        elif table == "trees":
            assert {"preview", "explain", "history", "lookup", "sync"} <= set(refused), refused
            assert "add trust_owner=true to the store URL" in refused["preview"]
            trusting = rm.PostgreSQLStore(f"{mallory.database.url}?trust_owner=true")
            assert "trust_owner" in str(rm.check(rm.Job(store=mallory.database.url, table="trees", key="tag")).problems)
            rm.check(rm.Job(store=trusting, table="trees", key="tag"))
            trusting.close()
        run(f"DROP OWNED BY {mallory.me} CASCADE", "CREATE SCHEMA lair", f"ALTER SCHEMA lair OWNER TO {mallory.me}")


# -- MariaDB: what a writer's session says -------------------------------------------------------------------

_SESSIONS = [
    "SET insert_id = 9223372036854775806", "SET insert_id = 1", "SET auto_increment_increment = 60000, auto_increment_offset = 50000",
    "SET timestamp = 5", "SET timestamp = 2000000000", "SET time_zone = '+13:00'", "SET time_zone = 'SYSTEM'",
    "SET sql_mode = 'NO_AUTO_VALUE_ON_ZERO,PIPES_AS_CONCAT,ANSI_QUOTES'",
    "SET unique_checks = 0, foreign_key_checks = 0, check_constraint_checks = 0", "SET @rmend_next = 1, @rmend_v0 = 7, @rmend_aside = '', @rmend_d0 = 1",
    "SET old_mode = 'ZERO_DATE_TIME_CAST', lc_time_names = 'ja_JP'", "SET group_concat_max_len = 4, max_sort_length = 64",
    "SET sql_mode = 'EMPTY_STRING_IS_NULL,STRICT_ALL_TABLES,NO_BACKSLASH_ESCAPES,TIME_ROUND_FRACTIONAL'", "SET sql_mode = 'MAXDB,ORACLE'",
    "SET sql_mode = 'MSSQL,HIGH_NOT_PRECEDENCE'",
    "SET default_storage_engine = MEMORY, tx_isolation = 'SERIALIZABLE'", "SET sql_auto_is_null = 1, last_insert_id = 9", "SET rand_seed1 = 1, rand_seed2 = 1",
    "SET div_precision_increment = 0", "SET character_set_client = latin1, collation_connection = latin1_bin",
]  # fmt: skip


@pytest.mark.mariadb
def test_no_session_chooses_numbers_or_times_of_changes() -> None:
    with servers.database("mariadb") as database:
        run, name = database.run, f"'wr_{database.name[-8:]}'@'127.0.0.1'"
        run("CREATE TABLE trees (tag int PRIMARY KEY, kind varchar(20), height smallint)", "INSERT INTO trees VALUES (1, 'a', 1), (2, 'secret', 2)")
        rm.capture(database.url, "trees")
        run(f"CREATE USER {name}", f"GRANT INSERT, UPDATE, DELETE ON {database.name}.trees TO {name}", f"GRANT SELECT (tag) ON {database.name}.trees TO {name}")
        try:
            store = open_store(database.url.replace("root@", f"wr_{database.name[-8:]}@"))
            for at, session in enumerate(_SESSIONS):
                link = store.connect()  # type: ignore[attr-defined]
                link.run(session)
                link.run(f"INSERT INTO trees VALUES ({100 + at}, 'x', 1)")
                link.run(f"UPDATE trees SET height = 9 WHERE tag = {100 + at}")
                link.close()
            changes = rm.history(database.url, "trees").to_pylist()
            assert [one["change_no"] for one in changes] == list(range(1, 1 + 2 * len(_SESSIONS)))
            now = datetime.now(UTC)
            assert all(abs((one["changed_at"] - now).total_seconds()) < 120 for one in changes), [one["changed_at"] for one in changes]
            run("ALTER TABLE trees MODIFY height bigint", "ALTER TABLE trees RENAME COLUMN kind TO species")  # the careful way from now on
            link = store.connect()  # type: ignore[attr-defined]
            link.run("DELETE FROM trees WHERE tag = 2")
            seen = link.ask(f"SELECT {', '.join(f'@rmend_v{n} AS v{n}' for n in range(6))}")
            assert set(seen[0].values()) == {None}
            link.close()
            store.close()
            rm.refresh_capture(database.url, "trees")
            assert rm.captures(database.url)[0].notes == [one for one in rm.captures(database.url)[0].notes if "TRUNCATE" in one]
            run("ALTER TABLE trees_history MODIFY change_no bigint NOT NULL AUTO_INCREMENT")  # as earlier versions had it
            job = rm.Job(store=database.url, table="trees", key="tag")
            for notes in (rm.captures(database.url)[0].notes, rm.check(job).warnings, rm.merge(job, [{"tag": 500}]).warnings):
                assert any("choose the numbers and times" in note for note in notes), notes
            rm.refresh_capture(database.url, "trees")
            rm.merge(job, [{"tag": 501}])
            run("INSERT INTO trees VALUES (502, 'y', 3)")
            numbers = rm.history(database.url, "trees")["change_no"].to_pylist()
            assert (len(set(numbers)), numbers) == (len(numbers), sorted(numbers))
            run("DROP SEQUENCE trees_history_numbers")
            assert any("is gone: refresh" in note for note in rm.captures(database.url)[0].notes)
            rm.refresh_capture(database.url, "trees")
            run("INSERT INTO trees VALUES (503, 'y', 3)")
        finally:
            run(f"DROP USER {name}")
