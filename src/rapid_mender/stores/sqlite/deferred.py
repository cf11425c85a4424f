"""Foreign keys that SQLite checks at the commit only.

Then it names no row, so the rows that a statement has written are looked up beside it. Where a default or a trigger
sets a reference, only the commit tells.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import pyarrow as pa

from ...core.keys import one_array
from ...core.schema import TableInfo
from ..contract import Refused
from ..sql.text import name_sql
from .link import Link
from .types import encode
from .unique import foreign_keys


@dataclass(frozen=True)
class Deferred:
    """A foreign key that is checked at the commit, as one of its two tables sees it."""

    columns: tuple[str, ...]
    """The columns of that table, of those that refer or of those that are referred to."""
    refers: bool
    """Whether that table refers to the other."""
    test: str
    """A query that has a row where values of the columns, bound in their order, break the key."""


Keys = Sequence[tuple[Deferred, Sequence[pa.Array]]]
"""Foreign keys, and the values that rows have in the columns of each."""


def tables_that_defer(link: Link) -> list[str]:
    """The tables that may have foreign keys which are checked at the commit only."""
    return [
        name for (name,) in link.rows("SELECT name FROM sqlite_master WHERE type = 'table' AND sql LIKE '%deferred%'")
    ]


def deferred_keys(link: Link, table: str, tables: Sequence[str]) -> list[Deferred]:
    """The foreign keys of a table, and those that refer to it, which may be checked at the commit only; `tables` may
    have such."""
    return [key for name in tables for key in _of(link, name, table)]


def _of(link: Link, name: str, table: str) -> Iterator[Deferred]:
    """Those of a table `name` that concern another."""
    for parent, pairs, _ in foreign_keys(link, name):
        if table.lower() not in (name.lower(), parent.lower()):
            continue
        own, other = (tuple(side) for side in zip(*pairs, strict=True))
        stands = f"SELECT 1 FROM {name_sql(parent)} WHERE {_same(other)}"
        if name.lower() == table.lower():
            there = " AND ".join(f"?{at} IS NOT NULL" for at in range(1, len(own) + 1))
            yield Deferred(own, True, f"SELECT 1 AS n WHERE {there} AND NOT EXISTS ({stands})")
        if parent.lower() == table.lower():
            refers = f"SELECT 1 FROM {name_sql(name)} WHERE {_same(own)}"
            yield Deferred(other, False, f"SELECT 1 AS n WHERE EXISTS ({refers}) AND NOT EXISTS ({stands})")


def _same(columns: Sequence[str]) -> str:
    return " AND ".join(f"{name_sql(column)} = ?{at}" for at, column in enumerate(columns, 1))


def touched(keys: Sequence[Deferred], info: TableInfo, new: pa.Table | None, old: pa.Table | None) -> Keys:
    """The foreign keys that rows may break which are written, each with the values of its columns: of the `new` rows
    where the table refers to another, and of the `old` ones where it is referred to. What `new` lacks stays as in
    `old`, or is not known."""
    found = []
    for key in keys:
        names = [column.name for name in key.columns if (column := info.named(name)) is not None]
        sent = {} if new is None else {name: new[name] for name in names if name in new.column_names}
        was = {} if old is None else {name: old[name] for name in names if name in old.column_names}
        values = was | sent if key.refers else was
        changes = bool(sent) if key.refers or new is not None else bool(was)
        if changes and len(values) == len(key.columns):
            found.append((key, [encode(one_array(values[name])) for name in names]))
    return found


def with_keys(bound: pa.Table, keys: Keys) -> pa.Table:
    """Rows that are to be written, and beside them their values in the columns of foreign keys."""
    columns = [one for _, values in keys for one in values]
    names = [*bound.column_names, *(f"key {at}" for at in range(len(columns)))]
    return pa.table([*bound.columns, *columns], names=names)


def run_checked(link: Link, path: str, keys: Keys, rows: pa.Table, *statements: str) -> None:
    """Run statements for the rows of `with_keys`. Raises Refused if these break one of the foreign keys."""
    width = rows.num_columns - sum(len(values) for _, values in keys)
    for sql in statements:
        link.run(sql, rows.select(range(width)))
    for key, values in keys:
        some = rows.select(range(width, width + len(values)))
        if link.query(key.test, some.group_by(some.column_names).aggregate([])).num_rows:
            raise Refused(path, "FOREIGN KEY constraint failed", refers=True)
        width += len(values)
