"""Files as spreadsheets, databases, frames and people write them: drafted, and merged without a hand on the job file."""

from __future__ import annotations

import csv
import gzip
import io
import json
import sqlite3
import zipfile
from collections.abc import Callable
from contextlib import closing
from datetime import date, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any

import pandas as pd
import polars as pl
import pyarrow as pa
import pyarrow.feather
import pytest

import rapid_mender as rm
from rapid_mender.incoming.chunks import Options
from rapid_mender.incoming.guess import guess

NAMES = ["district", "tag_no", "species", "girth_cm", "planted_on", "seen_at", "felled", "code"]
ROWS: list[tuple[Any, ...]] = [
    ("Ashholt", 1, "oak; old, \"king\"", Decimal("1250.5"), date(1974, 3, 30), datetime(2026, 11, 5, 13, 4), False, "0042"),
    ("Ashholt", 2, "Größe", Decimal("0.25"), date(2001, 12, 1), datetime(2026, 2, 28, 0, 30), True, "7"),
    ("Northfold", 1, None, None, None, None, None, "a-bc"),
    ("Northfold", 12, "two\nlines", Decimal("12345.75"), date(1999, 1, 31), datetime(2026, 7, 4, 12, 0), True, "00"),
    *(("Eastmere", n, f"elm {n}", Decimal(n), date(2020, 1, 1 + n % 28), datetime(2026, 1, 1 + n % 28, 9, n), n % 2 == 0, f"{n:04}") for n in range(20)),
]  # fmt: skip
DDL = (
    "CREATE TABLE trees (district TEXT, tag_no INTEGER, species TEXT, girth_cm DECIMAL(9,2), planted_on DATE, seen_at TIMESTAMP, "
    "felled BOOLEAN, code TEXT, PRIMARY KEY (district, tag_no))"
)
Spell = Callable[[str, Any], Any]


def spelled(
    day: str = "%Y-%m-%d", time: str = " %H:%M:%S", decimal: str = ".", thousands: str = "", null: str = "", yes: tuple[str, str] = ("true", "false")
) -> Spell:
    def spell(name: str, value: Any) -> Any:
        if value is None:
            return null
        if isinstance(value, bool):
            return yes[0] if value else yes[1]
        if isinstance(value, Decimal):
            return f"{value:,.2f}".replace(",", "\0").replace(".", decimal).replace("\0", thousands)
        if isinstance(value, datetime):
            return value.strftime(day + time)
        return value.strftime(day) if isinstance(value, date) else value

    return spell


def text(spell: Spell, delimiter: str = ",", names: list[str] = NAMES, before: str = "", after: str = "", end: str = "\n", **options: Any) -> str:
    file = io.StringIO()
    writer = csv.writer(file, delimiter=delimiter, lineterminator=end, **options)
    writer.writerow(names)
    writer.writerows([spell(name, value) for name, value in zip(NAMES, row, strict=True)] for row in ROWS)
    return before + file.getvalue() + after


def plain(value: Any) -> Any:
    return float(value) if isinstance(value, Decimal) else value.isoformat() if isinstance(value, date) else value


RECORDS = [dict(zip(NAMES, map(plain, row), strict=True)) for row in ROWS]
US = spelled("%m/%d/%Y", " %I:%M %p", thousands=",", yes=("Y", "N"))
SHORT_US = spelled("%m/%d/%y", " %H:%M", yes=("1", "0"))
TEXTS: dict[str, tuple[str, str]] = {
    "plain.csv": (text(spelled()), "utf-8"), "bom.csv": (text(spelled()), "utf-8-sig"), "windows.csv": (text(spelled(), end="\r\n"), "cp1252"),
    "german.csv": (text(spelled("%d.%m.%Y", " %H:%M", ",", "."), ";"), "utf-8-sig"),
    "german-ansi.csv": (text(spelled("%d.%m.%Y", " %H:%M", ","), ";", end="\r\n"), "cp1252"),
    "sep.csv": (text(spelled("%d.%m.%Y", " %H:%M:%S", ","), ";", before="sep=;\r\n", end="\r\n"), "utf-8"), "us.csv": (text(US), "utf-8"),
    "us-short.csv": (text(SHORT_US, quoting=csv.QUOTE_ALL), "utf-8"), "swiss.csv": (text(spelled("%d.%m.%Y", thousands="'"), ";"), "utf-8"),
    "french.csv": (text(spelled("%d/%m/%Y", " %H:%M", ",", "\u202f"), ";"), "utf-8"), "iso-slashes.csv": (text(spelled("%Y/%m/%d")), "utf-8"),
    "compact.csv": (text(spelled("%Y%m%d")), "utf-8"), "months.csv": (text(spelled("%d-%b-%Y")), "utf-8"),
    "long-months.csv": (text(spelled("%d %b %Y")), "utf-8"), "tabs.tsv": (text(spelled(), "\t"), "utf-8"), "tabs.txt": (text(spelled(), "\t"), "utf-16"),
    "pipes.csv": (text(spelled(), "|"), "utf-8"), "quoted.csv": (text(spelled(), quoting=csv.QUOTE_NONNUMERIC), "utf-8"),
    "apostrophes.csv": (text(spelled(), ";", quotechar="'", quoting=csv.QUOTE_ALL).replace('"', ""), "utf-8"),
    "null-words.csv": (text(spelled(null="NULL")), "utf-8"), "dump.csv": (text(spelled(null="\\N"), "\t"), "utf-8"),
    "na.csv": (text(spelled(null="NA")), "utf-8"), "report.csv": (text(spelled(), before="Trees of Harrowmere\nas of 1 December\n\n"), "utf-8"),
    "empty-lines.csv": (text(spelled(), after=",,,,,,,\n" * 5), "utf-8"),
    "headings.csv": (text(spelled(), names=["District", "Tag No", "SPECIES", "Girth (cm)", "Planted on", "seen-at", "Felled?", "Code"]), "utf-8"),
    "utf16.csv": (text(spelled(), ";"), "utf-16"), "times.csv": (text(spelled(time="T%H:%M:%S")), "utf-8"), "dots.csv": (text(spelled("%Y.%m.%d")), "utf-8"),
    "lines.jsonl": ("\n".join(map(json.dumps, RECORDS)), "utf-8"), "array.json": (json.dumps(RECORDS), "utf-8"),
    "pretty.json": (json.dumps(RECORDS, indent=2, ensure_ascii=False), "utf-8-sig"),
    "objects.json": ("\n".join(json.dumps(one, indent=1) for one in RECORDS), "utf-8"),
    "shapes.jsonl": ("\n".join(json.dumps({n: v for n, v in one.items() if v is not None}) for one in RECORDS), "utf-8"),
}  # fmt: skip


def by_frames(path: Path) -> list[Path]:
    """Files that pandas, polars, Arrow and openpyxl write, and packed ones."""
    frame = pd.DataFrame([dict(zip(NAMES, row, strict=True)) for row in ROWS])
    floats = frame.assign(girth_cm=frame.girth_cm.astype(float))
    polars = pl.DataFrame([dict(zip(NAMES, map(plain, row), strict=True)) for row in ROWS], infer_schema_length=None)
    table = pa.Table.from_pylist([dict(zip(NAMES, row, strict=True)) for row in ROWS])
    floats.to_csv(path / "pandas.csv", index=False)
    floats.to_csv(path / "pandas-german.csv", index=False, sep=";", decimal=",", date_format="%d.%m.%Y")
    frame.to_parquet(path / "pandas.parquet")
    floats.to_json(path / "pandas.json", orient="records", date_format="iso")
    floats.to_json(path / "pandas.jsonl", orient="records", lines=True, date_format="iso")
    floats.to_excel(path / "pandas.xlsx", index=False, startrow=2)
    floats.to_excel(path / "words.xlsx", index=False, na_rep="NULL")
    polars.write_csv(path / "polars.csv", separator="\t")
    polars.write_ndjson(path / "polars.ndjson")
    polars.write_parquet(path / "polars.parquet")
    pyarrow.feather.write_feather(table, path / "arrow.feather")
    with pa.ipc.new_stream(path / "stream.arrow", table.schema) as stream:
        stream.write_table(table)
    (path / "packed.csv.gz").write_bytes(gzip.compress(text(spelled("%d.%m.%Y", " %H:%M", ",", "."), ";").encode("cp1252")))
    with pa.CompressedOutputStream(str(path / "packed.csv.zst"), "zstd") as out:
        out.write(text(spelled()).encode())
    with zipfile.ZipFile(path / "packed.zip", "w") as archive:
        archive.writestr("trees.csv", text(US))
    return sorted(path.iterdir())


@pytest.fixture
def url(tmp_path: Path) -> str:
    with closing(sqlite3.connect(tmp_path / "r.db")) as connection:
        connection.execute(DDL)
    return f"sqlite:///{tmp_path / 'r.db'}"


def lands(url: str, file: Path, tmp_path: Path, lacks: set[str] = frozenset()) -> str:  # type: ignore[assignment]
    """Draft a job for a file, merge by it, and see what landed. Returns the draft."""
    drafted = rm.draft(url, "trees", file, tmp_path)
    (tmp_path / "job.toml").write_text(drafted)
    result = rm.merge(rm.Job.load(tmp_path / "job.toml", store=url))
    assert (result.counts["insert"], result.rejects.to_pylist()) == (len(ROWS), []), drafted
    there = {(row["district"], row["tag_no"]): row for row in rm.as_of(url, "trees", batch=result.batch).to_pylist()}
    for row in ROWS:
        wanted = dict(zip(NAMES, row, strict=True))
        found = there[row[0], row[1]]
        for name in set(NAMES) - lacks:
            value = wanted[name]
            assert found[name] == value or {found[name], value} <= {None, ""} or (name == "species" and value and '"' in value), (name, found, drafted)
    return drafted


@pytest.mark.parametrize("name", list(TEXTS))
def test_a_text_is_drafted_and_merged_as_it_is(tmp_path: Path, url: str, name: str) -> None:
    content, encoding = TEXTS[name]
    file = tmp_path / name
    file.write_bytes(content.encode(encoding))
    lands(url, file, tmp_path)


@pytest.mark.parametrize(
    ("content", "delimiter", "skip"),
    [
        ("id;n\n1;1,5\n2;2,5\n", ";", 0), ("id\n1\n2\n", ",", 0), ("T\n\na|b\n1|2\n", "|", 2), ('a,b\n1,"x;y;z"\n2,"p;q;r"\n', ",", 0),
        ("a\tb,c\n1\t2\n", "\t", 0), ("", ",", 0), ("a,b\n", ",", 0), ("# by, and for\na;b;c\n1;2;3\n4;5;6\n", ";", 1), ("sep=|\na|b\n1|2,5\n", "|", 1),
    ],
)  # fmt: skip
def test_what_stands_between_values_is_told_by_all_lines(tmp_path: Path, content: str, delimiter: str, skip: int) -> None:
    (tmp_path / "x.csv").write_text(content)
    found = guess(str(tmp_path / "x.csv"), Options())
    assert (found.delimiter, found.skip) == (delimiter, skip)


def test_rejects_of_a_file_that_is_written_otherwise_come_back(tmp_path: Path, url: str) -> None:
    """They are written in our own way, with values as they came."""
    (tmp_path / "x.csv").write_text("Trees\n\ndistrict;tag_no;girth_cm;planted_on\n'A';1;'1,5';'30.03.2026'\n'A';2;'1.5';'30.03.2026'\n'A';3;'2,5';'2026'\n")
    job = rm.Job(
        store=url, table="trees", key=["district", "tag_no"], rejects=str(tmp_path / "r.csv"), columns={"planted_on": {"format": "%d.%m.%Y"}},
        incoming={"path": str(tmp_path / "x.csv"), "delimiter": ";", "quote": "'", "skip": 2, "decimal": ","},
    )  # fmt: skip
    result = rm.merge(job)
    girth, planted = result.rejects["rmend_reason"].to_pylist()
    assert "girth_cm: '1.5' is not a number" in girth
    assert "with ',' as its decimal mark" in girth
    assert planted == "planted_on: '2026' is not written as %d.%m.%Y"
    (tmp_path / "m.csv").write_text((tmp_path / "r.csv").read_text().replace('"1.5"', '"1,75"').replace(',"2026"', ',"1.4.2026"'))
    assert rm.merge(job, tmp_path / "m.csv").counts["insert"] == 2
    there = rm.as_of(url, "trees", position=9).sort_by("tag_no")
    assert there["girth_cm"].to_pylist() == [Decimal("1.50"), Decimal("1.75"), Decimal("2.50")]
    assert there["planted_on"].to_pylist() == [date(2026, 3, 30), date(2026, 3, 30), date(2026, 4, 1)]


def test_files_of_frames_and_packed_ones_are_drafted_and_merged_as_they_are(tmp_path: Path, url: str) -> None:
    (tmp_path / "files").mkdir()
    for file in by_frames(tmp_path / "files"):
        lands(url, file, tmp_path, {"seen_at"} if "german" in file.name else set())  # whose time pandas leaves out there
        with closing(sqlite3.connect(tmp_path / "r.db")) as connection:
            connection.execute("DELETE FROM trees")
            connection.commit()
