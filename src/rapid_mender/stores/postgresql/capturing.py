"""The triggers of a PostgreSQL database, within a session."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any

import pyarrow as pa

from ...core.own_tables import history_name
from ...core.schema import Column, TableInfo
from ...errors import JobError, StoreError
from ..contract import Capture, Trigger
from ..contract.capture import PREFIX, Options
from ..sql.capturing import SQLCapturing
from ..sql.link import Pick
from ..sql.text import name_sql, text_sql
from .link import PostgreSQLLink
from .parts import ASTRAY, CHILDREN, CIRCUMSTANCES, FUNCTIONS, HOME, PARTS, REFERRING, TOKENS, TRIGGERS, History, Part
from .triggers import MOMENT, SETTING, CaptureSQL

_EVENTS = ((4, "INSERT"), (8, "DELETE"), (16, "UPDATE"), (32, "TRUNCATE"))


class PostgreSQLCapturing(SQLCapturing):
    moment = MOMENT

    def why_no_capture(self, info: TableInfo) -> str | None:
        kind = self._parts(info)[0].kind
        return None if kind in "rp" else "it is a view, or a table of another server; capture the table behind it"

    def owning_sql(self, info: TableInfo) -> list[str]:
        home = self._home(info)
        return [f"ALTER TABLE {home.sql} OWNER TO {name_sql(home.owner)}"] if home.other else []

    def numbering_sql(self, info: TableInfo, capture: Capture) -> list[str]:
        return [CaptureSQL(info, self._home(info), self._parts(info), capture).numbering()]

    def capture_sql(self, info: TableInfo, capture: Capture) -> list[str]:
        parts = self._parts(info)
        made = CaptureSQL(info, self._home(info), parts, capture)
        prints = [self._one(part.print_of(list(capture.known))) for part in parts]
        return made.statements(prints)

    def _home(self, info: TableInfo) -> History:
        """Where changes are recorded, and with whose rights. Raises JobError where these would be others'."""
        link: PostgreSQLLink = self._write.drained()
        schema, name = link.place_of(history_name(info.name), self._described(info))
        sql = self._history_of(info)
        named = {"schema": text_sql(schema), "history": text_sql(name), "table": info.identity}
        (one,) = link.answer(HOME.format(**named))
        owner = one["owner"]
        if not one["trusted"]:
            raise JobError(
                f"{info.name!r} cannot be captured: its owner {info.owner} could act with the rights of {owner}, whose "
                f"the history is; give them one owner: ALTER TABLE {sql} OWNER TO {name_sql(info.owner)}"
            )
        if one["strange"]:
            raise JobError(
                f"{info.name!r} cannot be captured: triggers on {sql} run {one['strange']}, which would act with the "
                f"rights of {owner}; drop these triggers"
            )
        if not one["acts"]:
            raise JobError(
                f"{info.name!r} cannot be captured by this user: the triggers run with the rights of the owner of its "
                f"history; let {owner} run it"
            )
        found = link.answer(REFERRING.format(info.identity))
        refers = tuple((row["relation"], json.loads(row["columns"])) for row in found)
        return History(name_sql(schema), sql, one["oid"], owner, not one["me"], refers)

    def _one(self, expression: str) -> int:
        link = self._write.drained()
        return int(link.select([Pick(f"({expression})::pg_catalog.int8", "n", pa.int64())], "")["n"][0].as_py())

    def _parts(self, info: TableInfo) -> list[Part]:
        link: PostgreSQLLink = self._write.drained()
        return [Part.of(at, row) for at, row in enumerate(link.answer(PARTS.format(info.identity)))]

    def widen_sql(self, info: TableInfo, columns: Sequence[Column]) -> list[str]:
        link = self._write.drained()
        each = (f"ALTER COLUMN {name_sql(one.name)} TYPE {link.declare(one)}" for one in columns)
        return [f"ALTER TABLE {self._described(info).sql} {', '.join(each)}"]

    def release_sql(self, info: TableInfo, token: str) -> list[str]:
        link: PostgreSQLLink = self._write.drained()
        schema = self._described(info).place[0]
        rows = [row for row in link.answer(TRIGGERS.format(info.identity)) if Trigger(row["name"], "").token == token]
        # also what is left where the table was made anew, or another one has taken its name
        rows += link.answer(FUNCTIONS.format(text_sql(schema), text_sql(f"{PREFIX}{token}_")))
        return self._drops(rows, schema)

    def orphans_sql(self, token: str) -> list[str]:
        link: PostgreSQLLink = self._write.drained()
        return self._drops(link.answer(FUNCTIONS.format("''", text_sql(f"{PREFIX}{token}_"))), "")

    def _drops(self, rows: Sequence[dict[str, Any]], schema: str) -> list[str]:
        drops = dict.fromkeys(
            f"DROP TRIGGER {name_sql(row['name'])} ON {name_sql(row['schema'])}.{name_sql(row['relation'])}"
            for row in rows
            if row["relation"] is not None
        )
        names = {(row.get("home", schema), row["function"]): row.get("given", "") for row in rows}
        made = (f"{name_sql(home)}.{name_sql(name)}({given})" for (home, name), given in names.items())
        return [*drops, *(f"DROP FUNCTION IF EXISTS {one}" for one in made)]

    def define(self, info: TableInfo | None, statements: Sequence[str], switching: Sequence[str] = ()) -> None:
        link: PostgreSQLLink = self._write.drained()
        link.run(
            "COMMIT AND CHAIN"
        )  # who holds a lock and waits for a stronger one, or for another table, may deadlock
        if info is not None:
            link.run(f"LOCK TABLE {self._described(info).sql} IN ACCESS EXCLUSIVE MODE")
        super().define(info, statements, switching)

    def triggers(self, info: TableInfo) -> list[Trigger]:
        link: PostgreSQLLink = self._write.drained()
        found = []
        for row in link.answer(TRIGGERS.format(info.identity)):
            when = {2: "before", 64: "instead of"}.get(row["time"], "after")
            events = " or ".join(name for bit, name in _EVENTS if row["type"] & bit)
            about = f"{when} {events}, for each {'row' if row['row'] else 'statement'}, runs {row['function']}"
            found.append(Trigger(row["name"], about, bool(row["enabled"])))
        return found

    def outdated(self, info: TableInfo, token: str) -> list[str]:
        link: PostgreSQLLink = self._write.drained()
        rows = link.answer(ASTRAY.format(info.identity, text_sql(f"{PREFIX}{token}_")))
        new = "is new among its partitions, and what is written to it directly is not recorded"
        gone = "is recorded too, and is none of its partitions any more"
        return [f"{row['name']} {new if row['belongs'] else gone}" for row in rows]

    def not_seen(self, info: TableInfo, told: Options) -> list[str]:
        link: PostgreSQLLink = self._write.drained()
        children = [row["name"] for row in link.answer(CHILDREN.format(info.identity))]
        notes = [f"what is written directly to {one}, which inherits from it, is not recorded" for one in children]
        (one,) = link.answer(CIRCUMSTANCES.format(info.identity))
        if one["deferred"]:
            notes.append(
                f"its key {one['deferred']} is checked at the commit only (DEFERRABLE): rows that pass through each "
                "other within a transaction may be recorded so that their history cannot be replayed"
            )
        if one["replicas"]:
            notes.append(
                f"{one['replicas']} connect with session_replication_role = replica, by which no triggers run: what "
                "they write is not recorded"
            )
        if one["subscribed"]:
            notes.append("what a subscription (logical replication) writes to it is not recorded")
        return notes

    def unsafe_triggers(self, info: TableInfo) -> list[str]:
        link: PostgreSQLLink = self._write.drained()
        found = list[str]()
        mine = [row for row in link.answer(TRIGGERS.format(info.identity)) if Trigger(row["name"], "").token]
        for owner in dict.fromkeys(row["owner"] for row in mine if not row["pinned"]):
            found.append(
                f"whoever may write to {info.name} can act with the rights of {owner}, as the triggers of the capture "
                "were made by an earlier version: refresh the capture now"
            )
        owners = sorted({row["owner"] for row in mine})
        if mine and not found:
            try:
                home = self._home(info)
            except JobError as error:
                found.append(f"{error}; then refresh the capture")
            else:
                if owners != [home.owner]:
                    found.append(
                        f"its history belongs to {home.owner}, and its triggers to {', '.join(owners)}: refresh the "
                        "capture"
                    )
        return found

    def stand_aside(self, info: TableInfo) -> bool:
        link: PostgreSQLLink = self._write.drained()
        tokens = [row["token"] for row in link.answer(TOKENS.format(info.identity))]
        for token in tokens:
            link.run(f"SELECT pg_catalog.set_config({text_sql(SETTING)}, {text_sql(token)}, true)")
        if tokens and not self._counts(info):
            to = self._says("pg_catalog.quote_ident(session_user)::pg_catalog.text")
            raise StoreError(
                f"{self.where}: {info.name!r} is captured, and what this merge does would be recorded twice, as who "
                f"has logged in may not write to the history: GRANT INSERT ON {self._history_of(info)} TO {to}"
            )
        return bool(tokens)

    def _history_of(self, info: TableInfo) -> str:
        schema, name = self._write.drained().place_of(history_name(info.name), self._described(info))
        return f"{name_sql(schema)}.{name_sql(name)}"

    def _counts(self, info: TableInfo) -> bool:
        """Whether the triggers believe this user that he records by himself."""
        may = f"pg_catalog.has_table_privilege(session_user, {text_sql(self._history_of(info))}, 'INSERT')"
        return bool(self._says(f"{may}::pg_catalog.text") == "true")

    def _try(self, info: TableInfo, sql: str) -> None:
        link, home = self._write.drained(), self._home(info)
        link.run("SAVEPOINT rmend_try")
        try:
            link.run("SET LOCAL search_path = pg_catalog, pg_temp")
            if home.other:  # as whom it will run
                link.run(f"SET LOCAL ROLE {name_sql(home.owner)}")
            link.run(sql)
        finally:
            link.run("ROLLBACK TO SAVEPOINT rmend_try")
