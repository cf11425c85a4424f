"""Columns that are looked up in another table, held against a look-up in plain dicts."""

from __future__ import annotations

import threading
from contextlib import closing
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

import rapid_mender as rm

from . import databases, length

DDL = (
    "CREATE TABLE streets (id INTEGER PRIMARY KEY, code VARCHAR(9), town INTEGER)",
    "CREATE TABLE trees (tag INTEGER PRIMARY KEY, street_id INTEGER, note VARCHAR(20))", "INSERT INTO trees VALUES (1, 7, 'old'), (2, NULL, 'x')",
)  # fmt: skip
INSTEAD: list[Any] = ["reject", "null", {"value": 77}]


def expected(record: dict[str, Any], streets: list[tuple[int, str, int]], none: Any, several: Any) -> Any:
    """What is found for a record: a value, None, "reject", or "absent" where it does not say what to look for."""
    if not {"street", "town"} <= record.keys():
        return "absent"
    if record["street"] is None or record["town"] is None:
        return None
    found = {number for number, code, town in streets if (code, town) == (record["street"], int(record["town"]))}
    instead = none if not found else several
    return found.pop() if len(found) == 1 else instead["value"] if isinstance(instead, dict) else None if instead == "null" else "reject"


@databases.every
def test_what_is_looked_up_is_what_a_plain_look_up_finds(tmp_path: Path, kind: str) -> None:
    for number in range(length.some(3)):
        dice = length.dice("lookups", kind, number)
        (tmp_path / str(number)).mkdir()
        streets = [(n, dice.choice("ABCD"), dice.choice([1, 2])) for n in range(dice.randint(0, 8))]
        rows = [f"INSERT INTO streets VALUES {', '.join(map(str, streets))}"] if streets else []
        with databases.table(kind, tmp_path / str(number), *DDL, *rows) as (url, _):
            records = []
            for tag in dice.sample(range(1, 40), 25):
                record: dict[str, Any] = {"tag": tag, "street": dice.choice(["A", "B", "C", "D", "Z", None]), "town": dice.choice([1, "2", None])}
                records.append({name: value for name, value in record.items() if name == "tag" or dice.random() < 0.9})
            none, several = dice.choice(INSTEAD), dice.choice(INSTEAD)
            lookup = {"table": "streets", "match": {"code": "street", "town": "town"}, "take": "id", "none": none, "several": several}
            job = rm.Job(store=url, table="trees", key="tag", lookup={"street_id": lookup}, derive={"note": "'at ' || CAST(incoming.street_id AS TEXT)"})
            wanted = {record["tag"]: expected(record, streets, none, several) for record in records}
            told = {row["tag"]: row["decision"] for row in rm.preview(job, records).decisions.to_pylist()}
            result = rm.merge(job, records)
            assert told == {row["tag"]: row["decision"] for row in result.decisions.to_pylist()}
            assert {tag for tag, decision in told.items() if decision == "reject"} == {tag for tag, found in wanted.items() if found == "reject"}
            there = {row["tag"]: row for row in rm.as_of(url, "trees", position=10**6).to_pylist()}
            before = {1: 7, 2: None}
            for tag, found in wanted.items():
                if found == "reject":
                    assert (tag in there) == (tag in before)
                    continue
                assert there[tag]["street_id"] == (before.get(tag) if found == "absent" else found)
                if isinstance(found, int):
                    assert there[tag]["note"] == f"at {found}"
            assert rm.merge(job, records).counts["skip"] == len(records) - result.counts["reject"]


@databases.both
def test_looking_up_waits_for_nobody(tmp_path: Path, kind: str) -> None:
    """The rows that are found stay free, also where the few records of a call are read in its own transaction."""
    with databases.table(kind, tmp_path, *DDL, "INSERT INTO streets VALUES (4, 'A', 1)") as (url, _), closing(databases.driver(url)) as other:
        cursor = other.cursor()
        cursor.execute("SELECT * FROM streets FOR UPDATE")
        lookup = {"table": "streets", "match": {"code": "street", "town": "town"}, "take": "id"}
        job = rm.Job(store=url, table="trees", key="tag", lookup={"street_id": lookup})
        done = []
        work = threading.Thread(target=lambda: done.append(rm.merge(job, [{"tag": 9, "street": "A", "town": 1}]).counts["insert"]), daemon=True)
        work.start()
        work.join(20)
        cursor.execute("ROLLBACK")
        assert done == [1]


@pytest.mark.parametrize(
    ("changed", "words"),
    [
        ({"table": "roads"}, "there is no table 'roads'"), ({"take": "idd"}, "did you mean 'id'"), ({"match": {"cod": "street"}}, "did you mean 'code'"),
        ({"none": "skip"}, 'none must be "reject", "null" or a value'), ({"match": {"code": "street", "town": "strasse"}}, "the batch does not send 'strasse'"),
        ({"none": {"value": "x"}}, "'x' is not a whole number"), ({"match": {}}, "at least 1"),
    ],
)  # fmt: skip
def test_a_look_up_that_cannot_be_is_said_before_a_record_is_read(tmp_path: Path, changed: dict[str, Any], words: str) -> None:
    lookup = {"table": "streets", "match": {"code": "street"}, "take": "id"} | changed
    with databases.table("sqlite", tmp_path, *DDL) as (url, _):
        try:
            problems = rm.check(rm.Job(store=url, table="trees", key="tag", lookup={"street_id": lookup}), pa.table({"tag": [1], "street": ["A"]})).problems
        except rm.JobError as error:
            problems = [str(error)]
    assert any(words in problem for problem in problems), problems
