"""What becomes of a record depends on itself, on its row and on records of its key: never on its neighbours."""

from __future__ import annotations

import csv as stdlib_csv
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
from rapid_mender.incoming import csv, csv_scan, jsonl, open_incoming

from . import length

pytestmark = pytest.mark.pure

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
    result = rm.merge(rm.Job(store=store, table="t", key="id", history=False), batch)
    decided = {row["id"]: (row["decision"], row["reason"]) for row in result.decisions.to_pylist() if row["id"] is not None}
    table = store["t"].sort_by("id")
    return decided, [{k: repr(v) for k, v in row.items()} for row in table.to_pylist()], result.records


@settings(max_examples=length.some(30))
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


@settings(max_examples=length.some(20))
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
                store=rm.MemoryStore({"t": pa.table({"id": pa.array([], pa.int64()), **{n: pa.array([], k) for n, k in _COLUMNS.items()}})}),
                table="t",
                key="id",
            ),
            tmp_path / "a.jsonl",
        )
        assert result.counts["insert"] == len(before) + len(after)
        assert reason in result.rejects["rmend_reason"][0].as_py()


# -- CSV --------------------------------------------------------------------------------------------------------------


def by_the_rules(text: str) -> list[tuple[int, int, bool]] | int:
    """The records of a CSV text, letter by letter: begin, end, and whether it keeps the rules; or where that is lost."""
    out, at = [], 0
    while at < len(text):
        start, state, opened, good, lost = at, "begin", 0, True, False
        while at < len(text):
            one, behind = text[at], text[at + 1 : at + 2]
            if state == "quoted":
                if one == '"' and behind == '"':
                    at += 1
                elif one == '"' and behind in ("", ",", "\n", "\r"):
                    state = "value"
                elif one == '"':
                    if "\n" in text[opened:at]:
                        return text.rfind("\n", 0, opened) + 1
                    lost = True
            elif one == '"':
                if state == "begin":
                    state, opened = "quoted", at
                else:
                    lost = True
            elif one == "\r" and behind not in ("\n", ""):
                good, state = False, "value"
            else:
                state = "begin" if one == "," else "value"
            at += 1
            if lost:  # this record is done with: go on behind its line
                at = (text.find("\n", at - 1) + 1) or len(text)
                break
            if one == "\n" and state != "quoted":
                break
        else:
            if state == "quoted":
                return text.rfind("\n", 0, opened) + 1
        out.append((start, at, good and not lost))
    return out


@settings(max_examples=length.some(600))
@given(text=st.text(alphabet='""",\n\n\r a', max_size=24))
def test_records_of_csv_are_found_by_the_rules(text: str) -> None:
    wanted = by_the_rules(text)
    try:
        found: Any = csv_scan.scan(text.encode(), ord(","), ord('"'), True)
    except csv_scan.Untold as untold:
        found = text.rfind("\n", 0, untold.start) + 1
    if isinstance(found, int) or isinstance(wanted, int):
        assert found == wanted
        return
    pairs = zip(found.starts.tolist(), found.ends.tolist(), range(len(found.starts)), strict=True)
    assert [(start, end, number not in found.broken) for start, end, number in pairs] == wanted
    bare = [text[start:end].removesuffix("\n").removesuffix("\r") for start, end, _ in wanted]
    assert [not count for count in found.values.tolist()] == [not one.strip(",") for one in bare]


def read(path: Path, block: int) -> Any:
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(csv, "_BLOCK", block)
        source = open_incoming(path)
        try:
            records = [(int(row), *record.values()) for chunk in source for row, record in zip(chunk.rows, chunk.raw.to_pylist(), strict=True)]
        except rm.IncomingError as error:
            return str(error)
        return records, sorted(source.broken)


@settings(max_examples=length.some(50))
@given(
    rows=st.lists(st.lists(st.text(alphabet='",\n\r aé', max_size=6), min_size=1, max_size=3), max_size=6), ending=st.sampled_from(["\n", "\r\n"]),
    raw=st.text(alphabet='""",\n\n\r aé', max_size=20), block=st.integers(1, 40),
)  # fmt: skip
def test_csv_in_blocks_of_any_size(rows: list[list[str]], ending: str, raw: str, block: int, tmp_path_factory: pytest.TempPathFactory) -> None:
    """Valid lines are read as Python's own reader reads them; whatever follows, block edges change nothing."""
    path = tmp_path_factory.mktemp("csv") / "a.csv"
    with path.open("w", newline="", encoding="utf-8") as file:
        writer = stdlib_csv.writer(file, lineterminator=ending, quoting=stdlib_csv.QUOTE_ALL)
        writer.writerows([["p", "q"], *rows])
    whole = read(path, 1 << 20)
    assert not isinstance(whole, str)
    assert [list(record[1:]) for record in whole[0]] == [row for row in rows if len(row) == 2]
    assert len(whole[0]) + len(whole[1]) == len(rows)
    with path.open("ab") as file:
        file.write(raw.encode())
    assert read(path, block) == read(path, 1 << 20)


@pytest.mark.parametrize("behind", [10, 200_000, 40_000_000])
def test_a_quote_that_is_never_closed_deletes_nothing(behind: int, tmp_path: Path) -> None:
    lines = [f"{n},text" for n in range(50)]
    (tmp_path / "a.csv").write_text("\n".join(["id,s", lines[0], '1,"text', *lines[2:]]) + "\n" + "x" * behind + "\n")
    store = rm.MemoryStore({"t": pa.table({"id": pa.array(range(50), pa.int64()), "s": ["text"] * 50})})
    with pytest.raises(rm.IncomingError, match=r"a\.csv, line 3: a quote is opened there and never closed"):
        rm.merge(rm.Job(store=store, table="t", key="id", missing="delete"), tmp_path / "a.csv")
    assert store["t"].num_rows == 50


def test_one_line_that_breaks_the_rules_is_one_reject(tmp_path: Path) -> None:
    wrong = ['1,"a"b', '2,a"b', '3,"a" ', "5,a\rb", "6", "7,a,b", '"8"x,a']
    (tmp_path / "a.csv").write_text("\n".join(["id,s", *(f'{line}\n{n}0,"ok, ""so"""' for n, line in enumerate(wrong, 1))]), newline="")
    result = rm.preview(
        rm.Job(store=rm.MemoryStore({"t": pa.table({"id": pa.array([], pa.int64()), "s": pa.array([], pa.string())})}), table="t", key="id"), tmp_path / "a.csv"
    )
    assert result.counts["insert"] == len(wrong)
    assert result.rejects["rmend_row"].to_pylist() == list(range(2, 2 + 2 * len(wrong), 2))
    assert result.rejects["rmend_text"].to_pylist() == wrong
    (tmp_path / "b.csv").write_text('id,s\n"v,1\n2,v\n3,"v"\n')
    with pytest.raises(rm.IncomingError, match="line 2: a quote is opened there, and characters stand behind the one that closes"):
        rm.preview(rm.Job(store=rm.MemoryStore({"t": pa.table({"id": [1], "s": ["x"]})}), table="t", key="id"), tmp_path / "b.csv")
