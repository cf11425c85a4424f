"""The triggers of a SQLite file, within a session."""

from __future__ import annotations

import re
from abc import abstractmethod
from collections.abc import Iterable, Mapping, Sequence

from ...core.names import in_quotes
from ...core.schema import Column, TableInfo
from ..background import Background
from ..contract import Capture, Session, Trigger
from ..sql.text import name_sql, noted, text_sql, texts_sql
from .link import Link
from .triggers import ASIDE, MOMENT, CaptureSQL, released, triggers_of
from .types import affinity, declare
from .unique import dangling, unique_of

_BEFORE = re.compile(r"\bBEFORE\s+(?:INSERT|UPDATE|DELETE)\b", re.I)


class SQLiteCapturing(Session):
    _write: Background[Link]
    _aside = False

    @abstractmethod
    def _finders(self, info: TableInfo) -> Sequence[str]:
        """The columns by which a row of a table is found again."""

    @abstractmethod
    def _forget(self, name: str) -> None:
        """Forget what is known of a table that is being altered."""

    @abstractmethod
    def _forget_all(self) -> None:
        """Forget what is known of tables."""

    def why_no_capture(self, info: TableInfo) -> str | None:
        return None

    def capture_sql(self, info: TableInfo, capture: Capture) -> list[str]:
        link = self._write.drained()
        unique, references = unique_of(link, info), dangling(link, info)
        return CaptureSQL(info, self._finders(info), unique, references, capture).statements()

    def release_sql(self, info: TableInfo, token: str) -> list[str]:
        return self.orphans_sql(token)

    def orphans_sql(self, token: str) -> list[str]:
        every = triggers_of(self._write.drained())  # a table that got another name has kept them
        return released(token, [one.name for one in every if one.token == token])

    def add_columns_sql(self, info: TableInfo, columns: Sequence[Column]) -> list[str]:
        table = name_sql(info.name)
        return [f"ALTER TABLE {table} ADD COLUMN {name_sql(one.name)} {declare(one)}" for one in columns]

    def add_columns(self, name: str, columns: Iterable[Column]) -> None:
        self._alter(name, self.add_columns_sql(self.describe(name), list(columns)))

    def widen_columns(self, name: str, columns: Iterable[Column]) -> None:
        self._alter(name, self.widen_sql(self.describe(name), list(columns)))

    def _alter(self, name: str, statements: Iterable[str]) -> None:
        for sql in statements:
            self._write.later(lambda link, sql=sql: link.run(sql))  # type: ignore[misc]
        self._forget(name)

    def widen_sql(self, info: TableInfo, columns: Sequence[Column]) -> list[str]:
        """SQLite alters no column. But a type of the same affinity changes nothing of what a file has, so it may be
        written into the file's schema, as https://sqlite.org/lang_altertable.html says."""
        text = "sql"
        for one in columns:
            was, now = (f"{name_sql(one.name)} {declare(each)}" for each in (info[one.name], one))
            text = f"replace({text}, {text_sql(was)}, {text_sql(now)})"
        version = self._write.drained().rows("PRAGMA schema_version")[0][0]
        return [
            "PRAGMA writable_schema = ON",
            f"UPDATE sqlite_master SET sql = {text} WHERE type = 'table' AND name = {text_sql(info.name)}",
            f"PRAGMA schema_version = {(int(version) + 1000) % (1 << 31)}",
            "PRAGMA writable_schema = RESET",
        ]

    def cannot_widen(self, column: Column, wanted: Column) -> str | None:
        if affinity(column.declared) == affinity(wanted.declared):
            return None
        return "SQLite cannot alter a column"

    def note_sql(
        self, shape: TableInfo, row: Mapping[str, str | None], number: int | None, stamped: Sequence[str]
    ) -> str:
        values = texts_sql(row, stamped, MOMENT, name_sql)
        return noted(name_sql(shape.name), number, f"{name_sql(shape.primary_key[0])} =", values)

    def define(self, info: TableInfo | None, statements: Sequence[str], switching: Sequence[str] = ()) -> None:
        link = self._write.drained()
        for sql in (*statements, *switching):
            link.run(sql)
        self._forget_all()

    def try_sql(self, info: TableInfo, sql: str, rows: bool) -> None:
        sides = ", ".join(f"(SELECT * FROM {name_sql(info.name)} LIMIT 0) AS {side}" for side in ("old", "new"))
        self._write.drained().rows(f"SELECT ({sql}\n) IS NULL{f' FROM {sides}' if rows else ''}")

    def outdated(self, info: TableInfo, token: str) -> list[str]:
        link = self._write.drained()
        made = " ".join(trigger.about for trigger in triggers_of(link, info.name) if trigger.token == token)
        puts_by = f"rmend_replaced_{token}" in made
        new = [one for one in unique_of(link, info) if puts_by and " ".join(one.there.split()) not in made]
        notes = ["what REPLACE removes by a unique index that is new is not recorded"] if new else []
        of_table = "type = 'trigger' AND tbl_name = ?1 COLLATE NOCASE"
        listed = link.rows(f"SELECT name, sql FROM sqlite_master WHERE {of_table} ORDER BY rowid", [info.name])
        mine = [at for at, (name, _) in enumerate(listed) if Trigger(name, "").token == token]
        later = [name for name, sql in listed[max(mine, default=len(listed)) :] if name and not _BEFORE.search(sql)]
        if later := [name for name in later if Trigger(name, "").token != token]:
            notes.append(
                f"{in_quotes(later)} runs before the capture's triggers, which are older: what it changes of the same "
                "row is recorded first"
            )
        return notes

    def triggers(self, info: TableInfo) -> list[Trigger]:
        return triggers_of(self._write.drained(), info.name)

    def stand_aside(self, info: TableInfo) -> bool:
        there = any(one.token is not None for one in self.triggers(info))
        if there:
            self._write.drained().run(f"INSERT OR IGNORE INTO {ASIDE} VALUES ({text_sql(info.name)})")
            self._aside = True
        return there

    def _stand_aside_no_more(self) -> None:
        if self._aside:
            self._write.drained().run(f"DELETE FROM {ASIDE}")
