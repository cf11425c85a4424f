"""One face over every store for the contract: make a table, read it back, look at its history.

A store for the contract is made from a schema and rows, and gives its rows back as Python values in the types of
the columns. To hold a further store to the contract, add it to STORES.
"""

from __future__ import annotations

import sqlite3
import tempfile
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

import rapid_mender as rm
from rapid_mender.core.schema import Column, TableInfo
from rapid_mender.stores.contract import Store
from rapid_mender.stores.sql.text import name_sql
from rapid_mender.stores.urls import open_store

from . import length, servers

TABLE = 'the "trees" of `Mere End` größe'
DECLARED = {
    pa.int64(): "INTEGER",
    pa.float64(): "DOUBLE PRECISION",
    pa.string(): "VARCHAR(40)",
    pa.bool_(): "BOOLEAN",
    pa.date32(): "DATE",
    pa.timestamp("us"): "TIMESTAMP",
    pa.time64("us"): "TIME",
    pa.decimal128(12, 3): "DECIMAL(12,3)",
    pa.binary(): "BLOB",
}


@dataclass
class Place:
    """A store with one table in it."""

    store: Any
    info: TableInfo

    def rows(self, table: str = TABLE) -> list[dict[str, Any]]:
        with self.opened.begin(write=False) as session:
            found = session.read(session.describe(table)).values
            return sorted(found.to_pylist(), key=repr)

    def table(self) -> pa.Table:
        with self.opened.begin(write=False) as session:
            return session.read(session.describe(TABLE)).values

    @property
    def opened(self) -> Store:
        return open_store(self.store)


@contextmanager
def _memory(schema: pa.Schema, key: list[str], rows: list[dict[str, Any]]) -> Iterator[Place]:
    fields = [pa.field(f.name, f.type, f.name not in key and f.nullable) for f in schema]
    store = rm.MemoryStore({TABLE: pa.Table.from_pylist(rows, pa.schema(fields))})
    with store.begin(write=False) as session:
        info = session.describe(TABLE)
    yield Place(store, info)


@contextmanager
def _sqlite(schema: pa.Schema, key: list[str], rows: list[dict[str, Any]], how: str = "", indexed: bool = True, apart: bool = False) -> Iterator[Place]:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "it's a register.db"
        with closing(sqlite3.connect(path)) as connection:
            connection.execute(_definition(name_sql, schema, key, {}, indexed) + how)
        url = f"sqlite:///{path}"
        place = _filled(open_store(url), key, rows)
        yield replace(place, store=rm.SQLiteStore(path, apart=True) if apart else url)


_SERVER_TYPES = {
    "postgresql": {pa.int64(): "bigint", pa.binary(): "bytea"},
    "mariadb": {pa.int64(): "bigint", pa.string(): "varchar(40) COLLATE utf8mb4_nopad_bin", pa.timestamp("us"): "datetime(6)", pa.time64("us"): "time(6)"},
}


@contextmanager
def _postgresql(schema: pa.Schema, key: list[str], rows: list[dict[str, Any]], indexed: bool = True) -> Iterator[Place]:
    database = servers.contract("postgresql")
    table = _definition(database.link.name_sql, schema, key, _SERVER_TYPES["postgresql"], indexed)
    database.run("DROP SCHEMA IF EXISTS contract CASCADE", "CREATE SCHEMA contract", table)
    yield _filled(database.store, key, rows)


@contextmanager
def _mariadb(schema: pa.Schema, key: list[str], rows: list[dict[str, Any]], indexed: bool = True) -> Iterator[Place]:
    database = servers.contract("mariadb")
    quoted = database.link.name_sql
    database.run(*(f"DROP TABLE {quoted(table)}" for table in database.link.tables()))
    database.run(_definition(quoted, schema, key, _SERVER_TYPES["mariadb"], indexed))
    yield _filled(database.store, key, rows)


def _definition(quoted: Callable[[str], str], schema: pa.Schema, key: list[str], types: dict[pa.DataType, str], indexed: bool) -> str:
    declared = DECLARED | types
    lines = [f"{quoted(f.name)} {declared[f.type]}{'' if f.nullable and f.name not in key else ' NOT NULL'}" for f in schema]
    if indexed:
        lines.append(f"PRIMARY KEY ({', '.join(quoted(name) for name in key)})")
    return f"CREATE TABLE {quoted(TABLE)} ({', '.join(lines)})"


def _filled(store: Store, key: list[str], rows: list[dict[str, Any]]) -> Place:
    """The place, with rows put in through the store, whose round trip has tests of its own."""
    with store.begin(write=True) as session:
        info = session.describe(TABLE)
        if rows:
            session.insert(info, pa.Table.from_pylist(rows, info.schema), key)
    return Place(store, info)


STORES = {
    "memory": _memory,
    "sqlite": _sqlite,
    "sqlite, no row number": lambda *a: _sqlite(*a, how=" WITHOUT ROWID"),
    "sqlite, another process": lambda *a: _sqlite(*a, apart=True),
    "sqlite, no index": lambda *a: _sqlite(*a, indexed=False),
    "postgresql": _postgresql,
    "postgresql, no index": lambda *a: _postgresql(*a, indexed=False),
    "mariadb": _mariadb,
    "mariadb, no index": lambda *a: _mariadb(*a, indexed=False),
}

KINDS = ["memory", "sqlite", "postgresql", "mariadb"]
every_store = pytest.mark.parametrize("store", STORES)
every_kind = pytest.mark.parametrize("store", STORES if length.LONG else KINDS)
"""For what says little of how a row is found: in a short run no variants of a store."""

__all__ = ["DECLARED", "KINDS", "STORES", "TABLE", "Column", "Place", "every_kind", "every_store"]
