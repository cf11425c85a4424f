"""Versions: what a table keeps of the past of its things is what the records say of it, in whatever order they come."""

from __future__ import annotations

import random
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import date, timedelta
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

import rapid_mender as rm
from rapid_mender.stores.urls import opened

from . import databases

KINDS = ["memory", *databases.KINDS]
FAR = date(9999, 12, 31)
BEGIN = date(2020, 1, 1)
FORMS: list[dict[str, Any]] = [
    {"to": "until", "current": "now", "number": "no"},
    {"to": "until", "open": FAR},
    {"to": "until", "end": "included", "current": "now"},
    {"to": "until", "open": FAR, "end": "included", "number": "no"},
]
Row = dict[str, Any]


@contextmanager
def trees(kind: str, path: Path) -> Iterator[tuple[Any, dict[str, str]]]:
    """A table of versions with a key of its own: its store, and the columns of the key."""
    if kind == "memory":
        types = {"id": pa.int64(), "tag": pa.int32(), "warden": pa.string(), "height": pa.int32(), "felled": pa.bool_()}
        types |= {"since": pa.date32(), "until": pa.date32(), "now": pa.bool_(), "no": pa.int32()}
        empty = pa.schema([pa.field(name, kind, name != "id") for name, kind in types.items()]).empty_table()
        yield rm.MemoryStore({"trees": empty}, keys={"trees": ["id"]}, numbered={"trees": "id"}), {}
        return
    identity = {
        "sqlite": "INTEGER PRIMARY KEY",
        "postgresql": "bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY",
        "mariadb": "BIGINT AUTO_INCREMENT PRIMARY KEY",
    }[kind]
    columns = "tag INT NOT NULL, warden VARCHAR(20), height INT, felled BOOLEAN, since DATE NOT NULL, until DATE, now BOOLEAN, no INT"
    with databases.table(kind, path, f"CREATE TABLE trees (id {identity}, {columns}, UNIQUE (tag, since))") as (url, _):
        yield url, {}


def job_of(store: Any, form: dict[str, Any], **options: Any) -> rm.Job:
    spans = {"from_": "since", "effective": "day", "late": options.pop("late", "insert"), **form}
    return rm.Job(store=store, table="trees", key=["tag"], columns={"warden": rm.ColumnOptions(version=True)}, versions=rm.Versions(**spans), **options)


def rows(store: Any) -> list[Row]:
    """The rows by key and date, without the key of their own, their ends as if excluded and null."""
    with opened(store) as place, place.begin(write=False) as session:
        found = session.read(session.describe("trees")).values.to_pylist()
    assert len({row.pop("id") for row in found}) == len(found)
    return sorted(found, key=lambda row: (row["tag"], row["since"]))


def plain(found: list[Row], form: dict[str, Any]) -> list[tuple[Any, ...]]:
    """Rows as (tag, since, until, warden, height); what else says so agrees with their spans."""
    out, number = [], {}
    for row in found:
        until = None if row["until"] == form.get("open") else row["until"] + timedelta(form.get("end") == "included")
        if "current" in form:
            assert row["now"] == (until is None), row
        number[row["tag"]] = number.get(row["tag"], 0) + 1
        if "number" in form:
            assert row["no"] == number[row["tag"]], found
        out.append((row["tag"], row["since"], until, row["warden"], row["height"]))
    return out


def spans(records: list[Row]) -> list[tuple[Any, ...]]:
    """What records that all say something new come to, sorted by their dates."""
    out = []
    for record in sorted(records, key=lambda one: (one["tag"], one["day"])):
        if out and out[-1][0] == record["tag"]:
            out[-1] = (*out[-1][:2], record["day"], *out[-1][3:])
        out.append((record["tag"], record["day"], None, record["warden"], record["height"]))
    return out


def batches(rng: random.Random, count: int) -> list[list[Row]]:
    """Records that each have a date and a warden of their own, in batches, in any order."""
    days = [(tag, BEGIN + timedelta(day)) for tag in range(4) for day in rng.sample(range(400), count // 4)]
    records = [{"tag": tag, "day": day, "warden": f"w{number}", "height": rng.randrange(9)} for number, (tag, day) in enumerate(days)]
    rng.shuffle(records)
    out = []
    while records:
        size = rng.randrange(1, 9)
        out.append(records[:size])
        records = records[size:]
    return out


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("seed", range(len(FORMS)))
def test_the_order_of_arrival_does_not_matter(kind: str, seed: int, tmp_path: Path) -> None:
    form, rng = FORMS[seed], random.Random(seed)
    with trees(kind, tmp_path) as (store, _):
        job, came, undone = job_of(store, form, commit_every=rng.choice([None, 3])), list[Row](), 0
        for batch in batches(rng, 40):
            before = rows(store)
            foreseen = rm.preview(job, batch).counts
            assert rows(store) == before
            result = rm.merge(job, batch)
            assert result.counts == foreseen
            assert result.counts["reject"] == 0, result.rejects.to_pylist()
            if rng.random() < 0.2 and result.batch is not None:
                rm.undo(store, result.batch)
                undone += 1
                assert rows(store) == before
                rm.merge(job, batch)
            came += batch
            assert plain(rows(store), form) == spans(came)
        whole = rows(store)
        again = rm.merge(job, came)
        assert (again.counts["skip"], rows(store)) == (len(came), whole)
        assert rm.verify(store, "trees").holds
        valid = plain(whole, form)
        for _ in range(1000):  # a plain reading: the last record until then
            tag, day = rng.randrange(4), BEGIN + timedelta(rng.randrange(-20, 420))
            said = [one for one in came if one["tag"] == tag and one["day"] <= day]
            then = [one[3] for one in valid if one[0] == tag and one[1] <= day and (one[2] is None or day < one[2])]
            assert then == [one["warden"] for one in sorted(said, key=lambda one: one["day"])[-1:]]


def modelled(store_rows: list[Row], batch: list[Row], marks: bool) -> list[Row]:
    """What a batch comes to whose records are dated after all rows, one after the other."""
    for record in sorted(batch, key=lambda one: one["day"]):
        mine = [row for row in store_rows if row["tag"] == record["tag"] and row["until"] is None]
        now = mine[0] if mine else None
        if record.get("gone"):
            if now is not None and now["since"] == record["day"] and not marks:
                store_rows.remove(now)
            elif now is not None:
                now |= {"until": record["day"], "felled": True if marks else now["felled"]}
            continue
        if now is None or (now["warden"] != record["warden"] and now["since"] != record["day"]):
            if now is not None:
                now["until"] = record["day"]
            felled = now["felled"] if now else None
            store_rows.append(
                {"tag": record["tag"], "since": record["day"], "until": None, "warden": record["warden"], "height": record["height"], "felled": felled}
            )
        else:
            now |= {"warden": record["warden"], "height": record["height"]}
    return store_rows


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("marks", [False, True])
def test_versions_open_close_and_come_back(kind: str, marks: bool, tmp_path: Path) -> None:
    """Also by records that change nothing, or only what is overwritten, and by deletes."""
    rng, day, expected = random.Random(marks), BEGIN, list[Row]()
    rule = rm.Rule(decide="delete", when="matched AND incoming.gone", because="felled")
    skip = rm.Rule(decide="skip", when="incoming.gone", because="is not there")
    how = {"delete": "mark", "mark": {"felled": True}} if marks else {}
    to = f"sqlite:///{tmp_path}/to.db"
    (tmp_path / "to.db").touch()
    with trees(kind, tmp_path) as (store, _):
        job = job_of(store, FORMS[0], rules=[rule, skip], **how)
        for _ in range(15):
            batch = []
            for tag in range(5):
                for _ in range(rng.randrange(3)):
                    day += timedelta(1)
                    batch.append({"tag": tag, "day": day, "warden": rng.choice("ab"), "height": rng.randrange(2), "gone": rng.random() < 0.2})
            rng.shuffle(batch)
            foreseen = rm.preview(job, batch).counts
            result = rm.merge(job, batch)
            assert result.counts == foreseen
            assert result.counts["reject"] == 0, result.rejects.to_pylist()
            expected = modelled(expected, batch, marks)
            found = [{name: row[name] for name in ("tag", "since", "until", "warden", "height", "felled")} for row in rows(store)]
            assert found == sorted(expected, key=lambda row: (row["tag"], row["since"])), batch
            plain(rows(store), FORMS[0])
            if kind != "memory":
                rm.sync(store, "trees", to, "trees", follower="map")
                assert rows(to) == rows(store)
        assert rm.verify(store, "trees").holds
