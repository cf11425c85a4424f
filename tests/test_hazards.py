# ruff: noqa: E501
"""What a table, a database or a record brings that a merge cannot take as usual: refused, rejected, or said."""

from __future__ import annotations

import gzip
import json
import os
import random
import re
import sqlite3
import subprocess
import sys
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

import rapid_mender as rm
from rapid_mender.stores.urls import open_store

from . import commands, length, servers
from .databases import FEW_AND_MANY, both, every, table

# -- the history replays, or says that it does not ---------------------------------------------------------------

_SELF = "CREATE TABLE t (id bigint PRIMARY KEY, up bigint, code varchar(9), FOREIGN KEY (up) REFERENCES t (id) {})"
_ROUND = (
    "CREATE TABLE u (id bigint PRIMARY KEY, back bigint)",
    "CREATE TABLE t (id bigint PRIMARY KEY, up bigint, code varchar(9), FOREIGN KEY (up) REFERENCES u (id) {0})",
    "ALTER TABLE u ADD FOREIGN KEY (back) REFERENCES t (id) {0}",
)


@every
@pytest.mark.parametrize("rule", ["ON DELETE CASCADE", "ON DELETE SET NULL", "ON UPDATE CASCADE", ""])
@pytest.mark.parametrize("way", ["itself", "over another"])
def test_references_that_come_back_are_refused_where_they_would_change_other_rows(kind: str, rule: str, way: str, tmp_path: Path) -> None:
    ddl = [one.format(rule) for one in ([_SELF] if way == "itself" else _ROUND)]
    if kind == "sqlite" and way != "itself":
        ddl = [f"CREATE TABLE u (id bigint PRIMARY KEY, back bigint, FOREIGN KEY (back) REFERENCES t (id) {rule})", ddl[1]]
    with table(kind, tmp_path, *ddl, "INSERT INTO t (id, code) VALUES (1, 'a'), (2, 'b')") as (url, _):
        copy = rm.Job(store=url, table="t", key="id", missing="delete")
        by_code = rm.Job(store=url, table="t", key="code")
        for job, batch, bad in ((copy, [{"id": 1, "code": "c"}], "DELETE" in rule), (by_code, [{"id": 1, "code": "c"}], "UPDATE" in rule)):
            problems = rm.check(job, pa.Table.from_pylist(batch)).problems
            assert bool(problems) == bad, problems
            if bad:
                with pytest.raises(rm.JobError, match=r"other rows of 't'.*history = false"):
                    rm.merge(job, pa.Table.from_pylist(batch))
        assert rm.merge(rm.Job(store=url, table="t", key="id"), [{"id": 1, "code": "d"}]).counts["update"] == 1
        assert rm.merge(copy.model_copy(update={"history": False}), [{"id": 1}]).counts["delete"] == 1


_TRIGGERS = {
    "sqlite": ["CREATE TRIGGER own AFTER UPDATE OF v ON t BEGIN UPDATE t SET n = n + 10 WHERE id = NEW.id; END",
               "CREATE TRIGGER other AFTER UPDATE OF v ON t BEGIN UPDATE t SET n = n + 1 WHERE id = 3; END"],
    "postgresql": ["CREATE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN UPDATE t SET n = n + 10 WHERE id = NEW.id; RETURN NULL; END $$",
                   "CREATE TRIGGER own AFTER UPDATE OF v ON t FOR EACH ROW EXECUTE FUNCTION f()",
                   "CREATE FUNCTION g() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN UPDATE t SET n = n + 1 WHERE id = 3; RETURN NULL; END $$",
                   "CREATE TRIGGER other AFTER UPDATE OF v ON t FOR EACH ROW EXECUTE FUNCTION g()"],
}  # fmt: skip


@pytest.mark.parametrize("kind", ["sqlite", "postgresql"])
@pytest.mark.parametrize("late", [False, True])
def test_rows_that_triggers_change_are_recorded_or_counted(kind: str, late: bool, tmp_path: Path) -> None:
    own, other = _TRIGGERS[kind][: len(_TRIGGERS[kind]) // 2], _TRIGGERS[kind][len(_TRIGGERS[kind]) // 2 :]
    if late and kind == "postgresql":
        other = [other[0], other[1].replace("TRIGGER", "CONSTRAINT TRIGGER").replace("FOR EACH", "DEFERRABLE INITIALLY DEFERRED FOR EACH")]
    rows = "INSERT INTO t (id, v, n) VALUES (1, 1, 0), (2, 2, 0), (3, 3, 0)"
    with table(kind, tmp_path, "CREATE TABLE t (id bigint PRIMARY KEY, v bigint, n bigint)", rows, *own) as (url, run):
        job = rm.Job(store=url, table="t", key="id")
        result = rm.merge(job, [{"id": 1, "v": 5}])
        assert result.warnings == []
        assert rm.batches(url)["unrecorded"].to_pylist() == [0]
        assert rm.history(url, "t")["new_n"].to_pylist() == [10], "what a trigger does to its own row is recorded"
        run(*other)
        assert "has triggers" in " ".join(rm.check(job).warnings)
        result = rm.merge(job, [{"id": 1, "v": 6}])
        assert rm.batches(url)["unrecorded"].to_pylist() == [0, 1]
        assert "1 rows that nobody sent were changed by triggers of t" in " ".join(result.warnings)
        assert not rm.merge(job, [{"id": 1, "v": 6}]).landed
        assert rm.merge(job.model_copy(update={"history": False}), [{"id": 1, "v": 7}]).warnings == []


@pytest.mark.mariadb
@pytest.mark.parametrize("engine", ["MyISAM", "Aria", "MEMORY"])
def test_a_table_that_cannot_undo_is_refused_unless_the_job_accepts_it(engine: str, tmp_path: Path) -> None:
    ddl = f"CREATE TABLE t (id bigint PRIMARY KEY, v bigint, u bigint UNIQUE) ENGINE = {engine}"
    with table("mariadb", tmp_path, ddl) as (url, _):
        job = rm.Job(store=url, table="t", key="id")
        batch = [{"id": n, "v": n, "u": min(n, 90)} for n in range(100)]
        assert "cannot undo" in rm.check(job).problems[0]
        with pytest.raises(rm.JobError, match=r"cannot undo.*without_undo = true"):
            rm.merge(job, batch)
        accepts = job.model_copy(update={"without_undo": True})
        assert (counts := rm.merge(accepts, batch).counts)["insert"] == 91
        assert counts["reject"] == 9
        assert rm.merge(accepts, batch).counts["skip"] == 91
        assert rm.history(url, "t").num_rows == 91
        with pytest.raises(rm.LimitError, match="what it wrote so far stays"):
            rm.merge(rm.Job(store=url, table="t", key="id", without_undo=True, max_rejects=0), [{"id": 500, "v": 1, "u": 500}, {"id": 501, "u": 1}])


@every
def test_a_history_that_cannot_be_made_is_found_by_check(kind: str, tmp_path: Path) -> None:
    wide = {"sqlite": 1100, "postgresql": 900, "mariadb": 600}[kind]
    columns = ", ".join(f"c{n} smallint" for n in range(wide))
    with table(kind, tmp_path, f"CREATE TABLE t (id bigint PRIMARY KEY, {columns})") as (url, run):
        job = rm.Job(store=url, table="t", key="id")
        assert f"it would have {2 * wide + 10:,} columns" in rm.check(job).problems[0]
        with pytest.raises(rm.JobError, match="history of 't' cannot be made"):
            rm.merge(job, [{"id": 1, "c1": 1}])
        assert rm.merge(job.model_copy(update={"history": False}), [{"id": 1, "c1": 1}]).counts["insert"] == 1
        if kind == "postgresql":
            many = ", ".join(f"c{n} float8" for n in range(520))
            run(f"CREATE TABLE w (id bigint PRIMARY KEY, {many})")
            assert "8,160 fit on a page" in rm.check(rm.Job(store=url, table="w", key="id")).problems[0]
            run(f"CREATE TABLE x (id bigint PRIMARY KEY, {many.replace('float8', 'text').replace(', c400', ');--')}")
            job = rm.Job(store=url, table="x", key="id")
            assert "might not take every change" in rm.check(job).warnings[0]
            full = {"id": 1} | {f"c{n}": "a text of some length" for n in range(300)}
            assert rm.merge(job, [full]).counts["insert"] == 1
            with pytest.raises(rm.StoreError, match=r"x_history.*did not take a row: row is too big.*history = false"):
                rm.merge(job, [full | {f"c{n}": "another text, of more" for n in range(300)}])
        if kind == "mariadb":
            run(f"CREATE TABLE y (id bigint PRIMARY KEY, {', '.join(f'c{n} varchar(190)' for n in range(50))})")
            assert "MariaDB allows 65,535" in rm.check(rm.Job(store=url, table="y", key="id")).problems[0]


@every
def test_numbers_go_on_after_a_history_was_emptied_and_a_counter_fell_behind(kind: str, tmp_path: Path) -> None:
    with table(kind, tmp_path, "CREATE TABLE t (id bigint PRIMARY KEY, v bigint)") as (url, run):
        job = rm.Job(store=url, table="t", key="id")
        for v in range(3):
            rm.merge(job, [{"id": 1, "v": v}, {"id": 2, "v": v}])
        for emptied in ("DELETE FROM t_history", "DELETE FROM t_history WHERE change_no > 7"):
            before = rm.batches(url)["last_change"].to_pylist()[-1]
            run(emptied)
            rm.merge(job, [{"id": 1, "v": 10 + before}])
            assert rm.history(url, "t")["change_no"].to_pylist()[-1] == before + 1
        if kind == "postgresql":
            run("SELECT setval(pg_get_serial_sequence('rmend_batches', 'batch_no'), 1)")
            for v in range(2):
                rm.merge(job, [{"id": 1, "v": 100 + v}])
            numbers = rm.batches(url)["batch_no"].to_pylist()
            assert numbers == sorted(set(numbers))


# -- one record is a reject, and the run goes on ------------------------------------------------------------------

_NOISE = "".join(random.Random(1).choices("abcdefghijklmnopqrstuvwxyz0123456789", k=20_000))
_SAYS_NO = """CREATE FUNCTION no() RETURNS trigger LANGUAGE plpgsql AS
$$ BEGIN IF NEW.n = 7 THEN RAISE EXCEPTION 'no sevens' USING ERRCODE = '{}'; END IF; RETURN NEW; END $$"""
_SIGNAL = "CREATE TRIGGER no BEFORE INSERT ON t FOR EACH ROW IF NEW.n = 7 THEN SIGNAL SQLSTATE '{}' SET MYSQL_ERRNO = {}, MESSAGE_TEXT = 'no sevens'; END IF"
_T = "CREATE TABLE t (id bigint PRIMARY KEY, v text, n bigint)"
_NO = "CREATE TRIGGER no BEFORE INSERT ON t FOR EACH ROW EXECUTE FUNCTION no()"
_LATIN = "CREATE TABLE t (id bigint PRIMARY KEY, v varchar(99) CHARACTER SET {}, n bigint, x longtext, b longblob)"
ONE_RECORD: dict[str, tuple[str, list[str], dict[str, Any], str]] = {
    "an index row": ("postgresql", [_T, "CREATE INDEX ON t (v)"], {"v": _NOISE}, "index row requires"),
    "a SQLSTATE of a trigger's own": ("postgresql", [_T, _SAYS_NO.format("XT123"), _NO], {"n": 7}, "no sevens"),
    "a SQLSTATE of PostgreSQL's": ("postgresql", [_T, _SAYS_NO.format("42501"), _NO], {"n": 7}, "no sevens"),
    "a view's check": ("postgresql", [_T.replace(" t ", " base "), "CREATE VIEW t AS SELECT * FROM base WHERE n < 100 WITH CHECK OPTION"], {"n": 700}, "violates check option"),
    "no partition": ("postgresql", [_T.replace(")", "") + ") PARTITION BY RANGE (id)", "CREATE TABLE p PARTITION OF t FOR VALUES FROM (0) TO (900)"], {"id": 950}, "no partition"),
    "SIGNAL": ("mariadb", [_T, _SIGNAL.format("45000", 31001)], {"n": 7}, "no sevens"),
    "SIGNAL with a number of the server's": ("mariadb", [_T, _SIGNAL.format("ZZ123", 1146)], {"n": 7}, "no sevens"),
    "no MariaDB partition": ("mariadb", [_T + " PARTITION BY RANGE (id) (PARTITION a VALUES LESS THAN (900))"], {"id": 950}, "no partition"),
    "an emoji for latin1": ("mariadb", [_LATIN.format("latin1")], {"v": "\U0001f600"}, "letters"),
    "an emoji for utf8mb3": ("mariadb", [_LATIN.format("utf8mb3")], {"v": "a\U0001f600"}, "letters"),
    "a record past max_allowed_packet": ("mariadb", [_LATIN.format("ascii")], {"x": "y" * 20_000_000}, "room"),
    "a record of quotes": ("mariadb", [_LATIN.format("ascii")], {"x": '"' * 6_000_000}, "room"),
    "bytes past max_allowed_packet": ("mariadb", [_LATIN.format("ascii")], {"b": b"y" * 6_000_000}, "room"),
}  # fmt: skip


@FEW_AND_MANY
@pytest.mark.parametrize("what", [pytest.param(what, marks=getattr(pytest.mark, kind)) for what, (kind, *_) in ONE_RECORD.items()])
def test_one_record_is_a_reject(what: str, count: int, tmp_path: Path) -> None:
    kind, ddl, bad, reason = ONE_RECORD[what]
    with table(kind, tmp_path, *ddl) as (url, _):
        job = rm.Job(store=url, table="t", key="id")
        batch: list[dict[str, Any]] = [{"id": n, "v": "\xe9" if "latin" in str(ddl) else "e", "n": 1} for n in range(count)]
        batch[count // 2] |= bad
        result = rm.merge(job, batch)
        assert (result.counts["insert"], result.counts["reject"]) == (count - 1, 1)
        assert reason in result.rejects["rmend_reason"][0].as_py()
        assert rm.merge(job, batch).counts["skip"] == count - 1


@pytest.mark.postgresql
@pytest.mark.parametrize("encoding", ["LATIN1", "SQL_ASCII", "EUC_JP", "UTF8"])
@pytest.mark.parametrize("client", [None, "LATIN1"])
def test_what_a_server_holds_is_what_was_sent(encoding: str, client: str | None, monkeypatch: pytest.MonkeyPatch) -> None:
    if client:
        monkeypatch.setenv("PGCLIENTENCODING", client)
    with servers.database("postgresql") as admin:
        name = f"{admin.name}_{encoding.lower()}"
        admin.run(f"CREATE DATABASE {name} ENCODING '{encoding}' LC_COLLATE 'C' LC_CTYPE 'C' TEMPLATE template0")
        try:
            url = admin.url.replace(admin.name, name)
            store: Any = open_store(url)
            link = store.connect()
            link.run("CREATE TABLE t (k text PRIMARY KEY, v varchar(20), j jsonb)")
            job = rm.Job(store=store, table="t", key="k", rejects={"table": "refused"})
            # é, → and 😀: LATIN1 has the first, EUC_JP the first two
            odd = ["→", "\U0001f600", "no\0"]
            wrong = {"LATIN1": odd, "EUC_JP": odd[1:]}.get(encoding, odd[2:])
            for count in (3, 100):
                batch = [{"k": f"Zürich {n}", "v": "größe", "j": '{"ü": 1}'} for n in range(count)]
                batch += [{"k": f"{text}{count}", "v": text, "j": "1"} for text in odd] + [
                    {"k": f"j{count}", "v": "a", "j": json.dumps("\U0001f600", ensure_ascii=False)}
                ]
                fits = len(batch) - len(wrong) - (encoding in ("LATIN1", "EUC_JP"))
                result = rm.merge(job, batch)
                assert result.counts["reject"] == len(batch) - fits
                assert rm.merge(job, batch).counts["skip"] == fits
            octets = {"LATIN1": 5, "EUC_JP": 9}.get(encoding, 7)
            found = pa.concat_tables(link.query("SELECT DISTINCT v, octet_length(v) AS n FROM t WHERE k LIKE 'Z%'"))
            assert found.to_pylist() == [{"v": "größe", "n": octets}]
            records = pa.concat_tables(link.query("SELECT rmend_record AS r FROM refused"))["r"].to_pylist()
            assert {json.loads(one)["v"] for one in records} >= set(wrong), "rejects are kept, in escapes if need be"
            if encoding == "SQL_ASCII":
                link.run("INSERT INTO t (k, v) VALUES ('raw', convert_from('\\xe9', 'SQL_ASCII'))")
                with pytest.raises(rm.StoreError, match="invalid byte sequence"):
                    rm.merge(job, [{"k": "raw", "v": "x"}])
            link.close()
            store.close()
        finally:
            admin.run(f"DROP DATABASE {name} WITH (FORCE)")


# -- turns ----------------------------------------------------------------------------------------------------------


def _take_turns(url: str, table: str, number: int, turns: int) -> None:
    job = rm.Job(store=url, table=table, key="id")
    for n in range(turns):
        rm.merge(job, [{"id": number, "v": n}])


@pytest.mark.slow
@both
def test_turns_go_by_the_table_and_not_by_its_name(kind: str, tmp_path: Path) -> None:
    with table(kind, tmp_path, "CREATE TABLE tab (id bigint PRIMARY KEY, v bigint)") as (url, run):
        own = url.rsplit("/", 1)[1]
        if kind == "postgresql":
            run("CREATE SCHEMA another")
            places = [
                (url, "tab"),
                (f"{url}?options=-csearch_path%3Danother,public", "tab"),
                (f"{url}?options=-csearch_path%3Danother", "public.tab"),
                (url, "public.tab"),
                (url, "TAB"),
            ]
        else:
            run(f"CREATE DATABASE {own}_b")
            places = [(url, "tab"), (f"{url}_b", f"{own}.tab"), (url, f"{own}.tab"), (url, "TAB")]
        rm.merge(rm.Job(store=url, table="tab", key="id"), [{"id": 99, "v": 0}])
        turns = length.some(20)
        for end in [commands.forked(_take_turns, at, name, n, turns) for n, (at, name) in enumerate(places)]:
            end()
        numbers = rm.history(url, "tab")["change_no"].to_pylist()
        assert numbers == list(range(1, turns * len(places) + 2)), "every number once, and in order"
        if kind == "mariadb":
            run(f"DROP DATABASE {own}_b")


# -- rights: what each grant allows ----------------------------------------------------------------------------------


@both
def test_every_right_that_is_lacking_is_told_at_once(kind: str, tmp_path: Path) -> None:
    """A user does just what the messages say, and ends with a merge that runs."""
    ddl = ["CREATE TABLE t (id bigint PRIMARY KEY, v bigint)", "INSERT INTO t VALUES (1, 1)"]
    with table(kind, tmp_path, *ddl) as (url, run):
        user = f"u_{url[-8:]}"
        whom = user if kind == "postgresql" else f"{user}@'127.0.0.1'"
        run(f"CREATE ROLE {user} LOGIN" if kind == "postgresql" else f"CREATE USER {whom}", f"GRANT INSERT ON t TO {whom}")
        job = rm.Job(store=url.replace("//postgres@", f"//{user}@").replace("//root@", f"//{user}@"), table="t", key="id")
        try:
            if kind == "postgresql":
                run("CREATE SCHEMA hidden", "CREATE TABLE hidden.secret (id bigint PRIMARY KEY)")
                with pytest.raises(rm.StoreError, match=r"has one.*GRANT USAGE ON SCHEMA"):
                    rm.merge(job.model_copy(update={"table": "secret"}), [{"id": 1}])
            found = rm.check(job)
            assert "may not read every column of 't': GRANT SELECT" in found.problems[0]
            grants = found.warnings[0].partition("will stop: ")[2].split("; ")
            run(f"GRANT SELECT ON t TO {whom}")
            with pytest.raises(rm.StoreError, match="GRANT") as caught:
                rm.merge(job, [{"id": n, "v": 5} for n in range(200)])
            assert not rm.check(job).problems
            assert all(grant in str(caught.value) for grant in grants[1:]), "the first one has SELECT in it"
            assert not any("DELETE" in one or "ALL" in one for one in grants), grants
            run(*grants)
            result = rm.merge(job, [{"id": n, "v": 5} for n in range(200)])
            assert (result.counts["insert"], result.counts["update"]) == (199, 1)
            assert not any("lacks rights" in one for one in rm.check(job).warnings)
        finally:
            run(*([f"DROP OWNED BY {user}", f"DROP ROLE {user}"] if kind == "postgresql" else [f"DROP USER {whom}"]))


@pytest.mark.postgresql
@FEW_AND_MANY
def test_row_security_refuses_rows_and_not_the_run(count: int, tmp_path: Path) -> None:
    ddl = ["CREATE TABLE t (id bigint PRIMARY KEY, n bigint)", "ALTER TABLE t ENABLE ROW LEVEL SECURITY", "CREATE POLICY p ON t USING (true) WITH CHECK (n <> 7)"]  # fmt: skip
    with table("postgresql", tmp_path, *ddl) as (url, run):
        user = f"u_{url[-8:]}"
        run(f"CREATE ROLE {user} LOGIN", f"GRANT ALL ON t TO {user}", f"GRANT CREATE ON SCHEMA public TO {user}")
        try:
            job = rm.Job(store=url.replace("//postgres@", f"//{user}@"), table="t", key="id")
            result = rm.merge(job, [{"id": n, "n": 7 if n == 3 else 1} for n in range(count)])
            assert (result.counts["insert"], result.counts["reject"]) == (count - 1, 1)
            assert "row-level security" in result.rejects["rmend_reason"][0].as_py()
        finally:
            run(f"DROP OWNED BY {user}", f"DROP ROLE {user}")


# -- texts, numbers, room ----------------------------------------------------------------------------------------------


def memory() -> rm.Job:
    store = rm.MemoryStore({"t": pa.table({"id": pa.array([1], pa.int64()), "v": ["a"]})})
    return rm.Job(store=store, table="t", key="id")


@pytest.mark.slow
def test_records_that_cannot_be_written_and_lines_without_an_end(tmp_path: Path) -> None:
    lines = ['{"id": 2, "v": "\\ud800"}', '{"id": 3, "v": "ok"}', '{"id": %s, "v": "x"}' % ("9" * 4301), '{"id": 4, "\\udfff": 1}',
             '{"id": 5, "v": ["\\ud800"]}', '{"id": 6, "v": "\\ud83d\\ude00"}']  # fmt: skip
    (tmp_path / "a.jsonl").write_text("\n".join(lines))
    result = rm.preview(memory(), tmp_path / "a.jsonl")
    assert result.rejects["rmend_row"].to_pylist() == [1, 3, 4, 5]
    assert result.counts["insert"] == 2
    dicts = [{"id": 2, "v": "\ud800"}, {"id": 3, "v": "ok"}, {"id": 10**5000, "v": "x"}, {"id": 7, "v": 10**5000}]
    assert rm.preview(memory(), dicts).rejects["rmend_row"].to_pylist() == [1, 3, 4]
    with gzip.open(tmp_path / "b.jsonl.gz", "wb", 1) as file:
        file.write(b'{"id": 7, "v": "x"}\n{"id": 8, "v": "')
        for _ in range(300):
            file.write(b"y" * 1_000_000)
        file.write(b'"}\n{"id": 9, "v": "z"}\n')
    result = rm.preview(memory(), tmp_path / "b.jsonl.gz")
    assert (result.counts["insert"], result.rejects["rmend_row"].to_pylist()) == (2, [2])
    assert "longer than 64 MiB" in result.rejects["rmend_reason"][0].as_py()


_LIMITED = """
import resource, sys, rapid_mender as rm, pyarrow as pa
{limit}
store = rm.MemoryStore({{"t": pa.table({{"id": pa.array([1], pa.int64()), "v": ["a"]}})}})
try:
    print(rm.merge(rm.Job(store=store, table="t", key="id"), sys.argv[1]).counts["reject"])
except rm.Error as error:
    print(type(error).__name__, error)
print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024)
"""


@pytest.mark.slow
@pytest.mark.parametrize("case", ["a million and more ragged lines", "a temporary folder without room"])
def test_room_and_memory_are_bounded(case: str, tmp_path: Path) -> None:
    count = 1_100_000 if case.startswith("a million") else 400_000
    with (tmp_path / "r.csv").open("w") as file:
        file.write("id,v\n")
        file.writelines(f"{n},x{',and some more text' if 'room' not in case else ' and a text of its own ' * 9}\n" for n in range(count))
    limit = "resource.setrlimit(resource.RLIMIT_FSIZE, (1 << 20, 1 << 20))" if "room" in case else ""
    done = subprocess.run([sys.executable, "-c", _LIMITED.format(limit=limit), tmp_path / "r.csv"], capture_output=True, text=True, check=False)
    assert not done.stderr
    said, peak = done.stdout.splitlines()
    wanted = "1100000" if "room" not in case else "IncomingError the batch does not fit into the folder for temporary files"
    assert re.match(wanted, said), said
    assert int(peak) < 900


def test_rejects_are_written_before_the_commit_or_not_at_all(tmp_path: Path, rmend: Callable[..., Any]) -> None:
    shape = pa.schema([("id", pa.int64()), ("v", pa.string()), ("w", pa.timestamp("us")), ("l", pa.list_(pa.date32())), ("f", pa.float64())])
    rows = [{"id": 1, "v": "=1+1", "w": 300_000_000_000_000_000, "l": [10_000_000], "f": float("nan")}, {"id": 1, "v": "-2"}]
    batch = pa.Table.from_arrays([pa.array([row.get(field.name) for row in rows], field.type) for field in shape], schema=shape)
    job = memory().model_copy(update={"ignore": ["w", "l", "f"]})

    def written(name: str, **more: Any) -> str:
        options = {"rejects": {"path": str(tmp_path / name), **more} if more else str(tmp_path / name)}
        assert rm.merge(rm.Job(**{**job.model_dump(exclude={"rejects"}), "store": job.store, **options}), batch).counts["reject"] == 2
        return (tmp_path / name).read_text()

    first = json.loads(written("r.jsonl").splitlines()[0])
    assert (first["w"], first["l"], first["f"]) == ("11476-08-15 05:20:00", ["29349-01-26"], "nan")
    assert '"=1+1"' in written("r.csv")
    for path, what in ((tmp_path, "is a folder"), (tmp_path / "x.csv" / "y.csv", "there is no folder")):
        with pytest.raises(rm.JobError, match=what):
            rm.merge(job.model_copy(update={"rejects": str(path)}), batch)
    (tmp_path / "batch.csv").write_text("id,v\n1,b\n1,c\n")
    with pytest.raises(rm.JobError, match="is the batch itself"):
        rm.merge(job.model_copy(update={"rejects": str(tmp_path / "batch.csv")}), tmp_path / "batch.csv")
    with closing(sqlite3.connect(tmp_path / "s.db")) as connection:
        connection.execute("CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT)")
    (tmp_path / "j.toml").write_text('store = "sqlite:///s.db"\ntable = "t"\nkey = "id"\nincoming = "batch.csv"\nrejects = { path = "gone/r.csv" }\n')
    assert "there is no folder" in rmend("merge", "j.toml").err
    (tmp_path / "gone").mkdir()
    (tmp_path / "batch.csv").write_text("id,v\n1,b\n2,c\nx,d\n")
    assert rmend("merge", "j.toml").code == 0
    assert (tmp_path / "gone" / "r.csv").read_text().splitlines()[1].split(",")[0::3] == ["4", "1"], "the line and the batch"
    assert not [name for name in os.listdir(tmp_path) if name.startswith(".rmend")]


@every
def test_a_draft_says_nothing_that_a_name_says(kind: str, tmp_path: Path) -> None:
    """A table's name with a line break writes no option; without a primary key in the batch the table is read twice."""
    quote = '`"'[kind != "mariadb"]
    name = 't\nmissing = "delete"\n#'.replace('"', "'") if kind != "mariadb" else "t\nallow = []\n#"
    ddl = f"CREATE TABLE {quote}{name}{quote} (id bigint PRIMARY KEY, a bigint, b varchar(9), c bigint)"
    rows = f"INSERT INTO {quote}{name}{quote} VALUES (1, 1, 'x', 5), (2, 1, 'y', 6)"
    with table(kind, tmp_path, ddl, rows) as (url, _):
        (tmp_path / "in.csv").write_text("a,b,cc\n1,x,5\n1,y,6\n2,x,7\n")
        text = rm.draft(url, name, tmp_path / "in.csv", tmp_path)
        (tmp_path / "d.toml").write_text(text)
        job = rm.Job.load(tmp_path / "d.toml")
        assert (job.table, job.missing, len(job.allow)) == (name, "keep", 3)


@every
def test_long_names_stay_apart_in_the_history(kind: str, tmp_path: Path) -> None:
    """A table of 63 letters, two columns that are alike in 59 of them: a history of its own, by the columns' own names."""
    first, second, name = "c" * 60 + "ä", "c" * 60 + "b", "t" * 63
    quote = "`" if kind == "mariadb" else '"'
    ddl = f"CREATE TABLE {quote}{name}{quote} (id int PRIMARY KEY, {quote}{first}{quote} int, {quote}{second}{quote} varchar(9))"
    with table(kind, tmp_path, ddl) as (url, _):
        job = rm.Job(store=url, table=name, key="id")
        for batch in ([{"id": 1, first: 1, second: "x"}], [{"id": 1, first: 2}]):
            assert rm.merge(job, batch).counts["reject"] == 0
        last = rm.history(url, name, key={"id": 1}).to_pylist()[-1]
        assert [last[f"{side}_{column}"] for column in (first, second) for side in ("old", "new")] == [1, 2, "x", "x"]
        assert last["changed"] == json.dumps([first], ensure_ascii=False)
        assert rm.history(url, name, column=second).num_rows == 0
