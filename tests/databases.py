"""A database of each kind with a table in it, for tests that write their own SQL."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

import psycopg
import pymysql
import pytest
from sqlalchemy.engine import make_url

from . import servers

KINDS = ["sqlite", "postgresql", "mariadb"]
every = pytest.mark.parametrize("kind", KINDS)
both = pytest.mark.parametrize("kind", KINDS[1:])
FEW_AND_MANY = pytest.mark.parametrize("count", [5, 200])


def driver(url: str) -> Any:
    """A connection of the plain driver to the database of a URL, which the caller closes."""
    kind = url.partition(":")[0]
    if kind not in KINDS[1:]:
        return sqlite3.connect(url.removeprefix("sqlite:///"))
    if kind == "postgresql":
        return psycopg.connect(url)
    at = make_url(url)
    return pymysql.connect(host=at.host, port=at.port or 3306, user=at.username or "root", password=at.password or "", database=at.database, **at.query)


@contextmanager
def table(kind: str, path: Path, *statements: str) -> Iterator[tuple[str, Callable[..., None]]]:
    """A database in which statements were run: its URL, and what runs more."""
    if kind != "sqlite":
        with servers.database(kind) as database:
            database.run(*statements)
            yield database.url, database.run
        return

    def run(*more: str) -> None:
        with closing(sqlite3.connect(path / "r.db")) as connection:
            for statement in more:
                connection.execute(statement)
            connection.commit()

    run(*statements)
    yield f"sqlite:///{path / 'r.db'}", run
