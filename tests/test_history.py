"""The history put to work: undone, looked into as of any time, verified; the same on every store."""

from __future__ import annotations

import os
import random
import secrets
import signal
import sqlite3
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from datetime import UTC, datetime, timedelta
from functools import partial
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import strategies as st

import rapid_mender as rm
from rapid_mender.changes.indexing import index_history
from rapid_mender.changes.query import one_batch
from rapid_mender.stores.contract import Condition, Selection
from rapid_mender.stores.urls import opened

from . import databases, length, past
from .cases import ARCHIVE, SCHEMA, with_archive
from .cases import Case as Options
from .laws import Case, cases, normal, on_every_store
from .stores import STORES, TABLE, Place, every_kind

Merge = Callable[..., int]
options = st.composite(lambda draw: Options(draw, False))()


def undone(place: Place, number: int, **given: Any) -> rm.Undone:
    """Undo a batch, as its preview says."""
    told = rm.undo(place.store, number, preview=True, **given)
    done = rm.undo(place.store, number, **given)
    assert (told.counts, told.conflicts.to_pylist(), told.wrote) == (done.counts, done.conflicts.to_pylist(), False)
    return done


@on_every_store(8, case=cases, seed=st.integers(0, 999))
def test_undoing_batches_gives_the_tables_before_them(store: str, case: Case, seed: int) -> None:
    with STORES[store](case.schema, case.key, case.rows) as place:
        tables = [normal(place.rows())]
        numbers = []
        for batch in (0, 1, 0):
            result = rm.merge(case.job(place), case.frame(batch))
            numbers.append(result.batch)
            tables.append(normal(place.rows()))
        middle = undone(place, 3)
        assert normal(place.rows()) == tables[2]
        if middle.batch is not None:
            undone(place, middle.batch)
            assert normal(place.rows()) == tables[3], "an undo of an undo is the batch again"
            undone(place, rm.batches(place.store)["batch_no"][-1].as_py())
        prefix = random.Random(seed).randint(1, 2)
        done = rm.undo(place.store, since_batch=prefix)
        assert normal(place.rows()) == tables[prefix - 1]
        assert sum(done.counts.values()) == 0 or rm.batches(place.store).to_pylist()[-1]["undoes"]


@on_every_store(8, case=options)
def test_undo_of_every_option(store: str, case: Options) -> None:
    """Marks, archives, previous values, rules: the table and the archive are as before, and again as after."""
    with STORES[store](SCHEMA, ["tag_no"], case.rows) as place:
        with_archive(place)
        before = place.rows(), place.rows(ARCHIVE)
        result = case.merge(place)
        after = place.rows(), place.rows(ARCHIVE)
        assert result.batch is not None
        done = undone(place, result.batch)
        assert (place.rows(), place.rows(ARCHIVE)) == before
        assert sum(done.counts.values()) == sum(result.counts[name] for name in ("insert", "update", "delete"))
        if done.batch is not None:
            with pytest.raises(rm.JobError, match=f"undone already, by batch {done.batch}"):
                rm.undo(place.store, result.batch)
            undone(place, done.batch)
            assert (place.rows(), place.rows(ARCHIVE)) == after
            reasons = set(rm.history(place.store, TABLE, batch=done.batch)["reason"].to_pylist())
            assert reasons == {f"undoes batch {result.batch}"}


@every_kind
@pytest.mark.parametrize("picked", [{"since_batch": 1}, {"table": TABLE, "since": "2000-01-01"}])
@pytest.mark.parametrize("force", [False, True])
def test_a_row_that_came_and_went_among_what_is_undone_concerns_no_other(store: str, picked: dict[str, Any], force: bool) -> None:
    with register(store) as (place, merge):
        before = place.rows()
        merge({"tag_no": 90, "species": "Elm"})
        merge({"tag_no": 90}, rules=[rm.Rule(decide="delete", when="matched")])
        merge({"tag_no": 1, "species": "Ash"})
        done = rm.undo(place.store, **picked, force=force)
        assert (done.counts, done.conflicts.num_rows) == ({"insert": 0, "update": 1, "delete": 0}, 0)
        assert place.rows() == before


@on_every_store(8, case=cases, seed=st.integers(0, 999))
def test_as_of_every_batch_is_the_table_then_and_the_history_holds(store: str, case: Case, seed: int) -> None:
    with STORES[store](case.schema, case.key, case.rows) as place:
        copies = {0: normal(place.rows())}
        for batch in (0, 1, 0):
            number = rm.merge(case.job(place), case.frame(batch)).batch
            copies[number] = normal(place.rows())
            if random.Random(seed + number).random() < 0.3:
                number = rm.undo(place.store, number).batch or number
                copies[number] = normal(place.rows())
        if not rm.history(place.store, TABLE).num_rows:
            return
        for number, copy in copies.items():
            if number:
                assert normal(rm.as_of(place.store, TABLE, batch=number).to_pylist()) == copy, number
                for row in random.Random(seed).sample(copy, min(len(copy), 2)):
                    key = {name: value for name, value in row if name in case.key}
                    if None not in key.values():
                        assert normal(rm.as_of(place.store, TABLE, batch=number, key=key).to_pylist()) == [row], (number, key)
        assert normal(rm.as_of(place.store, TABLE, position=0).to_pylist()) == copies[0]
        assert normal(rm.as_of(place.store, TABLE, when="9999-01-01").to_pylist()) == copies[max(copies)]
        verified = rm.verify(place.store, TABLE)
        assert verified.holds, verified.differences.to_pylist()
        assert verified.rows == len(copies[max(copies)])
        assert verified.changes == rm.history(place.store, TABLE).num_rows


ROWS = [{"tag_no": n, "species": "Oak", "height": n / 4} for n in range(1, 9)]
PLAIN = pa.schema([("tag_no", pa.int64()), ("species", pa.string()), ("height", pa.float64())])


@contextmanager
def register(store: str, seal: bool | None = None) -> Iterator[tuple[Place, Merge]]:
    """A table of trees, and a function that merges records into it and gives the number of the batch."""
    with STORES[store](PLAIN, ["tag_no"], ROWS) as place:
        job = rm.Job(store=place.store, table=TABLE, key="tag_no", seal=seal)
        yield place, lambda *records, **more: rm.merge(job.model_copy(update=more), list(records)).batch or 0


def behind(place: Place, tag: int, column: str | None, value: Any) -> None:
    """Change a row, or remove it, without a word to the history."""
    with place.opened.begin(write=True) as session:
        info = session.describe(TABLE)
        rows = session.fetch(info, pa.table({"tag_no": [tag]}))
        if column is None:
            session.delete(info, rows).refusals()
        else:
            session.update(info, rows, pa.table({column: [value]})).refusals()


def names(table: pa.Table, *columns: str) -> list[Any]:
    return [tuple(row[column] for column in columns) for row in table.to_pylist()]


@every_kind
def test_the_updates_of_a_column_are_those_that_changed_it(store: str) -> None:
    """Whatever its name is, and that of the others."""
    columns = [name for name in ("v", ", ", '", "', "v, w", "w") if not (store.startswith("mariadb") and name.endswith(" "))]  # which has no such names
    with STORES[store](pa.schema([("tag_no", pa.int64()), *((name, pa.string()) for name in columns)]), ["tag_no"], []) as place:
        job = rm.Job(store=place.store, table=TABLE, key="tag_no")
        rm.merge(job, [{"tag_no": 1}])
        changes = [columns[start:end] for start in range(len(columns)) for end in range(start + 1, len(columns) + 1)]
        for number, names_ in enumerate(changes):
            rm.merge(job, [{"tag_no": 1} | {name: str(number) for name in names_}])
        for name in columns:
            found = rm.history(place.store, TABLE, column=name)
            assert found["batch_no"].to_pylist() == [at + 2 for at, names_ in enumerate(changes) if name in names_], name


def test_times_of_a_whole_second_are_where_they_belong(tmp_path: Path) -> None:
    """SQLite compares texts, and a fraction that is zero is not kept."""
    with databases.table("sqlite", tmp_path, "CREATE TABLE t (id INTEGER PRIMARY KEY)") as (url, run):
        rm.merge(rm.Job(store=url, table="t", key="id"), [{"id": n} for n in range(5)])
        spelled = ["00.999", "01", "01.000", "01.001", "02"]
        run(*(f"UPDATE t_history SET changed_at = '2026-01-01 10:00:{text}Z' WHERE new_id = {n}" for n, text in enumerate(spelled)))
        moments = [datetime(2026, 1, 1, 10, 0, 0, tzinfo=UTC) + timedelta(milliseconds=ms) for ms in (999, 1000, 1000, 1001, 2000)]
        for moment in [*moments, moments[0] + timedelta(microseconds=300)]:
            assert rm.history(url, "t", since=moment)["new_id"].to_pylist() == [n for n, one in enumerate(moments) if one >= moment]
            assert rm.as_of(url, "t", when=moment).num_rows == sum(one <= moment for one in moments)
        for text in ("2026-01-01 11:00:01 Europe/Berlin", "2026-01-01T10:00:01Z", "2026-01-01T05:30:01-04:30"):
            assert rm.history(url, "t", since=text).num_rows == 4
        for text in ("2026-01-01 11:00:01 Europe/Nowhere", "2026-01-01 11:00+01:00 Europe/Berlin", "11 ../../etc", "Europe", " "):
            with pytest.raises(rm.JobError, match="is no time; write it as"):
                rm.history(url, "t", since=text)
        with pytest.raises(rm.JobError, match="has a history since 2026-01-01 10:00:00 UTC, and nobody knows"):
            rm.as_of(url, "t", when=moments[0] - timedelta(seconds=1))
        assert rm.as_of(url, "t", when="2020-01-01", as_known=True).num_rows == 0


@every_kind
def test_what_was_changed_since_is_a_conflict(store: str) -> None:
    """By a later batch, or behind the history's back: all are listed, with both values; --rest and --force go on."""
    with register(store) as (place, merge):
        before = place.rows()
        wrong = merge(*({"tag_no": n, "height": 3.25 * n} for n in (1, 2, 3, 9)))
        later = merge({"tag_no": 2, "height": 77.5})
        behind(place, 3, "height", 88.5)
        behind(place, 9, None, None)
        left = place.rows()
        with pytest.raises(rm.ConflictError, match=r"3 rows of .* are not as batch 1 left them") as stopped:
            rm.undo(place.store, wrong)
        assert place.rows() == left
        told = {(row["tag_no"], row["column"]): (row["left"], row["now"], row["why"]) for row in stopped.value.undone.conflicts.to_pylist()}
        unknown = "and the history does not say by whom"
        assert told == {
            (2, "height"): ("6.5", "77.5", f"changed since, by batch {later}"), (3, "height"): ("9.75", "88.5", f"changed since, {unknown}"),
            (9, None): (None, None, f"the row is gone, {unknown}"),
        }  # fmt: skip
        rest = rm.undo(place.store, wrong, rest=True)
        assert (rest.counts, rest.kept, rest.wrote) == ({"insert": 0, "update": 1, "delete": 0}, 3, True)
        forced = rm.undo(place.store, wrong, force=True)
        assert (place.rows(), forced.forced, forced.kept) == (before, 3, 0), "what was left can still be undone"
        with pytest.raises(rm.JobError, match=f"is undone already, by batch {forced.batch}"):
            rm.undo(place.store, wrong)


@every_kind
def test_an_undo_is_by_column(store: str) -> None:
    """Against a model: what the batch set is set back, what it did not set stays, and what was set since is a conflict."""
    rng, columns = length.dice(store), ["a", "b", "c"]
    shape = pa.schema([("tag_no", pa.int64()), *((name, pa.int64()) for name in columns)])
    for _ in range(length.some(3)):
        with STORES[store](shape, ["tag_no"], []) as place:
            rules = [rm.Rule(decide="delete", when="incoming.a = 0")]
            job = rm.Job(store=place.store, table=TABLE, key="tag_no", rules=rules)
            states = [{}]  # type: list[dict[int, dict[str, Any]]]
            for _ in range(5):
                sent = [{"tag_no": n} | {name: rng.randrange(4) for name in columns if rng.random() < 0.4} for n in rng.sample(range(6), 4)]
                rm.merge(job, sent)
                states.append({row["tag_no"]: row for row in place.rows()})
            number = rng.randrange(1, 6)
            before, after, now = states[number - 1], states[number], states[-1]
            cells = [{(n, name): row[name] for n, row in state.items() for name in columns} for state in states]
            last = {cell: at for at in range(number + 1, 6) for cell in cells[at] if cells[at][cell] != cells[at - 1].get(cell, 9)}
            wanted, told = {n: dict(row) for n, row in now.items()}, set()
            for n in {*before, *after}:
                was, left, there = before.get(n), after.get(n), now.get(n)
                if was == left:
                    continue
                mine = [name for name in columns if was is None or left is None or was[name] != left[name]]
                clash = [name for name in mine if there and left and there[name] not in (left[name], *([was[name]] if was else []))]
                told |= {(n, name, f"changed since, by batch {last[n, name]}") for name in clash}
                if (there is None) != (left is None):
                    told.add((n, None, None))
                if was is None:
                    wanted.pop(n, None)
                elif there is None or left is None:
                    wanted[n] = dict(was)
                else:
                    wanted[n] |= {name: was[name] for name in mine}
            undone = rm.undo(place.store, number, preview=True) if states[number] != states[number - 1] else None
            if undone is not None:
                found = {(row["tag_no"], row["column"], row["why"] if row["column"] else None) for row in undone.conflicts.to_pylist()}
                assert found == told
                foreseen = rm.undo(place.store, number, preview=True, force=True).samples
                for one in foreseen:
                    was, then = now.get(one.key["tag_no"], {}), wanted.get(one.key["tag_no"], {})
                    assert {name: new for name, _, new in one.cells} == {n: then.get(n) for n in {*was, *then} if was.get(n) != then.get(n)}
                rm.undo(place.store, number, force=True)
                assert {row["tag_no"]: row for row in place.rows()} == wanted
                assert rm.verify(place.store, TABLE).holds


@every_kind
def test_a_batch_whose_changes_were_removed_is_named(store: str) -> None:
    """Also where the table is as if they had never been: both were put back."""
    with register(store) as (place, merge):
        merge({"tag_no": 1, "height": 5.0})
        wrong = merge({"tag_no": 2, "height": 6.0}, {"tag_no": 3, "height": 6.0})
        assert rm.verify(place.store, TABLE).holds
        behind(place, 2, "height", 2.0)
        behind(place, 3, "height", 3.0)
        with place.opened.begin(write=True) as session:
            history = session.describe(f"{TABLE}_history")
            session.delete(history, session.read(history, Selection([[Condition("batch_no", "=", wrong)]]))).refusals()
        found = rm.verify(place.store, TABLE)
        assert not found.holds
        assert names(found.altered, "batch_no", "what") == [(wrong, "2 of its 2 changes are not in the history")]


@every_kind
def test_a_pruned_history_knows_where_it_begins(store: str) -> None:
    with register(store, seal=True) as (place, merge):
        for height in (1.5, 2.5, 3.5):
            merge(*({"tag_no": n, "height": n * height} for n in range(1, 6)))
        after_two = rm.as_of(place.store, TABLE, batch=2)
        assert rm.prune(place.store, TABLE, before_batch=3, preview=True).changes == 10
        assert rm.history(place.store, TABLE).num_rows == 15
        pruned = rm.prune(place.store, TABLE, before_batch=3)
        assert (pruned.changes, pruned.last_batch, rm.history(place.store, TABLE).num_rows) == (10, 2, 5)
        assert rm.verify(place.store, TABLE).holds
        assert normal(rm.as_of(place.store, TABLE, batch=2).to_pylist()) == normal(after_two.to_pylist())
        for far in ({"batch": 1}, {"position": 3}, {"when": "2020-01-01"}):
            with pytest.raises(rm.JobError, match=r"the history of .* begins"):
                rm.as_of(place.store, TABLE, **far)
        with pytest.raises(rm.JobError, match="its changes were pruned"):
            rm.undo(place.store, 1)
        undone(place, 3)
        assert rm.prune(place.store, TABLE, before="9999-01-01").changes == 10
        assert rm.verify(place.store, TABLE).holds
        merge({"tag_no": 1, "height": 0.5})
        verified = rm.verify(place.store, TABLE)
        assert (verified.holds, verified.sealed, verified.unsealed) == (True, 7, []), "prunes are sealed, and what they leave"


@databases.both
@pytest.mark.parametrize("key", [{"a": "varchar(768)"}, {"a": "varchar(300)", "b": "varchar(300)"}, {"a": "binary"}, {"a": "text", "b": "int", "c": "text"}])
def test_a_history_of_long_keys_has_an_index(kind: str, key: dict[str, str], tmp_path: Path) -> None:
    """The longest that the database takes in a table without an index."""
    types = {"binary": "varbinary(20)" if kind == "mariadb" else "bytea"}
    columns = ", ".join(f"{name} {types.get(type_, type_)} NOT NULL" for name, type_ in key.items())
    texts = {"binary": secrets.token_bytes(20 if kind == "mariadb" else 9000), "int": 7, "text": secrets.token_hex(9000)}
    record: dict[str, Any] = {name: texts.get(type_, "ü" * 300) for name, type_ in key.items()}
    with databases.table(kind, tmp_path, f"CREATE TABLE t ({columns}, v int)") as (url, _):
        job = rm.Job(store=url, table="t", key=list(key))
        rm.merge(job, [record | {"v": 1}])
        assert [len(index_history(url, "t")) for _ in range(2)] == [2, 0]
        assert rm.merge(job, [record | {"v": 2}]).counts["update"] == 1
        assert rm.history(url, "t", key=record).num_rows == 2


@databases.every
def test_a_record_is_found_by_a_key_of_bytes(kind: str, tmp_path: Path) -> None:
    binary = {"sqlite": "BLOB", "postgresql": "bytea", "mariadb": "varbinary(20)"}[kind]
    with databases.table(kind, tmp_path, f"CREATE TABLE t (a {binary} NOT NULL PRIMARY KEY)") as (url, _):
        rm.merge(rm.Job(store=url, table="t", key="a"), [{"a": b"\xff\x00'"}, {"a": b""}])
        for key in (b"\xff\x00'", b"", "ff0027"):
            assert (rm.history(url, "t", key={"a": key}).num_rows, rm.life(url, "t", {"a": key}).num_rows) == (1, 1)


@databases.every
def test_a_key_column_that_got_another_name_is_told(kind: str, tmp_path: Path) -> None:
    with databases.table(kind, tmp_path, "CREATE TABLE t (id INTEGER NOT NULL PRIMARY KEY, v INTEGER)") as (url, run):
        rm.merge(rm.Job(store=url, table="t", key="id"), [{"id": 1, "v": 1}])
        batch = rm.merge(rm.Job(store=url, table="t", key="id"), [{"id": 1, "v": 2}, {"id": 2, "v": 2}]).batch
        run("ALTER TABLE t RENAME COLUMN id TO ident")
        calls: list[Callable[[], object]] = [
            lambda: rm.verify(url, "t").holds, lambda: rm.as_of(url, "t", batch=1).num_rows == 1,
            lambda: rm.life(url, "t", {"ident": 1}).num_rows == 2, lambda: rm.history(url, "t", key={"ident": 1}).num_rows == 2,
            lambda: rm.undo(url, batch, preview=True).counts["delete"] == 1,
        ]  # fmt: skip
        for call in calls if kind != "postgresql" else []:  # which numbers columns
            with pytest.raises(rm.JobError, match="'ident' of 't' is not in t_history; if it was 'id' and got another name"):
                call()
        if kind != "postgresql":
            run(*(f"ALTER TABLE t_history RENAME COLUMN {side}_id TO {side}_ident" for side in ("old", "new")))
        assert all(call() for call in calls)


@every_kind
def test_the_life_of_one_record(store: str) -> None:
    with register(store) as (place, merge):
        merge({"tag_no": 2, "height": 5.0})
        merge({"tag_no": 2, "height": 6.0}, {"tag_no": 3, "species": "Elm"})
        life = rm.life(place.store, TABLE, {"tag_no": "2"})
        assert names(life, "height", "batch_no") == [(0.5, None), (5.0, 1), (6.0, 2)]
        spans = names(life, "valid_from", "valid_to")
        assert [begin for begin, _ in spans][1:] == [end for _, end in spans][:-1]
        assert (spans[0][0], spans[-1][1]) == (None, None)
        assert rm.life(place.store, TABLE, {"tag_no": 88}).num_rows == 0
        assert names(rm.life(place.store, TABLE, {"tag_no": 1}), "height", "batch_no", "valid_from", "valid_to") == [(0.25, None, None, None)]
        if store != "memory":  # where the table has no key, any columns may be one
            with pytest.raises(rm.JobError, match="give a value for tag_no too"):
                rm.life(place.store, TABLE, {"height": 5.0})


BAD: list[tuple[Any, str]] = [
    (lambda s: rm.undo(s, 99), "there is no batch 99"), (lambda s: rm.undo(s, 10**30), "whole number"), (lambda s: rm.undo(s), "name the batch to undo"),
    (lambda s: rm.undo(s, 1, table="nope"), "is one of table"), (lambda s: rm.undo(s, 1, rest=True, force=True), "choose one"),
    (lambda s: rm.undo(s, 2), "its history was switched off"), (lambda s: rm.as_of(s, TABLE, batch=1), "with history = false"),
    (lambda s: rm.as_of(s, TABLE), "say as of what"), (lambda s: rm.as_of(s, TABLE, when="soon"), "is no time"),
    (lambda s: rm.as_of(s, TABLE, batch=9), "there is no batch 9 of table"), (lambda s: rm.verify(s, "nope"), "there is no table 'nope'"),
    (lambda s: rm.prune(s, TABLE), "say how far"), (lambda s: rm.life(s, TABLE, {"nope": 1}), "no column 'nope'"),
]  # fmt: skip


@pytest.mark.parametrize("store", ["memory", "sqlite"])
def test_what_cannot_be_asked_of_a_history_is_an_error_in_words(store: str) -> None:
    with register(store) as (place, merge):
        merge({"tag_no": 2, "height": 5.0})
        merge({"tag_no": 2, "height": 6.0}, history=False)
        rows = place.rows()
        for ask, words in BAD:
            with pytest.raises(rm.Error, match=words):
                ask(place.store)
        assert place.rows() == rows


@pytest.mark.parametrize("apart", [False, True])
def test_rows_that_refer_to_each_other_are_put_back(apart: bool, tmp_path: Path) -> None:
    """In an order in which the database takes them; also cells that SQLite keeps in another form than their column's."""
    with closing(sqlite3.connect(tmp_path / "t.db")) as file:
        file.executescript(
            "CREATE TABLE t (id bigint PRIMARY KEY, parent bigint REFERENCES t (id), n integer, other bigint UNIQUE);"
            "INSERT INTO t VALUES (1, NULL, 'a word', 1), (4, 1, 5, 4), (5, 1, 'odd', 5);"
        )
        store = rm.SQLiteStore(tmp_path / "t.db", apart=apart)
        job = rm.Job(store=store, table="t", key="id", rules=[rm.Rule(decide="delete", when="incoming.n = 0 AND matched")])

        def rows() -> list[Any]:
            return file.execute("SELECT * FROM t ORDER BY id").fetchall()

        before = rows()
        batch = [{"id": 9, "parent": 1}, {"id": 3, "parent": 9}, {"id": 2, "parent": 3}, {"id": 1, "other": 11}, {"id": 4, "n": 0}]
        result = rm.merge(job, batch)
        after = rows()
        assert {name: n for name, n in result.counts.items() if n} == {"insert": 3, "update": 1, "delete": 1}
        assert rm.verify(store, "t").holds
        done = rm.undo(store, result.batch)
        assert rows() == before, "the word beside a changed column is left as it is"
        rm.undo(store, done.batch)
        assert rows() == after
        swapped = rm.merge(job, [{"id": 5, "n": 7}])
        with pytest.raises(rm.ConflictError) as stopped:
            rm.undo(store, swapped.batch)
        assert stopped.value.undone.conflicts.to_pylist() == [
            {"id": 5, "column": "n", "left": "odd", "now": None, "why": "it cannot be written back in the form that it had"}
        ]
        assert rm.verify(store, "t").holds
        file.execute("UPDATE t SET n = 'other' WHERE id = 1")
        file.commit()
        assert [(one["id"], one["column"], one["before"], one["after"]) for one in rm.verify(store, "t").differences.to_pylist()] == [
            (1, "n", "a word", "other")
        ]


def test_an_export_without_changes_and_batches_that_are_no_json(rmend: Callable[..., Any], tmp_path: Path) -> None:
    """A file with no more than its head, as others may read it; a row of the batches that was altered is found."""
    with closing(sqlite3.connect(tmp_path / "t.db")) as file:
        file.executescript("CREATE TABLE t (id integer PRIMARY KEY, v integer); INSERT INTO t VALUES (1, 1);")
    url = f"sqlite:///{tmp_path}/t.db"
    job = rm.Job(store=url, table="t", key="id", seal=True)
    rm.merge(job, [{"id": 1, "v": 2}])
    assert rmend("history", url, "--table", "t", "--action", "delete", "--out", "none.csv").code == 0
    assert (tmp_path / "none.csv").read_text().startswith('"change_no"')
    assert (tmp_path / "none.csv").stat().st_mode == (tmp_path / "t.db").stat().st_mode
    gaps = '{"hash": "1", "gaps": [[1, 2.5]], "also": {"7": "0"}}'
    odd = [("figures", "no json"), ("undoes", "no json"), ("seal", "no json"), ("seal", gaps), ("last_change", 1 << 60)]
    for column, value in odd:
        with closing(sqlite3.connect(tmp_path / "t.db")) as file:
            (kept,) = file.execute(f"SELECT {column} FROM rmend_batches").fetchone()
            file.execute(f"UPDATE rmend_batches SET {column} = ?", [value])
            file.commit()
            assert names(rm.verify(url, "t").altered, "batch_no") == [(1,)]
            assert rmend("batches", url).code == rmend("batches", url, "--batch", 1).code == 0
            file.execute(f"UPDATE rmend_batches SET {column} = ?", [kept])
            file.commit()
    assert rm.verify(url, "t").holds


@pytest.mark.slow
def test_an_altered_change_of_a_large_batch_is_narrowed_down(tmp_path: Path) -> None:
    """A seal does not hold a check for each change of a large batch, but for some together, also over pages."""
    count, together = 140_000, 18
    with closing(sqlite3.connect(tmp_path / "t.db")) as file:
        file.execute("CREATE TABLE t (id integer PRIMARY KEY, v integer)")
    url = f"sqlite:///{tmp_path}/t.db"
    rm.merge(rm.Job(store=url, table="t", key="id", seal=True), pa.table({"id": range(count), "v": range(count)}))
    assert rm.verify(url, "t").holds
    mid = {"position": 131_060}
    assert rm.as_of(url, "t", **mid).num_rows == 131_060  # the history is read from amid some that have a check together
    places = (1, 131_080, count)
    with closing(sqlite3.connect(tmp_path / "t.db")) as file:
        for change in places:
            file.execute("UPDATE t_history SET actor = 'nobody' WHERE change_no = ?", [change])
        file.commit()
    lines = names(rm.verify(url, "t").altered, "batch_no", "change_no", "what")
    first = [(change - 1) // together * together + 1 for change in places]
    spans = [f"changes {one} to {min(one + together - 1, count)}: one of them was altered" for one in first]
    assert lines == [(1, int(span.split()[1]), span) for span in spans]
    for change, near in ((131_080, first[1] + 1), (count, first[2])):  # a neighbour that shares the check
        for altered in (change, near):
            with pytest.raises(rm.AlteredError):
                rm.life(url, "t", {"id": altered - 1})
    assert rm.life(url, "t", {"id": first[1] + together - 1}).num_rows == 1
    with pytest.raises(rm.AlteredError):
        rm.as_of(url, "t", **mid)


@every_kind
def test_what_others_write_meanwhile_is_not_seen_by_halves(store: str) -> None:
    with register(store) as (place, merge):
        merge({"tag_no": 1, "height": 0.5})
        stop = threading.Event()

        def write() -> None:
            height = 1.0
            while not stop.is_set():
                merge(*({"tag_no": n, "height": height + n} for n in range(1, 40)))
                height += 1

        writer = threading.Thread(target=write)
        writer.start()
        try:
            for _ in range(length.some(6)):
                assert rm.verify(place.store, TABLE).differences.to_pylist() == []
                heights = {row["tag_no"]: row["height"] for row in rm.as_of(place.store, TABLE, batch=1).to_pylist()}
                assert heights[1] == 0.5
                assert not heights.get(30)
        finally:
            stop.set()
            writer.join()


@databases.every
def test_a_seal_outlives_columns(kind: str, tmp_path: Path) -> None:
    """That are dropped, renamed and added, whatever their names: nobody has altered the history."""
    long, quoted = "c" * 57 + "_dürr", '"drawn ""so"""' if kind != "mariadb" else '`drawn "so"`'
    make = f"CREATE TABLE t (id bigint PRIMARY KEY, {long} varchar(9), {quoted} varchar(9), n bigint)"
    with databases.table(kind, tmp_path, make) as (store, run):
        job = rm.Job(store=store, table="t", key="id", seal=True)
        for value in ("a", "b"):
            rm.merge(job, [{"id": n, long: value, 'drawn "so"': value, "n": n} for n in range(3)])
        for alter in (f"DROP COLUMN {long}", f"RENAME COLUMN {quoted} TO plain", "ADD COLUMN more bigint", "DROP COLUMN n"):
            run(f"ALTER TABLE t {alter}")
            for _ in range(2):
                assert rm.verify(store, "t").altered.num_rows == 0, alter
                assert (rm.as_of(store, "t", position=3).num_rows, rm.life(store, "t", {"id": 1}).num_rows) == (3, 2)
                rm.undo(store, 2, preview=True)
                rm.merge(job, [{"id": 3}])
        run("UPDATE t_history SET old_n = 5 WHERE change_no = 4")  # of a column that the table has no more
        with pytest.raises(rm.AlteredError, match="batch 2 of 't'"):
            rm.as_of(store, "t", position=3)


@databases.every
def test_a_chain_of_seals_goes_on_over_a_killed_run_until_a_job_ends_it(kind: str, tmp_path: Path) -> None:
    with databases.table(kind, tmp_path, "CREATE TABLE t (id INTEGER NOT NULL PRIMARY KEY, v INTEGER)") as (url, _):
        told: dict[str, Any] = {"store": url, "table": "t", "key": "id"}

        def dies(incoming: pa.Table, _: pa.Table) -> pa.Array:
            if rm.batches(url)["status"].to_pylist()[-1] == "running":
                os.kill(os.getpid(), signal.SIGKILL)
            return pa.array([False] * incoming.num_rows)

        def merged(value: int, **more: Any) -> bool:
            number = rm.merge(rm.Job(**told, **more), [{"id": n, "v": value} for n in (1, 2)]).batch
            return any(row["batch_no"] == number and row["seal"] for row in rm.batches(url).to_pylist())

        assert not merged(0)
        assert merged(1, seal=True)
        if not (child := os.fork()):
            merged(2, commit_every=1, rules=[rm.Rule(decide="skip", when=dies, because="")])
            os._exit(1)
        assert os.waitpid(child, 0)[1] == signal.SIGKILL
        assert rm.batches(url)["status"].to_pylist()[-1] == "killed"
        assert one_batch(url, 3)["status"] == "killed"
        rm.sync(url, "t", to_folder=str(tmp_path / "files"), follower="f")
        assert rm.sync(url, "t", to_folder=str(tmp_path / "files"), follower="f").changes == 0, "who only reads notes nothing"
        assert merged(3)
        assert rm.verify(url, "t").unsealed == ["batch 1 (2 changes), from before the first seal", "batch 3 (1 change), which was killed"]
        with opened(url) as place, place.begin(write=False) as session:
            assert session.read(session.describe("rmend_batches")).values["status"].to_pylist() == ["done", "done", "killed", "done"]
        assert rm.verify(url, "t").sealed == 2
        assert not merged(4, seal=False)
        assert not merged(5)
        assert rm.verify(url, "t").holds


@databases.both
def test_a_run_that_a_later_one_overtakes_leaves_the_chain_of_seals_whole(kind: str, tmp_path: Path) -> None:
    with databases.table(kind, tmp_path, "CREATE TABLE t (id INTEGER NOT NULL PRIMARY KEY, v INTEGER)") as (url, _):
        told: dict[str, Any] = {"store": url, "table": "t", "key": "id"}
        rm.merge(rm.Job(**told, seal=True), [{"id": 1, "v": 0}])
        later = threading.Thread(target=lambda: rm.merge(rm.Job(**told), [{"id": 9, "v": 9}]))

        waits = {
            "postgresql": "SELECT count(*) FROM pg_locks l JOIN pg_database d ON d.oid = l.database "
            "WHERE d.datname = current_database() AND l.locktype = 'advisory' AND NOT l.granted",
            "mariadb": "SELECT COUNT(*) FROM information_schema.PROCESSLIST WHERE STATE = 'User lock' AND DB = DATABASE()",
        }

        def wait(incoming: pa.Table, _: pa.Table) -> pa.Array:
            if not later.ident:  # within the first transaction: it waits for its turn, which comes before the second one
                later.start()
                with closing(databases.driver(url)) as connection:
                    connection.autocommit = True if kind == "postgresql" else connection.autocommit
                    run, until = connection.cursor(), time.monotonic() + 30
                    while time.monotonic() < until and not (run.execute(waits[kind]), run.fetchone())[1][0]:
                        time.sleep(0.02)
            return pa.array([False] * incoming.num_rows)

        rules = [rm.Rule(decide="skip", when=wait)]
        result = rm.merge(rm.Job(**told, commit_every=1, rules=rules), [{"id": 2, "v": 1}, {"id": 3, "v": 1}])
        later.join()
        assert "batch 2 is not sealed, as a later one of 't' was sealed before it ended" in result.warnings
        rm.merge(rm.Job(**told), [{"id": 4, "v": 1}])
        assert [row["seal"] is not None for row in sorted(rm.batches(url).to_pylist(), key=lambda one: one["batch_no"])] == [True, False, True, True]
        verified = rm.verify(url, "t")
        assert (verified.holds, verified.sealed) == (True, 3)


@databases.every
def test_a_chain_of_seals_has_its_beginning(kind: str, tmp_path: Path) -> None:
    table = "CREATE TABLE t (id INTEGER NOT NULL PRIMARY KEY, v INTEGER)"
    with databases.table(kind, tmp_path, table, "INSERT INTO t VALUES (1, 0)") as (url, run):
        job = rm.Job(store=url, table="t", key="id", seal=True)
        for value in range(1, 5):
            rm.merge(job, [{"id": 1, "v": value}])
        rm.prune(url, "t", before_batch=2)
        assert rm.verify(url, "t").holds, "what was pruned is told"
        run("DELETE FROM t_history WHERE batch_no <= 3", "DELETE FROM rmend_batches WHERE batch_no <= 3")
        assert not rm.verify(url, "t").holds
        run("DELETE FROM rmend_details WHERE detail = 'pruned'")
        told = rm.verify(url, "t").altered.to_pylist()
        assert (4, "the sealed batches before it were removed") in [(one["batch_no"], one["what"]) for one in told]


@databases.every
def test_columns_come_and_go_and_runs_stop_right_after(kind: str, tmp_path: Path) -> None:
    """MariaDB waits for ever where a transaction alters a history that it has read, and keeps the column when it rolls back."""
    with databases.table(kind, tmp_path, "CREATE TABLE t (id INTEGER NOT NULL PRIMARY KEY, v INTEGER)") as (url, run):
        job = rm.Job(store=url, table="t", key="id")

        def known(batch: int) -> list[dict[str, Any]]:
            assert rm.verify(url, "t").holds
            return rm.as_of(url, "t", batch=batch).to_pylist()

        for value in (1, 2, 3):
            rm.merge(job, [{"id": 1, "v": value}])
        for column in "wx":
            run(f"ALTER TABLE t ADD COLUMN {column} INTEGER DEFAULT 7")
            limited = rm.Job(store=url, table="t", key="id", max_rejects=0)
            stops = partial(rm.undo, url, 2) if column == "w" else partial(rm.merge, limited, [{"id": 1, "v": 9}, {"id": None}])
            with pytest.raises(rm.ConflictError if column == "w" else rm.LimitError):
                stops()
            assert known(2) == [{"id": 1, "v": 2}]
        undone = rm.undo(url, 3).batch or 0
        assert [known(2), known(undone)] == [[{"id": 1, "v": 2}], [{"id": 1, "v": 2, "w": 7, "x": 7}]]
        run("ALTER TABLE t DROP COLUMN x")
        rm.merge(job, [{"id": 1, "v": 4}])  # sees the table without it
        run("ALTER TABLE t ADD COLUMN x INTEGER DEFAULT 8")
        assert known(undone) == [{"id": 1, "v": 2, "w": 7}]
        last = rm.merge(job, [{"id": 1, "x": 9}]).batch or 0
        assert [known(undone), known(last)] == [[{"id": 1, "v": 2, "w": 7}], [{"id": 1, "v": 4, "w": 7, "x": 9}]]
        assert rm.undo(url, table="t", since="9999-01-01").batch is None


@pytest.mark.slow
@databases.every
def test_the_past_is_as_a_model_of_it_has_it(kind: str, tmp_path: Path) -> None:
    for number in range(length.some(10)):
        (tmp_path / str(number)).mkdir()
        past.play(kind, tmp_path / str(number), (length.SEED, number))
