"""A table that is captured, beside its replayed history, both read by plain drivers: what programs write, in all forms, beside
others' triggers and odd indexes; alterations, copies, merges. `python -m tests.captured KIND ROUNDS [SEED]` at length.
"""

from __future__ import annotations

import random
import sqlite3
import subprocess
import sys
from contextlib import closing
from functools import partial
from pathlib import Path
from typing import Any

import psycopg
import pymysql

import rapid_mender as rm
from rapid_mender.stores.contract.capture import LOST

from . import databases, length, servers
from .followed import Base

Row = dict[str, Any]
MADE = "CREATE TABLE t (id INTEGER NOT NULL PRIMARY KEY, a INTEGER, b VARCHAR(10))"
PARTS = "CREATE TABLE t (id INTEGER NOT NULL, a INTEGER NOT NULL, b VARCHAR(10), PRIMARY KEY (id, a)) PARTITION BY LIST (a)"
FUNCTION = "CREATE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF pg_trigger_depth() < 3 THEN {} END IF; RETURN {}; END $$"
TRIGGER = "CREATE TRIGGER {} ON t FOR EACH {} EXECUTE FUNCTION f()"
OTHERS: dict[str, list[list[str]]] = {
    "sqlite": [
        [MADE], [MADE.replace("INTEGER NOT NULL PRIMARY", "INT NOT NULL PRIMARY")], [MADE + " WITHOUT ROWID"],
        [MADE.replace("b VARCHAR(10)", "b VARCHAR(10) NOT NULL DEFAULT 'x' UNIQUE")],
        ["CREATE TABLE t (a INTEGER, b VARCHAR(10), id INTEGER AS (a * 2 + length(b)) STORED NOT NULL UNIQUE)"],
        *([MADE, f"CREATE UNIQUE INDEX i ON t {on}"] for on in ("(b) WHERE (a > 1 AND length(b) IN (1, 2))", "(lower(b), a % 3)", "(b COLLATE NOCASE)", "(a)")),
        [MADE, "", "CREATE TRIGGER x AFTER UPDATE OF a ON t WHEN new.a < 3 BEGIN UPDATE t SET b = b || 1 WHERE id IN (new.id, new.id + 1); END"],
        [MADE, "", "CREATE TRIGGER x BEFORE INSERT ON t BEGIN DELETE FROM t WHERE id = new.id; END"],
    ],
    "postgresql": [
        [MADE], ["CREATE TABLE t (id INTEGER NOT NULL PRIMARY KEY, a INTEGER REFERENCES t ON UPDATE CASCADE ON DELETE CASCADE, b VARCHAR(10))"],
        *([MADE, "", FUNCTION.format(does, gives), TRIGGER.format(when, each)] for does, gives, when, each in (
            ("UPDATE t SET b = left(b || 1, 9) WHERE id IN (NEW.id, NEW.id + 1);", "NULL", "f AFTER UPDATE OF a", "ROW"),
            ("UPDATE t SET b = left(b || 1, 9) WHERE id = NEW.id - 1;", "NEW", "f BEFORE UPDATE OF a", "ROW"),
            ("DELETE FROM t WHERE id = NEW.id;", "NEW", "f BEFORE INSERT", "ROW"),
            ("INSERT INTO t VALUES (OLD.id + 1, 7) ON CONFLICT DO NOTHING;", "NULL", "f AFTER DELETE", "ROW"),
            ("UPDATE t SET a = a + 1; DELETE FROM t WHERE id = 3; INSERT INTO t VALUES (3);", "NULL", "a AFTER UPDATE OF b", "STATEMENT"),
        )),
        [PARTS, *(f"CREATE TABLE t{n} PARTITION OF t FOR VALUES IN ({n})" for n in range(4)), "CREATE TABLE d PARTITION OF t DEFAULT", "",
         FUNCTION.format("IF NEW.id % 3 = 0 THEN RETURN NULL; END IF;", "NEW"), "CREATE TRIGGER f BEFORE INSERT ON t2 FOR EACH ROW EXECUTE FUNCTION f()"],
    ],
    "mariadb": [
        [MADE], [MADE.replace("b VARCHAR(10)", "b VARCHAR(10) UNIQUE")], [MADE.replace("a INTEGER", "a INTEGER CHECK (a < 8)")],
        [MADE, "CREATE TABLE p (a INTEGER PRIMARY KEY)", "INSERT INTO p VALUES (0), (1), (2), (3)", "ALTER TABLE t ADD FOREIGN KEY (a) REFERENCES p (a)"],
        [MADE, "", "CREATE TRIGGER x BEFORE UPDATE ON t FOR EACH ROW SET NEW.b = LEFT(CONCAT(NEW.b, 1), 9)"],
        [MADE + " PARTITION BY RANGE (id) (PARTITION p VALUES LESS THAN (12))"],
    ],
}  # fmt: skip
"""The tables by kind, each with its indexes; after an empty text what a colleague adds, when it is captured or before."""


class Life:
    """A table, and what its history says of it."""

    def __init__(self, kind: str, folder: Path, dice: random.Random) -> None:
        self.kind, self.dice, self.base, self.log = kind, dice, Base(kind, folder), list[str]()
        made = dice.choice(OTHERS[kind])
        at = made.index("") if "" in made else len(made)
        self.has_parts, self.computed = made[0] == PARTS, " AS (" in made[0]
        self.merges = "" not in made and "CASCADE" not in made[0] and not self.computed
        """What triggers of others do within a merge is counted, and not recorded."""
        self.key = ["id", "a"] if self.has_parts else ["id"]
        self.pairs = {"id": "id", "a": "a", "b": "b"}
        """The columns whose history is complete, and what their pairs are called."""
        self.run(
            *made[:at], "INSERT INTO t (id, a, b) VALUES (1, 1, 'x'), (2, 2, 'y'), (3, 3, 'z')" if not self.computed else "INSERT INTO t (a, b) VALUES (5, 'x')"
        )
        late = dice.random() < 0.5
        self.run(*(made[at + 1 :] if not late else ()))
        self.before = self.rows()
        rm.capture(self.base.url, "t")
        self.run(*(made[at + 1 :] if late else ()))
        if late and kind == "sqlite" and len(made) > at + 1:
            assert (" runs before " in str(rm.captures(self.base.url)[0].notes)) == (" AFTER " in made[-1])
            rm.refresh_capture(self.base.url, "t")

    def run(self, *statements: str) -> bool:
        """Run statements as one transaction. Returns whether the database took it."""
        with closing(databases.driver(self.base.url)) as connection:
            cursor = connection.cursor()
            try:
                for one in filter(None, statements):
                    cursor.execute(one)
                connection.commit()
            except (sqlite3.Error, psycopg.Error, pymysql.Error) as error:
                self.log.append(str(error)[:60])
                connection.rollback()
                return False
        return True

    def rows(self) -> dict[tuple[Any, ...], Row]:
        found = [row | {"b": row["bb"]} if "bb" in row else row for row in self.base.sql("SELECT * FROM t")]
        return {tuple(row[name] for name in self.key): {name: row[name] for name in self.pairs} for row in found}

    def check(self) -> None:
        """Each change fits what was there, and all of them give the table."""
        there, unknown = dict(self.before), set[tuple[Any, ...]]()
        for change in self.base.sql("SELECT * FROM t_history ORDER BY change_no"):
            old, new = ({name: change[f"{side}_{pair}"] for name, pair in self.pairs.items()} for side in ("old", "new"))
            was, now = (tuple(side[name] for name in self.key) for side in (old, new))
            if change["action"] != "insert":
                gone = there.pop(was, None)
                assert gone is not None, change
                assert gone == old or was in unknown or change["reason"] == LOST, (change, gone)
            if change["action"] != "delete":
                assert now not in there, change
                there[now] = new
            unknown = (unknown | {now}) if change["reason"] == LOST else unknown - {now, was}
        rows = self.rows()
        assert {key: row for key, row in there.items() if key not in unknown} == {key: row for key, row in rows.items() if key not in unknown}
        assert there.keys() == rows.keys()

    # -- moves ------------------------------------------------------------------------------------------

    def statement(self) -> str:
        some = self.dice.randrange
        one, other, a, b = some(9), some(9), some(5), self.dice.choice(["x", "X", "y", "z", "Z", "'; --", "ä"]).replace("'", "''")
        values = ", ".join(f"({key}, {a}, '{b}')" for key in self.dice.sample(range(12), some(3) + 1)) if not self.computed else f"({a}, '{b}')"
        into = f"INTO t (id, a, b) VALUES {values}" if not self.computed else f"INTO t (a, b) VALUES {values}"
        plain = [
            f"INSERT {into}", f"UPDATE t SET a = {a} WHERE id > {one}", f"UPDATE t SET b = '{b}'", f"UPDATE t SET a = a + 1, b = b WHERE id = {one}",
            f"DELETE FROM t WHERE id = {one}", f"DELETE FROM t WHERE a = {a}", f"UPDATE t SET b = NULL WHERE id = {one}",
        ]  # fmt: skip
        if not self.computed:
            plain += [f"UPDATE t SET id = {other} WHERE id = {one}", f"UPDATE t SET id = id + 1 WHERE a = {a}", f"UPDATE t SET id = 8 - id WHERE id = {one}"]
        upsert = f"INSERT {into} ON CONFLICT (id) DO UPDATE SET a = excluded.a + 1" if not self.has_parts else f"INSERT {into} ON CONFLICT DO NOTHING"
        more = {
            "sqlite": [
                f"REPLACE {into}", f"UPDATE OR REPLACE t SET a = {a}, b = '{b}' WHERE id = {one}", f"INSERT OR IGNORE {into}", upsert,
                *(f"UPDATE OR REPLACE t SET {name} = {other} WHERE id = {one}" for name in ("id", "rowid") if not self.computed),
                *([f"REPLACE INTO t (id) VALUES ({one})", f"REPLACE INTO t VALUES ({one}, {a}, NULL)"] * (not self.computed)),
            ],
            "postgresql": [
                upsert, "TRUNCATE t", f"WITH d AS (DELETE FROM t WHERE id < {one} RETURNING *) INSERT INTO t (id, a, b) SELECT id, a, '{b}' FROM d",
                f"WITH u AS (UPDATE t SET id = id + 20 WHERE a = {a} RETURNING *) INSERT INTO t (id, a, b) SELECT id - 20, {a}, 'n' FROM u",
                f"MERGE INTO t USING (VALUES ({one}, 1), ({other}, 0), (9, 1)) AS v (i, x) ON t.id = v.i WHEN MATCHED AND x = 0 THEN DELETE "
                f"WHEN MATCHED THEN UPDATE SET b = 'm' WHEN NOT MATCHED THEN INSERT (id, a, b) VALUES (i, {a}, 'm')",
            ],
            "mariadb": [
                f"REPLACE {into}", f"INSERT IGNORE {into}", f"UPDATE IGNORE t SET id = {other} WHERE id = {one}", f"UPDATE IGNORE t SET b = '{b}', a = a + 3",
                f"UPDATE IGNORE t SET id = id + 3, a = {a}", f"INSERT {into} ON DUPLICATE KEY UPDATE a = {a}", "UPDATE t SET id = id + 1 ORDER BY id DESC",
            ],
        }[self.kind]  # fmt: skip
        return self.dice.choice(self.dice.choice([plain, more]))

    def write(self) -> None:
        self.run(self.statement())

    def together(self) -> None:
        self.run(self.statement(), "SAVEPOINT s", self.statement(), "ROLLBACK TO SAVEPOINT s", self.statement())

    def merge(self) -> None:
        if self.merges:
            records = [{"id": key, "a": self.dice.randrange(4)} for key in self.dice.sample(range(9), 3)]
            rm.merge(rm.Job(store=self.base.url, table="t", key="id", without_undo=True), records)

    def alter(self) -> None:
        """A migration, which a refresh does not always follow."""
        names = self.base.columns() or []
        wide = {"postgresql": "ALTER TABLE t ALTER b TYPE VARCHAR(90)", "mariadb": "ALTER TABLE t MODIFY b VARCHAR(90)"}.get(self.kind, "")
        moves = [
            f"ALTER TABLE t ADD COLUMN e{len(names)} INTEGER DEFAULT 5",
            wide,
            f"UPDATE t SET b = '{'w' * 60}' WHERE id < 3" if self.kind != "sqlite" else "",
        ]
        if names[-1][0] == "e" and self.kind != "sqlite":
            moves.append(f"ALTER TABLE t DROP COLUMN {names[-1]}")
        if self.kind == "postgresql":
            moves += ["ALTER TABLE t RENAME b TO bb", "ALTER TABLE t RENAME bb TO b"]
        self.run(self.dice.choice(moves))
        if self.dice.random() < 0.6:
            rm.refresh_capture(self.base.url, "t")
            assert not [note for note in rm.captures(self.base.url)[0].notes if "refresh" in note]

    def copy(self) -> None:
        """Go on in a copy of the database, or a dump under another name."""
        self.check()
        if self.kind == "postgresql" and "b" in (self.base.columns() or ()) and self.dice.random() < 0.5:  # columns get other numbers: their names count
            rm.refresh_capture(self.base.url, "t")
            dump = subprocess.run(["pg_dump", self.base.url], capture_output=True, check=True).stdout
            base = Base(self.kind, self.base.folder)
            subprocess.run(["psql", "-q", "-v", "ON_ERROR_STOP=1", base.url], input=dump, capture_output=True, check=True)
        else:
            base = self.base.copied()
        (self.base, gone) = (base, self.base)
        gone.close()
        self.write()
        self.check()
        rm.refresh_capture(self.base.url, "t")  # else a column that gets another name is not found by it

    def round(self, steps: int) -> None:
        moves = [self.write] * 12 + [self.together] * 3 + [self.merge] * 2 + [self.alter, self.copy]
        for _ in range(steps):
            self.dice.choice(moves)()
        self.check()


def play(kind: str, folder: Path, seed: object, steps: int = 40) -> None:
    """One life of a table. Raises AssertionError where its history is not that of the table."""
    dice = random.Random(f"{kind} {seed}")
    life = Life(kind, folder, dice)
    try:
        life.round(steps)
    except Exception as error:
        error.add_note(f"{kind}, seed {seed}")
        raise
    finally:
        life.base.close()


if __name__ == "__main__":
    servers.provide()
    length.by_hand(partial(play, sys.argv[1]), int(sys.argv[2]), int(sys.argv[3]) if len(sys.argv) > 3 else 0)
