"""Rapid Mender merges incoming records into existing tables by key, decides on each, and keeps every change."""

from __future__ import annotations

import logging
from typing import TYPE_CHECKING, Any

__version__ = "0.1.0"

if TYPE_CHECKING:
    from .changes.as_of import as_of
    from .changes.capture import (
        Captured,
        capture,
        captures,
        refresh_capture,
        stop_capture,
    )
    from .changes.indexing import index_history
    from .changes.mending import Mended
    from .changes.pauses import pause_capture, resume_capture
    from .changes.prune import Pruned, prune
    from .changes.query import batches, history, history_pages
    from .changes.valid import at, life
    from .changes.verify import Verified, verify
    from .errors import (
        AlteredError,
        ConflictError,
        Error,
        IncomingError,
        JobError,
        LimitError,
        StoreError,
        UncertainError,
    )
    from .followers.compare import Compared
    from .followers.follow import Follower
    from .followers.known import followers_of, forget
    from .followers.sync import compare, sync, syncing
    from .followers.syncing import Synced
    from .incoming.query import Query
    from .jobs.check import Checked, check
    from .jobs.draft import draft
    from .jobs.job import Job
    from .jobs.options import ColumnOptions, Incoming, Rule, Versions
    from .jobs.span_check import SpansChecked, check_spans
    from .jobs.sync_job import Sync
    from .merging.explain import Explanation, explain
    from .merging.merge import merge, preview
    from .merging.merger import Merger
    from .merging.result import Result, Sample
    from .merging.undo import undo
    from .merging.undone import Undone
    from .stores.mariadb.store import MariaDBStore
    from .stores.memory import MemoryStore
    from .stores.postgresql.store import PostgreSQLStore
    from .stores.sqlite.store import SQLiteStore

_PLACES = {
    "AlteredError": "errors", "ConflictError": "errors", "Error": "errors", "IncomingError": "errors",
    "JobError": "errors", "LimitError": "errors", "StoreError": "errors", "UncertainError": "errors",
    "batches": "changes.query", "history": "changes.query", "as_of": "changes.as_of", "at": "changes.valid",
    "life": "changes.valid",
    "index_history": "changes.indexing", "history_pages": "changes.query",
    "Captured": "changes.capture", "capture": "changes.capture", "captures": "changes.capture",
    "pause_capture": "changes.pauses", "refresh_capture": "changes.capture", "resume_capture": "changes.pauses",
    "stop_capture": "changes.capture", "Mended": "changes.mending",
    "Pruned": "changes.prune", "prune": "changes.prune",
    "Verified": "changes.verify", "verify": "changes.verify",
    "ColumnOptions": "jobs.options", "Incoming": "jobs.options", "Job": "jobs.job", "Rule": "jobs.options",
    "Versions": "jobs.options",
    "Follower": "followers.follow", "followers_of": "followers.known",
    "forget": "followers.known", "Synced": "followers.syncing", "sync": "followers.sync", "syncing": "followers.sync",
    "Compared": "followers.compare", "compare": "followers.sync",
    "Sync": "jobs.sync_job", "SpansChecked": "jobs.span_check", "check_spans": "jobs.span_check",
    "Checked": "jobs.check", "check": "jobs.check", "draft": "jobs.draft",
    "Query": "incoming.query",
    "Explanation": "merging.explain", "explain": "merging.explain",
    "Merger": "merging.merger", "Result": "merging.result", "Sample": "merging.result",
    "merge": "merging.merge", "preview": "merging.merge", "Undone": "merging.undone", "undo": "merging.undo",
    "MariaDBStore": "stores.mariadb.store", "MemoryStore": "stores.memory",
    "PostgreSQLStore": "stores.postgresql.store", "SQLiteStore": "stores.sqlite.store",
}  # fmt: skip

__all__ = [
    "AlteredError",
    "Captured",
    "Checked",
    "ColumnOptions",
    "Compared",
    "ConflictError",
    "Error",
    "Explanation",
    "Follower",
    "Incoming",
    "IncomingError",
    "Job",
    "JobError",
    "LimitError",
    "MariaDBStore",
    "MemoryStore",
    "Mended",
    "Merger",
    "PostgreSQLStore",
    "Pruned",
    "Query",
    "Result",
    "Rule",
    "SQLiteStore",
    "Sample",
    "SpansChecked",
    "StoreError",
    "Sync",
    "Synced",
    "UncertainError",
    "Undone",
    "Verified",
    "Versions",
    "as_of",
    "at",
    "batches",
    "capture",
    "captures",
    "check",
    "check_spans",
    "compare",
    "draft",
    "explain",
    "followers_of",
    "forget",
    "history",
    "history_pages",
    "index_history",
    "life",
    "merge",
    "pause_capture",
    "preview",
    "prune",
    "refresh_capture",
    "resume_capture",
    "stop_capture",
    "sync",
    "syncing",
    "undo",
    "verify",
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
