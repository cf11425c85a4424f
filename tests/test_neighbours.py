# ruff: noqa: E501
"""What becomes of a record depends on itself, on its row and on records of its key: never on its neighbours."""

from __future__ import annotations

import json
from datetime import UTC, date, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import rapid_mender as rm
from rapid_mender.incoming import jsonl

_COLUMNS = {
    "i": pa.int64(), "n": pa.decimal128(20, 4), "f": pa.float64(), "s": pa.string(), "b": pa.bool_(), "d": pa.date32(),
    "t": pa.timestamp("us"),
}  # fmt: skip
_NUMBERS = ["0", "5", "-0", "22", "22.0", "1.5", "9007199254740993", "9007199254740992.0", "123456789012345678",
            "18446744073709551616", "1e5", "1E400", "-1e400", "1e-7", "0.1", "1.10", "12345678.12345678901"]  # fmt: skip
_TEXTS = ["", "5", "1.5", "true", "null", "NaN", "2026-02-03", "2026-02-03T04:05:06", "2026-02-03T04:05:06Z", "é\U0001f600",
          'a "quoted": text', "[", "{", "1e5"]  # fmt: skip
_ODD = ['"\\ud800"', "NaN", "Infinity", "[1]", '{"x": 1}', "[[1]]", "nul", '"', "1.", "01"]
values = st.one_of(
    st.sampled_from(_NUMBERS), st.sampled_from(_TEXTS).map(json.dumps), st.sampled_from(["true", "false", "null"]),
    st.sampled_from(_TEXTS).map(lambda text: json.dumps(text, ensure_ascii=False)), st.sampled_from(_ODD),
)  # fmt: skip
colons = st.sampled_from([":", ": ", " :"])


@st.composite
def lines(draw: st.DrawFn) -> list[str]:
    """Lines of JSON, some of them odd: each with a key of its own, and some of a few attributes."""
    few = draw(st.lists(values, min_size=1, max_size=3))  # most lines are alike
    out = []
    for number in range(draw(st.integers(1, 6))):
        names = draw(st.lists(st.sampled_from(list(_COLUMNS)), max_size=3, unique=draw(st.integers(0, 9)) > 0))
        pairs = [(name, draw(st.sampled_from(few) | values)) for name in names]
        line = ", ".join(f'"{name}"{draw(colons)}{value}' for name, value in [("id", str(number)), *pairs])
        odd = draw(st.integers(0, 19))
        out.append({0: "null", 1: "[" * 20_000, 2: f"{{{line}", 3: "{}", 4: f" {{{line}}}\r"}.get(odd, f"{{{line}}}"))
    return out


def outcome(batch: Any) -> tuple[dict[Any, Any], list[dict[str, Any]], int]:
    """The decision on each key, the table in the end, and how many records there were."""
    shape = pa.schema([pa.field("id", pa.int64(), False), *_COLUMNS.items()])
    rows = [{"id": n, "i": n, "s": "old", "f": 1.5} for n in range(0, 6, 2)]
    store = rm.MemoryStore({"t": pa.Table.from_pylist(rows, shape)})
    result = rm.merge(rm.Job(store=store, table="t", key="id"), batch)
    decided = {
        row["id"]: (row["decision"], row["reason"]) for row in result.decisions.to_pylist() if row["id"] is not None
    }
    table = store["t"].sort_by("id")
    return decided, [{k: repr(v) for k, v in row.items()} for row in table.to_pylist()], result.records


@settings(max_examples=300)
@given(lines=lines(), newline=st.booleans(), block=st.sampled_from([40, 100, 1 << 20]))
def test_json_lines(lines: list[str], newline: bool, block: int, tmp_path_factory: pytest.TempPathFactory) -> None:
    """Whole, in blocks of any size, with a last newline or without, as one by one."""
    folder = tmp_path_factory.mktemp("lines")
    (folder / "all.jsonl").write_text("\n".join(lines) + "\n" * newline)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(jsonl, "_BLOCK", block)
        decided, table, records = outcome(folder / "all.jsonl")
    assert records == len(lines)
    alone: dict[Any, Any] = {}
    for number, line in enumerate(lines):
        (folder / f"{number}.jsonl").write_text(line)
        one, rows, _ = outcome(folder / f"{number}.jsonl")
        alone |= one
        row = [r for r in rows if r["id"] == str(number)]
        assert [r for r in table if r["id"] == str(number)] == row, line
    assert decided == alone


_OBJECTS = [None, True, False, 0, 5, 2**53 + 1, 2**63, 2**70, 1.5, float("nan"), float("inf"), Decimal("1.50"), Decimal("NaN"), "5",
            "1.5", "x", b"\x01", date(2026, 2, 3), datetime(2026, 2, 3, 4), datetime(2026, 2, 3, 4, tzinfo=UTC), [1], {"a": 1}, (1, 2),
            10**5000, "\ud800", Path("a"), object]  # fmt: skip


@settings(max_examples=300)
@given(
    records=st.lists(st.dictionaries(st.sampled_from(list(_COLUMNS)), st.sampled_from(_OBJECTS), max_size=4), min_size=1, max_size=6)
)  # fmt: skip
def test_dicts(records: list[dict[str, Any]]) -> None:
    records = [{"id": number, **record} for number, record in enumerate(records)]
    decided, table, count = outcome(records)
    assert count == len(records)
    for number, record in enumerate(records):
        one, rows, _ = outcome([record])
        assert decided.get(number) == one.get(number), record
        assert [r for r in table if r["id"] == str(number)] == [r for r in rows if r["id"] == str(number)], record


@pytest.mark.parametrize(
    ("text", "reason"),
    [
        ("null", "not a JSON object"), ("[" * 100_000, "not JSON"), ('{"id": ' + "[" * 100_000, "not JSON"), ("NaN", "no NaN"),
        ('{"id": 1, "f": NaN}', "no NaN"), ('{"id": 1, "f": -Infinity}', "no -Infinity"), ('{"id": 1, "i": 1, "i": 2}', "'i' comes twice"),
        ('{"id": 1, "f": 1e400}', "f: "), ('{"id": 1, "i": 1, "\\u0069": 2}', "comes twice"), ("{}", "the record is empty"),
    ],
)  # fmt: skip
def test_a_line_that_is_no_record_is_a_reject_of_its_own(text: str, reason: str, tmp_path: Path) -> None:
    for before, after in (([], []), (['{"id": 7}'] * 1, ['{"id": 8}']), (['{"id": 7, "f": 1.0}'], [])):
        (tmp_path / "a.jsonl").write_text("\n".join([*before, text, *after]))
        result = rm.preview(
            rm.Job(
                store=rm.MemoryStore(
                    {
                        "t": pa.table(
                            {"id": pa.array([], pa.int64()), **{n: pa.array([], k) for n, k in _COLUMNS.items()}}
                        )
                    }
                ),
                table="t",
                key="id",
            ),
            tmp_path / "a.jsonl",
        )
        assert result.counts["insert"] == len(before) + len(after)
        assert reason in result.rejects["rmend_reason"][0].as_py()
