"""Tables that follow others, beside a model of them in plain dicts, of what plain drivers read: restores of either side, copies,
chains, alterations, prunes, gaps, kills. `python -m tests.followed KIND KIND ROUNDS [SEED]` at length.
"""

from __future__ import annotations

import copy
import itertools
import json
import random
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
import uuid
from collections.abc import Callable
from contextlib import closing
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import Any

import psycopg
import pymysql
from sqlalchemy.engine import make_url

import rapid_mender as rm

from . import databases, length, servers

Row = dict[str, Any]
VALUES: dict[str, list[Any]] = {"a": [0, 1, 2, None], "b": ["x", "", "O'Hara ß", None], "c": [0.5, -1.25, None], "d": [7, None], "e": ["e", None]}
TYPES = {"a": "INTEGER", "b": "VARCHAR(20)", "c": "DOUBLE PRECISION", "d": "INTEGER", "e": "VARCHAR(9)", "f": "INTEGER"}
MADE = "CREATE TABLE t (id INTEGER NOT NULL PRIMARY KEY, a INTEGER, b VARCHAR(20), c DOUBLE PRECISION)"
OWN = "CREATE TABLE t (id INTEGER NOT NULL PRIMARY KEY, a INTEGER, bb VARCHAR(20), c DOUBLE PRECISION, own INTEGER DEFAULT 7, gone INTEGER DEFAULT 0)"
WORKER = """
import json, sys
import rapid_mender as rm
print("ready", flush=True)
rm.sync(rm.Sync(**json.loads(sys.stdin.readline())))
"""


@dataclass
class Change:
    """One change of a row, or, without a key, what no history has."""

    number: int
    """Of the newest change in the history then."""
    key: int | None = None
    old: Row | None = field(default=None, compare=False)
    new: Row | None = field(default=None, compare=False)
    serial: int = field(default_factory=itertools.count().__next__)


@dataclass
class State:
    """What is restored with a database."""

    rows: dict[int, Row] = field(default_factory=dict)
    log: list[Change] = field(default_factory=list)
    at: Change | None = None
    """The last change that was followed into it."""
    begun: bool = False
    pruned: int = 0
    dropped: list[str] = field(default_factory=list)
    """Columns that were dropped, and no batch has been recorded since."""


class Base:
    """A database with a table `t`, which is backed up, restored and copied."""

    def __init__(self, kind: str, folder: Path, captured: bool = False, made: Callable[[str], None] | None = None) -> None:
        self.kind, self.folder, self.captured = kind, folder, captured
        self.name = f"rmend_test_{uuid.uuid4().hex[:12]}"
        self.url = f"sqlite:///{folder / self.name}.db" if kind == "sqlite" else f"{servers.address(kind).rpartition('/')[0]}/{self.name}"
        (made or self._make)(self.name)
        self.state = State()
        self.backups: list[tuple[str | bytes, State]] = []

    # -- databases --------------------------------------------------------------------------------------

    def _admin(self, *statements: str) -> None:
        with closing(databases.driver(servers.address(self.kind))) as connection:
            if self.kind == "postgresql":
                connection.autocommit = True
            for one in statements:
                connection.cursor().execute(one)

    def _make(self, name: str) -> None:
        if self.kind == "sqlite":
            sqlite3.connect(self._file(name)).close()
        else:
            self._admin(f"CREATE DATABASE {name}")

    def _file(self, name: str) -> Path:
        return self.folder / f"{name}.db"

    def _dumped(self, name: str) -> str | bytes:
        """A copy of a database: another one, or what a program of MariaDB writes."""
        if self.kind == "mariadb":
            return subprocess.run([*self._words("mariadb-dump"), name], capture_output=True, check=True).stdout
        to = f"rmend_test_{uuid.uuid4().hex[:12]}"
        self._load(name, to)
        return to

    def _load(self, dump: str | bytes, name: str) -> None:
        """Make a database of a copy."""
        if self.kind == "sqlite":
            shutil.copyfile(self._file(str(dump)), self._file(name))
        elif self.kind == "postgresql":
            end = f"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = '{dump!s}'"
            self._admin(end, f"CREATE DATABASE {name} TEMPLATE {dump!s}")
        else:
            self._make(name)
            subprocess.run([*self._words("mariadb"), name], input=dump if isinstance(dump, bytes) else dump.encode(), check=True)

    def _words(self, program: str) -> list[str]:
        at = make_url(self.url)
        return [program, "-h", str(at.host), "-P", str(at.port or 3306), "-u", "root"]

    def _drop(self, name: str) -> None:
        if self.kind == "sqlite":
            self._file(name).unlink()
        else:
            self._admin(f"DROP DATABASE IF EXISTS {name}{' WITH (FORCE)' if self.kind == 'postgresql' else ''}")

    def back_up(self) -> None:
        self.backups.append((self._dumped(self.name), copy.deepcopy(self.state)))

    def restore(self, dice: random.Random) -> None:
        dump, state = dice.choice(self.backups)
        if any(one.key is None and one not in state.log for one in self.state.log):  # another batch may get its number
            return
        self._drop(self.name)
        self._load(dump, self.name)
        self.state = copy.deepcopy(state)

    def copied(self) -> Base:
        dump = self._dumped(self.name)
        base = Base(self.kind, self.folder, self.captured, lambda name: self._load(dump, name))
        base.state = State(self.state.rows)
        base.backups.append((dump, copy.deepcopy(base.state)))
        return base

    def close(self) -> None:
        for name in (self.name, *(dump for dump, _ in self.backups if isinstance(dump, str))):
            self._drop(name)

    def sql(self, text: str, *values: Any) -> list[Row]:
        with closing(databases.driver(self.url)) as connection:
            cursor = connection.cursor()
            cursor.execute(text if self.kind == "sqlite" else text.replace("?", "%s"), values or None if self.kind != "sqlite" else values)
            self.names = [one[0] for one in cursor.description or ()]
            found = [dict(zip(self.names, row, strict=True)) for row in cursor.fetchall()] if cursor.description else []
            connection.commit()
        return found

    # -- the table --------------------------------------------------------------------------------------

    def read(self) -> dict[int, Row]:
        return {row["id"]: row for row in self.sql("SELECT * FROM t")} if self.columns() is not None else {}

    def columns(self) -> list[str] | None:
        """Its columns but the key; None as long as there is no table."""
        try:
            self.sql("SELECT * FROM t WHERE 1 = 0")
        except (sqlite3.Error, psycopg.Error, pymysql.Error):
            return None
        return [name for name in self.names if name != "id"]

    def numbers(self) -> tuple[int, int]:
        """The first and last number in the history."""
        try:
            found = self.sql("SELECT MIN(change_no) AS n, MAX(change_no) AS m FROM t_history")[0]
        except (sqlite3.Error, psycopg.Error, pymysql.Error):
            return 0, 0
        return found["n"] or 0, found["m"] or 0

    def note(self, recorded: bool = True) -> None:
        """What has changed in the table since it was looked at."""
        now, state = self.read(), self.state
        changed = [(key, state.rows.get(key), now.get(key)) for key in sorted(now.keys() | state.rows.keys()) if now.get(key) != state.rows.get(key)]
        number = max(self.numbers()[1], state.pruned)
        state.log += [Change(number, *one) for one in changed] if recorded else [Change(number)] if changed else []
        state.rows = now


@dataclass
class Link:
    """A table that follows another, and how."""

    source: Base
    target: Base
    options: Row
    when: bool = False

    @property
    def job(self) -> Row:
        return {"store": self.source.url, "table": "t", "to_store": self.target.url, "to_table": "t", **self.options}

    def sent(self, row: Row) -> Row:
        """A row as it is for the target."""
        columns = self.target.columns()
        there = {self.to(name): value for name, value in row.items() if name not in self.options.get("ignore", ())}
        return {name: value for name, value in there.items() if name == "id" or columns is None or name in columns}

    def to(self, name: str) -> str:
        return str(self.options.get("rename", {}).get(name, name))

    def lacking(self) -> list[str]:
        """Columns that the target does not have."""
        there = self.target.columns()
        return [name for name in self.source.columns() or () if name not in self.options.get("ignore", ()) and there is not None and self.to(name) not in there]

    @property
    def lost(self) -> bool:
        """Whether what is to come is not known any more."""
        at, log = self.target.state.at, self.source.state.log
        if not self.target.state.begun or (at is not None and at not in log):
            return self.target.state.begun
        return (at.number if at is not None else 0) < self.source.state.pruned or any(one.key is None for one in self.window())

    def window(self) -> list[Change]:
        at, log = self.target.state.at, self.source.state.log
        return log[log.index(at) + 1 :] if at is not None else log

    def empty(self) -> Row:
        """What an inserted row has in columns that are not sent."""
        columns = self.target.columns() or ()
        return dict.fromkeys(columns) | {name: value for name, value in (("own", 7), ("gone", 0)) if name in columns}

    def put(self, rows: dict[int, Row], row: Row, empty: Row) -> None:
        marks = {"gone": 0} if "mark" in self.options else {}
        rows[row["id"]] = {**rows.get(row["id"], empty), **self.sent(row), **marks}

    def take(self, rows: dict[int, Row], key: int) -> None:
        if key in rows and "mark" in self.options:
            rows[key] = {**rows[key], "gone": 1}
        else:
            rows.pop(key, None)

    def wanted(self) -> dict[int, Row]:
        """What the target has to be after a sync."""
        rows, empty = self.target.read(), self.empty()
        if not self.target.state.begun:
            for row in self.source.state.rows.values():
                if not self.when or (row["a"] or 0) > 0:
                    self.put(rows, row, empty)
            return rows
        net: dict[int, list[Change]] = {}
        for one in self.window():
            net.setdefault(one.key or 0, []).append(one)
        for key, (first, *_, last) in ((key, [changes[0], *changes]) for key, changes in net.items()):
            old, new = first.old, last.new
            if old is None and new is None:  # a row that came and went again is taken away all the same
                old = last.old
            same = old is not None and new is not None and all(old[name] == new[name] for name in old.keys() & new.keys())
            if same and (self.when or "conflict" in self.options):  # it is not looked at otherwise
                continue
            if self.when and not any((side["a"] or 0) > 0 for side in (old, new) if side is not None):
                continue
            if self.options.get("conflict") == "skip" and self.clashes(rows.get(key), old, new):
                continue
            if new is None:
                self.take(rows, key)
            else:
                self.put(rows, new, empty)
        return rows

    def clashes(self, there: Row | None, old: Row | None, new: Row | None) -> bool:
        if there is None:
            return old is not None and new is not None
        if new is not None and there == {**there, **self.sent(new)}:
            return False
        return old is None or there != {**there, **self.sent(old)}

    def mended(self) -> dict[int, Row]:
        rows, empty = self.target.read(), self.empty()
        for key in rows.keys() - self.source.state.rows.keys():
            self.take(rows, key)
        for row in self.source.state.rows.values():
            self.put(rows, row, empty)
        return rows

    def moved(self) -> None:
        state = self.target.state
        state.at, state.begun = self.source.state.log[-1] if self.source.state.log else None, True


class Model:
    """Some tables that follow each other in a row, and what they have to be."""

    def __init__(self, kinds: tuple[str, str], folder: Path, dice: random.Random, kills: bool) -> None:
        self.dice, self.kills, self.log, self.folder, self.is_copy = dice, kills, list[str](), folder, False
        self.extra = set[int]()
        """Keys of rows that a copy had, and the table that it follows had not when it began to."""
        first, second = (Base(kind, folder, dice.random() < 0.4) for kind in kinds)
        self.bases = [first, second]
        first.sql(MADE)
        for key in dice.sample(range(8), 3):
            first.sql("INSERT INTO t (id, a, b, c) VALUES (?, ?, ?, ?)", key, *(dice.choice(VALUES[name]) for name in "abc"))
        first.state.rows = first.read()
        if first.captured:
            rm.capture(first.url, "t")
        second.captured = False  # what is written to it by hand is not followed
        options: Row = {"follower": "ab", "new_columns": dice.choice(["stop", "ignore", "add"]), "history": True}
        options |= dice.choice([{}, {}, {"commit_every": dice.randint(1, 3)}, {"conflict": "skip"}])
        link = Link(first, second, options)
        if dice.random() < 0.4:
            second.sql(OWN)
            options |= {"rename": {"b": "bb"}}
            if dice.random() < 0.5 and not {"conflict", "commit_every"} & options.keys():
                options |= {"delete": "mark", "mark": {"gone": 1}, "unmark": {"gone": 0}}
        elif dice.random() < 0.3:
            options |= {"ignore": ["c"]}
        if dice.random() < 0.2 and "commit_every" not in options:
            options |= {"when": "new.a > 0 OR old.a > 0"}
            link.when = True
        self.links = [link]

    # -- moves ------------------------------------------------------------------------------------------

    def some(self) -> Base:
        return self.dice.choice([self.bases[0], self.bases[0], *self.bases])

    def written(self) -> Base:
        """A table whose history has what is written to it. Nobody writes to the end of a chain that began as a copy."""
        return self.dice.choice([base for base in self.bases[:2] if base is self.bases[0] or base.state.begun])

    def merge(self, recorded: bool = True) -> None:
        base = self.written()
        recorded |= base.captured or any(link.when for link in self.links)
        names = [name for name in base.columns() or () if name in VALUES or name == "bb"]
        keys = self.dice.sample(range(8), self.dice.randint(1, 4))
        records = [{"id": key, **{name: self.dice.choice(VALUES[name[0]]) for name in names if self.dice.random() < 0.7}} for key in keys]
        more: Row = {"rules": [rm.Rule(decide="delete", when="existing.a = 1")]} if self.dice.random() < 0.4 else {}
        result = rm.merge(rm.Job(store=base.url, table="t", key=["id"], history=recorded, seal=self.dice.choice([None, None, True]), **more), records)
        assert result.counts["reject"] == 0, result.rejects.to_pylist()
        base.note(recorded)
        if recorded and any(result.counts[one] for one in ("insert", "update", "delete")):
            base.state.dropped.clear()

    def gap(self) -> None:
        self.merge(False)

    def write(self) -> None:
        base = self.bases[0]
        if base.captured:
            for key in self.dice.sample(range(8), 2):
                if key not in base.state.rows:
                    base.sql("INSERT INTO t (id, a) VALUES (?, ?)", key, self.dice.choice(VALUES["a"]))
                elif self.dice.random() < 0.4:
                    base.sql("DELETE FROM t WHERE id = ?", key)
                else:
                    base.sql("UPDATE t SET a = ?, b = ? WHERE id = ?", self.dice.choice(VALUES["a"]), self.dice.choice(VALUES["b"]), key)
                base.note()

    def undo(self) -> None:
        base = self.written()
        batches = rm.batches(base.url).to_pylist()
        if batches:
            try:
                rm.undo(base.url, self.dice.choice(batches)["batch_no"])
            except (rm.JobError, rm.ConflictError, rm.StoreError):
                assert base.read() == base.state.rows
            base.note()

    def alter(self) -> None:
        base = self.bases[0]
        if {"conflict", "mark"} & self.links[0].options.keys() or self.links[0].when:  # changes before and after go apart, so that it matters in how many steps
            return
        here, state = base.columns() or [], base.state
        absent = [name for name in "de" if name not in here and name not in state.dropped]
        if absent and self.dice.random() < 0.7:
            base.sql(f"ALTER TABLE t ADD COLUMN {absent[0]} {TYPES[absent[0]]}")
        elif [name for name in here if name in "de"] and not (base.captured and base.kind == "sqlite"):
            name = self.dice.choice([name for name in here if name in "de"])
            base.sql(f"ALTER TABLE t DROP COLUMN {name}")
            state.dropped += [name] * (base.kind != "postgresql")
            for one in state.log:
                one.old, one.new = ({n: v for n, v in row.items() if n != name} if row is not None else None for row in (one.old, one.new))
        if base.captured:
            rm.refresh_capture(base.url, "t")
        state.rows = base.read()

    def alter_target(self) -> None:
        base = self.bases[1]
        if base.state.begun and "f" not in (base.columns() or ()):
            base.sql("ALTER TABLE t ADD COLUMN f INTEGER")
            base.state.rows = base.read()

    def prune(self) -> None:
        base = self.bases[0]
        batches = [row["batch_no"] for row in rm.batches(base.url).to_pylist()]
        if len(batches) > 1 and not self.links[0].when:
            try:
                rm.prune(base.url, "t", before_batch=self.dice.choice(batches), force=True)
            except (rm.JobError, rm.StoreError):  # it has no history yet
                return
            known = max((one.number for one in base.state.log), default=0)
            base.state.pruned = max(base.state.pruned, base.numbers()[0] - 1 if base.numbers()[0] else known)

    def back_up(self) -> None:
        base = self.some()
        if len(base.backups) < 3:
            base.back_up()

    def restore(self) -> None:
        base = self.some()
        lives_on = self.is_copy and base is self.bases[0]  # what would be gone is in the copy, and counts as its own
        if base.backups and not lives_on and not any(link.when for link in self.links):
            base.restore(self.dice)

    def lengthen(self) -> None:
        """A third table follows the second one: an empty one, or a copy of the first."""
        first, second = self.bases[0], self.bases[-1]
        if len(self.bases) == 3 or not second.state.begun or self.links[0].when:
            return
        plain = not set(self.links[0].options) & {"rename", "ignore"}
        if plain and self.dice.random() < 0.6:
            self.sync(self.links[0])  # else it is ahead of the second one
            third = first.copied()
            self.is_copy = True
        else:
            third = Base(self.dice.choice([first.kind, second.kind]), self.folder)
        self.bases.append(third)
        self.links.append(Link(second, third, {"follower": "bc", "new_columns": "add", "history": True}))
        self.sync(self.links[-1])

    def kill(self) -> None:
        link = self.dice.choice(self.links)
        if self.kills and link.source.columns() and not link.lost and not link.lacking():
            worker = subprocess.Popen([sys.executable, "-c", WORKER], stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
            assert worker.stdin is not None
            assert worker.stdout is not None
            worker.stdout.readline()
            worker.stdin.write(json.dumps(link.job).encode() + b"\n")
            worker.stdin.flush()
            want = link.wanted()
            time.sleep(self.dice.random() * 0.15)
            worker.send_signal(signal.SIGKILL)
            worker.wait()
            self.sync(link, want)

    # -- following --------------------------------------------------------------------------------------

    def follow(self) -> None:
        self.sync(self.dice.choice(self.links))

    def loose(self, link: Link) -> bool:
        """Whether the target is a copy of the first table, of which only the end is known."""
        return link is not self.links[0] and self.is_copy

    def sync(self, link: Link, want: dict[int, Row] | None = None) -> None:
        if link.source.columns() is None:  # the middle table of a chain, restored to before there was one
            return
        before, job, lost, lacking = link.target.read(), rm.Sync(**link.job), link.lost, link.lacking()
        if lacking and job.new_columns == "add" and not lost:
            self.add(link, lacking)  # the same by hand: it is empty in the rows that are there
        if self.loose(link) and not link.target.state.begun:
            self.extra = before.keys() - link.source.state.rows.keys()
        want = link.wanted() if want is None and not lost else want
        try:
            done = rm.sync(job)
        except rm.JobError:
            if not lost and not (lacking and job.new_columns == "stop"):
                raise
            assert link.target.read() == before
            if lost:
                self.mend(link)
            else:
                self.add(link, lacking)
                self.sync(link)
            return
        assert not lost, f"it went on, though its place is lost: {done}"
        now = link.target.read()
        assert now == want or self.loose(link), (now, want)
        link.target.note()
        link.moved()

    def add(self, link: Link, names: list[str]) -> None:
        for name in names:
            link.target.sql(f"ALTER TABLE t ADD COLUMN {link.to(name)} {TYPES[name[0]]}")
        link.target.state.rows = link.target.read()

    def mend(self, link: Link) -> None:
        if (lacking := link.lacking()) and link.options["new_columns"] != "ignore":
            self.add(link, lacking)
        want = link.mended()
        rm.compare(rm.Sync(**link.job), mend=True)
        assert link.target.read() == want, (link.options, link.target.read(), want)
        link.target.note()
        link.moved()
        assert rm.compare(rm.Sync(**link.job)).alike

    def round(self, steps: int) -> None:
        moves: list[Callable[[], None]] = [self.merge] * 6 + [self.write] * 3 + [self.follow] * 6 + [self.restore] * 2 + [self.back_up] * 2
        moves += [self.undo, self.alter, self.alter_target, self.prune, self.gap, self.lengthen, self.lengthen] + [self.kill] * self.kills
        for _ in range(steps):
            move = self.dice.choice(moves)
            self.log.append(move.__name__)
            move()
        for link in self.links:
            self.sync(link)
            if self.loose(link):
                there, want = link.target.read(), link.source.read()
                assert not there.keys() - want.keys() - self.extra, ("a copy", there, want)
                assert all(there.get(key, {}) | row == there.get(key) for key, row in want.items()), ("a copy", there, want)


def play(kinds: tuple[str, str], folder: Path, seed: object, steps: int = 20, kills: bool = False) -> None:
    """One life of some tables. Raises AssertionError where one is not as it has to be."""
    model = Model(kinds, folder, random.Random(f"{kinds} {seed}"), kills)
    try:
        model.round(steps)
    except Exception as error:
        error.add_note(f"{kinds}, seed {seed}: {' '.join(model.log)} {model.links[0].options}")
        raise
    finally:
        for base in model.bases:
            base.close()


if __name__ == "__main__":
    servers.provide()
    length.by_hand(partial(play, (sys.argv[1], sys.argv[2]), kills=True), int(sys.argv[3]), int(sys.argv[4]) if len(sys.argv) > 4 else 0)
