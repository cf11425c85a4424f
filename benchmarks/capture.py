"""What being captured costs a writer, against audit triggers written by hand, for each row, with the same content."""

from __future__ import annotations

import json
import sqlite3
import statistics
from collections.abc import Callable
from functools import partial
from typing import Any

import rapid_mender as rm

from .data import COLUMNS, KEY
from .past import database, ratios_of, timed
from .servers import KINDS

Rows = list[tuple[str, list[float], str]]
_HISTORY = "action, changed, changed_at, actor, application"
_TYPES = {
    "sqlite": ("TEXT", "INTEGER", "REAL", "DATE", "TIMESTAMP", "INTEGER PRIMARY KEY"),
    "postgresql": (
        "text", "bigint", "double precision", "date", "timestamptz", "bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY",
    ),
    "mariadb": ("varchar(60)", "bigint", "double", "date", "datetime(3)", "bigint AUTO_INCREMENT PRIMARY KEY"),
}  # fmt: skip
_WAYS = ("without triggers", "triggers by hand", "captured")


def _by_hand(kind: str, table: str) -> list[str]:
    """A history, and the triggers that keep it: one table of its own, all values, changed columns, who and when."""
    text, number, real, day, moment, counted = _TYPES[kind]
    types = dict(zip(COLUMNS, (text, number, text, real, real, text, text, day), strict=True))
    history = f"{table}_audit"
    columns = ", ".join(f"old_{name} {one}, new_{name} {one}" for name, one in types.items())
    check = "CHECK (action = 'insert' OR action = 'update' OR action = 'delete')"
    fixed = f"changed {text}, changed_at {moment} NOT NULL, actor {text}, application {text}"
    made = f"CREATE TABLE {history} (change_no {counted}, action {text} NOT NULL {check}, {fixed}, {columns})"
    differ = {
        "sqlite": "OLD.{0} IS NOT NEW.{0}",
        "postgresql": "OLD.{0} IS DISTINCT FROM NEW.{0}",
        "mariadb": "NOT (OLD.{0} <=> NEW.{0})",
    }[kind]
    tests = [differ.format(name) for name in COLUMNS]
    labels = [
        f"CASE WHEN {test} THEN ', {json.dumps(name)}' ELSE '' END" for name, test in zip(COLUMNS, tests, strict=True)
    ]
    joined = (
        f"'[' || substr({' || '.join(labels)}, 3) || ']'"
        if kind != "mariadb"
        else f"CONCAT('[', SUBSTR(CONCAT({', '.join(labels)}), 3), ']')"
    )
    who = {
        "sqlite": "strftime('%Y-%m-%d %H:%M:%f', 'now'), NULL, NULL",
        "postgresql": "clock_timestamp(), session_user, current_setting('application_name')",
        "mariadb": "UTC_TIMESTAMP(3), USER(), NULL",
    }[kind]
    olds, news = (", ".join(f"{side}_{name}" for name in COLUMNS) for side in ("old", "new"))
    was, now = (", ".join(f"{side}.{name}" for name in COLUMNS) for side in ("OLD", "NEW"))
    into = f"INSERT INTO {history} ({_HISTORY},"
    inserted = f"{into} {news}) VALUES ('insert', NULL, {who}, {now})"
    updated = f"{into} {olds}, {news}) VALUES ('update', {joined}, {who}, {was}, {now})"
    deleted = f"{into} {olds}) VALUES ('delete', NULL, {who}, {was})"
    changes = " OR ".join(tests)
    if kind == "postgresql":
        body = (
            f"IF TG_OP = 'INSERT' THEN {inserted}; ELSIF TG_OP = 'DELETE' THEN {deleted}; "
            f"ELSIF {changes} THEN {updated}; END IF; RETURN NULL;"
        )
        function = f"CREATE FUNCTION {table}_audited() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN {body} END $$"
        events = f"AFTER INSERT OR UPDATE OR DELETE ON {table} FOR EACH ROW"
        return [made, function, f"CREATE TRIGGER {table}_audited {events} EXECUTE FUNCTION {table}_audited()"]
    if kind == "mariadb":
        updated = f"IF {changes} THEN {updated}; END IF"
    rows = {"sqlite": "", "mariadb": "FOR EACH ROW"}[kind]
    when = f"WHEN {changes}" if kind == "sqlite" else ""
    return [
        made,
        f"CREATE TRIGGER {table}_inserted AFTER INSERT ON {table} {rows} BEGIN {inserted}; END",
        f"CREATE TRIGGER {table}_updated AFTER UPDATE ON {table} {rows} {when} BEGIN {updated}; END",
        f"CREATE TRIGGER {table}_deleted AFTER DELETE ON {table} {rows} BEGIN {deleted}; END",
    ]


def _connected(kind: str, url: str) -> tuple[Callable[[str], Any], Callable[[], None]]:
    """What runs a statement, over the usual driver, each in a transaction unless it begins one; and what ends it."""
    if kind == "sqlite":
        connection = sqlite3.connect(url.removeprefix("sqlite:///"), isolation_level=None)
        return connection.execute, connection.close
    link = KINDS[kind].__new__(KINDS[kind]).connect()
    if kind == "postgresql":
        link.autocommit = True
        return link.execute, link.close
    link.autocommit(True)
    cursor = link.cursor()
    return cursor.execute, link.close


def captured(kind: str, rows: int, rounds: int) -> Rows:
    """Bulk statements of many rows, and single-row statements, each of these a transaction of its own."""
    text, number, real, day, _, _ = _TYPES[kind]
    types = (f"{text} NOT NULL", f"{number} NOT NULL", f"{text} NOT NULL", real, real, text, text, day)
    tables = dict(zip(_WAYS, ("bare", "by_hand", "ours"), strict=True))
    bulk: dict[str, dict[str, list[float]]] = {
        what: {way: [] for way in _WAYS} for what in ("update", "insert", "delete")
    }
    single: dict[str, dict[str, list[float]]] = {what: {way: [] for way in _WAYS} for what in ("update", "insert")}
    with database(kind) as url:
        run, close = _connected(kind, url)
        values = "SELECT 'Mill Lane', {0}, 'Tilia cordata', {0} % 300, 12.5, 'good', 'warden 7', "
        fill = {
            "sqlite": "WITH RECURSIVE n (n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM n WHERE n < {0}) "
            + values.replace("{0}", "n") + "'2026-04-20' FROM n",
            "postgresql": values.replace("{0}", "n") + "date '2026-04-20' FROM generate_series(1, {0}) AS n",
            "mariadb": values.replace("{0}", "seq") + "'2026-04-20' FROM seq_1_to_{0}",
        }[kind]  # fmt: skip
        for table in tables.values():
            columns = ", ".join(f"{name} {one}" for name, one in zip(COLUMNS, types, strict=True))
            run(f"CREATE TABLE {table} ({columns}, PRIMARY KEY ({', '.join(KEY)}))")
            run(f"INSERT INTO {table} {fill.format(2 * rows)}")
        for statement in _by_hand(kind, "by_hand"):
            run(statement)
        rm.capture(url, "ours")
        for _ in range(rounds):
            for way, table in tables.items():
                run("BEGIN")
                others = ", ".join(COLUMNS[1:])
                for what, sql in (
                    ("update", f"UPDATE {table} SET height_m = height_m + 1 WHERE tag_no <= {rows}"),
                    ("insert", f"INSERT INTO {table} SELECT 'Priory', {others} FROM bare WHERE tag_no <= {rows}"),
                    ("delete", f"DELETE FROM {table} WHERE district = 'Priory'"),
                ):
                    bulk[what][way].append(timed(partial(run, sql)))
                run("ROLLBACK")
            for way, series in _singles(run, tables, rows).items():
                for what, seconds in series.items():
                    single[what][way].append(seconds)
        close()
    found: Rows = []
    for each, many in ((bulk, True), (single, False)):
        for what, times in each.items():
            said = f"{what} of {rows:,} rows" if many else f"one-row {what}, the middle of many"
            base = times["triggers by hand"]
            found += [
                (f"{said}, {way}", series, "1" if series is base else ratios_of(base, series))
                for way, series in times.items()
            ]
    return found


def _singles(run: Callable[[str], Any], tables: dict[str, str], rows: int) -> dict[str, dict[str, float]]:
    """The time of single-row statements: of each table some in turn, so that what else the machine does hits all."""
    times: dict[str, dict[str, list[float]]] = {way: {"update": [], "insert": []} for way in tables}
    count = max(min(rows // 100, 1000), 10)
    for at in range(count):
        for way, table in tables.items():
            key = f"district = 'Mill Lane' AND tag_no = {at * 7 % rows + 1}"
            times[way]["update"].append(timed(partial(run, f"UPDATE {table} SET height_m = height_m + 1 WHERE {key}")))
            values = f"('Quayside', {at + 1}, 'Tilia cordata', 3, 4.5, 'good', 'warden 7', '2026-04-20')"
            times[way]["insert"].append(timed(partial(run, f"INSERT INTO {table} VALUES {values}")))
    for table in tables.values():
        run(f"DELETE FROM {table} WHERE district = 'Quayside'")
    return {way: {what: statistics.median(series) for what, series in each.items()} for way, each in times.items()}


def parts(scale: int, rounds: int) -> dict[str, tuple[str, Callable[[], Rows]]]:
    """The measurements, by the names under which they are kept."""
    rows, kinds = 100_000 // scale, {"sqlite": "SQLite", "postgresql": "PostgreSQL", "mariadb": "MariaDB"}
    title = "{}: what it costs a writer to be captured"
    return {
        f"{kind}-capture": (title.format(name), partial(captured, kind, rows, rounds)) for kind, name in kinds.items()
    }
