"""The ways in which people do it by hand on SQLite, each written as well as we know how.

All work in one transaction, with the same cache, on a copy of the same file, and keep the same history.
"""

from __future__ import annotations

import json
import sqlite3
from pathlib import Path
from typing import Any

import pyarrow as pa
from adbc_driver_sqlite import dbapi

from .data import CHANGING, COLUMNS, DDL, KEY

_PRAGMAS = ("PRAGMA cache_size = -327680", "PRAGMA foreign_keys = ON")
_REST = COLUMNS[2:]
_SAME = "t.district = s.district AND t.tag_no = s.tag_no"
_HISTORY = """CREATE TABLE trees_history (
    change_no INTEGER PRIMARY KEY, batch_no INTEGER,
    action TEXT NOT NULL CHECK (
        action = 'insert' OR action = 'update' OR action = 'delete'),
    changed TEXT, changed_at TIMESTAMP NOT NULL, actor TEXT, application TEXT, {})"""
_TYPES = ("TEXT", "INTEGER", "TEXT", "REAL", "REAL", "TEXT", "TEXT", "DATE")
_SIDES = ", ".join(f"old_{c} {t}, new_{c} {t}" for c, t in zip(COLUMNS, _TYPES, strict=True))
_HISTORY_DDL = _HISTORY.format(_SIDES)
_DIFFERS = " OR ".join(f"t.{c} IS NOT s.{c}" for c in _REST)


def make(path: Path, table: pa.Table) -> None:
    with dbapi.connect(str(path)) as connection, connection.cursor() as cursor:
        cursor.execute(DDL)
        cursor.adbc_ingest("trees", table, mode="append")
        connection.commit()


def _changed_json(old: str, new: str) -> str:
    cases = " || ".join(f"CASE WHEN {old}.{c} IS NOT {new}.{c} THEN ', \"{c}\"' ELSE '' END" for c in _REST)
    return f"'[' || substr({cases}, 3) || ']'"


def row_at_a_time(path: Path, batch: pa.Table) -> None:
    """Look each record up; insert it or update it; note the change."""
    connection = sqlite3.connect(path, isolation_level=None)
    cursor = connection.cursor()
    for pragma in _PRAGMAS:
        cursor.execute(pragma)
    cursor.execute("BEGIN IMMEDIATE")
    cursor.execute(_HISTORY_DDL)
    names = ", ".join(COLUMNS)
    select = f"SELECT {names} FROM trees WHERE district = ? AND tag_no = ?"
    insert = f"INSERT INTO trees ({names}) VALUES ({', '.join('?' * len(COLUMNS))})"
    update = f"UPDATE trees SET {', '.join(f'{c} = ?' for c in _REST)} WHERE district = ? AND tag_no = ?"
    sides = ", ".join([f"old_{c}" for c in COLUMNS] + [f"new_{c}" for c in COLUMNS])
    note = (
        f"INSERT INTO trees_history (batch_no, action, changed, changed_at, actor, application, {sides}) "
        f"VALUES (1, ?, ?, datetime('now'), 'bench', 'peer', {', '.join('?' * 2 * len(COLUMNS))})"
    )
    nothing = (None,) * len(COLUMNS)
    days = batch.set_column(len(COLUMNS) - 1, "surveyed_on", batch["surveyed_on"].cast(pa.string()))
    for part in days.to_batches(max_chunksize=10_000):
        for record in zip(*(column.to_pylist() for column in part.columns), strict=True):
            old = cursor.execute(select, record[:2]).fetchone()
            if old is None:
                cursor.execute(insert, record)
                cursor.execute(note, ("insert", None, *nothing, *record))
            elif old != record:
                changed = [c for c, a, b in zip(COLUMNS, old, record, strict=True) if a != b]
                cursor.execute(update, (*record[2:], *record[:2]))
                cursor.execute(note, ("update", json.dumps(changed), *old, *record))
    cursor.execute("COMMIT")
    connection.close()


def _staged(path: Path, batch: pa.Table, indexed: bool, in_order: bool) -> tuple[Any, Any]:
    """The batch in a temporary table: as it came, or `in_order` of the key, which takes a sort and saves a search."""
    connection = dbapi.connect(str(path), autocommit=True)
    cursor = connection.cursor()
    for pragma in _PRAGMAS:
        cursor.execute(pragma)
    cursor.execute("BEGIN IMMEDIATE")
    types = ", ".join(f"{c} {t}" for c, t in zip(COLUMNS, _TYPES, strict=True))
    key = ", ".join(KEY)
    if in_order:
        batch = batch.sort_by([(name, "ascending") for name in KEY])
    shape = f"({types}, PRIMARY KEY ({key})) WITHOUT ROWID" if in_order else f"({types})"
    cursor.execute(f"CREATE TEMP TABLE stage {shape}")
    cursor.adbc_ingest("stage", batch, mode="append", temporary=True)
    if indexed and not in_order:
        cursor.execute(f"CREATE UNIQUE INDEX temp.stage_key ON stage ({key})")
    return connection, cursor


def upsert_with_triggers(path: Path, batch: pa.Table, in_order: bool = False) -> None:
    """The database's own upsert; triggers keep the history, of rows that changed."""
    connection, cursor = _staged(path, batch, False, in_order)
    cursor.execute(_HISTORY_DDL)
    news, olds = ", ".join(f"new_{c}" for c in COLUMNS), ", ".join(f"old_{c}" for c in COLUMNS)
    fixed = "batch_no, action, changed, changed_at, actor, application"
    differs = " OR ".join(f"OLD.{c} IS NOT NEW.{c}" for c in _REST)
    cursor.execute(
        f"CREATE TRIGGER trees_inserted AFTER INSERT ON trees BEGIN INSERT INTO trees_history ({fixed}, {news}) "
        f"VALUES (1, 'insert', NULL, datetime('now'), 'bench', 'peer', {', '.join(f'NEW.{c}' for c in COLUMNS)}); END"
    )
    cursor.execute(
        f"CREATE TRIGGER trees_updated AFTER UPDATE ON trees WHEN {differs} BEGIN "
        f"INSERT INTO trees_history ({fixed}, {olds}, {news}) "
        f"VALUES (1, 'update', {_changed_json('OLD', 'NEW')}, datetime('now'), 'bench', 'peer', "
        f"{', '.join(f'OLD.{c}' for c in COLUMNS)}, {', '.join(f'NEW.{c}' for c in COLUMNS)}); END"
    )
    sets = ", ".join(f"{c} = excluded.{c}" for c in _REST)
    cursor.execute(
        f"INSERT INTO trees ({', '.join(COLUMNS)}) SELECT {', '.join(COLUMNS)} FROM temp.stage WHERE true "
        f"ON CONFLICT (district, tag_no) DO UPDATE SET {sets}"
    )
    cursor.execute("COMMIT")
    cursor.close()
    connection.close()


def set_based_sql(path: Path, batch: pa.Table, in_order: bool = False) -> None:
    """Stage; history of what will change; update by join; history of what is new; insert it."""
    connection, cursor = _staged(path, batch, True, in_order)
    cursor.execute(_HISTORY_DDL)
    fixed = "batch_no, action, changed, changed_at, actor, application"
    news, olds = ", ".join(f"new_{c}" for c in COLUMNS), ", ".join(f"old_{c}" for c in COLUMNS)
    theirs, mine = ", ".join(f"t.{c}" for c in COLUMNS), ", ".join(f"s.{c}" for c in COLUMNS)
    cursor.execute(
        f"INSERT INTO trees_history ({fixed}, {olds}, {news}) SELECT 1, 'update', {_changed_json('t', 's')}, "
        f"datetime('now'), 'bench', 'peer', {theirs}, {mine} FROM temp.stage AS s CROSS JOIN trees AS t "
        f"ON {_SAME} WHERE {_DIFFERS}"
    )
    sets = ", ".join(f"{c} = s.{c}" for c in _REST)
    differs, same = _DIFFERS.replace("t.", "trees."), _SAME.replace("t.", "trees.")
    cursor.execute(f"UPDATE trees SET {sets} FROM temp.stage AS s WHERE {same} AND ({differs})")
    cursor.execute(
        f"INSERT INTO trees_history ({fixed}, {news}) SELECT 1, 'insert', NULL, datetime('now'), 'bench', 'peer', "
        f"{mine} FROM temp.stage AS s WHERE NOT EXISTS (SELECT 1 FROM trees AS t WHERE {_SAME})"
    )
    cursor.execute(
        f"INSERT INTO trees ({', '.join(COLUMNS)}) SELECT {mine} FROM temp.stage AS s "
        f"WHERE NOT EXISTS (SELECT 1 FROM trees AS t WHERE {_SAME})"
    )
    cursor.execute("COMMIT")
    cursor.close()
    connection.close()


def writes_of(path: Path) -> tuple[pa.Table, pa.Table]:
    """The history that a merge left in `path`: the changes of rows, and the new rows, each as one Arrow table."""
    with dbapi.connect(str(path)) as connection, connection.cursor() as cursor:
        out = []
        for action in ("update", "insert"):
            cursor.adbc_statement.set_options(**{"adbc.sqlite.query.batch_rows": 1 << 30})
            cursor.execute(
                "SELECT h.*, t.rowid AS place FROM trees_history AS h JOIN trees AS t "
                "ON t.district = h.new_district AND t.tag_no = h.new_tag_no WHERE action = ? ORDER BY h.change_no",
                (action,),
            )
            out.append(cursor.fetch_arrow_table().combine_chunks())
    return out[0], out[1]


def writes_alone(path: Path, updates: pa.Table, inserts: pa.Table) -> None:
    """No way at all, but a floor under all ways: only the writes, decided and sorted beforehand."""
    with dbapi.connect(str(path), autocommit=True) as connection, connection.cursor() as cursor:
        for pragma in _PRAGMAS:
            cursor.execute(pragma)
        cursor.execute("BEGIN IMMEDIATE")
        cursor.execute(_HISTORY_DDL)
        cursor.executemany(
            f"UPDATE trees SET {', '.join(f'{c} = ?' for c in CHANGING)} WHERE rowid = ?",
            updates.select([*(f"new_{c}" for c in CHANGING), "place"]),
        )
        new = [f"new_{c}" for c in COLUMNS]
        cursor.executemany(
            f"INSERT INTO trees ({', '.join(COLUMNS)}) VALUES ({', '.join('?' * len(COLUMNS))})", inserts.select(new)
        )
        for changes in (updates, inserts):
            names = [n for n in changes.column_names if n != "place" and changes[n].null_count < changes.num_rows]
            cursor.executemany(
                f"INSERT INTO trees_history ({', '.join(names)}) VALUES ({', '.join('?' * len(names))})",
                changes.select(names),
            )
        cursor.execute("COMMIT")
