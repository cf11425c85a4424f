"""The triggers of a MariaDB database, within a session."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from contextlib import contextmanager

import numpy as np
import pyarrow as pa

from ...core.names import fitted
from ...core.own_tables import CAPTURES_TABLE, history_info, history_name
from ...core.schema import Column, TableInfo
from ...errors import StoreError
from ..contract import Capture, Condition, Selection, Trigger
from ..contract.capture import Options
from ..sql.capturing import SQLCapturing
from ..sql.link import Pick
from ..sql.text import text_sql
from .link import MariaDBLink
from .tables import quoted
from .triggers import ASIDE, MERGING, MOMENT, CaptureSQL, History

_SECRET = re.compile(rf"{ASIDE} <=> '(\w+)'")


class MariaDBCapturing(SQLCapturing):
    moment = MOMENT

    def why_no_capture(self, info: TableInfo) -> str | None:
        return None if info.undoes else "its engine cannot undo, so a change that was undone would stay recorded"

    def capture_sql(self, info: TableInfo, capture: Capture) -> list[str]:
        return self._sql(info, capture).statements()

    def numbering_sql(self, info: TableInfo, capture: Capture) -> list[str]:
        return self._sql(info, capture).numbering()

    def _sql(self, info: TableInfo, capture: Capture) -> CaptureSQL:
        place, sequence = self._history_of(info)
        history = History(history_info(info, self.fits), place, (place[0], sequence))
        here: str | None = self._write.drained().ask("SELECT DATABASE() AS d")[0]["d"]
        return CaptureSQL(info, self._described(info).place, history, capture, here, self._hindering(info))

    def _hindering(self, info: TableInfo) -> list[str]:
        """The columns for which an UPDATE IGNORE may leave a row as it is: those of unique keys and foreign keys, and
        those that say which partition a row belongs to."""
        link: MariaDBLink = self._write.drained()
        schema, name = map(text_sql, self._described(info).place)
        of = f"TABLE_SCHEMA = {schema} AND TABLE_NAME = {name}"
        usage = "information_schema.KEY_COLUMN_USAGE WHERE REFERENCED_TABLE_NAME IS NOT NULL AND"
        rows = link.ask(
            f"SELECT COLUMN_NAME AS n FROM information_schema.STATISTICS WHERE {of} AND NON_UNIQUE = 0 "
            f"UNION SELECT COLUMN_NAME FROM {usage} {of} UNION SELECT REFERENCED_COLUMN_NAME FROM {usage} "
            f"REFERENCED_TABLE_SCHEMA = {schema} AND REFERENCED_TABLE_NAME = {name}"
        )
        parts = link.ask(
            "SELECT CONCAT_WS(' ', PARTITION_EXPRESSION, SUBPARTITION_EXPRESSION) AS e "
            f"FROM information_schema.PARTITIONS WHERE {of}"
        )
        named, said = {row["n"] for row in rows}, " ".join(row["e"] or "" for row in parts).lower()
        return [one for one in info.names if one in named or quoted(one).lower() in said]

    def numbered_sql(self, info: TableInfo) -> list[str]:
        numbers, _ = self._numbers_of_history(info) or ("", True)
        if not numbers:
            return []
        at = ".".join(map(quoted, self._history_of(info)[0]))
        return [f"ALTER TABLE {at} MODIFY change_no BIGINT NOT NULL"]

    def _numbers_of_history(self, info: TableInfo) -> tuple[str, bool] | None:
        """How the history numbers changes by itself, which it does not ("") unless an earlier version made it; and
        whether the sequence is there. None if there is no history. (A dump of a column whose default takes numbers from
        a sequence cannot be restored.)"""
        (schema, name), sequence = self._history_of(info)
        at = f"TABLE_SCHEMA = {text_sql(schema)} AND TABLE_NAME ="
        rows = self._write.drained().ask(
            "SELECT CONCAT(EXTRA, COALESCE(COLUMN_DEFAULT, '')) AS e, "
            f"(SELECT COUNT(*) FROM information_schema.TABLES WHERE {at} {text_sql(sequence)}) AS n "
            f"FROM information_schema.COLUMNS WHERE {at} {text_sql(name)} AND COLUMN_NAME = 'change_no'"
        )
        return (str(rows[0]["e"]).lower(), int(rows[0]["n"]) > 0) if rows else None

    def next_numbers(self, info: TableInfo, count: int) -> np.ndarray | None:
        (schema, _), sequence = self._history_of(info)
        number = Pick(f"NEXT VALUE FOR {quoted(schema)}.{quoted(sequence)}", "n", pa.int64())
        link: MariaDBLink = self._write.drained()
        taken = link.select([number], f"FROM seq_1_to_{count}", "seq")["n"].to_numpy()
        if len(taken) != count:
            raise StoreError(
                f"{sequence}, which numbers the changes of {info.name}, gave {len(taken)} of {count} numbers"
            )
        return np.sort(taken)

    def _history_of(self, info: TableInfo) -> tuple[tuple[str, str], str]:
        """Where the history of a table is, and the sequence that numbers its changes."""
        place = self._write.drained().place_of(history_name(info.name), self._described(info))
        return place, fitted(place[1], self.fits, "_numbers")

    def unsafe_triggers(self, info: TableInfo) -> list[str]:
        if (found := self._numbers_of_history(info)) is None:
            return []
        numbers, is_there = found
        if "auto_increment" in numbers:
            return [
                f"whoever may write to {info.name} can choose the numbers and times of changes, as the triggers of the "
                "capture were made by an earlier version: refresh the capture now"
            ]
        if not is_there:
            _, sequence = self._history_of(info)
            return [f"sequence {sequence}, which numbers the changes of {info.name}, is gone: refresh the capture"]
        if numbers:
            return [
                f"a dump of {info.name} cannot be restored, as its capture was made by an earlier version: refresh it"
            ]
        return []

    def widen_sql(self, info: TableInfo, columns: Sequence[Column]) -> list[str]:
        link = self._write.drained()
        each = (f"MODIFY {quoted(one.name)} {link.declare(one)}" for one in columns)
        return [f"ALTER TABLE {self._described(info).sql} {', '.join(each)}"]

    def release_sql(self, info: TableInfo, token: str) -> list[str]:
        schema = quoted(self._described(info).place[0])
        return [f"DROP TRIGGER {schema}.{quoted(one.name)}" for one in self.triggers(info) if one.token == token]

    def strays_sql(self, info: TableInfo, token: str) -> list[str]:
        schema, name = self._described(info).place
        return self._drops(token, f"{text_sql(schema)} AND EVENT_OBJECT_TABLE <> {text_sql(name)}")

    def orphans_sql(self, token: str) -> list[str]:
        return self._drops(token, "DATABASE()")

    def _drops(self, token: str, schema: str) -> list[str]:
        """The statements that drop the triggers of a capture in a schema."""
        rows = self._write.drained().ask(
            "SELECT TRIGGER_SCHEMA AS s, TRIGGER_NAME AS n FROM information_schema.TRIGGERS "
            f"WHERE TRIGGER_SCHEMA = {schema} ORDER BY 2"
        )
        mine = [row for row in rows if Trigger(row["n"], "").token == token]
        return [f"DROP TRIGGER {quoted(row['s'])}.{quoted(row['n'])}" for row in mine]

    def not_seen(self, info: TableInfo, told: Options) -> list[str]:
        link: MariaDBLink = self._write.drained()
        notes = ["TRUNCATE is not seen by triggers of MariaDB: it is neither recorded nor refused"]
        refers = self._cascades(info)
        if refers:
            notes.append(
                f"MariaDB fires no triggers for the rows that foreign keys change or delete ({', '.join(refers)}): "
                "such changes are not recorded"
            )
        if link.ask("SET STATEMENT timestamp = 1 FOR SELECT YEAR(SYSDATE()) = 1970 AS n")[0]["n"] == "1":
            notes.append(
                "the server was started with sysdate-is-now, so whoever writes can choose the time of a change by SET "
                "timestamp; start it without, or with secure_timestamp"
            )
        if told.deletes == "mark":
            notes.append("a trigger of MariaDB cannot turn a delete into a mark: deletes are refused")
        return notes

    def _cascades(self, info: TableInfo) -> list[str]:
        """The foreign keys by which other tables change rows of this one."""
        link: MariaDBLink = self._write.drained()
        schema, name = map(text_sql, self._described(info).place)
        acts = " OR ".join(f"{rule}_RULE NOT IN ('RESTRICT', 'NO ACTION')" for rule in ("DELETE", "UPDATE"))
        rows = link.ask(
            "SELECT CONSTRAINT_NAME AS n FROM information_schema.REFERENTIAL_CONSTRAINTS "
            f"WHERE CONSTRAINT_SCHEMA = {schema} AND TABLE_NAME = {name} AND ({acts}) ORDER BY 1"
        )
        return [str(row["n"]) for row in rows]

    def define(self, info: TableInfo | None, statements: Sequence[str], switching: Sequence[str] = ()) -> None:
        link = self._write.drained()
        link.run("COMMIT")  # what this transaction has read is locked against such statements, which commit anyway
        link.run("START TRANSACTION")
        super().define(info, statements)
        if info is not None and switching:
            with self._alone(info):
                for sql in switching:
                    link.run(sql)
            self._by_name.clear()

    @contextmanager
    def _alone(self, info: TableInfo) -> Iterator[bool]:
        """Keep others from writing to a table; False where that needs a right that is lacking.

        Over the connection of the transaction, as others would wait for the lock.
        """
        link = self._write.drained()
        try:
            link.run(f"LOCK TABLES {self._described(info).sql} WRITE")
        except StoreError:
            link.run("START TRANSACTION")  # the statement has ended the one before
            yield False
            return
        try:
            yield True
        finally:
            link.run("UNLOCK TABLES")
            link.run("START TRANSACTION")

    def define_alone(self, info: TableInfo, statements: Sequence[str]) -> int | None:
        link: MariaDBLink = self._write.drained()
        with self._alone(info) as alone:
            if not alone:
                self.define(info, statements)
                return None
            for sql in statements:
                link.run(sql)
            return int(link.ask(f"SELECT COUNT(*) AS n FROM {self._described(info).sql}")[0]["n"])

    def triggers(self, info: TableInfo) -> list[Trigger]:
        link: MariaDBLink = self._write.drained()
        schema, name = map(text_sql, self._described(info).place)
        rows = link.ask(
            "SELECT TRIGGER_NAME AS n, ACTION_TIMING AS t, EVENT_MANIPULATION AS e, ACTION_STATEMENT AS s "
            f"FROM information_schema.TRIGGERS WHERE EVENT_OBJECT_SCHEMA = {schema} AND EVENT_OBJECT_TABLE = {name} "
            "ORDER BY TRIGGER_NAME"
        )
        return [
            Trigger(row["n"], f"{row['t'].lower()} {row['e']}: {' '.join((row['s'] or '(not shown)').split())}")
            for row in rows
        ]

    def stand_aside(self, info: TableInfo) -> bool:
        link: MariaDBLink = self._write.drained()
        mine = [one for one in self.triggers(info) if one.token is not None]
        seen = (_SECRET.search(one.about) for one in mine)
        told = next((match[1] for match in seen if match is not None), None)
        secret = told or (self._noted(info) if mine else None)
        known = "NULL" if secret is None else text_sql(secret)
        link.run(f"SET {ASIDE} = {known}, {MERGING} = {text_sql(info.identity)}")
        link.merging = True
        return bool(mine)

    def _noted(self, info: TableInfo) -> str | None:
        """The secret as our own table has it, if this user may read that."""
        kept = self.find_own(CAPTURES_TABLE)
        if kept is None or "secret" not in kept:
            return None
        of = [[Condition("table_name", "=", info.name)], [Condition("state", "=", "on")]]
        found = self.read(kept, Selection(of, "capture_no", columns=["secret"])).values["secret"].to_pylist()
        return str(found[-1]) if found else None

    def _try(self, info: TableInfo, sql: str) -> None:
        del info
        link: MariaDBLink = self._write.drained()
        link.define(sql)
