"""A database of each kind with a table in it, for tests that write their own SQL."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path

import pytest

from . import servers

KINDS = ["sqlite", "postgresql", "mariadb"]
every = pytest.mark.parametrize("kind", KINDS)
both = pytest.mark.parametrize("kind", KINDS[1:])
FEW_AND_MANY = pytest.mark.parametrize("count", [5, 200])


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
