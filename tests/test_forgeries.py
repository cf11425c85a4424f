"""Somebody who may write all of our tables alters the past of a sealed one, as SQL can: it is told, or named as sealed by nothing.

And if they make every seal anew, since anybody can, the chain has not the seal that was noted elsewhere.
"""

from __future__ import annotations

import json
import secrets
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

import rapid_mender as rm
from rapid_mender.changes.past import MOST_CHANGES, past_of
from rapid_mender.changes.seal import SEALED, Seal, details_of_runs, hash_of, seal_of
from rapid_mender.stores.contract import Condition, Store
from rapid_mender.stores.urls import opened

from . import databases, length

OURS = ("t_history", "rmend_batches", "rmend_details")
BATCH = [
    "batch_no", "table_name", "job", "actor", "application", "started_at", "finished_at", "inserted", "updated", "deleted", "skipped",
    "rejected", "first_change", "last_change", "status", "unrecorded", "figures", "undoes", "seal", "kind",
]  # fmt: skip


def changes(number: int, batch: Any) -> list[str]:
    """A row that came and went again: the table is as if it had never been."""
    like = "FROM t_history WHERE change_no = 6"
    named = "change_no, batch_no, action, changed_at, actor, application, old_id, new_id"
    return [
        f"INSERT INTO t_history ({named}) SELECT {number}, {batch}, 'insert', changed_at, actor, application, NULL, 99 {like}",
        f"INSERT INTO t_history ({named}) SELECT {number + 1}, {batch}, 'delete', changed_at, actor, application, 99, NULL {like}",
    ]


def batch(number: int, like: int, **values: Any) -> str:
    spelled = ", ".join(str({"batch_no": number, "seal": "NULL", **values}.get(name, name)) for name in BATCH)
    return f"INSERT INTO rmend_batches ({', '.join(BATCH)}) SELECT {spelled} FROM rmend_batches WHERE batch_no = {like}"


def detail(number: int, kind: str, **values: Any) -> str:
    spelled = {"table_name": "'t'", "detail": f"'{kind}'", "batch_no": number, "item": 7, **values}
    return f"INSERT INTO rmend_details ({', '.join(spelled)}) VALUES ({', '.join(map(str, spelled.values()))})"


def history(sets: str, number: int = 6) -> list[str]:
    return [f"UPDATE t_history SET {sets} WHERE change_no = {number}"]


def batches(sets: str, number: int) -> list[str]:
    return [f"UPDATE rmend_batches SET {sets} WHERE batch_no = {number}"]


GONE = {"change_no": 10**9, "of_batch": 10**9, "at_time": "'2026-01-01 00:00:00'"}
PAIR = {"first_change": 500, "last_change": 501}
# Batches 1, 2, 5, 6, 8 are sealed merges, 3 and 9 changed nothing, 4 was killed, 7 pruned batch 1 (changes 1 to 4).
TOLD: dict[str, list[str]] = {
    "a new value": history("new_v = 77"), "an old value": history("old_v = 77"), "a reason": history("reason = 'x'"),
    "an actor": history("actor = 'x'"), "a program": history("application = 'x'"), "a time": history("changed_at = '2020-01-01 00:00:00'"),
    "an action": history("action = 'delete'"), "what changed": history("changed = NULL"),
    "moved to a batch": history("batch_no = 5"), "to one of no change": history("batch_no = 3"), "to none": history("batch_no = NULL"),
    "renumbered": history("change_no = 500"),
    "exchanged": [*history("change_no = -6"), *history("change_no = 6", 7), *history("change_no = 7", -6)],
    "one removed": ["DELETE FROM t_history WHERE change_no = 6"], "a batch's removed": ["DELETE FROM t_history WHERE batch_no = 2"],
    "a batch removed": ["DELETE FROM t_history WHERE batch_no = 2", "DELETE FROM rmend_batches WHERE batch_no = 2"],
    "the first removed": ["DELETE FROM t_history WHERE batch_no <= 2", "DELETE FROM rmend_batches WHERE batch_no <= 2"],
    "the newest removed": ["DELETE FROM t_history WHERE batch_no = 8", "DELETE FROM rmend_batches WHERE batch_no >= 8"],
    "added to a sealed one": changes(500, 2), "to one that changed nothing": changes(500, 3), "to the last, that changed nothing": changes(500, 9),
    "to it, and counted": [*changes(500, 3), *batches("inserted = 1, deleted = 1, first_change = 500, last_change = 501", 3)],
    "to no batch": changes(500, "NULL"), "with a number below 1": changes(-5, 2), "below 1, to no batch": changes(-5, "NULL"),
    "with a batch below 1": changes(500, -5), "and its row": [*changes(500, -5), batch(-5, 8, **PAIR)],
    "with a batch that is not there": changes(500, 77), "to one that was pruned": changes(500, 1),
    "a killed one's row removed": ["DELETE FROM rmend_batches WHERE batch_no = 4"],
    "a killed one's changes removed": ["DELETE FROM t_history WHERE batch_no = 4"],
    "a batch's actor": batches("actor = 'x'", 2), "the counts of nothing": batches("skipped = 99", 3), "its kind": batches("kind = 'sync'", 3),
    "its row": ["DELETE FROM rmend_batches WHERE batch_no = 3"], "it runs": batches("status = 'running', finished_at = NULL", 3),
    "it is another table's": batches("table_name = 'u'", 3), "a pruned one's actor": batches("actor = 'x'", 1),
    "a pruned one's row": ["DELETE FROM rmend_batches WHERE batch_no = 1"], "a sealed one's row": ["DELETE FROM rmend_batches WHERE batch_no = 5"],
    "another table's": batches("table_name = 'u'", 5), "unsealed": batches("seal = NULL", 2), "no seal": batches("seal = 'no JSON'", 5),
    "the key": ["UPDATE rmend_details SET name = 'v' WHERE detail = 'key'"], "no key": ["DELETE FROM rmend_details WHERE detail = 'key'"],
    "a column that began": [detail(3, "began", name="'v'", change_no=400)], "with no batch": [detail(77, "began", name="'v'", change_no=400)],
    "a pause": [detail(77, "pause", change_no=6, row_count=3)], "a batch without history": [detail(77, "unrecorded", change_no=6)],
    "a prune": [detail(77, "pruned", **GONE)], "of the last": [detail(9, "pruned", **GONE)], "of an old one": [detail(2, "pruned", **GONE)],
    "a prune with its row": [detail(77, "pruned", **GONE), batch(77, 7)], "no prune": ["DELETE FROM rmend_details WHERE detail = 'pruned'"],
    "a prune that reached further": [
        "UPDATE rmend_details SET change_no = 9, of_batch = 2 WHERE detail = 'pruned'", "DELETE FROM t_history WHERE change_no <= 9",
    ],
    "no prune, no row": ["DELETE FROM rmend_details WHERE detail = 'pruned'", "DELETE FROM rmend_batches WHERE batch_no = 7"],
}  # fmt: skip
NAMED: dict[str, tuple[list[str], str]] = {
    "a killed one's change": (history("actor = 'x'", 9), "batch 4 (1 change), which was killed, or still runs"),
    "added to a killed one": (changes(500, 4), "batch 4 (1 change), which was killed, or still runs"),
    "a new batch": ([*changes(500, 77), batch(77, 8, **PAIR)], "batches 9 to 77 (2 changes), from after the last seal"),
    "the end unsealed": (batches("seal = NULL", 8), "batches 8 to 9 (2 changes), from after the last seal"),
    "a detail of the last": ([detail(9, "began", name="'v'", change_no=400)], "batch 9 (no changes), from after the last seal"),
    "a change that was pruned": (changes(1, 1), "changes 1 to 2, which a prune has left that was cut; prune again"),
}

ALTERED: dict[str, tuple[int, list[tuple[int | None, int | None]]]] = {
    "a new value": (2, [(2, 6)]), "a reason": (2, [(2, 6)]), "exchanged": (2, [(2, 6), (2, 7)]), "one removed": (2, [(2, 6)]),
    "added to a sealed one": (0, [(2, 500), (2, 501)]), "a batch's actor": (2, [(2, None)]), "the counts of nothing": (5, [(3, None)]),
    "its kind": (5, [(3, None)]), "unsealed": (0, [(5, None)]), "no seal": (5, [(5, None), (5, None), (6, None)]),
}  # fmt: skip
"""Of some the batch whose undo refuses, and all that verify tells: the batch, the change."""
UNSEEN = ("one removed", "unsealed", "added to a sealed one")
"""Of these the life of a row does not know."""


def uses(store: Store, folder: Path) -> dict[str, Callable[..., Any]]:
    """What uses the changes of a table: whatever batch was altered, all of it has to be asked."""
    goes = {"follower": secrets.token_hex(4), "commit_every": 7}
    aside = {**goes, "to_store": rm.MemoryStore({}), "to_table": "log", "keep": "changes"}
    files = {**goes, "to_folder": str(folder / secrets.token_hex(4))}
    (folder / files["to_folder"]).mkdir()
    return {
        "as of": lambda **more: rm.as_of(store, "t", position=0, **more),
        "one life": lambda **more: [rm.life(store, "t", {"id": n}, **more) for n in range(5)],
        "a log": lambda **more: rm.sync(store, "t", **aside, **more),
        "files": lambda **more: rm.sync(store, "t", **files, **more),
    }


def refusing(used: dict[str, Callable[..., Any]]) -> list[str]:
    """Those that refuse altered batches, and take them as they are if they are forced."""
    refused = list[str]()
    for name, use in used.items():
        try:
            use()
        except rm.AlteredError as error:
            use(force=True)
            refused += [name] * bool(error.batches)
    return refused


@contextmanager
def scene(kind: str, folder: Path, prune: bool) -> Iterator[tuple[Store, str, Callable[..., Any]]]:
    """A table with a past, the seal that is noted of it, and what makes a block in which it is altered."""
    with databases.table(kind, folder, "CREATE TABLE t (id INTEGER NOT NULL PRIMARY KEY, v INTEGER)") as (url, run), opened(url) as store:
        job = rm.Job(store=store, table="t", key="id", seal=True)
        for number, (value, count) in enumerate([(1, 4), (2, 5), (2, 5), (3, 2), (4, 3), (5, 3), (6, 3), (6, 3)], 1):
            more = {"commit_every": 1} if number == 4 else {}
            if number == 7 and prune:
                rm.prune(store, "t", before_batch=2)
            rm.merge(job.model_copy(update=more), [{"id": n, "v": value * n} for n in range(count)])
            if number == 4:  # as after a kill
                run("UPDATE rmend_batches SET status = 'running', seal = NULL, finished_at = NULL WHERE batch_no = 4")
            if number == 7:
                noted = rm.verify(store, "t").seal
        run(*(f"CREATE TABLE kept_{name} AS SELECT * FROM {name}" for name in OURS))

        @contextmanager
        def altered(statements: list[str]) -> Iterator[rm.Verified]:
            run(*statements)
            yield rm.verify(store, "t")
            run(*(sql for table in OURS for sql in (f"DELETE FROM {table}", f"INSERT INTO {table} SELECT * FROM kept_{table}")))

        assert noted is not None
        yield store, noted, altered


def seal_anew(store: Store) -> None:
    """As somebody could who has read how it is done; of changes that were pruned there are the checks."""
    with store.begin(write=True) as session:
        past = past_of(session, "t")
        kept = session.describe("rmend_batches")
        for number in past.numbers_of([SEALED]):
            (run,) = past.runs([[Condition("batch_no", "=", number)]])
            text = seal_of(past, run)
            if past.begins is not None and (run["first_change"] or MOST_CHANGES) <= past.begins.change:
                seal = replace(Seal.read(run["seal_text"]), before=Seal.read(text).before, hash="")
                text = json.dumps(asdict(replace(seal, hash=hash_of(past, [run], details_of_runs(past, [run]), seal, seal.digests()))))
            row = session.fetch(kept, pa.table({"batch_no": [number]}), fresh=True)
            assert not session.update(kept, row, pa.table({"seal": [text]})).refusals()


@pytest.mark.slow
@databases.every
def test_a_forged_past_is_told_or_named(kind: str, tmp_path: Path) -> None:
    with scene(kind, tmp_path, prune=True) as (store, noted, altered):
        sound = rm.verify(store, "t", expect=noted)
        assert (sound.holds, sound.sealed) == (True, 6)
        assert sound.unsealed == ["batch 4 (1 change), which was killed, or still runs", "batch 9 (no changes), from after the last seal"]
        seal_anew(store)
        assert rm.verify(store, "t", expect=noted).holds, "nothing was altered"
        every = [*TOLD.items(), *((name, sql) for name, (sql, _) in NAMED.items())]
        for name, statements in every if length.LONG else every[databases.KINDS.index(kind) :: len(databases.KINDS)]:
            with altered(statements) as found:
                if name in TOLD:
                    assert not found.holds, name
                else:
                    assert NAMED[name][1] in found.unsealed, (name, found.unsealed)
                seal_anew(store)
                assert name in NAMED or name == "no seal" or not rm.verify(store, "t", expect=noted).holds, f"{name}: sealed anew"
        assert rm.verify(store, "t", expect=noted).altered.num_rows == 0


@pytest.mark.slow
@databases.every
def test_who_uses_altered_changes_is_told(kind: str, tmp_path: Path) -> None:
    with scene(kind, tmp_path, prune=False) as (store, _, altered):
        assert refusing(uses(store, tmp_path)) == []
        every = list(ALTERED.items())
        for name, (batch, told) in every if length.LONG else every[databases.KINDS.index(kind) :: len(databases.KINDS)]:
            with altered(TOLD[name]) as found:
                assert [(one["batch_no"], one["change_no"]) for one in found.altered.to_pylist()] == told, name
                used = uses(store, tmp_path)
                assert refusing(used) == [use for use in used if use != "one life" or name not in UNSEEN], name
                if batch:
                    with pytest.raises(rm.AlteredError, match=f"batch {batch} of .* was altered since it was sealed"):
                        rm.undo(store, batch, preview=True)
        assert refusing(uses(store, tmp_path)) == []
