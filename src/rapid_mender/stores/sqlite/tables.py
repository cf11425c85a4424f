"""Describing a SQLite table: columns, types, defaults, keys, collations."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import pyarrow as pa

from ...core.schema import Column, Fold, Reach, TableInfo
from ...errors import StoreError
from ..contract import PREFIX
from ..sql.text import name_sql
from .link import Link
from .types import affinity, column_type

_SEEN_ROWS = 100_000  # rows that are looked at to learn what a column without a type holds


_UNTYPED = ("", "ANY")


@dataclass(frozen=True)
class Described:
    """A table, and the columns by which its rows are found again: the row number, or the primary key."""

    info: TableInfo
    finders: tuple[str, ...]

    @property
    def lasts(self) -> bool:
        """Whether it follows from the schema alone. What a column without a type holds is seen in the rows."""
        return all((column.declared or "").upper() not in _UNTYPED for column in self.info.columns)


def table_names(link: Link) -> list[str]:
    sql = r"SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite\_%' ESCAPE '\'"
    return [name for (name,) in link.rows(sql)]


def describe(link: Link, name: str) -> Described | None:
    """Describe a table, whatever the case of its name; None if there is none. Raises StoreError for a view."""
    kinds = link.rows("SELECT name, type, rowid FROM sqlite_master WHERE name = ?1 COLLATE NOCASE", [name])
    kinds = [row for row in kinds if row[1] in ("table", "view")]
    if not kinds:
        return None
    real_name, kind, number = kinds[0]
    if kind == "view":
        raise StoreError(f"{name!r} is a view; records can be merged into a table only")
    listed = link.rows("SELECT * FROM pragma_table_xinfo(?1)", [real_name])
    kept = link.rows("SELECT wr FROM pragma_table_list WHERE name = ?1 AND schema = 'main'", [real_name])
    without_rowid = bool(kept[0][0])
    in_key = sorted((row for row in listed if row[5]), key=lambda row: row[5])
    key = tuple(row[1] for row in in_key)
    own_number = len(key) == 1 and not without_rowid and in_key[0][2].upper() == "INTEGER"
    columns = tuple(
        _column(link, real_name, row, own_number and row[1] == key[0], without_rowid) for row in listed if row[6] != 1
    )
    folds = _folds(link, real_name, [column.name for column in columns if pa.types.is_string(column.type)])
    columns = tuple(replace(column, fold=folds.get(column.name)) for column in columns)
    taken = {column.name.lower() for column in columns}
    free = [alias for alias in ("rowid", "_rowid_", "oid") if alias not in taken]
    finders = key if own_number or without_rowid else tuple(free[:1])
    if not finders:
        raise StoreError(f"table {real_name!r} has columns named rowid, oid and _rowid_; rename one of them")
    sql = "SELECT name FROM sqlite_master WHERE type = 'trigger' AND tbl_name = ?1 COLLATE NOCASE"
    triggers = any(not name.startswith(PREFIX) for (name,) in link.rows(sql, [real_name]))
    references = link.rows('SELECT "table", on_update, on_delete FROM pragma_foreign_key_list(?1)', [real_name])
    triggers |= any(table.lower() == real_name.lower() and "NO ACTION" not in how for table, *how in references)
    sql = 'SELECT "from", "table", "to" FROM pragma_foreign_key_list(?1) ORDER BY id, seq'
    refers = tuple(f"{a} refers to {b}{f'.{c}' if c else ''}" for a, b, c in link.rows(sql, [real_name]))
    info = TableInfo(
        real_name, columns, key, _unique(link, real_name), triggers, _is_referenced(link, real_name), refers,
        _reach(link, real_name), real_name, number=number,
    )  # fmt: skip
    return Described(info, finders)


def _reach(link: Link, table: str) -> tuple[Reach, ...]:
    """The foreign keys by which a change of the table comes back to it, straight or over other tables."""
    sql = (
        'SELECT m.name, f."table", f.id, f."from", f."to", f.on_delete, f.on_update FROM sqlite_master AS m '
        "JOIN pragma_foreign_key_list(m.name) AS f WHERE m.type = 'table' "
        "AND (f.on_delete NOT IN ('NO ACTION', 'RESTRICT') OR f.on_update NOT IN ('NO ACTION', 'RESTRICT'))"
    )
    keys: dict[tuple[str, int], list[tuple[Any, ...]]] = {}
    children: dict[str, set[str]] = {}
    for row in link.rows(sql):
        keys.setdefault((row[0], row[2]), []).append(row)
        children.setdefault(row[1].lower(), set()).add(row[0].lower())

    def comes_back(name: str, seen: frozenset[str]) -> bool:
        return name == table.lower() or any(
            comes_back(child, seen | {name}) for child in children.get(name, ()) if child not in seen
        )

    reach = []
    for (child, _), rows in keys.items():
        _, parent, _, _, _, on_delete, on_update = rows[0]
        if parent.lower() == table.lower() and comes_back(child.lower(), frozenset()):
            columns = tuple(row[4] or "" for row in rows)
            if "" in columns:  # the primary key is meant
                columns = tuple(n for (n,) in link.rows("SELECT name FROM pragma_table_info(?1) WHERE pk", [parent]))
            said = f"{child} ({', '.join(row[3] for row in rows)}) to {parent}"
            updates = on_update not in ("NO ACTION", "RESTRICT")
            reach.append(Reach(said, on_delete not in ("NO ACTION", "RESTRICT"), columns if updates else ()))
    return tuple(reach)


def _is_referenced(link: Link, table: str) -> bool:
    """Whether a foreign key of any table points at this one, and does something when a row here goes or changes."""
    sql = (
        "SELECT count(*) FROM sqlite_master AS m JOIN pragma_foreign_key_list(m.name) AS f WHERE m.type = 'table' "
        "AND f.\"table\" = ?1 COLLATE NOCASE AND (f.on_update <> 'NO ACTION' OR f.on_delete <> 'NO ACTION')"
    )
    return bool(link.rows(sql, [table])[0][0])


def _column(link: Link, table: str, row: Sequence[Any], is_number: bool, without_rowid: bool) -> Column:
    _, name, declared, not_null, default, in_key, hidden = row
    seen: frozenset[str] = frozenset()
    if declared.upper() in _UNTYPED:
        some = f"SELECT {name_sql(name)} AS c FROM {name_sql(table)} LIMIT {_SEEN_ROWS}"
        seen = frozenset(form for (form,) in link.rows(f"SELECT DISTINCT typeof(c) FROM ({some})")) - {"null"}
    kind, length = column_type(declared, seen)
    is_text = pa.types.is_string(kind)
    return Column(
        name=name,
        type=kind,
        declared=declared,
        nullable=not (not_null or is_number or (without_rowid and in_key)),
        has_default=is_number or (default is not None and default.upper() != "NULL"),
        generated=hidden in (2, 3),
        length=length,
        fold=None,
        normalises=is_text and affinity(declared) not in ("TEXT", "BLOB"),
        nan=False,
    )


def _folds(link: Link, table: str, columns: Sequence[str]) -> dict[str, Fold]:
    """What the columns' collations hold equal. A compound query takes the collation of its first part."""
    folds: dict[str, Fold] = {}
    for start in range(0, len(columns), 200):
        some = columns[start : start + 200]
        tests = []
        for place, column in enumerate(some):
            one = f"SELECT {name_sql(column)} AS c FROM {name_sql(table)} WHERE 0 UNION ALL SELECT 'a'"
            tests += [
                f"(SELECT c = '{other}' FROM ({one})) AS {sign}{place}" for sign, other in (("c", "A"), ("b", "a "))
            ]
        row = link.rows(f"SELECT {', '.join(tests)}")[0] if some else ()
        for place, column in enumerate(some):
            if row[2 * place]:
                folds[column] = "case"
            elif row[2 * place + 1]:
                folds[column] = "blanks"
    return folds


def _unique(link: Link, table: str) -> tuple[tuple[str, ...], ...]:
    keys = []
    for _, index, unique, origin, partial in link.rows("SELECT * FROM pragma_index_list(?1)", [table]):
        if unique and not partial and origin != "pk":
            names = [row[0] for row in link.rows("SELECT name FROM pragma_index_info(?1) ORDER BY seqno", [index])]
            if None not in names:
                keys.append(tuple(names))
    return tuple(keys)
