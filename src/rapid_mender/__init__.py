"""Rapid Mender merges incoming records into existing tables by key, decides on each, and keeps every change."""

from __future__ import annotations

import logging
import sys
from types import ModuleType
from typing import TYPE_CHECKING, Any

__version__ = "0.1.0"

if TYPE_CHECKING:
    from .check import Checked, check
    from .draft import draft
    from .errors import Error, IncomingError, JobError, LimitError, StoreError
    from .explain import Explanation, explain
    from .history import batches, history
    from .incoming.query import Query
    from .job import ColumnOptions, Incoming, Job, Rule
    from .result import Result, Sample
    from .run import merge, preview
    from .stores.mariadb import MariaDBStore
    from .stores.memory import MemoryStore
    from .stores.postgresql import PostgreSQLStore
    from .stores.sqlite import SQLiteStore

_PLACES = {
    "Error": "errors", "IncomingError": "errors", "JobError": "errors", "LimitError": "errors", "StoreError": "errors",
    "batches": "history", "history": "history",
    "ColumnOptions": "job", "Incoming": "job", "Job": "job", "Rule": "job",
    "Query": "incoming.query",
    "Checked": "check", "check": "check",
    "draft": "draft",
    "Explanation": "explain", "explain": "explain",
    "Result": "result", "Sample": "result",
    "merge": "run", "preview": "run",
    "MariaDBStore": "stores.mariadb", "MemoryStore": "stores.memory", "PostgreSQLStore": "stores.postgresql",
    "SQLiteStore": "stores.sqlite",
}  # fmt: skip

__all__ = [
    "Checked", "ColumnOptions", "Error", "Explanation", "Incoming", "IncomingError", "Job", "JobError",
    "LimitError", "MariaDBStore", "MemoryStore", "PostgreSQLStore", "Query", "Result", "Rule", "SQLiteStore",
    "Sample", "StoreError", "batches", "check", "draft", "explain", "history", "merge", "preview",
]  # fmt: skip


def __getattr__(name: str) -> Any:
    """Load a public name where it is first used: importing Arrow takes longer than most commands."""
    if name not in _PLACES:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    from importlib import import_module

    value = getattr(import_module(f".{_PLACES[name]}", __name__), name)
    globals()[name] = value
    return value


def __dir__() -> list[str]:
    return sorted([*globals(), *__all__])


logging.getLogger(__name__).addHandler(logging.NullHandler())


class _Package(ModuleType):
    def __setattr__(self, name: str, value: Any) -> None:
        """Importing the submodule `history` must not put it where the function `history` is."""
        if not (name in _PLACES and isinstance(value, ModuleType)):
            super().__setattr__(name, value)


sys.modules[__name__].__class__ = _Package
