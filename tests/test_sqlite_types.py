"""SQLite keeps any value in any column. What is declared, what is found, and what is written must still agree."""

from __future__ import annotations

import sqlite3
import subprocess
import sys
from contextlib import closing
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

import rapid_mender as rm
from rapid_mender.stores.sqlite.types import column_type
from rapid_mender.stores.urls import open_store

# what people declare: the type, its Arrow type, and texts for it; the second column of texts is what SQLite then holds
DECLARED: list[tuple[str, str, dict[str, Any]]] = [
    ("INTEGER", "int64", {"7": 7, "-9223372036854775808": -(2**63)}),
    ("INT", "int64", {"7.0": 7}),
    ("tinyint(1)", "int64", {"1": 1}),
    ("UNSIGNED BIG INT", "int64", {"8": 8}),
    ("BIGINT UNSIGNED", "int64", {"9": 9}),
    ("INT8", "int64", {"9": 9}),
    ("YEAR", "int64", {"2026": 2026}),
    ("REAL", "double", {"1": 1.0, "0.30000000000000004": 0.30000000000000004, "1e300": 1e300}),
    ("DOUBLE PRECISION", "double", {"2.5": 2.5}),
    ("FLOAT", "double", {"-0.1": -0.1}),
    ("FLOATING POINT", "double", {"2": 2, "2.5": 2.5}),
    ("NUMERIC", "double", {"2": 2, "2.5": 2.5}),
    ("DECIMAL(10,2)", "decimal128(10, 2)", {"12.5": 12.5, "0.005": 0.01, "-7": -7}),
    ("NUMERIC(18,4)", "decimal128(18, 4)", {"1234567890.1234": 1234567890.1234, "12345678901234": 12345678901234}),
    ("DECIMAL(30)", "decimal128(30, 0)", {"123456789012345678": 123456789012345678}),
    ("MONEY", "double", {"3.25": 3.25}),
    ("BOOLEAN", "bool", {"true": 1, "no": 0}),
    ("DATE", "date32[day]", {"2026-02-28": "2026-02-28", "0001-01-01": "0001-01-01"}),
    ("DATETIME", "timestamp[us]", {"2026-02-28T10:11": "2026-02-28 10:11:00"}),
    ("TIMESTAMP", "timestamp[us]", {"2026-02-28 10:11:12.5": "2026-02-28 10:11:12.500000"}),
    ("TIMESTAMP WITH TIME ZONE", "timestamp[us, tz=UTC]", {"2026-02-28 10:11:12+02:00": "2026-02-28 08:11:12Z"}),
    ("TIME", "time64[us]", {"10:11": "10:11:00", "10:11:12.25": "10:11:12.250000"}),
    ("TEXT", "string", {"007": "007", " a ": " a "}),
    ("VARCHAR(5)", "string", {"größe": "größe"}),
    ("NVARCHAR(100)", "string", {"日本": "日本"}),
    ("CLOB", "string", {"1e3": "1e3"}),
    ("STRING", "string", {"007": 7, "1e3": 1000, " 5 ": 5, "2.50": 2.5, "a7": "a7", "0.1": 0.1}),
    ("UUID", "string", {"12345678-9abc": "12345678-9abc", "00000012": 12}),
    ("JSON", "string", {'{"a": 1}': '{"a": 1}', "1.0": 1, "null": "null"}),
    ("INTERVAL", "string", {"1 day": "1 day", "15": 15}),
    ("POINT", "int64", {"5": 5}),
    ("BLOB", "binary", {"00ff": b"\x00\xff", "": b""}),
    ("VARBINARY(8)", "binary", {"0a": b"\n"}),
    ("", "string", {"x": "x"}),
    ("TEXT COLLATE NOCASE", "string", {"Oak": "Oak"}),
    ("TEXT COLLATE RTRIM", "string", {"Oak  ": "Oak  "}),
]


class database:
    """A file of SQLite's own library, closed again after each statement: see the last test."""

    def __init__(self, path: Path, *statements: str) -> None:
        self.path = path
        self.run(*statements)

    def run(self, *statements: str) -> list[Any]:
        with closing(sqlite3.connect(self.path, isolation_level=None)) as connection:
            return [connection.execute(statement).fetchall() for statement in statements][-1]


@pytest.fixture
def path(tmp_path: Path) -> Path:
    return tmp_path / "register.db"


def raw(register: database, table: str) -> list[Any]:
    """Every cell with its storage class, so that 1, 1.0 and '1' are three things."""
    names = [row[1] for row in register.run(f"PRAGMA table_info({table})")]
    cells = ", ".join(f'quote("{name}") || typeof("{name}")' for name in names)
    return sorted(register.run(f"SELECT {cells} FROM {table}"))


def test_every_declared_type_lands_once_and_is_skipped_the_second_time(path: Path) -> None:
    columns = ", ".join(f"c{n} {declared}" for n, (declared, _, _) in enumerate(DECLARED))
    register = database(path, f"CREATE TABLE t (id INTEGER PRIMARY KEY, {columns})")
    job = rm.Job(store=f"sqlite:///{path}", table="t", key="id")
    longest = max(len(texts) for *_, texts in DECLARED)
    records: list[dict[str, Any]] = []
    for at in range(longest + 1):
        record: dict[str, Any] = {"id": at}
        for n, (_, _, texts) in enumerate(DECLARED):
            record[f"c{n}"] = None if at == longest else list(texts)[at % len(texts)]
        records.append(record)
    first = rm.merge(job, records)
    assert first.counts["insert"] == len(records), first.rejects.to_pylist()
    for n, (declared, _, texts) in enumerate(DECLARED):
        held = [row[0] for row in register.run(f"SELECT c{n} FROM t ORDER BY id")]
        wanted = [list(texts.values())[at % len(texts)] for at in range(longest)] + [None]
        assert [(type(v), v) for v in held] == [(type(v), v) for v in wanted], declared
    again = rm.merge(job, records)
    assert again.counts["skip"] == len(records), again.decisions.to_pylist()
    assert not again.landed
    emptied = [dict.fromkeys(record) | {"id": record["id"]} for record in records]
    assert rm.merge(job, emptied).counts["update"] == longest
    assert rm.merge(job, records).counts["update"] == longest
    assert not rm.merge(job, records).landed
    assert len(rm.history(job.store, "t")) == len(records) + 2 * longest


@pytest.mark.parametrize(("declared", "arrow"), [(d, a) for d, a, _ in DECLARED if "COLLATE" not in d])
def test_declared_types(declared: str, arrow: str) -> None:
    assert str(column_type(declared)[0]) == arrow


def test_what_sqlite_cannot_hold_is_rejected_and_not_rounded(path: Path) -> None:
    database(path, "CREATE TABLE t (id INTEGER PRIMARY KEY, a DECIMAL(20,4), b REAL, c VARCHAR(3))")
    job = rm.Job(store=f"sqlite:///{path}", table="t", key="id")
    frame = pa.table(
        {
            "id": [1, 2, 3, 4, 5],
            "a": ["1234567890123456.7891", "1", "123456789012345", "0", "0.0001"],
            "b": [1.0, float("nan"), float("inf"), 1.0, 2.0],
            "c": ["abc", "abc", "abc", "abcd", None],
        }
    )
    result = rm.merge(job, frame)
    reasons = dict(zip(*(result.rejects[name].to_pylist() for name in ("rmend_row", "rmend_reason")), strict=True))
    assert list(reasons) == [1, 2, 4]
    assert reasons[1].startswith("a: '1234567890123456.7891' is not held exactly")
    assert reasons[2].startswith("b: 'nan' is not a number")
    assert reasons[4] == "c: 'abcd' is not a text of at most 3 characters (VARCHAR(3))"
    assert rm.merge(job, frame).counts["skip"] == 2


def test_odd_cells_are_read_where_their_meaning_is_plain_and_kept_as_they_were(path: Path) -> None:
    """Unreadable cells differ from every value; respelled ones do not. The history has both just as they were."""
    register = database(
        path,
        "CREATE TABLE t (id INTEGER PRIMARY KEY, n INTEGER, d DATE, s TIMESTAMP, f BOOLEAN, p DECIMAL(6,2), x, z TEXT)",
        "INSERT INTO t VALUES (1, 5, '2026-01-02', '2026-01-02 03:04:05', 1, 1.5, 'x', 'a')",
        "INSERT INTO t VALUES (2, 'many', '2.1.2026', '2026-01-02T03:04:05.000', 'true', 1.5049, 7, x'0102')",
        "INSERT INTO t VALUES (3, 2.5, 20260102, 1767322800, 2, 'dear', 2.5, NULL)",
    )
    before = raw(register, "t")
    job = rm.Job(store=f"sqlite:///{path}", table="t", key="id")
    good = {"n": 5, "d": "2026-01-02", "s": "2026-01-02 03:04:05", "f": True, "p": "1.50", "x": "x", "z": "a"}
    records = [{"id": n} | good for n in (1, 2, 3)]
    result = rm.merge(job, records)
    changed = result.decisions["changed"].to_pylist()
    assert changed == [None, ["n", "d", "x", "z"], ["n", "d", "s", "f", "p", "x", "z"]]
    shown = {s.row: {c: old for c, old, _, _ in s.cells} for s in rm.preview(job, [{"id": 9}]).samples}
    assert shown == {1: {"id": None}}
    assert not rm.merge(job, records).landed
    names = ["id", *good]
    old = ", ".join(f'quote("old_{name}") || typeof("old_{name}")' for name in names)
    history = register.run(f"SELECT {old} FROM t_history")
    assert sorted(history) == before[1:]
    new = ", ".join(f'quote("new_{name}") || typeof("new_{name}")' for name in names)
    assert sorted(register.run(f"SELECT {new} FROM t_history")) == raw(register, "t")[1:]


@pytest.mark.parametrize(
    ("collation", "same", "other"), [("NOCASE", ["Oak", "OAK", "oak"], "oak "), ("RTRIM", ["Oak", "Oak  "], "OAK"), ("BINARY", ["Oak"], "oak")]
)
@pytest.mark.parametrize("primary", ["PRIMARY KEY", ""])
def test_keys_that_the_collation_holds_equal(path: Path, collation: str, same: list[str], other: str, primary: str) -> None:
    database(path, f"CREATE TABLE t (k TEXT COLLATE {collation} {primary}, v INTEGER)", "INSERT INTO t VALUES ('Oak', 0)")
    job = rm.Job(store=f"sqlite:///{path}", table="t", key="k", duplicates="last")
    result = rm.merge(job, [{"k": text, "v": n} for n, text in enumerate([*same, other])])
    decisions = result.decisions["decision"].to_pylist()
    assert decisions == ["skip"] * len(same) + ["insert"] if same == ["Oak"] else (decisions == ["skip"] * (len(same) - 1) + ["update", "insert"])
    assert rm.merge(job, [{"k": same[-1], "v": len(same) - 1}]).counts["skip"] == 1


def test_what_the_database_fills_is_in_the_history(path: Path) -> None:
    """Defaults, row numbers, generated columns and what triggers do are read back."""
    register = database(
        path,
        "CREATE TABLE t (no INTEGER PRIMARY KEY, k TEXT UNIQUE, v INTEGER DEFAULT (40 + 2), w TEXT DEFAULT 'now',"
        " double INTEGER GENERATED ALWAYS AS (v * 2) STORED, seen INTEGER)",
        "CREATE TRIGGER mark AFTER UPDATE OF v ON t BEGIN UPDATE t SET seen = coalesce(seen, 0) + 1 WHERE no = NEW.no; END",
    )
    job = rm.Job(store=f"sqlite:///{path}", table="t", key="k")
    rm.merge(job, [{"k": "a"}, {"k": "b", "v": 1}])
    rm.merge(job, [{"k": "a", "v": 3}])
    changes = rm.history(job.store, "t").to_pylist()
    new = [tuple(c[f"new_{name}"] for name in ("no", "k", "v", "w", "double", "seen")) for c in changes]
    assert new == [(1, "a", 42, "now", 84, None), (2, "b", 1, "now", 2, None), (1, "a", 3, "now", 6, 1)]
    assert new[-1] == register.run("SELECT * FROM t WHERE k = 'a'")[0]
    with pytest.raises(rm.JobError, match="computes 'double' itself"):
        rm.merge(job, [{"k": "a", "double": 5}])


def test_required_columns(path: Path) -> None:
    database(path, "CREATE TABLE t (k TEXT PRIMARY KEY, v INTEGER NOT NULL, w TEXT NOT NULL DEFAULT 'w')")
    job = rm.Job(store=f"sqlite:///{path}", table="t", key="k")
    assert rm.merge(job, [{"k": "a", "v": 1}]).counts["insert"] == 1
    result = rm.merge(job, [{"k": "a"}, {"k": "b"}, {"k": "c", "v": None}, {"k": "a", "w": None}])
    reasons = result.rejects["rmend_reason"].to_pylist()
    assert reasons[1:3] == ["no row has this key, and an insert needs the column v", "v is required (NOT NULL) and came without a value"]
    assert result.counts["reject"] == 4, "the key a comes twice, with other columns"


@pytest.mark.parametrize(
    ("sql", "message"),
    [
        ("CREATE VIEW t AS SELECT 1 AS id", "is a view"),
        ("CREATE TABLE t (id INTEGER PRIMARY KEY, v); CREATE TABLE rmend_batches (x)", "is not Rapid Mender's"),
        ("CREATE TABLE t (id INTEGER PRIMARY KEY, v); CREATE TABLE t_history (x)", "is not a history"),
    ],
)
def test_refusals_leave_nothing_half_written(path: Path, sql: str, message: str) -> None:
    database(path, *sql.split("; "))
    before = path.read_bytes()
    with pytest.raises(rm.StoreError, match=message):
        rm.merge(rm.Job(store=f"sqlite:///{path}", table="t", key="id"), [{"id": 2, "v": "x"}, {"id": 3, "v": "x"}])
    if "history" not in message:  # else there is a batch that says so
        assert path.read_bytes() == before
    else:
        with closing(sqlite3.connect(path)) as register:
            assert register.execute("SELECT count(*) FROM t").fetchall() == [(0,)]


def test_strict_tables_and_keys_that_are_not_unique(path: Path) -> None:
    register = database(
        path,
        "CREATE TABLE t (id INT PRIMARY KEY, a ANY, b TEXT) STRICT",
        "CREATE TABLE u (k INTEGER, v TEXT)",
        "INSERT INTO u VALUES (1, 'a'), (1, 'b'), (NULL, 'c'), (2, 'd')",
    )
    job = rm.Job(store=f"sqlite:///{path}", table="t", key="id")
    assert rm.merge(job, [{"id": 1, "a": "x", "b": "y"}]).counts["insert"] == 1
    assert not rm.merge(job, [{"id": 1, "a": "x", "b": "y"}]).landed
    result = rm.merge(rm.Job(store=f"sqlite:///{path}", table="u", key="k"), [{"k": 1, "v": "z"}, {"k": 2, "v": "z"}])
    assert result.decisions["reason"].to_pylist() == ["the key matches 2 existing rows", "changed: v"]
    assert register.run("SELECT v FROM u ORDER BY rowid") == [("a",), ("b",), ("c",), ("z",)]


@pytest.mark.parametrize("mode", ["wal", "delete"])
def test_a_second_library_in_the_process_and_a_second_process_are_no_harm(path: Path, mode: str) -> None:
    """Two copies of SQLite in one process do not see each other's locks, so ours goes to a process of its own."""
    register = database(path, f"PRAGMA journal_mode = {mode}", "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT)")
    job = rm.Job(store=f"sqlite:///{path}", table="t", key="id")
    frame = pa.table({"id": range(5000), "v": ["x"] * 5000})
    with closing(sqlite3.connect(path)) as connection:
        connection.execute("SELECT * FROM t").fetchall()
        assert rm.preview(job, frame).counts["insert"] == 5000
        assert rm.merge(job, frame.slice(0, 10)).counts["insert"] == 10
        assert connection.execute("SELECT count(*) FROM t").fetchone() == (10,)
    code = (
        "import sqlite3, sys\n"
        f"connection = sqlite3.connect({str(path)!r})\n"
        "print(connection.execute('SELECT count(*) FROM t').fetchall(), flush=True)\n"
        "sys.stdin.read()\n"
    )
    command = [sys.executable, "-c", code]
    with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True) as other:
        assert other.stdout is not None
        assert other.stdout.readline() == "[(10,)]\n"
        assert rm.merge(job, frame).counts["insert"] == 4990
        with open_store(job.store).begin(write=False):  # our own sessions may be several
            assert rm.preview(job, frame).counts["skip"] == 5000
        other.communicate("")
    assert register.run("PRAGMA integrity_check", "SELECT count(*) FROM t") == [(5000,)]
