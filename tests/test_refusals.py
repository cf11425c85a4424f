"""What only the database refuses, keys that it makes, limits, units of work, and where rejects go."""

from __future__ import annotations

import json
import sqlite3
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pytest

import rapid_mender as rm

from . import databases
from .databases import every
from .killing import table_of

DDL = (
    "CREATE TABLE districts (name TEXT PRIMARY KEY)", "INSERT INTO districts VALUES ('North'), ('South')",
    "CREATE TABLE trees (tag_no INTEGER PRIMARY KEY, district TEXT REFERENCES districts (name), "
    "girth REAL CHECK (girth < 1000), label TEXT UNIQUE ON CONFLICT REPLACE)",
    "INSERT INTO trees VALUES (1, 'North', 10, 'one'), (2, 'South', 20, 'two'), (3, 'North', 30, 'three')",
)  # fmt: skip
TRIGGER = "CREATE TRIGGER no_seven BEFORE INSERT ON trees WHEN NEW.tag_no = 7 BEGIN SELECT RAISE(ABORT, 'seven'); END"


def database(path: Path, *statements: str) -> str:
    connection = sqlite3.connect(path)
    for statement in statements:
        connection.execute(statement)
    connection.commit()
    connection.close()
    return f"sqlite:///{path}"


def rows(url: str, sql: str) -> list[Any]:
    connection = sqlite3.connect(url[10:])
    found = connection.execute(sql).fetchall()
    connection.close()
    return found


BATCH = [
    {"tag_no": 1, "district": "North", "girth": 11.0, "label": "one"},
    {"tag_no": 2, "district": "Nowhere", "girth": 20.0, "label": "two"},  # a foreign key, on an update
    {"tag_no": 3, "district": "North", "girth": 3000.0, "label": "three"},  # a check, on an update
    {"tag_no": 4, "district": "South", "girth": 1.0, "label": "one"},  # another unique column, on an insert
    {"tag_no": 5, "district": "East", "girth": 1.0, "label": "five"},  # a foreign key, on an insert
    {"tag_no": 6, "district": None, "girth": 1.0, "label": "six"},
    {"tag_no": 7, "district": "South", "girth": None, "label": "seven"},
]


@pytest.mark.parametrize("trigger", [False, True])
def test_rows_that_the_database_refuses_are_rejects_and_the_rest_lands(tmp_path: Path, trigger: bool) -> None:
    url = database(tmp_path / "r.db", *DDL, *([TRIGGER] if trigger else []))
    result = rm.merge(rm.Job(store=url, table="trees", key="tag_no"), BATCH)
    reasons = dict(zip(result.rejects["rmend_row"].to_pylist(), result.rejects["rmend_reason"].to_pylist(), strict=True))
    assert reasons == {
        2: "the database refused: FOREIGN KEY constraint failed (district refers to districts.name)",
        3: "the database refused: CHECK constraint failed: girth < 1000",
        4: "the database refused: UNIQUE constraint failed: trees.label",
        5: "the database refused: FOREIGN KEY constraint failed (district refers to districts.name)",
    } | ({7: "the database refused: seven"} if trigger else {})
    assert result.counts == {"insert": 1 if trigger else 2, "update": 1, "delete": 0, "skip": 0, "reject": len(reasons)}
    assert result.changed == {"girth": 1}
    kept = [(1, "North", 11.0, "one"), (2, "South", 20.0, "two"), (3, "North", 30.0, "three"), (6, None, 1.0, "six")]
    assert rows(url, "SELECT * FROM trees") == kept + ([] if trigger else [(7, "South", None, "seven")])
    history = rm.history(url, "trees").to_pylist()
    assert [(c["action"], c["new_tag_no"]) for c in history] == [("update", 1), ("insert", 6)] + ([] if trigger else [("insert", 7)])
    again = rm.merge(rm.Job(store=url, table="trees", key="tag_no"), BATCH)
    assert (again.landed, again.counts["reject"], again.counts["skip"]) == (False, len(reasons), 7 - len(reasons))


def test_deletes_that_the_database_refuses(tmp_path: Path) -> None:
    url = database(tmp_path / "r.db", *DDL)
    job = rm.Job(store=url, table="districts", key="name", missing="delete")
    result = rm.merge(job, [{"name": "West"}])
    assert result.counts == {"insert": 1, "update": 0, "delete": 0, "skip": 0, "reject": 0}
    assert result.warnings == ["2 rows that did not come were kept: the database refused: FOREIGN KEY constraint failed"]
    assert rows(url, "SELECT name FROM districts ORDER BY 1") == [("North",), ("South",), ("West",)]
    rule = rm.Rule(decide="delete", when="incoming.name <> 'West'")
    result = rm.merge(rm.Job(store=url, table="districts", key="name", rules=[rule]), [{"name": "North"}])
    assert result.rejects["rmend_reason"].to_pylist() == ["the database refused: FOREIGN KEY constraint failed"]


@every
@pytest.mark.parametrize("keyed", [True, False])
def test_an_archive_has_no_row_that_stays(kind: str, keyed: bool, tmp_path: Path) -> None:
    """Copy and delete are one: what a foreign key or a trigger holds back is in the table alone, however often it is tried."""
    engine = " ENGINE=InnoDB" if kind == "mariadb" else ""
    tables = [
        f"CREATE TABLE t (id INTEGER NOT NULL PRIMARY KEY, v INTEGER){engine}",
        f"CREATE TABLE gone (id INTEGER NOT NULL{' PRIMARY KEY' if keyed else ''}, v INTEGER){engine}",
    ]
    holds = f"CREATE TABLE child (t_id INTEGER NOT NULL, FOREIGN KEY (t_id) REFERENCES t (id)){engine}"
    with databases.table(kind, tmp_path, *tables, holds) as (url, run):
        job = rm.Job(store=url, table="t", key="id", missing="delete", delete="archive", archive="gone")
        rm.merge(rm.Job(store=url, table="t", key="id"), [{"id": n, "v": n} for n in range(300)])
        held = [7, 8, 150, 299]
        run(*(f"INSERT INTO child VALUES ({n})" for n in held), *(["INSERT INTO gone VALUES (9, 9)"] if keyed else []))
        held += [9] if keyed else []  # the archive has that key
        if kind == "sqlite":
            run("CREATE TRIGGER keeps BEFORE DELETE ON t WHEN OLD.id = 42 BEGIN SELECT RAISE(IGNORE); END")
            held = sorted([*held, 42])
        for turn in range(3):
            result = rm.merge(job, [{"id": 0, "v": turn}])
            assert result.counts["delete"] == (299 - len(held) if turn == 0 else 0)
        reader = rm.Job(store=url, table="gone", key="id", missing="delete")
        assert rm.preview(reader, [{"id": -1, "v": 0}]).missing == 299 - len(held) + keyed, "each once"
        assert sorted(table_of(url, "t")["id"].to_pylist()) == sorted([0, *held])
        assert set(table_of(url, "gone")["id"].to_pylist()).isdisjoint({0, *held} - {9})
        assert rm.history(url, "t", action="delete").num_rows == 299 - len(held)
        assert rm.verify(url, "t").holds
        rm.undo(url, 2, force=True)
        assert (table_of(url, "t").num_rows, table_of(url, "gone").num_rows) == (300, int(keyed))


def test_many_rows_and_a_few_that_violate_a_foreign_key(tmp_path: Path) -> None:
    url = database(tmp_path / "r.db", *DDL)
    count = 20_000
    bad = np.random.default_rng(1).choice(count, 10, replace=False)
    names = np.where(np.isin(np.arange(count), bad), "Nowhere", "South")
    batch = pa.table({"tag_no": np.arange(10, count + 10), "district": names})
    result = rm.merge(rm.Job(store=url, table="trees", key="tag_no"), batch)
    assert (result.counts["insert"], result.counts["reject"]) == (count - 10, 10)
    assert result.rejects["rmend_row"].to_pylist() == sorted((bad + 1).tolist())
    assert rows(url, "SELECT count(*) FROM trees") == [(count - 7,)]
    assert rows(url, "SELECT count(*) FROM trees_history") == [(count - 10,)]


@pytest.mark.parametrize("how", ["memory", "rowid", "default", "trigger"])
def test_keys_that_the_database_makes(how: str, tmp_path: Path) -> None:
    key: Any = "id"
    if how == "memory":
        shape = pa.schema([pa.field("id", pa.int64(), False), ("note", pa.string())])
        store: Any = rm.MemoryStore({"t": shape.empty_table()}, numbered={"t": "id"})
    else:
        kind = "TEXT DEFAULT (hex(randomblob(8))) NOT NULL UNIQUE" if how == "default" else "INTEGER PRIMARY KEY AUTOINCREMENT"
        log = ["CREATE TABLE log (id)", "CREATE TRIGGER g AFTER INSERT ON t BEGIN INSERT INTO log VALUES (NEW.id); END"]
        store = database(tmp_path / "r.db", f"CREATE TABLE t (id {kind}, note TEXT)", *(log if how == "trigger" else []))
    job = rm.Job(store=store, table="t", key=key, null_key="generate")
    first = rm.merge(job, [{"id": None, "note": "a"}, {"id": 7, "note": "b"}, {"note": "c"}, {"id": None, "note": None}])
    assert first.decisions["decision"].to_pylist() == ["insert"] * 4
    made = first.decisions["id"].to_pylist()
    assert len(set(made)) == 4
    assert None not in made
    history = rm.history(store, "t").to_pylist()
    notes = {c["new_id"]: c["new_note"] for c in history}
    assert notes == dict(zip(made, ["a", "b", "c", None], strict=True))
    second = rm.merge(job, [{"id": key, "note": note} for key, note in notes.items()])
    assert second.counts["skip"] == 4


def test_keys_are_made_after_all_that_came(tmp_path: Path) -> None:
    """A key that is made is none that another record of the batch has."""
    url = database(tmp_path / "r.db", "CREATE TABLE t (id INTEGER PRIMARY KEY, note TEXT)", "INSERT INTO t VALUES (5, 'x')")
    job = rm.Job(store=url, table="t", key="id", null_key="generate")
    result = rm.merge(job, [{"id": None, "note": "new"}, {"id": 6, "note": "six"}, {"id": 7, "note": "seven"}])
    assert result.decisions["id"].to_pylist() == [8, 6, 7]
    assert result.counts["insert"] == 3


def test_a_key_that_no_database_makes_is_an_error() -> None:
    store = rm.MemoryStore({"t": pa.table({"id": [1], "n": ["x"]})})
    with pytest.raises(rm.JobError, match="the database makes no value for 'id'"):
        rm.merge(rm.Job(store=store, table="t", key="id", null_key="generate"), [{"n": "x"}])


@pytest.mark.parametrize(("option", "value", "stops"), [
    ("max_rejects", 1, True), ("max_rejects", 2, False), ("max_rejects", "40%", True), ("max_rejects", "50%", False),
    ("max_deletes", 1, True), ("max_deletes", 2, False), ("max_deletes", "60%", True), ("max_deletes", "70 %", False),
])  # fmt: skip
@pytest.mark.parametrize("missing", ["delete", "keep"])
def test_limits_stop_and_undo_the_run(tmp_path: Path, option: str, value: Any, stops: bool, missing: str) -> None:
    """Two of four records are rejects; two of three rows are deleted, because they did not come or by a rule."""
    url = database(tmp_path / "r.db", *DDL)
    batch = [{"tag_no": 3, "girth": 31}, {"tag_no": None}, {"tag_no": 9, "girth": "x"}, {"tag_no": 8, "girth": 1}]
    if option == "max_deletes":
        batch = batch[:1] if missing == "delete" else [{"tag_no": n, "girth": -1.0} for n in (1, 2, 9)]
    rejects = tmp_path / "rejects.csv"
    job = rm.Job(
        store=url, table="trees", key="tag_no", missing=missing if option == "max_deletes" else "keep",
        rejects=str(rejects), rules=[rm.Rule(decide="delete", when="matched AND incoming.girth < 0")], **{option: value},
    )  # fmt: skip
    before = rows(url, "SELECT * FROM trees")
    told = rm.preview(job, batch)
    assert any("a merge would stop" in warning for warning in told.warnings) == stops
    if stops:
        with pytest.raises(rm.LimitError, match=f"{option} is"):
            rm.merge(job, batch)
        assert rows(url, "SELECT * FROM trees") == before
        assert rows(url, "SELECT status, inserted + updated + deleted FROM rmend_batches") == [("stopped", 0)]
    else:
        assert rm.merge(job, batch).counts == told.counts
    assert rejects.exists() == (option == "max_rejects")


def test_units_of_work_and_a_stop_between_them(tmp_path: Path) -> None:
    url = database(tmp_path / "r.db", *DDL)
    batch = [{"tag_no": n, "girth": float(n)} for n in range(10, 20)] + [{"tag_no": None}]
    job = rm.Job(store=url, table="trees", key="tag_no", commit_every=4, max_rejects=0)
    with pytest.raises(rm.LimitError, match="but for what was committed before") as caught:
        rm.merge(job, batch)
    assert caught.value.wrote
    assert rows(url, "SELECT count(*) FROM trees") == [(3 + 8,)]
    assert rm.batches(url).to_pylist()[0]["status"] == "stopped"
    assert rm.batches(url).to_pylist()[0]["inserted"] == 8
    done = rm.merge(job, batch[:-1])
    assert (done.batch, done.counts["insert"], done.counts["skip"]) == (2, 2, 8)
    assert rm.batches(url).to_pylist()[1]["status"] == "done"
    assert rm.history(url, "trees")["change_no"].to_pylist() == list(range(1, 11))


def test_rejects_in_a_table(tmp_path: Path) -> None:
    url = database(tmp_path / "r.db", *DDL)
    source = tmp_path / "survey.csv"
    source.write_text("tag_no,girth,label\n1,15,one\n2,thick,two\n5,4,five\n,7,x\n")
    into = rm.Job(store=url, table="trees", key="tag_no", rejects={"table": "bad trees"})
    result = rm.merge(into, source)
    found = rows(url, 'SELECT rmend_batch, rmend_row, rmend_reason, rmend_record FROM "bad trees"')
    assert [(batch, row) for batch, row, _, _ in found] == [(1, 3), (1, 5)]
    assert json.loads(found[0][3]) == {"tag_no": "2", "girth": "thick", "label": "two"}
    assert result.rejects_path == "table bad trees"
    with pytest.raises(rm.StoreError, match="does not have the columns"):
        rm.merge(rm.Job(store=url, table="trees", key="tag_no", rejects={"table": "districts"}), source)


def test_rules_as_functions_and_reasons_with_values() -> None:
    store = rm.MemoryStore({"t": pa.table({"id": [1, 2], "girth": [1.0, 2.0]})})

    def grew(incoming: pa.Table, existing: pa.Table) -> Any:
        return pa.compute.greater(incoming["girth"], pa.compute.multiply(existing["girth"], 2))

    rules = [
        rm.Rule(decide="reject", when=grew, because="{existing.girth} to {incoming.girth} {{cm}} for {incoming.crew}"),
        rm.Rule(decide="skip", when="incoming.crew = 'x' AND 1 / incoming.n > 0", because="crew x"),
    ]
    job = rm.Job(store=store, table="t", key="id", rules=rules, ignore="n")
    batch = [
        {"id": 1, "girth": 5.0, "crew": "a", "n": 1}, {"id": 2, "girth": 2.5, "crew": "x", "n": 0},
        {"id": 3, "girth": 9.0, "crew": "x", "n": 1}, {"id": 4, "girth": 9.0, "crew": None},
    ]  # fmt: skip
    result = rm.merge(job, batch)
    assert result.decisions["decision"].to_pylist() == ["reject", "update", "skip", "insert"]
    assert result.decisions["reason"][0].as_py() == "1 to 5 {cm} for a"
    assert (result.rules, len(result.warnings)) == ({1: 1, 2: 1}, 1)
    assert "rule 2 could not be computed for 1 records" in result.warnings[0]
    for function, message in (
        (lambda i, e: [True], "must return 4 booleans"), (lambda i, e: i["id"], "must return 4 booleans"),
        (lambda i, e: i["none"], "raised KeyError"), (lambda i, e: object(), "must return a boolean array"),
    ):  # fmt: skip
        wrong = rm.Job(store=store, table="t", key="id", rules=[rm.Rule(decide="skip", when=function)], ignore=["n", "crew"])
        with pytest.raises(rm.JobError, match=message):
            rm.merge(wrong, pa.Table.from_pylist(batch))


WRONG: list[tuple[dict[str, Any], str]] = [
    ({"rules": [rm.Rule(decide="reject", when="incoming.hieght > 1")]}, r"rule 1, when: .*did you mean height"),
    ({"rules": [rm.Rule(decide="reject", when="1 = 1", because="{incoming.x}")]}, "rule 1, because: .*has no column 'x'"),
    ({"rules": [rm.Rule(decide="reject", when="1 = 1", because="a { b")]}, "a brace stands alone"),
    ({"rules": [rm.Rule(decide="reject", when="incoming.note = 'a'")]}, "rule 1: the batch does not send 'note'"),
    ({"derive": {"nte": "1"}}, r"\[derive\]: table 't' has no column 'nte'"),
    ({"derive": {"height": True, "note": "incoming.height + 'x'"}}, "takes numbers"),
    ({"columns": {"height": {"ignore_case": True}}}, "ignore_case and trim are for texts"),
    ({"columns": {"note": {"tolerance": 1}}}, "tolerance is for numbers"),
    ({"columns": {"id": {"compare": False}}}, "a key column is compared"),
    ({"columns": {"height": {"previous": "note"}}}, "have different types"),
    ({"columns": {"height": {"previous": "id"}}}, "cannot take the old value"),
    ({"order": "note"}, "order: the batch does not send 'note'"), ({"order": "dya"}, "did you mean 'day'"),
    ({"missing": "delete", "scope": "incoming.id = 1"}, "there is no 'incoming' here"),
    ({"delete": "mark", "mark": {"height": "'tall'"}}, "mark: height = 'tall' is not a number"),
    ({"delete": "archive", "archive": "nowhere"}, "archive: there is no other table 'nowhere'"),
    ({"delete": "archive", "archive": "t"}, "it is the table itself"),
    ({"key": ["id", "ID"], "order": "x"}, "(?s)2 things are wrong with the job.*named twice.*no column 'x'"),
    ({"scope": "1 = 1"}, 'set missing = "delete"'), ({"max_deletes": "101%"}, "at most 100 %"),
]  # fmt: skip


@pytest.mark.parametrize(("options", "message"), WRONG, ids=lambda v: str(v)[:40])
def test_a_wrong_job_is_told_before_a_row_is_read(options: dict[str, Any], message: str) -> None:
    frame = pa.table({"id": [1], "height": [1.0], "note": ["x"], "day": [1]})
    store = rm.MemoryStore({"t": frame})
    with pytest.raises(rm.JobError, match=message):
        rm.merge(rm.Job(**({"store": store, "table": "t", "key": "id"} | options)), frame.select(["id", "height"]))
    assert store["t"].equals(frame)
