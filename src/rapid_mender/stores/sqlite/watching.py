"""Seeing which rows of a SQLite table change beside those that are written: by its triggers."""

from __future__ import annotations

from collections.abc import Sequence

import pyarrow as pa

from ..sql.text import name_sql
from .link import Link


class Watching:
    """Has SQLite note every row of a table that changes, whoever changes it, by temporary triggers."""

    def __init__(self) -> None:
        self._table: str | None = None
        self._beside = 0

    def begin(self, link: Link, table: str, finders: Sequence[str]) -> None:
        """Note from now on the rows that change; `finders` are the columns by which a row is found again."""
        if table == self._table:
            link.run("DELETE FROM temp.rmend_seen")
            return
        self._table = table
        link.run("DROP TABLE IF EXISTS temp.rmend_seen")
        link.run(f"CREATE TEMP TABLE rmend_seen ({', '.join(f'r{i}' for i in range(len(finders)))})")
        for action, row in (("INSERT", "NEW"), ("UPDATE", "NEW"), ("DELETE", "OLD")):
            values = ", ".join(f"{row}.{name_sql(name)}" for name in finders)
            link.run(f"DROP TRIGGER IF EXISTS temp.rmend_{action.lower()}")
            link.run(
                f"CREATE TEMP TRIGGER rmend_{action.lower()} AFTER {action} ON main.{name_sql(table)} "
                f"BEGIN INSERT INTO rmend_seen VALUES ({values}); END"
            )

    def count(self, link: Link, own: pa.Table) -> None:
        """Count the rows that changed since `begin`, other than `own` (locators), which are recorded."""
        names = ", ".join(own.column_names)
        marks = ", ".join(f"?{i + 1}" for i in range(own.num_columns))
        link.run(f"DELETE FROM temp.rmend_seen WHERE ({names}) = ({marks})", own)
        self._beside += int(link.rows(f"SELECT count(*) FROM (SELECT DISTINCT {names} FROM temp.rmend_seen)")[0][0])

    def counted(self) -> int:
        """How many were counted since this was last asked."""
        beside, self._beside = self._beside, 0
        return beside
