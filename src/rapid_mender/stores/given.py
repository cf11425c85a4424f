"""What people hold as a store, as a URL: a path, an engine or a URL of SQLAlchemy, an open SQLite connection."""

from __future__ import annotations

import os
import sqlite3
from typing import Any

from ..errors import JobError
from .contract import Store

_SQLITE = "sqlite:///"
_WITHIN = "to merge within it, give it as rm.Merger(job, connection=…)"


def of_file(path: str | os.PathLike[str]) -> str:
    """The URL of a SQLite file."""
    return f"{_SQLITE}{os.fspath(path)}"


def file_of(url: Any) -> str | None:
    """The path in the URL of a SQLite file; None for anything else."""
    return url.removeprefix(_SQLITE) if isinstance(url, str) and url.startswith(_SQLITE) else None


def as_store(given: Any) -> Any:
    """A URL for a path, an engine, a connection or a URL object; anything else as it is.

    Raises JobError for a database that is in memory, or a connection with a transaction that is still open.
    """
    if isinstance(given, os.PathLike):
        return of_file(given)
    if isinstance(given, sqlite3.Connection):
        return _of_connection(given)
    maker = type(given).__module__.partition(".")[0]
    if maker == "sqlalchemy" and not hasattr(given, "get_bind"):
        return _of_sqlalchemy(given)
    if maker in ("sqlalchemy", "psycopg", "pymysql") and hasattr(given, "commit"):
        raise JobError(f"a store is a URL, a path or a Store, not a {type(given).__name__} of {maker}; {_WITHIN}")
    if given is not None and not isinstance(given, str | Store):
        raise JobError(f"a store is a URL, a path or a Store, not {type(given).__name__}")
    return given


def _of_connection(connection: sqlite3.Connection) -> str:
    path = next((path for _, name, path in connection.execute("PRAGMA database_list") if name == "main"), "")
    if not path:
        raise JobError("the SQLite connection is to a database in memory, which nobody else can open; use a file")
    if connection.in_transaction:
        raise _still_open("SQLite connection")
    return of_file(path)


def _still_open(what: str) -> JobError:
    before = "commit it, or roll it back, before"
    return JobError(f"the {what} has a transaction that is still open; {before}; or, {_WITHIN}")


def _of_sqlalchemy(given: Any) -> str:
    if hasattr(given, "in_transaction") and given.in_transaction():
        raise _still_open("connection")
    url = getattr(given, "url", None) or getattr(getattr(given, "engine", None), "url", None) or given
    if not hasattr(url, "render_as_string"):
        raise JobError(f"a store is a URL, a path or a Store, not {type(given).__name__}")
    backend = {"mysql": "mariadb"}.get(url.get_backend_name(), url.get_backend_name())
    if backend == "sqlite":
        if not url.database or url.database == ":memory:":
            raise JobError("the engine is of a database in memory, which nobody else can open; use a file")
        return of_file(url.database)
    text: str = url.set(drivername=backend).render_as_string(hide_password=False)
    return text
