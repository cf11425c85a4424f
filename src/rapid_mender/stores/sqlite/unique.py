"""What is unique in a SQLite table, so that REPLACE removes the row in its way: keys, and indexes, also those
over a part of the rows, over expressions, or with a collation of their own."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from ...core.schema import TableInfo
from ..sql.text import name_sql, refers_to_nothing
from .link import Link

_PIECES = re.compile(
    r"""'(?:[^']|'')*'|"(?:[^"]|"")*"|`(?:[^`]|``)*`|\[[^\]]*\]|--[^\n]*|/\*.*?\*/|[(),]|[^'"`\[(),/-]+|.""", re.S
)
_ORDER = re.compile(r"\s+(ASC|DESC)\s*$", re.I)
_WHERE = re.compile(r"\s*WHERE\b", re.I)


@dataclass(frozen=True)
class Unique:
    """Something unique of a table."""

    there: str
    """Whether a row `t` has what the row NEW is to have, in SQL where bare names are those of `t`. It may be true of
    other rows too."""
    columns: tuple[str, ...]
    """On which columns it depends."""


def unique_of(link: Link, info: TableInfo) -> list[Unique]:
    """All that is unique of a table, but the number of a row."""
    table = name_sql(info.name)
    columns = link.rows(f"PRAGMA table_xinfo({table})")
    filled = {name: default for _, name, _, required, default, *_ in columns if required and default is not None}

    def new(name: str) -> str:
        """What a row is to have: REPLACE puts the default in the place of a null that may not be."""
        one = f"NEW.{name_sql(name)}"
        return f"coalesce({one}, ({filled[name]}))" if name in filled else one

    found = dict[Unique, None]()
    if info.primary_key:
        key = tuple(info.primary_key)
        found[Unique(" AND ".join(f"t.{name_sql(name)} = {new(name)}" for name in key), key)] = None
    for _, index, unique, _, _, *_ in link.rows(f"PRAGMA index_list({table})"):
        if not unique:
            continue
        sql = link.rows("SELECT sql FROM sqlite_master WHERE type = 'index' AND name = ?1", [index])
        texts, where = _parts(sql[0][0]) if sql and sql[0][0] else ([], None)
        tests, used = list[str](), list[str]()
        for at, number, name, _, collation, is_key in link.rows(f"PRAGMA index_xinfo({name_sql(index)})"):
            if not is_key:
                continue
            collate = f"COLLATE {name_sql(collation)}"
            if number >= 0:
                tests.append(f"t.{name_sql(name)} = {new(name)} {collate}")
                used.append(name)
            else:
                row = ", ".join(f"{new(one.name)} AS {name_sql(one.name)}" for one in info.columns)
                tests.append(f"({texts[at]}) = (SELECT {texts[at]} FROM (SELECT {row})) {collate}")
                used += _named(info, texts[at])
        if where is not None:  # of the row that is to be put it is not asked: what is put by in vain, stays
            tests.append(f"({where}\n)")
            used += _named(info, where)
        found[Unique(" AND ".join(tests), tuple(dict.fromkeys(used)))] = None
    return list(found)


def dangling(link: Link, info: TableInfo) -> list[str]:
    """Tests whether the row OLD refers to a row that is gone, by a foreign key that deletes it with the other."""
    keys = foreign_keys(link, info.name)
    return [refers_to_nothing(name_sql(table), pairs) for table, pairs, deletes in keys if deletes == "CASCADE"]


def foreign_keys(link: Link, name: str) -> list[tuple[str, list[tuple[str, str]], str]]:
    """The foreign keys of a table: the table that each refers to, pairs of its own and of that table's columns, and
    what it does when a row there is deleted."""
    found: dict[int, tuple[str, list[tuple[str, str | None]], str]] = {}
    for number, _, table, column, to, _, on_delete, _ in link.rows(f"PRAGMA foreign_key_list({name_sql(name)})"):
        found.setdefault(number, (table, [], on_delete.upper()))[1].append((column, to))
    keys = []
    for table, pairs, on_delete in found.values():
        columns = sorted(link.rows(f"PRAGMA table_info({name_sql(table)})"), key=lambda row: row[5])
        primary = [row[1] for row in columns if row[5]]
        both = [(own, primary[at] if other is None else other) for at, (own, other) in enumerate(pairs)]
        keys.append((table, both, on_delete))
    return keys


def _named(info: TableInfo, sql: str) -> Iterator[str]:
    """The columns that an expression may name."""
    text = sql.lower()
    return (one.name for one in info.columns if one.name.lower() in text or name_sql(one.name).lower() in text)


def _parts(sql: str) -> tuple[list[str], str | None]:
    """What a CREATE INDEX statement has between its brackets, and its condition."""
    pieces = iter([piece for piece in _PIECES.findall(sql) if not piece.startswith(("--", "/*"))])
    for piece in pieces:
        if piece == "(":
            break
    depth, terms = 1, [""]
    for piece in pieces:
        depth += (piece == "(") - (piece == ")")
        if not depth:
            break
        if piece == "," and depth == 1:
            terms.append("")
        else:
            terms[-1] += piece
    rest = "".join(pieces)
    where = rest[found.end() :] if (found := _WHERE.match(rest)) else None
    return [_ORDER.sub("", one.strip()) for one in terms], where
