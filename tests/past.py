"""The past of a table beside a model of it, in plain dicts, of what a plain driver reads: merges, undos in the middle and picked,
alterations, prunes, edits behind our back. `python -m tests.past KIND ROUNDS [SEED]` at length.
"""

from __future__ import annotations

import random
import sys
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime
from functools import partial
from pathlib import Path
from time import sleep
from typing import Any

import rapid_mender as rm
from rapid_mender.stores.contract import Store
from rapid_mender.stores.urls import opened

from . import databases, length, servers

Row = dict[str, Any]
Rows = dict[int, Row]
VALUES: dict[str, list[Any]] = {
    "a": [0, 1, 2, None],
    "b": ["x", "y", "", "O'Hara ß", None],
    "c": [0.5, -1.25, 1e300, None],
    "d": [7, 8, None],
    "e": ["e", None],
}
TYPES = {"a": "INTEGER", "b": "VARCHAR(20)", "c": "DOUBLE PRECISION", "d": "INTEGER DEFAULT 5", "e": "VARCHAR(9)"}


@dataclass
class Batch:
    """What a batch did, as the table was before and after it; `columns`: those that its history has."""

    before: Rows
    after: Rows
    ended: datetime
    recorded: bool = True
    archived: Counter[int] = field(default_factory=Counter)
    """How many rows of each key came into the archive, or went out of it again."""

    def changes(self) -> Iterator[tuple[int, Row | None, Row | None]]:
        for key in self.before.keys() | self.after.keys():
            old, new = self.before.get(key), self.after.get(key)
            if old != new:
                yield key, old, new


def without(row: Row | None, columns: list[str]) -> Row | None:
    return None if row is None else {name: value for name, value in row.items() if name in columns}


class Model:
    """A table, and what its past has to be."""

    def __init__(self, kind: str, url: str, store: Store, run: Callable[..., None], dice: random.Random) -> None:
        self.kind, self.url, self.store, self.run, self.dice = kind, url, store, run, dice
        self.batches: dict[int, Batch] = {}
        self.late: dict[str, int] = {}
        """Columns that were added, and the last batch before."""
        self.dropped: dict[str, int] = {}
        """Columns that were dropped, and the last batch before."""
        self.pruned, self.log, self.edited = 0, list[str](), False
        self.replaced = set[int]()
        """Keys of rows that were in conflict, or archived by what was pruned: whether their copies move is not looked at."""
        self.connection = None if kind == "sqlite" else databases.driver(url)
        if self.connection is not None:
            self.connection.autocommit = True if kind == "postgresql" else self.connection.autocommit(True)
            self.connection.prepare_threshold = None
        for key in dice.sample(range(12), 5):
            self.sql("INSERT INTO t (id, a, b, c) VALUES (?, ?, ?, ?)", key, *(dice.choice(VALUES[name]) for name in "abc"))

    def sql(self, text: str, *values: Any) -> list[tuple[Any, ...]]:
        connection = self.connection or databases.driver(self.url)
        cursor = connection.cursor()
        cursor.execute(text if self.kind == "sqlite" else text.replace("?", "%s"), values)
        found = cursor.fetchall() if cursor.description else []
        self.names = [one[0] for one in cursor.description or ()]
        cursor.close()
        if self.connection is None:  # one that stays open would have the file opened in another process
            connection.commit()
            connection.close()
        return list(found)

    def read(self) -> Rows:
        found = [dict(zip(self.names, row, strict=True)) for row in self.sql("SELECT * FROM t")]
        assert len({row["id"] for row in found}) == len(found), "a key is there twice"
        return {row["id"]: row for row in found}

    def archive(self) -> Counter[int]:
        return Counter(key for (key,) in self.sql("SELECT id FROM t_gone"))

    # -- what is done -----------------------------------------------------------------------------------

    def records(self, before: Rows) -> list[Row]:
        names = [name for name in self.columns() if self.dice.random() < 0.7]
        keys = self.dice.sample(range(12), self.dice.randint(1, 6))
        return [
            {"id": key, **{n: before[key][n] if key in before and self.dice.random() < 0.4 else self.dice.choice(VALUES[n]) for n in names}} for key in keys
        ]

    def columns(self) -> list[str]:
        self.sql("SELECT * FROM t WHERE 1 = 0")
        return [name for name in self.names if name != "id"]

    def merge(self) -> None:
        before, gone = self.read(), self.archive()
        more: Row = {"seal": self.dice.choice([None, None, None, True, False])}
        if self.dice.random() < 0.4:
            more |= {"rules": [rm.Rule(decide="delete", when="existing.a = 1")], "delete": self.dice.choice(["remove", "archive"])}
        if self.dice.random() < 0.15:
            more |= {"missing": "delete", "delete": self.dice.choice(["remove", "archive"])}
        if more.get("delete") == "archive":
            more["archive"] = "t_gone"
        if self.dice.random() < 0.2:
            more["commit_every"] = self.dice.randint(1, 3)
        if self.dice.random() < 0.04:
            more["history"] = False
        result = rm.merge(rm.Job(store=self.store, table="t", key="id", **more), self.records(before))
        assert result.counts["reject"] == 0, result.rejects.to_pylist()
        self.note(result.batch, before, recorded=more.get("history", True), gone=gone)

    def note(self, number: int | None, before: Rows, gone: Counter[int], recorded: bool = True) -> None:
        if number is not None:
            after, archived = self.read(), self.archive()
            archived.subtract(gone)
            self.batches[number] = Batch(before, after, datetime.now(UTC), recorded, archived)
            self.batches[number].recorded |= before == after
        sleep(0.003)  # the next change is of a later millisecond

    def undo(self) -> None:
        """One batch, or all since one, by its number or by the time."""
        if not self.batches:
            return
        number = self.dice.choice(list(self.batches))
        how = self.dice.choice(["one", "one", "rest", "force", "since", "time"])
        picked = [one for one in sorted(self.batches) if one == number or (one > number and how in ("since", "time"))]
        before, gone = self.read(), self.archive()
        earlier = max((one for one in self.batches if one < number), default=None)
        args: Row = {"since_batch": number} if how == "since" else {"batch": number}
        if how == "time":
            args = {"table": "t", "since": self.batches[earlier].ended} if earlier is not None else {"table": "t", "since": "2020-01-01"}
        if how in ("rest", "force"):
            args[how] = True
        known = [name for name in before[next(iter(before))] if self.late.get(name, 0) < number] if before else list("abcde")
        want, conflicts = self.undone(before, picked, known)
        try:
            done = rm.undo(self.store, **args)
        except rm.ConflictError as error:
            if not conflicts:
                raise AssertionError(error.undone.conflicts.to_pylist()) from error
            assert how not in ("rest", "force")
            assert self.read() == before
            return
        except (rm.JobError, rm.StoreError) as error:
            unknown = number <= self.pruned or not all(self.batches[one].recorded for one in picked)
            if self.read() == before and (unknown or "is undone already" in str(error) or "has no history" in str(error)):
                return
            raise
        changed = any(self.batches[one].before != self.batches[one].after for one in picked)
        assert number > self.pruned or not changed, "undone, though it was pruned"
        assert all(self.batches[one].recorded for one in picked), "undone, though it was not recorded"
        after = self.read()
        assert bool(done.conflicts.num_rows) == bool(conflicts), (done.conflicts.to_pylist(), conflicts)
        assert how in ("rest", "force") or not conflicts
        for key in before.keys() | after.keys() | want.keys():
            if key not in conflicts:
                assert without(after.get(key), known) == without(want.get(key), known), (how, number, key)
            elif how == "rest":
                assert after.get(key) == before.get(key) or conflicts[key], (how, number, key)
        for key in set(range(12)) - self.replaced - conflicts.keys():
            assert self.archive()[key] == max(gone[key] - sum(self.batches[one].archived[key] for one in picked), 0), (key, gone)
        self.replaced |= conflicts.keys()
        self.note(done.batch, before, gone)

    def undone(self, now: Rows, picked: list[int], known: list[str]) -> tuple[Rows, dict[int, bool]]:
        """The table without some batches; and the keys of conflicts, and whether some of their columns are set all the same."""
        want, conflicts, first, last = {key: dict(row) for key, row in now.items()}, dict[int, bool](), {}, {}
        for number in picked:
            for key, old, new in self.batches[number].changes():
                first.setdefault(key, old)
                last[key] = new
        for key, old in first.items():
            old, new, row = without(old, known), without(last[key], known), without(now.get(key), known)
            if old == new:
                continue
            if old is not None and new is not None:
                sets = [name for name in known if name in old and old[name] != new.get(name)]
                clash = row is None or any(row[name] != new[name] and row[name] != old[name] for name in sets)
                if clash:
                    conflicts[key] = row is not None
                else:
                    want[key] |= {name: old[name] for name in sets}
            elif row != new:
                conflicts[key] = False
            elif old is None:
                del want[key]
            else:
                want[key] = old
        return want, conflicts

    def alter(self) -> None:
        here = self.columns()
        absent = [name for name in "de" if name not in here and self.is_new(name)]
        if absent and self.dice.random() < 0.7:
            self.late[absent[0]] = max(self.batches, default=0)
            self.run(f"ALTER TABLE t ADD COLUMN {absent[0]} {TYPES[absent[0]]}", f"ALTER TABLE t_gone ADD COLUMN {absent[0]} {TYPES[absent[0]]}")
        elif len(here) > 2:
            name = self.dice.choice([one for one in here if one != "a"])
            self.dropped[name] = max(self.batches, default=0)
            self.run(f"ALTER TABLE t DROP COLUMN {name}", f"ALTER TABLE t_gone DROP COLUMN {name}")
            for batch in self.batches.values():
                for rows in (batch.before, batch.after):
                    rows.update({key: {n: v for n, v in row.items() if n != name} for key, row in rows.items()})

    def is_new(self, name: str) -> bool:
        """Whether a column, if it is added, can be told from one of its name that was dropped: by its number, or as a batch saw the
        table without it."""
        since = [batch for number, batch in self.batches.items() if number > self.dropped.get(name, -1)]
        return self.kind == "postgresql" or name not in self.dropped or any(b.recorded and b.before != b.after for b in since)

    def prune(self) -> None:
        some = [number for number in self.batches if number > self.pruned]
        if some and any(batch.recorded and batch.before != batch.after for batch in self.batches.values()):
            until = self.dice.choice(some)
            pruned = rm.prune(self.store, "t", before_batch=until)
            self.pruned = max(self.pruned, pruned.last_batch or 0)
            self.replaced |= {key for number, batch in self.batches.items() if number <= self.pruned for key in batch.archived}

    def meddle(self) -> None:
        """Somebody writes to the table, and the history does not hear of it."""
        for key in self.dice.sample(range(12), 2):
            self.edited = True
            if key not in self.read():
                self.sql("INSERT INTO t (id, a) VALUES (?, ?)", key, self.dice.choice(VALUES["a"]))
            elif self.dice.random() < 0.5:
                self.sql("DELETE FROM t WHERE id = ?", key)
            else:
                self.sql("UPDATE t SET a = ? WHERE id = ?", self.dice.choice(VALUES["a"]), key)

    # -- what has to be so ------------------------------------------------------------------------------

    def check(self) -> None:
        if not any(batch.recorded and batch.before != batch.after for batch in self.batches.values()):
            return  # it may have no history yet
        found = rm.verify(self.store, "t")
        assert not found.altered.num_rows, found.altered.to_pylist()
        for key, a in self.sql("SELECT id, a FROM t_gone"):
            assert any(batch.before.get(key, {}).get("a", 99) == a for batch in self.batches.values()), ("never was", key, a)
        unrecorded = [number for number, batch in self.batches.items() if not batch.recorded]
        assert found.holds or unrecorded or self.edited, found.differences.to_pylist()
        now = self.read()
        if not unrecorded:
            self.back(now)
        some = list(self.batches) if length.LONG else self.dice.sample(list(self.batches), min(3, len(self.batches)))
        for number, batch in ((one, self.batches[one]) for one in some):
            gaps = any(one > number for one in unrecorded)
            for how in ({"batch": number}, {"when": batch.ended}):
                try:
                    rows = rm.as_of(self.store, "t", **how).to_pylist()
                except rm.JobError as error:
                    if number < self.pruned or gaps or "has a history since" in str(error):
                        continue
                    raise
                assert number >= self.pruned, (number, how, self.pruned)
                assert not gaps, (number, how, unrecorded)
                there = {row["id"]: row for row in rows}
                columns = ["id", *(name for name in self.columns() if name not in self.late)]
                later = [name for name, last in self.late.items() if last >= number]
                shown = [name for name in (rows[0] if rows else ()) if name not in later]
                told = {key: without(row, shown) for key, row in batch.after.items()}
                assert self.edited or {key: without(row, shown) for key, row in there.items()} == told, (number, how, shown, there, told)
                assert not rows or set(columns) <= rows[0].keys(), (number, how, columns, rows[0])
        self.edit(now)

    def back(self, now: Rows) -> None:
        """As of some positions the table is as it is now, with the changes since taken back one by one."""
        changes = self.sql("SELECT * FROM t_history ORDER BY change_no DESC")
        names, first = self.names, min((one[0] for one in changes), default=1) - 1
        rows = {key: dict(row) for key, row in now.items()}
        wanted = set(self.dice.sample([one[0] - 1 for one in changes], min(3, len(changes))))
        for change in (dict(zip(names, values, strict=True)) for values in changes):
            if change["new_id"] is not None:
                row = rows.pop(change["new_id"], {"id": change["old_id"]})
            if change["old_id"] is not None:
                old = {name: change[f"old_{name}"] for name in self.columns() if f"old_{name}" in names}
                rows[change["old_id"]] = {**(row if change["action"] == "update" else {}), "id": change["old_id"], **old}
            if (at := change["change_no"] - 1) in wanted and at >= max(first, 1 if self.pruned else 0):
                there = rm.as_of(self.store, "t", position=at).to_pylist()
                told = {row["id"]: row for row in there}
                assert sorted(told) == sorted(rows), at
                assert len(told) == len(there), at
                assert all(without(rows[key], list(row)) == row for key, row in told.items()), (at, told, rows)

    def edit(self, now: Rows) -> None:
        """Behind our back a row that the history knows is changed, and put back."""
        touched = [
            key for number, batch in self.batches.items() if number > self.pruned and batch.recorded for key, _, new in batch.changes() if new is not None
        ]
        key = self.dice.choice(touched) if touched else None
        if self.edited or key is None or now.get(key) is None or not all(batch.recorded for batch in self.batches.values()):
            return
        was = now[key]["a"]
        self.sql("UPDATE t SET a = ? WHERE id = ?", 99, key)
        assert not rm.verify(self.store, "t").holds, f"{key} was edited"
        self.sql("UPDATE t SET a = ? WHERE id = ?", was, key)

    def round(self, steps: int) -> None:
        moves = [self.merge] * 8 + [self.undo] * 5 + [self.alter, self.prune] + [self.meddle] * (self.dice.random() < 0.3)
        for _ in range(steps):
            move = self.dice.choice(moves)
            self.log.append(move.__name__)
            move()
            if self.dice.random() < 0.35:
                self.check()
        self.check()


def play(kind: str, folder: Path, seed: object, steps: int = 10) -> None:
    """One table's life. Raises AssertionError where it is not as it has to be."""
    dice = random.Random(f"{kind} {seed}")
    key = dice.choice(["PRIMARY KEY", "UNIQUE", ""])
    made = ", ".join(f"{name} {TYPES[name]}" for name in "abc")
    tables = f"CREATE TABLE t (id INTEGER NOT NULL {key}, {made})", f"CREATE TABLE t_gone (id INTEGER NOT NULL, {made})"
    with databases.table(kind, folder, *tables) as (url, run), opened(url) as store:
        model = Model(kind, url, store, run, dice)
        try:
            model.round(steps)
        except Exception as error:
            error.add_note(f"{kind}, seed {seed}: {' '.join(model.log)}")
            raise
        finally:
            if model.connection is not None:
                model.connection.close()


if __name__ == "__main__":
    servers.provide()
    length.by_hand(partial(play, sys.argv[1]), int(sys.argv[2]), int(sys.argv[3]) if len(sys.argv) > 3 else 0)
