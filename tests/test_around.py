# ruff: noqa: E501
"""What stands around a merge: names, secrets, job files and arguments, the batches, waits, what a notebook shows."""

from __future__ import annotations

import gzip
import json
import logging
import os
import signal
import sqlite3
import threading
import time
import traceback
from collections.abc import Callable
from contextlib import closing, suppress
from html.parser import HTMLParser
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
import sqlalchemy as sa
from typer.testing import CliRunner

import rapid_mender as rm
from rapid_mender.cli import app
from rapid_mender.stores.urls import open_store, opened

from . import commands, length, servers
from .databases import table
from .stores import STORES, TABLE

Rmend = Callable[..., Any]


def found(url: str, sql: str) -> list[tuple[Any, ...]]:
    with opened(url) as store, store.begin(write=False) as session:
        return [tuple(row.values()) for page in session.query(sql) for row in page.to_pylist()]


# -- secrets ------------------------------------------------------------------------------------------------------

SECRET = "hush-9"
SPELLED = [
    "me:hush-9@", "me:p%40hush-9@", "me:%zzhush-9@", "me:a@hush-9@", "me:a/hush-9@", "me:a?hush-9@", "me:a#hush-9@", "me:a:hush-9@", "me:hush-9 @",
    "me:%00hush-9@", "me:€hush-9@", "me%3Ahush-9@", "?sslmode=x;password=hush-9", "?user=me&sslrootcert=%20password=hush-9",
    "me:hush-9/", ":hush-9@", "me:hush-9", "?password=hush-9&user=me", "?user=me&PASSWORD=a&hush-9", "?sslpassword=hush-9",
    "me:hush-9%20@", "me:hush-9\t@", "?passwd=hush-9", "?pwd=hush-9", "?passphrase=hush-9", "me:%68ush-9@", "me:hush-9@h1:1,", "?options=-cpassword%3Dhush-9", "me:hush-9%2540@",
]  # fmt: skip


@pytest.mark.parametrize("scheme", ["postgresql://", "mariadb://", "mysql://", "postgres:/", "postgresql", "sqlite://", ""])
@pytest.mark.parametrize("login", SPELLED)
def test_a_password_never_leaves(scheme: str, login: str, tmp_path: Path, caplog: pytest.LogCaptureFixture) -> None:
    """However it is spelt: no error with its causes, no repr, no log line, no draft has it."""
    host = "127.0.0.1:1/d"
    url = f"{scheme}{host}{login}" if login.startswith("?") else f"{scheme}{login}{host}"
    caplog.set_level(logging.DEBUG)
    said: list[str] = []

    def tried(call: Callable[[], Any]) -> None:
        try:
            said.append(f"{call()!r}")
        except rm.Error as error:
            last = error.__traceback__
            said.extend(line for line in traceback.format_exception(type(error), error, last) if "File " not in line)

    (tmp_path / "b.csv").write_text("id\n1\n")
    (tmp_path / "j.toml").write_text(f"store = {json.dumps(url)}\ntable = 't'\nkey = 'id'\ntolerance = 1\n")
    for one in (url, [url], {"url": url}):
        tried(lambda one=one: rm.Job(store=one, table="t", key="id"))  # type: ignore[misc]
    tried(lambda: rm.Job(store="sqlite:///x.db", table="t", key="id", incoming={"query": "SELECT 1", "store": url}))
    tried(lambda: rm.Job(store="sqlite:///x.db", table="t", key="id", incoming={"path": 1, "store": url}))
    tried(lambda: rm.Query(url, "SELECT 1"))
    tried(lambda: rm.Job.load(tmp_path / "j.toml"))
    tried(lambda: open_store(url))
    tried(lambda: rm.merge(rm.Job(store=url, table="t", key="id"), [{"id": 1}]))
    tried(lambda: rm.merge(rm.Job(store=rm.MemoryStore({"t": pa.table({"id": [1]})}), table="t", key="id"), rm.Query(url, "SELECT 1")))
    tried(lambda: rm.history(url, "t"))
    tried(lambda: rm.check(rm.Job(store=url, table="t", key="id"), [{"id": 1}]))
    tried(lambda: rm.draft(url, "t", tmp_path / "b.csv"))
    with suppress(sa.exc.ArgumentError, ValueError):
        tried(lambda: rm.Job(store=sa.make_url(url), table="t", key="id"))
    assert len(said) > 8
    assert [one for one in [*said, caplog.text] if SECRET in one] == []


_WHOLE = [
    "host=db password=hush-9 user=me", "password=hush-9", "PGPASSWORD=hush-9", "Server=h;Uid=u;Pwd=hush-9;", "postgresql://me@h/db&password=hush-9",
    "postgresql://me@h/db;password=hush-9", "mariadb://me@h;password=hush-9/db", "postgresql:me:hush-9@h/db", "me:hush-9@h/db", "jdbc:postgresql://h/db?password=hush-9",
]  # fmt: skip


@pytest.mark.parametrize("url", _WHOLE)
def test_a_password_where_none_belongs_is_not_shown(url: str) -> None:
    """In place of a store, a job file, a batch; in Python and on the command line."""
    with suppress(rm.Error):
        assert SECRET not in repr(rm.Job(store=url, table="t", key="id"))
    for words in (
        ["check", url],
        ["history", url, "--table", "t"],
        ["batches", url, "--json"],
        ["sync", url],
        ["draft", url, "t", url],
        ["capture", "start", url, "t", "--print"],
    ):
        ran = CliRunner().invoke(app, words)
        assert ran.exit_code in (1, 2), (words, ran.output)
        assert SECRET not in ran.output.replace("\n", ""), (words, ran.output)
    with pytest.raises(rm.Error) as error:
        rm.preview(rm.Job(store=rm.MemoryStore({"t": pa.table({"id": [1]})}), table="t", key="id"), url)
    assert SECRET not in str(error.value)


@pytest.mark.postgresql
def test_a_draft_takes_the_password_from_the_environment(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    database = servers.contract("postgresql")
    database.run("DROP SCHEMA IF EXISTS contract CASCADE", "CREATE SCHEMA contract", "CREATE TABLE t (id int PRIMARY KEY)")
    url = database.url.replace("@", ":hush-9@", 1) if "@" in database.url else database.url.replace("://", "://root:hush-9@", 1)
    (tmp_path / "b${X}.csv").write_text("id\n1\n")
    text = rm.draft(url, "t", tmp_path / "b${X}.csv", tmp_path)
    assert SECRET not in text
    (tmp_path / "j.toml").write_text(text)
    monkeypatch.setenv("RMEND_PASSWORD", "hush-9")
    assert rm.merge(rm.Job.load(tmp_path / "j.toml")).counts["insert"] == 1


# -- names --------------------------------------------------------------------------------------------------------

NAMES = [".", ".x", "[0]", "a.b", 'q"`]', "rmend_row", "rmend_text_", "action", "new_v", "x\ny", "\x1b[31m", "[/b]", "ß" * 20, "n" * 63, "self"]


@pytest.mark.parametrize("store", ["memory", "sqlite", "postgresql", "mariadb"])
@pytest.mark.parametrize("name", NAMES)
def test_a_key_may_have_any_name(store: str, name: str, tmp_path: Path) -> None:
    """Merged, explained, looked up in the history, and its rejects come back as what was sent."""
    schema = pa.schema([(name, pa.int64()), ("v", pa.string())])
    rejects = tmp_path / "r.jsonl"
    with STORES[store](schema, [name], [{name: 2, "v": "b"}]) as place:
        job = rm.Job(store=place.store, table=TABLE, key=name, rejects=str(rejects))
        result = rm.merge(job, [{name: n, "v": "x"} for n in (3, 1, 2)] + [{name: "bad", "v": "y"}, {name: None, "v": "z"}])
        assert (result.counts["insert"], result.counts["update"], result.counts["reject"]) == (2, 1, 2)
        assert [row["v"] for row in result.rejects.to_pylist()] == ["y", "z"]
        mended = tmp_path / "mended.jsonl"
        mended.write_text(rejects.read_text().replace('"bad"', "7"))
        again = rm.merge(job, str(mended))
        assert (again.counts["insert"], again.counts["reject"]) == (1, 1)
        assert rm.history(place.store, TABLE, key={name: 7})["new_v"].to_pylist() == ["y"]
        assert rm.explain(job, [{name: 7, "v": "y"}], key={name: 7}).records[0].reason == "unchanged"
        assert {row[name]: row["v"] for row in place.rows()} == {1: "x", 2: "x", 3: "x", 7: "y"}


@pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb"])
def test_a_thousand_columns(kind: str, tmp_path: Path) -> None:
    """Where the database has no room for a history of so many, that is said before a row is read."""
    columns = ", ".join(f"{'c' * 50}_{n} {'smallint' if kind != 'sqlite' else 'int'}" for n in range(900))
    with table(kind, tmp_path, f"CREATE TABLE t (id int PRIMARY KEY, {columns})") as (url, _):
        job = rm.Job(store=url, table="t", key="id")
        record = {"id": 1} | {f"{'c' * 50}_{n}": n for n in range(900)}
        if kind != "sqlite":
            assert any("the history of 't' cannot be made: it would have 1,8" in one for one in rm.check(job, [record]).problems)
            job = rm.Job(store=url, table="t", key="id", history=False)
        assert rm.merge(job, [record]).counts["insert"] == 1
        assert rm.merge(job, [record | {f"{'c' * 50}_899": -1}]).changed == {f"{'c' * 50}_899": 1}


# -- every run is noted -------------------------------------------------------------------------------------------


@pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb"])
def test_every_run_has_its_row_and_its_number(kind: str, tmp_path: Path) -> None:
    with table(kind, tmp_path, "CREATE TABLE t (id int PRIMARY KEY, v int)") as (url, _):
        job = rm.Job(store=url, table="t", key="id")
        good, bad = {"id": 1, "v": 2}, {"id": None}
        for batch in ([bad], [good], [good], []):
            rm.merge(job, batch)
        limited = rm.Job(store=url, table="t", key="id", max_rejects=0, rejects={"table": "bad"})
        for batch, kind_of in (([good | {"v": 3}, bad], rm.LimitError), ("/nowhere.csv", rm.IncomingError)):
            with pytest.raises(kind_of):
                rm.merge(limited, batch)
        torn = tmp_path / "torn.csv"
        torn.write_bytes(b"id,v\n1,5\n" + b"\xff" * 9)
        with pytest.raises(rm.LimitError):
            rm.merge(limited, torn)
        rm.preview(job, [good])
        batches = rm.batches(url)
        assert batches["batch_no"].to_pylist() == [1, 2, 3, 4, 5, 6], "without jumps, also where a run was undone"
        assert batches["status"].to_pylist() == ["done"] * 4 + ["stopped"] * 2
        assert batches["rejected"].to_pylist() == [1, 0, 0, 0, 1, 1]
        assert batches["inserted"].to_pylist() == [0, 1, 0, 0, 0, 0]
        figures = [json.loads(text) for text in batches["figures"].to_pylist()]
        assert [one["records"] for one in figures][:4] == [1, 1, 1, 0]
        assert "max_rejects is 0" in figures[4]["stopped"]
        assert found(url, "SELECT id, v FROM t") == [(1, 2)]


@pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb"])
def test_what_the_database_makes(kind: str, tmp_path: Path) -> None:
    """Keys that records bring leave no counter behind; a key that is made is told; a null may become the default."""
    identity = {"sqlite": "integer", "postgresql": "bigint GENERATED BY DEFAULT AS IDENTITY", "mariadb": "bigint AUTO_INCREMENT"}[kind]
    with table(kind, tmp_path, f"CREATE TABLE t (id {identity} PRIMARY KEY, code varchar(9) UNIQUE, v varchar(9) DEFAULT 'dd' NOT NULL, w int)") as (url, _):
        job = rm.Job(store=url, table="t", key="id", null_key="generate")
        for first, made in ((5, 6), (40_000, 40_001)):
            rm.merge(job, [{"id": first, "code": f"a{first}"}])
            result = rm.merge(job, [{"code": f"b{first}"}, {"id": first, "code": f"a{first}"}])
            assert (result.counts["insert"], result.decisions["id"].to_pylist()) == (1, [made, first])
        by_code = rm.Job(store=url, table="t", key="code", columns={"v": {"null": "default"}}, update_only="v")
        result = rm.merge(by_code, [{"code": "a5", "v": None, "w": 1}, {"code": "b5", "v": "x", "w": 1}, {"code": "c", "v": None, "w": 1}])
        assert [(row["decision"], row["id"]) for row in result.decisions.to_pylist()] == [("skip", 5), ("update", 6), ("insert", 40_002)]
        assert found(url, "SELECT id, v, w FROM t WHERE id IN (5, 6, 40002) ORDER BY id") == [(5, "dd", None), (6, "x", None), (40_002, "dd", 1)]
        assert rm.history(url, "t", batch=result.batch)["new_id"].to_pylist() == [6, 40_002]
        wrong = rm.Job(store=url, table="t", key="code", update_only=["code", "v"], columns={"w": {"null": "default"}, "v": {"write": "never"}})
        assert len(rm.check(wrong).problems) == 3


# -- job files and arguments --------------------------------------------------------------------------------------

HOSTILE = [
    "1", "-1", "0", "9" * 30, "1" * 5000, "true", "1e400", "nan", "inf", "1979-05-27", "07:32:00", "''", "'t'", "'id'", "'${X}'", "'$${'", "'${X:-y}'", "[]", "[[]]", "[1]",
    "['a', 'a']", "{}", "{a = 1}", "{path = 'x.csv'}", "{query = 'select 1'}", "{table = 'r'}", "'existing.a = 1'", "'1 AND'", "'5%'", "'500%'", "'٥%'", "'mark'", "'default'",
    '"\\u0000"', '"\\n\\u001b[31m"', f"'{'x' * 3000}'", "[" * 5000 + "]" * 5000, "{a = {a = {a = 1}}}", "[{decide = 'skip', when = 'matched'}]", "[{when = 1}]",
    f"[{{decide = 'skip', when = '{'(' * 300}1{')' * 300} = 1'}}]", "{n = {tolerance = 1e999}}", "{a = {previous = 'b'}}", "{self = 1}", "{a = {self = 1}}",
]  # fmt: skip


@pytest.mark.parametrize("part", range(4))
def test_a_job_file_is_a_job_or_an_error_of_ours(part: int, tmp_path: Path) -> None:
    with closing(sqlite3.connect(tmp_path / "x.db")) as register:
        register.execute("CREATE TABLE t (id integer PRIMARY KEY, a text, n numeric)")
    names = [
        *rm.Job.model_fields,
        "self",
        "cls",
        "model_config",
        "store.x",
        "incoming.path",
        "incoming.format",
        "incoming.self",
        "columns.a.write",
        "columns.n.tolerance",
    ]
    drawn, path, longest = length.dice(part), tmp_path / "j.toml", 0
    for _ in range(length.some(100)):
        said = {"store": "'sqlite:///x.db'", "table": "'t'", "key": "'id'"}
        said |= {drawn.choice(names): drawn.choice(HOSTILE) for _ in range(drawn.choice([1, 1, 2]))}
        text = "\n".join(f"{name} = {value}" for name, value in said.items())
        at = drawn.randrange(len(text)) if drawn.random() < 0.1 else len(text)
        path.write_text(text[:at] + drawn.choice(["", "\0", '"', "[", "\n"]) + text[at + 1 :])
        try:
            job = rm.Job.load(path)
            repr(job)
            rm.check(job, [{"id": 1, "a": "x", "n": 2.5}])
            rm.merge(job, [{"id": 1, "a": "x", "n": 2.5}, {"id": 2}])
        except rm.Error as error:
            longest = max(longest, len(str(error)))
    assert 0 < longest < 40_000


WORDS = [
    "--json", "--strict", "--by", "a || 1", "1/0", "--key", "id=1", "=", "nope=1", "--limit", "0", "99999999999999999999", "--since", "2026-01-01", "9999-99-99", "--until", "0001-01-01",
    "--action", "nope", "--batch", "-1", "--column", "zz", "--table", "t", "x [b]y[/b]", "", "g.toml", "sqlite:///x.db", "sqlite://x", "nope.toml", "g.csv", "*.csv", "-", "--store", "--set",
    "X=1", "--out", "/dev/full", "/dev/zero", "--force", "\0", "[/b]", "x" * 5000, ".",
]  # fmt: skip
COMMANDS = [
    ["merge", "g.toml"], ["merge", "h.toml", "h.jsonl"], ["merge", "g.toml", "-"], ["preview", "h.toml", "h.jsonl"], ["explain", "g.toml", "--key", "id=1"], ["history", "h.toml"],
    ["history", "sqlite:///x.db", "--table", "t", "--json"], ["batches", "g.toml"], ["check", "h.toml"], ["draft", "sqlite:///x.db", "t", "g.csv", "--out", "o.toml", "--force"],
]  # fmt: skip


def test_arguments_give_a_result_or_an_error_of_ours(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """And whatever is shown has no control character in it, nor takes a value for markup."""
    monkeypatch.chdir(tmp_path)
    with closing(sqlite3.connect("x.db")) as register:
        register.execute("CREATE TABLE t (id integer PRIMARY KEY, a text)")
        register.execute('CREATE TABLE "x [b]y[/b]" ("k\x1b[31m" text PRIMARY KEY, "[/b]" text)')
    Path("g.toml").write_text("store = 'sqlite:///x.db'\ntable = 't'\nkey = 'id'\nincoming = 'g.csv'\n")
    Path("g.csv").write_text("id,a\n1,[/b]\n2,[red]oak\nx,\n")
    Path("h.toml").write_text("store = 'sqlite:///x.db'\ntable = 'x [b]y[/b]'\nkey = \"k\\u001b[31m\"\n")
    Path("h.jsonl").write_text('{"k\\u001b[31m": "[/b]\\u0007", "[/b]": "[link=x]"}\n{"k\\u001b[31m": "\\u202e", "[/b]": "\\n\\r"}\n')
    drawn, codes = length.dice(), set()
    for _ in range(length.some(300)):
        words = list(drawn.choice(COMMANDS))
        for _ in range(drawn.choice([0, 1, 1, 2])):
            words.insert(drawn.randrange(1, len(words) + 1), drawn.choice(WORDS))
        ran = CliRunner().invoke(app, words, input="id,a\n5,z\n")
        assert ran.exception is None or isinstance(ran.exception, SystemExit), (words, ran.exc_info)
        assert not [letter for letter in ran.output if ord(letter) < 32 and letter not in "\n\t"], words
        codes.add(ran.exit_code)
    assert codes >= {0, 1, 2}


def test_batches_from_standard_input_and_several_files(rmend: Rmend, tmp_path: Path) -> None:
    with closing(sqlite3.connect(tmp_path / "x.db")) as register:
        register.execute("CREATE TABLE t (id integer PRIMARY KEY, a text)")
    (tmp_path / "in").mkdir()
    (tmp_path / "in/n.csv").write_text("id,a\n1,x\nbad,y\n2,z\n")
    (tmp_path / "in/s.jsonl").write_text('{"id": 3}\n{"id": 1, "a": "x"}\n{"id\n')
    (tmp_path / "j.toml").write_text("store = 'sqlite:///${DB:-nope.db}'\ntable = '${T}'\nkey = 'id'\nincoming = 'in/*'\nduplicates = 'last'\n")
    assert "--set T=VALUE" in rmend("check", "j.toml").err
    ran = rmend("merge", "j.toml", "--set", "T=t", "--set", "DB=x.db", "--json")
    assert ran.json["counts"] == {"insert": 3, "update": 0, "delete": 0, "skip": 1, "reject": 2}
    reasons = (tmp_path / "j.rejects.csv").read_text()
    assert "in/n.csv, line 3: id: 'bad' is not" in reasons
    assert "in/s.jsonl, line 3: " in reasons
    command = ["merge", "j.toml", "-", "--store", "sqlite:///x.db", "--set", "T=t", "--json"]
    for data, inserts in ((b"id,a\n8,q\n9,\xff\n", 1), (gzip.compress(b"id,a\n10,q\n"), 1), (b"", None)):
        (tmp_path / "piped").write_bytes(data)
        done = rmend(*command, stdin=tmp_path / "piped")
        if inserts is None:
            assert (done.code, "standard input is empty" in done.err) == (1, True)
        else:
            assert done.json["counts"]["insert"] == inserts


def test_what_is_wrong_with_a_key_or_a_time_is_said(tmp_path: Path) -> None:
    store = rm.MemoryStore({"t": pa.table({"id": [1], "b": [2]})})
    job = rm.Job(store=store, table="t", key=["id", "b"])
    for call in (
        lambda: rm.explain(job, [{"id": 1, "b": 2}], key="d"),
        lambda: rm.explain(job, [{"id": 1, "b": 2}], key={"id": 1}),
        lambda: rm.history(store, "t", key=[("id", 1)]),
        lambda: rm.history(store, "t", since="yesterday"),
        lambda: rm.history(store, "t", until=5),
        lambda: rm.history(store, "t", limit=1 << 70),
        lambda: rm.batches(store, limit=-1),
    ):
        with pytest.raises(rm.JobError):
            call()
    rm.merge(job, [{"id": 1, "b": 3}])
    assert rm.history(store, "t", since="2020-01-01", until="9999-12-31T00:00:00+00:00").num_rows == 1


# -- waits, and an end of them ------------------------------------------------------------------------------------


@pytest.mark.slow
@pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb"])
def test_a_wait_is_told_and_a_sigterm_ends_it(kind: str, tmp_path: Path) -> None:
    with table(kind, tmp_path, "CREATE TABLE t (id int PRIMARY KEY, v int)", "INSERT INTO t VALUES (1, 1)") as (url, _):
        (tmp_path / "j.toml").write_text(f"store = {json.dumps(url)}\ntable = 't'\nkey = 'id'\nincoming = 'b.jsonl'\n")
        (tmp_path / "b.jsonl").write_text('{"id": 1, "v": 2}\n')
        with open_store(url).begin(write=True) as session:
            info = session.describe("t")
        with open_store(url).begin(True, info):
            merging = commands.Running(("merge", "j.toml"), tmp_path)
            merging.until(lambda run: run.err.endswith("\n"))
            merging.send_signal(signal.SIGTERM)
            began = time.perf_counter()
            ran = merging.wait()
            assert time.perf_counter() - began < 3
            waiting, terminated = ran.err.splitlines()
            assert (waiting.startswith("rmend: waiting for another "), ran.code) == (True, 143)
            assert terminated == "rmend: terminated; what was not committed is undone."
        assert found(url, "SELECT v FROM t") == [(1,)]


# -- what is shown and logged -------------------------------------------------------------------------------------


class _Texts(HTMLParser):
    def __init__(self, page: str) -> None:
        super().__init__()
        self.tags: set[str] = set()
        self.texts: list[str] = []
        self.feed(page)

    def handle_starttag(self, tag: str, attrs: Any) -> None:
        self.tags.add(tag)

    def handle_data(self, data: str) -> None:
        self.texts.append(data)


def test_a_notebook_and_the_log_show_no_value_as_anything_else(caplog: pytest.LogCaptureFixture) -> None:
    bad = '<script>alert("1")</script>&amp;\x1b[31m'
    store = rm.MemoryStore({bad: pa.table({bad: ["k", bad], "v": [1, 2]})})
    job = rm.Job(store=store, table=bad, key=bad, rules=[rm.Rule(decide="reject", when="incoming.v = 9", because=bad)])
    batch = [{bad: bad, "v": 5}, {bad: "n", "v": 9}, {bad: "m", "v": "x"}]
    caplog.set_level(logging.DEBUG)
    shown = [rm.preview(job, batch, by="v"), rm.explain(job, batch, key={bad: bad}), rm.check(job, batch), rm.merge(job, batch)]
    for one in shown:
        found = _Texts(one._repr_html_())  # type: ignore[attr-defined]
        assert found.tags <= {"div", "b", "i", "table", "tr", "th", "td", "span"}
        assert bad.replace("\x1b", "\\x1b") in "".join(found.texts)
        assert "\x1b" not in "".join(found.texts)
    told = [record for record in caplog.records if record.name.startswith("rapid_mender")]
    assert any("merge into" in record.getMessage() and "update 1" in record.getMessage() for record in told)
    assert not [record for record in told if "'n'" in record.getMessage()]


@pytest.mark.parametrize(
    "command",
    ["check j.toml", "preview j.toml", "explain j.toml --key id=1", "merge j.toml", "batches j.toml", "history j.toml", "draft sqlite:///x.db t b.csv"],
)
@pytest.mark.parametrize("form", [[], ["--json"]])
def test_an_output_that_fails_ends_in_one_sentence(rmend: Rmend, command: str, form: list[str], tmp_path: Path) -> None:
    """And after work that is done it does not change the exit code."""
    with closing(sqlite3.connect(tmp_path / "x.db")) as register:
        register.execute("CREATE TABLE t (id integer PRIMARY KEY, a text)")
    (tmp_path / "j.toml").write_text("store = 'sqlite:///x.db'\ntable = 't'\nkey = 'id'\nincoming = 'b.csv'\n")
    (tmp_path / "b.csv").write_text("id,a\n1,x\n")
    done = rmend(*command.split(), *form, stdout="/dev/full")
    assert done.code == (0 if command.startswith(("merge", "draft")) else 1)
    assert (done.err.count("\n"), "could not be shown" in done.err) == (1, True), done.err


# -- what calls leave behind --------------------------------------------------------------------------------------


def test_a_sentence_has_no_control_character(rmend: Rmend, tmp_path: Path) -> None:
    """Whatever a table is called: a name may hold a line break of Unicode, or a colour of the terminal."""
    with table("sqlite", tmp_path, "CREATE TABLE t (id integer PRIMARY KEY)") as (url, _):
        rm.merge(rm.Job(store=url, table="t", key="id"), [{"id": 1}])
        name = "a\u2028b\x1b[31mc\u2029"
        done = rmend("as-of", url, "--table", "t", "--position", 1, "--to", url, "--to-table", name)
        assert (done.code, done.out.count("\n")) == (0, 1)
        assert not set(done.out) & set("\u2028\u2029\x1b")
        assert rm.as_of(url, "t", position=1).num_rows == len(found(url, f'SELECT * FROM "{name}"'))


@pytest.mark.slow
@pytest.mark.parametrize("kind", ["sqlite", "postgresql", "mariadb"])
def test_calls_leave_no_handle_and_no_thread(kind: str, tmp_path: Path) -> None:
    (tmp_path / "b.csv").write_text("id,v\n1,2\nx,3\n")
    with table(kind, tmp_path, "CREATE TABLE t (id int PRIMARY KEY, v int)", "INSERT INTO t VALUES (1, 1)") as (url, _):
        job = rm.Job(store=url, table="t", key="id")
        limited = rm.Job(store=url, table="t", key="id", max_rejects=0)

        def stopped() -> None:
            with pytest.raises(rm.LimitError):
                rm.merge(limited, tmp_path / "b.csv")

        calls: list[Callable[[], Any]] = [
            lambda: rm.merge(job, tmp_path / "b.csv"), stopped, lambda: rm.preview(job, tmp_path / "b.csv", by="v"), lambda: rm.explain(job, tmp_path / "b.csv", key={"id": 1}),
            lambda: rm.check(job, tmp_path / "b.csv"), lambda: rm.draft(url, "t", tmp_path / "b.csv"), lambda: rm.history(url, "t"), lambda: rm.batches(url), lambda: rm.preview(job, rm.Query(url, "SELECT id, v FROM t")),
        ]  # fmt: skip
        for call in calls:
            call()
            time.sleep(0.05)
            before = len(os.listdir("/proc/self/fd")), threading.active_count()
            for _ in range(length.some(5)):
                call()
            time.sleep(0.1)
            after = len(os.listdir("/proc/self/fd")), threading.active_count()
            assert after <= (before[0] + 1, before[1] + 1), call
