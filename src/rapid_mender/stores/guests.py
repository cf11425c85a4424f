"""Stores in the transaction of somebody else's connection."""

from __future__ import annotations

import sqlite3
from importlib import import_module
from typing import Any

from ..errors import JobError
from .contract import Store

_SERVERS = {
    "psycopg": ("postgresql.guest", "PostgreSQLGuestStore"),
    "pymysql": ("mariadb.guest", "MariaDBGuestStore"),
}
_WANTED = "a connection of sqlite3, psycopg or PyMySQL, or a session or connection of SQLAlchemy over one of them"


def guest_store(connection: Any) -> Store:
    """The store of an open connection. Raises JobError if it is of no kind that is known, or closed."""
    raw = _driver_connection(connection)
    if isinstance(raw, sqlite3.Connection):
        from .sqlite.guest import SQLiteGuestStore

        return SQLiteGuestStore(raw)
    for base in type(raw).__mro__:
        library, name = base.__module__.partition(".")[0], base.__name__
        if library in _SERVERS and name == "Connection":
            module, store = _SERVERS[library]
            made: Store = getattr(import_module(f".{module}", __package__), store)(raw)
            return made
    raise JobError(f"connection is {type(connection).__module__}.{type(connection).__name__}; give {_WANTED}")


def _driver_connection(given: Any) -> Any:
    """The driver's own connection within what SQLAlchemy holds."""
    if type(given).__module__.partition(".")[0] != "sqlalchemy":
        return given
    held = given.connection() if callable(getattr(given, "connection", None)) else given  # of a session
    pooled = getattr(held, "connection", None)
    raw = getattr(pooled, "driver_connection", None)
    if raw is None:
        raise JobError(f"connection is {type(given).__name__}, which has no open connection; give {_WANTED}")
    return raw
