"""The tables that one transaction on a SQLite file sees."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from typing import Any

from ...core.schema import TableInfo
from ..background import Background
from ..contract import Numbers, Session
from .link import Link
from .rows import Rows
from .tables import describe, table_names

_Schema = tuple[tuple[Any, ...], ...]


class Known:
    """Tables that were described before, for as long as nothing in the file's schema changes."""

    def __init__(self) -> None:
        self._last: tuple[_Schema, dict[str, Rows]] = (), {}

    def at(self, link: Link) -> dict[str, Rows]:
        """The tables that are known of the file as it is now, by name. What is learnt may be added."""
        number = "CASE type WHEN 'table' THEN rowid END"
        schema = tuple(link.rows(f"SELECT type, name, tbl_name, sql, {number} FROM sqlite_master"))
        if schema != self._last[0]:
            self._last = schema, {}
        return self._last[1]


@lru_cache(64)
def known_at(path: str) -> Known:
    """What the stores of this process know of the file at a path, whichever that is: each session holds it against the
    schema that it finds."""
    return Known()


class SQLiteDescribing(Session):
    """`known`: what other sessions of the store know of its tables."""

    def __init__(self, link: Link, known: Known) -> None:
        self._path, self._known = link.path, known
        self._write = Background(link)
        self._described: dict[str, Rows] | None = None
        self._tables: dict[str, Rows | None] = {}

    @property
    def where(self) -> str:
        return self._path

    def tables(self) -> list[str]:
        return table_names(self._write.drained())

    def find(self, name: str) -> TableInfo | None:
        if name not in self._tables:
            link = self._write.drained()
            if self._described is None:
                self._described = self._known.at(link)
            rows = self._described.get(name)
            if rows is None:
                described = describe(link, name)
                rows = Rows(described) if described is not None else None
                if rows is not None and rows.lasts:
                    self._described[name] = rows
            self._tables[name] = rows
        rows = self._tables[name]
        return None if rows is None else rows.info

    def is_another(self, before: Numbers, now: Numbers) -> bool:
        # VACUUM numbers the tables anew, in the order that they have, and never higher; a new table has the highest
        turned = (before.table < before.history) != (now.table < now.history)
        return turned or (now.history <= before.history and now.table > before.table)

    def has_index(self, info: TableInfo, name: str) -> bool:
        sql = "SELECT count(*) FROM sqlite_master WHERE type = 'index' AND name = ?1"
        return bool(self._write.drained().rows(sql, [name])[0][0])

    def _forget(self, name: str) -> None:
        """Forget what is known of a table that is being altered."""
        self._tables.pop(name, None)
        self._described = {}

    def _forget_all(self) -> None:
        self._tables, self._described = {}, {}

    def _finders(self, info: TableInfo) -> Sequence[str]:
        return self._rows(info).finders

    def _rows(self, info: TableInfo) -> Rows:
        self.find(info.name)
        rows = self._tables[info.name]
        assert rows is not None
        return rows
