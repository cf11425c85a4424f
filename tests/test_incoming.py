"""Incoming records of every kind, with the numbers of their lines, and what cannot be read."""

from __future__ import annotations

import gzip
import json
import sqlite3
from datetime import date
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pytest

import rapid_mender as rm
from rapid_mender.incoming import Options, Spool, open_incoming
from rapid_mender.incoming import jsonl as jsonl_module


def read(incoming: Any, options: Options | None = None) -> tuple[list[tuple[int, dict[str, Any]]], list[tuple[int, str]]]:
    source = open_incoming(incoming, options)
    records = [(int(row), record) for c in source for row, record in zip(c.rows, c.raw.to_pylist(), strict=True)]
    return sorted(records, key=lambda r: r[0]), sorted((b.row, b.reason) for b in source.broken)


CSV = (
    b"\xef\xbb\xbftag,note,n\n"  # 1, with a byte order mark
    b'1,"two\nlines",5\n'  # 2 and 3
    b"\n"  # 4
    b"2,short\n"  # 5
    b'3,"",\n'  # 6
    b'4,5" wide,7\r\n'  # 7
    b"5,caf\xe9,8\n"  # 8
    b"6,a,b,c\n"  # 9
    b",,\r\n"  # 10
    b"7,last,9"  # 11
)


@pytest.mark.parametrize("zipped", [False, True])
def test_csv(tmp_path: Path, zipped: bool) -> None:
    path = tmp_path / ("b.csv.gz" if zipped else "b.csv")
    path.write_bytes(gzip.compress(CSV) if zipped else CSV)
    records, broken = read(path)
    assert records == [
        (2, {"tag": "1", "note": "two\nlines", "n": "5"}),
        (6, {"tag": "3", "note": "", "n": None}),
        (11, {"tag": "7", "note": "last", "n": "9"}),
    ]
    assert broken == [
        (5, "the line has 2 values, the header 3"),
        (7, "a quote stands within a value without quotes"),
        (8, "note: the bytes are not utf-8 text"),
        (9, "the line has 4 values, the header 3"),
    ]


def test_csv_options(tmp_path: Path) -> None:
    path = tmp_path / "b.csv"
    path.write_bytes("tag;note\n1;größe\n2;NA\n".encode("latin-1"))
    options = Options(delimiter=";", encoding="latin-1", nulls=("", "NA"))
    assert read(path, options)[0] == [(2, {"tag": "1", "note": "größe"}), (3, {"tag": "2", "note": None})]
    (tmp_path / "b.tsv").write_text("tag\tnote\n1\tx\n")
    assert read(tmp_path / "b.tsv")[0] == [(2, {"tag": "1", "note": "x"})]
    with pytest.raises(rm.IncomingError, match="check the encoding"):
        read(path, Options(encoding="no-such"))


JSONL = [
    '{"tag": 1, "note": "2026-01-01 00:00:00", "n": 1.5}',
    '{"tag": 2, "note": null, "n": 2}',
    '{"tag": 3, "n": 7}',
    "{broken",
    "[1]",
    "",
    '{"tag": "four", "note": {"a": [1]}, "n": true}',
    '{"tag": 12345678901234567890, "note": "é", "n": 0.12345678901234567890}',
]


@pytest.mark.parametrize("zipped", [False, True])
@pytest.mark.parametrize("block", [1 << 20, 40])
def test_json_lines(tmp_path: Path, zipped: bool, block: int, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(jsonl_module, "_BLOCK", block)
    path = tmp_path / ("b.jsonl.gz" if zipped else "b.jsonl")
    data = "\n".join(JSONL).encode() + b'\n{"tag": "\xff"}'
    path.write_bytes(gzip.compress(data) if zipped else data)
    records, broken = read(path)
    assert [row for row, _ in records] == [1, 2, 3, 7, 8]
    assert [(row, reason[:27]) for row, reason in broken] == [
        (4, "the line is not JSON: Expec"), (5, "the line is not a JSON obje"), (9, "the line is not UTF-8 text"),
    ]  # fmt: skip
    assert records[0][1]["note"] == "2026-01-01 00:00:00", "a text that looks like a time stays a text"
    assert records[2][1].keys() == {"tag", "n"}, "an absent attribute is a column that was not sent"
    assert (str(records[4][1]["tag"]), records[4][1]["n"]) == ("12345678901234567890", "0.12345678901234567890")


def test_a_json_block_of_one_shape_is_read_at_once(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "b.jsonl"
    path.write_text("\n".join(json.dumps({"tag": n, "note": None if n % 3 else "2026-01-01"}) for n in range(999)))
    monkeypatch.setattr(jsonl_module.JsonLinesFile, "_line_by_line", None)
    records, broken = read(path)
    assert (len(records), broken) == (999, [])
    assert records[3] == (4, {"tag": 3, "note": "2026-01-01"})


def test_columns_that_were_not_sent_are_left_alone_record_by_record() -> None:
    store = rm.MemoryStore({"t": pa.table({"id": [1, 2], "a": ["x", "y"], "b": [1.0, 2.0]})})
    job = rm.Job(store=store, table="t", key="id")
    result = rm.merge(job, [{"id": 1, "a": "z"}, {"id": 2, "b": None}, {"id": 3}, {}])
    assert result.counts == {"insert": 1, "update": 2, "delete": 0, "skip": 0, "reject": 1}
    assert result.rejects.to_pylist()[0]["rmend_reason"] == "the record is empty"
    assert rm.merge(job, [{"id": 1}, {"a": "x"}]).rejects["rmend_reason"].to_pylist() == ["the key has no value: id"]
    none = rm.merge(job, [{"a": "x"}])
    assert (none.counts["reject"], "the batch has no column for 'id'" in none.warnings[0]) == (1, True)
    assert store["t"].sort_by("id").to_pylist() == [
        {"id": 1, "a": "z", "b": 1.0}, {"id": 2, "a": "y", "b": None}, {"id": 3, "a": None, "b": None},
    ]  # fmt: skip


def test_rows_of_a_query(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """In pages, from the same file and another, with values of several forms in one column."""
    connection = sqlite3.connect(tmp_path / "from.db")
    connection.execute('CREATE TABLE src (id INTEGER, "n o" , day DATE, b BLOB)')
    rows = [(1, 1.5, "2026-01-01", b"\x01"), (2, "x", None, None), (3, 7, "2026-02-30", b""), (4, None, None, b"z")]
    connection.executemany("INSERT INTO src VALUES (?, ?, ?, ?)", [*rows, *((n, n, None, None) for n in range(5, 300))])
    connection.execute("CREATE TABLE t (id INTEGER PRIMARY KEY, note TEXT, day DATE, b BLOB)")
    connection.commit()
    connection.close()
    url = f"sqlite:///{tmp_path}/from.db"
    monkeypatch.setattr("rapid_mender.stores.sqlite.session._PAGE_ROWS", 100)
    query = rm.Query(url, 'SELECT id, "n o" AS note, day, b FROM src; -- all')
    with pytest.raises(rm.IncomingError, match="syntax error"):
        rm.merge(rm.Job(store=url, table="t", key="id"), query)
    query = rm.Query(url, 'SELECT id, "n o" AS note, day, b FROM src -- all')
    store = rm.MemoryStore({"t": pa.schema([("id", pa.int64()), ("note", pa.string()), ("b", pa.binary()), ("day", pa.date32())]).empty_table()})
    result = rm.merge(rm.Job(store=store, table="t", key="id"), query)
    assert (result.counts["insert"], result.rejects["rmend_row"].to_pylist()) == (298, [3])
    assert store["t"].to_pylist()[:3] == [
        {"id": 1, "note": "1.5", "b": b"\x01", "day": date(2026, 1, 1)},
        {"id": 2, "note": "x", "b": None, "day": None}, {"id": 4, "note": None, "b": b"z", "day": None},
    ]  # fmt: skip
    job = rm.Job(store=url, table="t", key="id", incoming={"query": "SELECT id FROM src WHERE id > 290"})
    assert rm.merge(job).counts["insert"] == 9
    assert rm.merge(job).counts["skip"] == 9
    for sql in ("DELETE FROM t", "SELECT * FROM none", "SELECT 1 AS id; DROP TABLE t", ""):
        with pytest.raises(rm.IncomingError, match="the query cannot be run"):
            rm.merge(job, rm.Query(url, sql))
    with pytest.raises(rm.JobError, match="memory runs no queries"):
        rm.merge(job, rm.Query(store, "SELECT 1"))


def test_job_files_take_values_from_the_environment(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    text = (
        'store = "sqlite:///${REGISTER}.db"\ntable = "t"\nkey = "id"\nrejects = "$${x}-${REGISTER}.csv"\n'
        '[incoming]\nquery = "SELECT \'${REGISTER}\'"\nstore = "sqlite:///${OTHER}.db"\n'
    )
    (tmp_path / "job.toml").write_text(text)
    monkeypatch.setenv("REGISTER", "trees")
    monkeypatch.delenv("OTHER", raising=False)
    with pytest.raises(rm.JobError, match=r"incoming\.store: there is no OTHER in the environment"):
        rm.Job.load(tmp_path / "job.toml")
    monkeypatch.setenv("OTHER", "crews")
    job = rm.Job.load(tmp_path / "job.toml")
    assert (job.store, job.rejects) == (f"sqlite:///{tmp_path}/trees.db", f"{tmp_path}/${{x}}-trees.csv")
    assert job.batch == rm.Query(f"sqlite:///{tmp_path}/crews.db", "SELECT '${REGISTER}'")


@pytest.mark.parametrize(
    ("incoming", "message"),
    [
        ("no.csv", "there is no file no.csv"),
        (".", "is not a file"),
        ({"id": 1}, r"put it into a list"),
        (7, "records cannot be read from int"),
        ([{"id": 1}, 5], "record 2 is int"),
        (iter([object()]), "the iterator gives object"),
    ],
)
def test_what_holds_no_records_is_an_error_in_words(incoming: Any, message: str) -> None:
    store = rm.MemoryStore({"t": pa.table({"id": [1]})})
    with pytest.raises(rm.IncomingError, match=message):
        rm.merge(rm.Job(store=store, table="t", key="id"), incoming)


@pytest.mark.parametrize(
    ("name", "data", "message"),
    [
        ("b.csv", b"", "empty: it has not even a line of column names"),
        ("b.csv", b'id\n1\n"2\n' + b"x\n" * 30_000, "a quote is opened there and never closed"),
        ("b.parquet", b"hello", "not a Parquet file"),
        ("b.xml", b"<a/>", "the ending of an incoming file is"),
        ("b.csv.gz", b"not gzip at all", "b.csv.gz"),
        ("b.csv", "id,a\n1,x\n".encode("utf-16"), 'set encoding = "utf-16"'),
        ("b.csv", "id,a\n".encode("utf-16-le"), "looks like UTF-16"),
        ("b.csv", b"id,\xe9\n1,x\n", "the names are no utf-8 text"),
        ("b.csv", b"id,a\r1,x\r", "carriage return alone"),
        ("b.csv", b"id;a\n1;x\n", 'delimiter = ";"'),
    ],
)
def test_files_that_cannot_be_read_at_all(tmp_path: Path, name: str, data: bytes, message: str) -> None:
    (tmp_path / name).write_bytes(data)
    store = rm.MemoryStore({"t": pa.table({"id": [1]})})
    with pytest.raises(rm.Error, match=message):
        rm.merge(rm.Job(store=store, table="t", key="id"), tmp_path / name)


def test_a_spool_keeps_tables_of_any_schema_in_memory_and_on_disk() -> None:
    spool = Spool(limit=1000)
    tables = [pa.table({"a": np.arange(n)}) if n % 2 else pa.table({"b": ["x"] * n}) for n in (1, 200, 3, 301)]
    for table in tables:
        spool.put(table)
    assert [table.equals(kept) for table, kept in zip(tables, spool, strict=True)] == [True] * 4
    assert [kept.num_rows for kept in spool] == [1, 200, 3, 301], "it can be read again"
    spool.close()
