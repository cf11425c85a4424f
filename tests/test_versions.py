"""Versions: what a table keeps of the past of its things is what the records say of it, in whatever order they come."""

from __future__ import annotations

import random
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import date, timedelta
from itertools import pairwise
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

import rapid_mender as rm
from rapid_mender.stores.urls import opened

from . import databases, length

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
def trees(kind: str, path: Path, keyed: bool = True) -> Iterator[Any]:
    """The store of a table of versions, with a key of its own or without any."""
    if kind == "memory":
        types = {"id": pa.int64(), "tag": pa.int32(), "warden": pa.string(), "height": pa.int32(), "felled": pa.bool_()}
        types |= {"since": pa.date32(), "until": pa.date32(), "now": pa.bool_(), "no": pa.int32()}
        empty = pa.schema([pa.field(name, kind, name != "id") for name, kind in types.items()]).empty_table()
        yield rm.MemoryStore({"trees": empty}, keys={"trees": ["id"]}, numbered={"trees": "id"})
        return
    identity = {
        "sqlite": "INTEGER PRIMARY KEY",
        "postgresql": "bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY",
        "mariadb": "BIGINT AUTO_INCREMENT PRIMARY KEY",
    }[kind]
    columns = "tag INT NOT NULL, warden VARCHAR(20), height INT, felled BOOLEAN, since DATE NOT NULL, until DATE, now BOOLEAN, no INT"
    made = f"CREATE TABLE trees (id {identity}, {columns}, UNIQUE (tag, since))" if keyed else f"CREATE TABLE trees ({columns})"
    with databases.table(kind, path, made) as (url, _):
        yield url


def job_of(store: Any, form: dict[str, Any], **options: Any) -> rm.Job:
    spans = {"from_": "since", "effective": "day", "late": options.pop("late", "insert"), **form}
    return rm.Job(store=store, table="trees", key=["tag"], columns={"warden": rm.ColumnOptions(version=True)}, versions=rm.Versions(**spans), **options)


def rows(store: Any) -> list[Row]:
    """The rows by key and date, without the key of their own, their ends as if excluded and null."""
    with opened(store) as place, place.begin(write=False) as session:
        found = session.read(session.describe("trees")).values.to_pylist()
    assert len({row.pop("id", place) for place, row in enumerate(found)}) == len(found)
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


def told(result: rm.Result) -> list[tuple[Any, ...]]:
    return sorted(((one["row"], one["tag"], one["decision"], one["reason"], one["changed"]) for one in result.decisions.to_pylist()), key=repr)


def merged(job: rm.Job, batch: list[Row], tags: list[int]) -> rm.Result:
    """What a merge does is what a preview says of each record; and of each key what explain says."""
    foreseen = told(rm.preview(job, batch))
    for tag in tags:
        explained = [(one.row, tag, one.decision, one.reason) for one in rm.explain(job, batch, key={"tag": tag}).records]
        assert sorted(explained, key=repr) == [one[:4] for one in foreseen if one[1] == tag and one[0] is not None], (batch, tag)
    result = rm.merge(job, batch)
    assert told(result) == foreseen, batch
    return result


@pytest.mark.slow
@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("seed", range(len(FORMS)))
def test_the_order_of_arrival_does_not_matter(kind: str, seed: int, tmp_path: Path) -> None:
    form, rng = FORMS[seed], length.dice(seed)
    with trees(kind, tmp_path, keyed=seed % 2 == 0) as store:
        job, came, undone = job_of(store, form, commit_every=rng.choice([None, 3])), list[Row](), 0
        for batch in batches(rng, 32 if kind in ("memory", "sqlite") or length.LONG else 16):
            before = rows(store)
            rm.preview(job, batch)
            assert rows(store) == before
            result = merged(job, batch, [rng.randrange(4)])
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


@pytest.mark.slow
@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("marks", [False, True])
def test_versions_open_close_and_come_back(kind: str, marks: bool, tmp_path: Path) -> None:
    """Also by records that change nothing, or only what is overwritten, and by deletes."""
    rng, day, expected = length.dice(marks), BEGIN, list[Row]()
    rule = rm.Rule(decide="delete", when="matched AND incoming.gone", because="felled")
    skip = rm.Rule(decide="skip", when="incoming.gone", because="is not there")
    how = {"delete": "mark", "mark": {"felled": True}} if marks else {}
    to = f"sqlite:///{tmp_path}/to.db"
    (tmp_path / "to.db").touch()
    with trees(kind, tmp_path) as store:
        job = job_of(store, FORMS[0], rules=[rule, skip], **how)
        for _ in range(length.some({"memory": 10, "sqlite": 8}.get(kind, 5))):
            batch = []
            for tag in range(5):
                for _ in range(rng.randrange(3)):
                    day += timedelta(1)
                    batch.append({"tag": tag, "day": day, "warden": rng.choice("ab"), "height": rng.randrange(2), "gone": rng.random() < 0.2})
            rng.shuffle(batch)
            result = merged(job, batch, rng.sample(range(5), 2))
            assert result.counts["reject"] == 0, result.rejects.to_pylist()
            expected = modelled(expected, batch, marks)
            found = [{name: row[name] for name in ("tag", "since", "until", "warden", "height", "felled")} for row in rows(store)]
            assert found == sorted(expected, key=lambda row: (row["tag"], row["since"])), batch
            plain(rows(store), FORMS[0])
            if kind != "memory":
                rm.sync(store, "trees", to, "trees", follower="map")
                assert rows(to) == rows(store)
                rm.sync(
                    flat := rm.Sync(
                        store=store, table="trees", to_store=to, to_table="flat", follower="flat", versions="current", commit_every=rng.choice([1, 3, 99])
                    )
                )
                with opened(to) as place, place.begin(write=False) as session:
                    now = sorted(session.read(session.describe("flat")).values.to_pylist(), key=lambda row: row["tag"])
                assert now == [{name: row[name] for name in now[0]} for row in rows(store) if row["until"] is None]
                assert rm.compare(flat).alike
        assert rm.verify(store, "trees").holds


def test_late_records(tmp_path: Path) -> None:
    first = [{"tag": 1, "day": BEGIN, "warden": "a", "height": 1}, {"tag": 1, "day": BEGIN + timedelta(9), "warden": "b", "height": 1}]
    late = {"tag": 1, "day": BEGIN + timedelta(5), "warden": "c", "height": 2}
    for how, decision in (("skip", "skip"), ("reject", "reject"), ("insert", "update")):
        with trees("memory", tmp_path) as store:
            job = job_of(store, FORMS[0], late=how)
            rm.merge(job, first)
            assert rm.merge(job, first).counts["skip"] == 2, "what came before is not late"
            came = rm.merge(job, [late, {**late, "tag": 2}]).decisions.to_pylist()
            assert [one["decision"] for one in came] == [decision, "insert"]
            assert ("2020-01-06" if how == "insert" else "before the current version") in came[0]["reason"]
            only_height = rm.merge(job, [{**first[0], "day": BEGIN + timedelta(1), "height": 7}])
            assert only_height.counts["skip"] == 1


def test_what_is_not_versioned_may_be_overwritten_everywhere(tmp_path: Path) -> None:
    with trees("memory", tmp_path) as store:
        job = job_of(store, {**FORMS[0], "overwrite": "all"})
        rm.merge(job, [{"tag": 1, "day": BEGIN, "warden": "a", "height": 1}, {"tag": 1, "day": BEGIN + timedelta(9), "warden": "b", "height": 1}])
        rm.merge(job, [{"tag": 1, "day": BEGIN + timedelta(20), "warden": "b", "height": 5}])
        assert [row["height"] for row in rows(store)] == [5, 5]


def test_what_is_marked_when_it_begins_comes_back(tmp_path: Path) -> None:
    with trees("memory", tmp_path) as store:
        gone = rm.Rule(decide="delete", when="matched AND incoming.gone", because="felled")
        job = job_of(store, FORMS[0], delete="mark", mark={"felled": True}, unmark={"felled": False}, rules=[gone])
        for warden, away in (("a", False), ("a", True), ("a", True), ("b", False), ("b", False)):
            rm.merge(job, [{"tag": 1, "day": BEGIN, "warden": warden, "height": 1, "gone": away}])
            (row,) = rows(store)
            assert (row["felled"] is True, row["until"], row["now"]) == (away, BEGIN if away else None, not away)


def test_what_did_not_come_is_closed(tmp_path: Path) -> None:
    with trees("memory", tmp_path) as store:
        future = date.today() + timedelta(30)
        job = job_of(store, FORMS[0], missing="delete", scope="height < 9")
        rm.merge(job, [{"tag": tag, "day": future if tag == 3 else BEGIN, "warden": "a", "height": 9 if tag == 4 else 1} for tag in range(5)])
        gone = rm.merge(job, [{"tag": 0, "day": BEGIN + timedelta(5), "warden": "b", "height": 1}])
        assert gone.counts == {"insert": 0, "update": 1, "delete": 2, "skip": 0, "reject": 0}
        assert "its version begins after this batch" in str(gone.warnings)
        assert [(row["tag"], row["until"] is None) for row in rows(store)] == [(0, False), (0, True), (1, False), (2, False), (3, True), (4, True)]
        assert rm.merge(job, [{"tag": 0, "day": BEGIN + timedelta(5), "warden": "b", "height": 1}]).counts["delete"] == 0


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("form", [0, 1])
def test_a_share_of_deletes_is_one_of_the_versions_in_force(kind: str, form: int, tmp_path: Path) -> None:
    with trees(kind, tmp_path) as store:
        job = job_of(store, FORMS[form])
        for number in range(3):  # so most versions have ended
            rm.merge(job, [{"tag": tag, "day": BEGIN + timedelta(number), "warden": f"w{number}", "height": 1} for tag in range(4)])
        left = [{"tag": tag, "day": BEGIN + timedelta(9), "warden": "w2", "height": 1} for tag in range(3)]
        with pytest.raises(rm.LimitError):
            rm.merge(job_of(store, FORMS[form], missing="delete", max_deletes="24%"), left)
        assert rm.merge(job_of(store, FORMS[form], missing="delete", max_deletes="25%"), left).counts["delete"] == 1


WRONG: list[tuple[dict[str, Any], str]] = [
    ({"from_": "height"}, "a span has dates or timestamps"),
    ({"to": "since"}, "named twice"),
    ({"current": "warden"}, "a flag is true or false"),
    ({"number": "warden"}, "versions are counted by numbers"),
    ({"from_": "sinc"}, "did you mean 'since'"),
    ({"from_": "tag"}, "of the key"),
]


@pytest.mark.parametrize(("given", "why"), WRONG)
def test_spans_that_a_table_cannot_have(given: dict[str, Any], why: str, tmp_path: Path) -> None:
    with trees("sqlite", tmp_path) as store:
        job = rm.Job(
            store=store, table="trees", key=["tag"], columns={"warden": {"version": True}},
            versions={"from_": "since", "to": "until", "effective": "day", **given},
        )  # fmt: skip
        assert why in "; ".join(rm.check(job).problems)


def test_bad_records_and_tables_of_versions(tmp_path: Path) -> None:
    with databases.table(
        "sqlite", tmp_path, "CREATE TABLE trees (tag INT NOT NULL, warden TEXT, since DATE, until DATE, PRIMARY KEY (tag, since))",
        "CREATE TABLE kept (tag INT PRIMARY KEY, warden TEXT, since DATE, until DATE NOT NULL)",
        "INSERT INTO trees VALUES (1, 'a', '2020-01-01', '2020-09-01'), (1, 'b', '2020-05-01', NULL), (2, 'c', '2020-01-01', NULL)",
    ) as (url, _):  # fmt: skip
        job = job_of(url, {"to": "until", "open": FAR})
        for record, why in (
            ({"tag": 2, "warden": "x"}, "no date"), ({"tag": 2, "warden": "x", "day": None}, "no date"),
            ({"tag": 2, "warden": "x", "day": "9999-12-31"}, "stands for no end"), ({"tag": 2, "warden": "x", "day": "soon"}, "is not a date"),
        ):  # fmt: skip
            result = rm.merge(job, [record, {"tag": 9, "warden": "y", "day": "2021-01-01"}])
            assert result.counts["reject"] == 1
            assert why in result.rejects["rmend_reason"][0].as_py()
        job = job_of(url, {"to": "until"})
        odd = rm.merge(job, [{"tag": 1, "warden": "x", "day": "2020-03-01"}, {"tag": 2, "warden": "y", "day": "2021-01-01"}])
        assert odd.counts == {"insert": 0, "update": 1, "delete": 0, "skip": 0, "reject": 1}
        assert "overlap: 2020-01-01 to 2020-09-01, 2020-05-01 to no end" in odd.rejects["rmend_reason"][0].as_py()
        (tmp_path / "undated.csv").write_text("tag,warden\n1,a\n")
        assert "[versions] effective: the incoming record has no column 'day'" in rm.check(job, str(tmp_path / "undated.csv")).problems[0]
        assert "the batch sends 'until'" in str(rm.check(job, [{"tag": 1, "day": "2020-01-01", "until": None}]).problems)
        told = "; ".join(rm.check(rm.Job(**{**dict(job), "table": "kept"})).problems)
        assert "a key cannot have a second version" in told
        assert "say which date stands for it" in told
    for options, why in (
        ({"order": "since"}, "order does not go with"),
        ({"delete": "archive", "archive": "a"}, "archive"),
        ({"columns": {}}, "version = true"),
    ):
        with pytest.raises(rm.JobError, match=why):
            rm.Job(
                **{
                    "store": url,
                    "table": "trees",
                    "key": "tag",
                    "columns": {"warden": {"version": True}},
                    "versions": {"from": "since", "to": "until"},
                    **options,
                }
            )


@databases.every
def test_what_was_valid_and_what_was_believed(kind: str, tmp_path: Path, rmend: Callable[..., Any]) -> None:
    with trees(kind, tmp_path) as store:
        job = job_of(store, FORMS[0])
        with pytest.raises(rm.JobError, match="keeps no versions"):
            rm.at(store, "trees", BEGIN)
        rm.merge(job, [{"tag": 1, "day": BEGIN, "warden": "a", "height": 1}, {"tag": 1, "day": BEGIN + timedelta(60), "warden": "b", "height": 1}])
        with opened(store) as place, place.begin(write=False) as session:
            believed = max(session.read(session.describe("trees_history")).values["changed_at"].to_pylist())
        time.sleep(0.01)
        rm.merge(job, [{"tag": 1, "day": BEGIN + timedelta(30), "warden": "late", "height": 1}])
        wardens = [rm.at(store, "trees", BEGIN + timedelta(day))["warden"].to_pylist() for day in (-1, 0, 29, 30, 59, 60, 9999)]
        assert wardens == [[], ["a"], ["a"], ["late"], ["late"], ["b"], ["b"]]
        assert rm.at(store, "trees", "2020-02-10", as_of=believed)["warden"].to_pylist() == ["a"]
        assert rm.life(store, "trees", {"tag": 1})["warden"].to_pylist() == ["a", "late", "b"]
        shown = rmend("history", store, "--table", "trees", "--life", "tag=1").out
        assert [line.rstrip().split("  ")[-1].strip() for line in shown.splitlines() if "warden" in line] == ["warden a · height 1", "warden late", "warden b"]
        assert "▶" in shown
        assert "no such row" in rmend("history", store, "--table", "trees", "--life", "tag=7").out
        refused = rmend("history", store, "--table", "trees", "--force")
        assert (refused.code, "--force goes with --life" in refused.err) == (2, True)


@databases.every
@pytest.mark.parametrize("form", range(len(FORMS)))
def test_spans_that_do_not_fit_are_found_and_mended(kind: str, form: int, tmp_path: Path, rmend: Callable[..., Any]) -> None:
    given, rng = FORMS[form], random.Random(form)
    with trees(kind, tmp_path, keyed=False) as store:
        job = job_of(store, given)
        rm.merge(job, [record for batch in batches(rng, 40) for record in batch])
        sound = rows(store)
        assert (rm.check_spans(job).sound, rm.check_spans(job).rows) == (True, 40)
        broken = sound[3]["tag"], sound[3]["since"]
        never = given.get("open")
        by = rm.Job(store=store, table="trees", key=["tag", "since"])
        rm.merge(by, [
            {"tag": broken[0], "since": broken[1], "until": never, **({"now": True} if "current" in given else {}), **({"no": 9} if "number" in given else {})},
            {"tag": sound[15]["tag"], "since": sound[15]["since"], "until": sound[15]["since"] - timedelta(5)},
            {"tag": sound[25]["tag"], "since": sound[25]["since"], "until": sound[26]["since"] + timedelta(1)},
            *([{"tag": sound[35]["tag"], "since": sound[35]["since"], "now": True}] if "current" in given else []),
        ])  # fmt: skip
        found = rm.check_spans(job)
        assert (found.overlaps, found.current, found.backwards, found.sound) == (2, 1, 1, False)
        assert found.flags == (1 if "current" in given else 0)
        assert found.numbers == (1 if "number" in given else 0)
        (tmp_path / "job.toml").write_text(
            f'store = "{store}"\ntable = "trees"\nkey = "tag"\n[versions]\nfrom = "since"\nto = "until"\n'
            + "".join(f"{name} = {value if isinstance(value, date) else repr(value)}\n" for name, value in given.items() if name != "to")
            + "[columns.warden]\nversion = true\n"
        )
        told = rmend("check", "job.toml", "--spans", "--mends", "mends.csv")
        assert (told.code, "versions end before they begin" in told.out, "mends.csv" in told.out) == (4, True, True), told
        mended = rm.merge(by, str(tmp_path / "mends.csv"))
        assert mended.counts["insert"] == 0
        assert rows(store) == sound
        assert rmend("check", "job.toml", "--spans").code == 0


REFUSING = {
    "sqlite": [
        "CREATE TRIGGER a BEFORE UPDATE ON trees WHEN OLD.tag = 2 BEGIN SELECT RAISE(ABORT, 'no close'); END",
        "CREATE TRIGGER b BEFORE INSERT ON trees WHEN NEW.warden = 'bad' BEGIN SELECT RAISE(ABORT, 'no open'); END",
    ],
    "postgresql": [
        "CREATE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS $$BEGIN IF TG_OP = 'UPDATE' AND OLD.tag = 2 THEN RAISE EXCEPTION 'no close'; END IF; "
        "IF TG_OP = 'INSERT' AND NEW.warden = 'bad' THEN RAISE EXCEPTION 'no open'; END IF; RETURN NEW; END$$",
        "CREATE TRIGGER a BEFORE INSERT OR UPDATE ON trees FOR EACH ROW EXECUTE FUNCTION f()",
    ],
    "mariadb": [
        "CREATE TRIGGER a BEFORE UPDATE ON trees FOR EACH ROW IF OLD.tag = 2 THEN SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'no close'; END IF",
        "CREATE TRIGGER b BEFORE INSERT ON trees FOR EACH ROW IF NEW.warden = 'bad' THEN SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'no open'; END IF",
    ],
}


@databases.every
@pytest.mark.parametrize("keyed", [False, True])
def test_a_version_is_closed_and_the_next_one_opened_or_neither(kind: str, keyed: bool, tmp_path: Path) -> None:
    key = ", PRIMARY KEY (tag, since)" if keyed else ""
    made = f"CREATE TABLE trees (tag INT NOT NULL, warden VARCHAR(20), since DATE NOT NULL, until DATE{key})"
    with databases.table(kind, tmp_path, made, *REFUSING[kind]) as (store, _):
        job = job_of(store, {"to": "until"})
        rm.merge(job, [{"tag": tag, "warden": "a", "day": BEGIN} for tag in range(5)])
        result = rm.merge(job, [{"tag": tag, "warden": "bad" if tag == 3 else "b", "day": BEGIN + timedelta(9)} for tag in range(5)])
        assert [why.rpartition(": ")[2] for why in result.rejects["rmend_reason"].to_pylist()] == ["no close", "no open"]
        left = [(row["tag"], row["warden"], row["until"]) for row in rows(store) if row["tag"] in (2, 3)]
        assert (result.counts["update"], left) == (3, [(2, "a", None), (3, "a", None)])
        assert rm.verify(store, "trees").holds


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("form", [0, 3])
def test_versions_that_become_equal_are_joined(kind: str, form: int, tmp_path: Path) -> None:
    given, rng = FORMS[form] | {"join": True}, random.Random(form)

    def of(*told: tuple[int, str]) -> list[Row]:
        return [{"tag": 1, "day": BEGIN + timedelta(day), "warden": warden, "height": day} for day, warden in told]

    with trees(kind, tmp_path, keyed=form == 0) as store:
        job = job_of(store, given)

        def now() -> list[tuple[int, str, int]]:
            return [((one[1] - BEGIN).days, one[3], one[4]) for one in plain(rows(store), given) if one[0] == 1]

        rm.merge(job, of((1, "a"), (5, "b"), (9, "a"), (20, "c")))
        rm.merge(job, of((5, "a")))
        assert now() == [(1, "a", 9), (20, "c", 20)], "corrected: the same before and after"
        rm.merge(job, of((15, "c")))
        assert now() == [(1, "a", 9), (15, "c", 20)], "late: the same after"
        assert rm.merge(job, of((5, "a"), (15, "c"))).counts["skip"] == 1
        for _ in range(length.some(8 if kind in ("memory", "sqlite") else 4)):
            batch = [{"tag": tag, "day": BEGIN + timedelta(rng.randrange(40)), "warden": rng.choice("ab"), "height": 1} for tag in range(4)]
            foreseen = rm.preview(job, batch).counts
            assert rm.merge(job, batch).counts == foreseen
            found = plain(rows(store), given)
            for one, after in pairwise(found):
                assert one[0] != after[0] or (one[2] == after[1] and one[3] != after[3]), found
        assert rm.verify(store, "trees").holds
        assert rm.check_spans(job).sound


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("late", ["insert", "skip", "reject"])
def test_the_same_batch_twice_is_skipped(kind: str, late: str, tmp_path: Path) -> None:
    """Also where several records say the same of a version, and different things of the rest; and spans stay sound."""
    for seed in range(length.some(2 if kind in ("memory", "sqlite") else 1)):
        rng, path = length.dice(late, seed), tmp_path / str(seed)
        path.mkdir()
        form = FORMS[rng.randrange(len(FORMS))] | {"overwrite": rng.choice(["current", "all"])}
        with trees(kind, path, keyed=rng.random() < 0.5) as store:
            job = job_of(store, form, late=late, duplicates="last")
            for _ in range(4):
                batch = [
                    {"tag": rng.randrange(3), "day": BEGIN + timedelta(rng.randrange(15)), "warden": rng.choice("ab"), "height": rng.randrange(3)}
                    for _ in range(rng.randrange(1, 12))
                ]
                first = rm.merge(job, batch).counts
                left = rows(store)
                second = rm.merge(job, batch).counts
                assert (second["insert"], second["update"], second["reject"]) == (0, 0, first["reject"]), (form, batch)
                assert rows(store) == left
                assert rm.check_spans(job).sound
