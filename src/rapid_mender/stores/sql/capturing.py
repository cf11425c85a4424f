"""What the stores on database servers share of capture."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Mapping, Sequence

from ...core.schema import Column, TableInfo
from .reading import SQLReading
from .text import noted, texts_sql


class SQLCapturing(SQLReading):
    moment: str
    """The time, in the database's own SQL."""

    def why_no_capture(self, info: TableInfo) -> str | None:
        return None

    def add_columns_sql(self, info: TableInfo, columns: Sequence[Column]) -> list[str]:
        link = self._write.drained()
        added = ", ".join(f"ADD COLUMN {self._q(column.name)} {link.declare(column)}" for column in columns)
        return [f"ALTER TABLE {self._described(info).sql} {added}"]

    def note_sql(
        self, shape: TableInfo, row: Mapping[str, str | None], number: int | None, stamped: Sequence[str]
    ) -> str:
        at = ".".join(map(self._q, self._write.drained().place_of(shape.name)))
        key = f"{self._q(shape.primary_key[0])} {self._op('=')}"
        return noted(at, number, key, texts_sql(row, stamped, self.moment, self._q))

    def define(self, info: TableInfo | None, statements: Sequence[str], switching: Sequence[str] = ()) -> None:
        link = self._write.drained()
        for sql in (*statements, *switching):
            link.define(sql)
        self._by_name.clear()

    def try_sql(self, info: TableInfo, sql: str, rows: bool) -> None:
        at = self._described(info).sql
        sides = ", ".join(f"(SELECT * FROM {at} LIMIT 0) AS {side}" for side in ("old", "new"))
        self._try(info, f"SELECT 1 WHERE ({sql}\n) IS NULL" if not rows else f"SELECT 1 FROM {sides} WHERE ({sql}\n)")

    @abstractmethod
    def _try(self, info: TableInfo, sql: str) -> None:
        """Run a query about a table, so that its locks are released at once."""
