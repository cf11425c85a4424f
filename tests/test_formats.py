# ruff: noqa: E501
"""The same records in another format are merged to the same; bytes that nobody would write lose nothing."""

from __future__ import annotations

import json
import random
from collections.abc import Callable
from datetime import date, datetime, time
from decimal import Decimal
from pathlib import Path
from socket import gethostname
from typing import Any

import pandas as pd
import polars as pl
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import rapid_mender as rm
from rapid_mender.changes.events import Page, event_lines
from rapid_mender.incoming import csv, jsonl

from . import length

pytestmark = pytest.mark.pure

POOL: dict[str, tuple[pa.DataType, list[Any]]] = {
    "i": (pa.int64(), [0, -1, 7, 2**53 + 1, 2**63 - 1, -(2**63)]),
    "n": (pa.decimal128(24, 4), [Decimal("1.5"), Decimal("1.50"), Decimal("-0.0001"), Decimal("12345678901234567890.1234"), Decimal(0)]),
    "f": (pa.float64(), [0.1, -0.0, 1e300, 5e-324, 123456789.123, 2.0**60]),
    "s": (pa.string(), ["", " a ", 'say "x"', "a,b;c", "two\nlines\r\n", "é\U0001f600", "NULL", "5", "1e5", "true", "2026-01-05", "=1+1", "\t"]),
    "b": (pa.bool_(), [True, False]),
    "d": (pa.date32(), [date(1, 1, 1), date(9999, 12, 31), date(2024, 2, 29)]),
    "t": (pa.timestamp("us"), [datetime(1, 1, 1), datetime(9999, 12, 31, 23, 59, 59, 999999), datetime(2026, 1, 5, 10, 11, 12, 500000)]),
    "c": (pa.time64("us"), [time(0), time(23, 59, 59, 999999)]),
    "x": (pa.binary(), [b"", b"\x00\xff", b"abc"]),
}  # fmt: skip
SCHEMA = pa.schema([("id", pa.int64()), *((name, kind) for name, (kind, _) in POOL.items())])
records = st.lists(
    st.fixed_dictionaries({name: st.sampled_from([None, *values]) for name, (_, values) in POOL.items()}), min_size=1, max_size=6
).map(lambda rows: [{"id": number, **{name: row[name] for name in POOL}} for number, row in enumerate(rows)])  # fmt: skip


def spelled(value: Any) -> Any:
    return value.hex() if isinstance(value, bytes) else value if isinstance(value, bool | int | float) else str(value)


def as_csv(rows: list[dict[str, Any]], path: Path) -> Path:
    def cell(value: Any) -> str:
        text = "" if value is None else str(spelled(value))
        return '"' + text.replace('"', '""') + '"' if isinstance(value, str | bytes) else text

    text = "\n".join(",".join(map(cell, row.values())) for row in rows)
    (path / "a.csv").write_text(f"{','.join(SCHEMA.names)}\n{text}", newline="")
    return path / "a.csv"


def as_jsonl(rows: list[dict[str, Any]], path: Path) -> Path:
    def line(row: dict[str, Any]) -> str:
        said = {n: None if v is None else spelled(v) for n, v in row.items()}
        numbers = {f'"@{n}@"': str(v) for n, v in row.items() if isinstance(v, Decimal)}
        text = json.dumps(said | {n: f"@{n}@" for n, v in row.items() if isinstance(v, Decimal)}, ensure_ascii=False)
        for mark, number in numbers.items():
            text = text.replace(mark, number)
        return text

    (path / "a.jsonl").write_text("\n".join(map(line, rows)))
    return path / "a.jsonl"


def as_parquet(rows: list[dict[str, Any]], path: Path) -> Path:
    pq.write_table(pa.Table.from_pylist(rows, SCHEMA), path / "a.parquet")
    return path / "a.parquet"


FORMATS: dict[str, Callable[[list[dict[str, Any]], Path], Any]] = {
    "dicts": lambda rows, path: rows, "CSV": as_csv, "JSON Lines": as_jsonl, "Parquet": as_parquet,
    "Arrow": lambda rows, path: pa.Table.from_pylist(rows, SCHEMA),
    "pandas": lambda rows, path: pd.DataFrame({n: pd.Series([row[n] for row in rows], dtype=object) for n in SCHEMA.names}),
    "polars": lambda rows, path: pl.from_arrow(pa.Table.from_pylist(rows, SCHEMA)),
    "an iterator": lambda rows, path: iter(rows), "lists": lambda rows, path: iter([rows[:1], rows[1:]]),
    "reader": lambda rows, path: pa.RecordBatchReader.from_batches(SCHEMA, iter(pa.Table.from_pylist(rows, SCHEMA).to_batches())),
    "batches": lambda rows, path: iter(pa.Table.from_pylist(rows, SCHEMA).to_batches(max_chunksize=1)),
    "pandas, Arrow types": lambda rows, path: pa.Table.from_pylist(rows, SCHEMA).to_pandas(types_mapper=pd.ArrowDtype),
}  # fmt: skip


def merged(batch: Any) -> tuple[list[Any], list[Any]]:
    """The decisions, by key, and the rows afterwards."""
    rows = [{"id": 0, "i": 7, "s": "5"}, {"id": 2, "b": True, "f": 0.1}]
    store = rm.MemoryStore({"t": pa.Table.from_pylist(rows, SCHEMA)})
    result = rm.merge(rm.Job(store=store, table="t", key="id", history=False), batch)
    decided = sorted((d["id"], d["decision"], d["reason"], d["changed"]) for d in result.decisions.to_pylist())
    table = store["t"].set_column(SCHEMA.names.index("t"), "t", store["t"]["t"].cast(pa.int64()))
    return decided, sorted(map(repr, table.to_pylist()))


@settings(max_examples=length.some(4))
@given(rows=records)
def test_every_format_says_the_same(rows: list[dict[str, Any]], tmp_path_factory: pytest.TempPathFactory) -> None:
    path = tmp_path_factory.mktemp("formats")
    wanted = merged(pa.Table.from_pylist(rows, SCHEMA))
    for name, write in FORMATS.items():
        assert (name, merged(write(rows, path))) == (name, wanted)
        assert (name, merged(write(rows[-1:], path))[0]) == (name, wanted[0][-1:])


PIECES = [b'"', b'""', b",", b"\n", b"\r", b"\r\n", b"\x00", b"\xff", b"\xef\xbb\xbf", b'"\n"', b'",', b"NA", b" ", b"{", b"}", b"[", b"null", b":", b"\\", b"\\u", b"1e999",
          b"NaN", b"\xc3", b"5,", b"\n\n", b"id", b'"id": 3', b"true", b"-", b"9" * 40]  # fmt: skip


def torn(data: bytes, rng: random.Random) -> bytes:
    """Bytes of a file with a few things put in, taken out, or put twice."""
    for _ in range(rng.choice([0, 1, 1, 2, 3, 8])):
        at, what = rng.randrange(len(data) + 1), rng.randrange(5)
        end = min(len(data), at + rng.choice([1, 1, 2, 10, 60]))
        put = rng.choice(PIECES) if what < 3 else data[at:end] * 2 if what == 3 else b""
        data = data[:at] + put + data[at if what < 2 else end :]
    return data


def lost(data: bytes, keys: set[int], ending: str) -> set[int]:
    """Those of `keys` of which a record can be seen in the bytes: on a line of its own, and not within quotes."""
    found, start = set(), 0
    for line in data.split(b"\n"):
        quoted = data[:start].count(b'"') % 2
        start += len(line) + 1
        if ending == "csv":
            head = line.split(b",")[0].strip(b'"\r ')
            if not quoted and b"," in line and head.isdigit() and int(head) in keys:
                found.add(int(head))
            continue
        try:
            record = json.loads(line.decode("utf-8-sig") if not start else line)
        except (ValueError, RecursionError):
            continue
        if isinstance(record, dict) and isinstance(record.get("id"), int):
            found |= {record["id"]} & keys
    return found


@pytest.mark.parametrize("ending", ["csv", "jsonl"])
@pytest.mark.parametrize("part", range(8))
def test_no_bytes_end_a_run_otherwise_than_in_our_words_or_lose_a_row(ending: str, part: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """In a long run 10,000 files; what comes is an error of ours, or counts that add up, and no row is gone whose record is there."""
    rng, path, errors, files = length.dice(part), tmp_path / f"a.{ending}", 0, length.some(6)
    shape = pa.schema([("id", pa.int64()), ("s", pa.string()), ("f", pa.float64()), ("d", pa.date32())])
    full = pa.table({"id": range(1, 13), "s": ["x"] * 12, "f": [0.0] * 12, "d": [date(2026, 1, 1)] * 12}, schema=shape)
    for number in range(files):
        rows = [
            {"id": n, "s": rng.choice(["a", 'b "c"', "d,e", "two\nlines", "", None]), "f": rng.choice([1.5, None, 2]), "d": "2026-01-05"} for n in range(1, 9)
        ]
        if ending == "csv":
            data = as_csv([{n: (r[n] if n != "s" or r[n] is None else str(r[n])) for n in r} for r in rows], tmp_path).read_bytes().split(b"\n", 1)[1]
            data = torn(b"id,s,f,d\n" + data, rng)
        else:
            data = torn("\n".join(map(json.dumps, rows)).encode(), rng)
        path.write_bytes(data)
        monkeypatch.setattr(csv if ending == "csv" else jsonl, "_BLOCK", rng.choice([16, 50, 1 << 20]))
        store = rm.MemoryStore({"t": full})
        job = rm.Job(store=store, table="t", key="id", missing="delete", incoming={"path": str(path), "nulls": rng.choice([[""], ["", "NA"]])})
        try:
            result = (rm.merge if number % 10 == 0 else rm.preview)(job)
        except rm.Error:
            errors += 1
            assert store["t"].equals(full)
            continue
        assert sum(result.counts.values()) == result.records + result.missing == result.decisions.num_rows, data
        gone = {d["id"] for d in result.decisions.to_pylist() if d["decision"] == "delete"}
        assert number % 10 or gone == set(full["id"].to_pylist()) - set(store["t"]["id"].to_pylist())
        assert not lost(data, gone, ending), data
    assert errors < 0.64 * files, "most of the files are to be read"


def test_a_line_with_too_many_values_and_odd_bytes_is_one_reject(tmp_path: Path, recwarn: pytest.WarningsRecorder) -> None:
    (tmp_path / "a.csv").write_bytes(b'id,s\n1,"x"\n2,\xff,z,w\n3,y\n4,\xff\n5,a,b\n')
    result = rm.merge(rm.Job(store=rm.MemoryStore({"t": pa.table({"id": [1], "s": ["x"]})}), table="t", key="id"), tmp_path / "a.csv")
    assert result.decisions["decision"].to_pylist() == ["skip", "reject", "insert", "reject", "reject"]
    assert not recwarn.list, "and nobody raised in silence"


def test_an_event_names_its_row_by_its_key_as_that_is_spelled() -> None:
    """Names that differ in case are different columns, and bytes are hexadecimal digits."""
    row = {"change_no": 3, "batch_no": 1, "action": "insert", "changed": None, "changed_at": None, "actor": None, "application": None, "reason": None}
    changes = pa.Table.from_pylist([row | {"old_K": None, "new_K": b"\xff\x00", "old_k": None, "new_k": 7}])
    for where, machine in (("memory", True), ("/data/a.db", True), ("postgresql://me@[::1]:5432/db", True), ("mariadb://db.example:3306/x", False)):
        (line,) = event_lines([Page(changes)], where, "t", [])
        assert json.loads(line)["source"].startswith(f"//{gethostname()}/rmend/" if machine else "/rmend/mariadb")
    for key, subject in ((["K"], "K=ff00"), (["k"], "k=7"), (["K", "k"], "K=ff00&k=7"), ([], "")):
        (line,) = event_lines([Page(changes)], "memory", "t", key)
        assert json.loads(line)["subject"] == subject
