"""The triggers of a SQLite file, within a session."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Mapping, Sequence

from ...core.schema import Column, TableInfo
from ..background import Background
from ..contract import Capture, Session, Trigger
from ..sql.text import name_sql, noted, text_sql, texts_sql
from .link import Link
from .triggers import ASIDE, MOMENT, CaptureSQL, released, triggers_of
from .types import declare


class SQLiteCapturing(Session):
    _write: Background[Link]
    _aside = False

    @abstractmethod
    def _finders(self, info: TableInfo) -> Sequence[str]:
        """The columns by which a row of a table is found again."""

    @abstractmethod
    def _forget_all(self) -> None:
        """Forget what is known of tables."""

    def why_no_capture(self, info: TableInfo) -> str | None:
        return None

    def capture_sql(self, info: TableInfo, capture: Capture) -> list[str]:
        return CaptureSQL(info, self._finders(info), capture).statements()

    def release_sql(self, info: TableInfo, token: str) -> list[str]:
        every = triggers_of(self._write.drained())  # a table that got another name has kept them
        return released(token, [one.name for one in every if one.token == token])

    def add_columns_sql(self, info: TableInfo, columns: Sequence[Column]) -> list[str]:
        table = name_sql(info.name)
        return [f"ALTER TABLE {table} ADD COLUMN {name_sql(one.name)} {declare(one)}" for one in columns]

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
