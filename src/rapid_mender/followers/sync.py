"""Syncing: a table that follows another, each change taking effect exactly once."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from typing import Any

from ..errors import JobError
from ..jobs.sync_job import Sync
from ..stores.contract import Store
from ..stores.urls import opened
from .compare import Compared
from .files import FolderSyncing
from .mending import compared
from .syncing import Synced
from .table_sync import TableSyncing
from .tail import Tail


def sync(
    store: Sync | str | Store,
    table: str | None = None,
    to_store: str | Store | None = None,
    to_table: str | None = None,
    *,
    follower: str | None = None,
    force: bool = False,
    retry: bool = False,
    **options: Any,
) -> Synced:
    """Bring a table that follows another up to date: `to_table` of `to_store` follows `table` of `store`.

    The first time it is filled from the table as it is; then the changes since are made net and merged. Each takes
    effect exactly once, whatever crashes: the position is kept in the target, and moves in the same transaction. All
    options are those of `Sync`, which may be given in their place. A target that is not there is made. With `retry` the
    rows that the target did not take before are tried again; else each is when it changes.

    Raises JobError for a wrong option, or if changes that are to come were pruned or never kept; StoreError if a store
    refuses; AlteredError if changes that are to come were altered since they were sealed, unless `force`; LimitError
    past max_rejects or max_deletes: then the position stays.
    """
    named = {"table": table, "to_store": to_store, "to_table": to_table, "follower": follower} | options
    given = {name: value for name, value in named.items() if value is not None}
    if isinstance(store, Sync) and given:
        raise JobError(f"a Sync says all itself; leave out {', '.join(given)}")
    job = store if isinstance(store, Sync) else Sync(store=store, **given)
    with syncing(job, force, retry) as run:
        return run()


def compare(job: Sync, mend: bool = False) -> Compared:
    """Hold the table that follows against the one that is followed, as they are now: which rows are missing, extra, or
    differ in what is sent. With `mend` these are merged, and following goes on from there: that is what to do when the
    history was pruned, or not kept, so that the place is lost.

    Both tables are read once, and once more if they differ. Otherwise nothing is written. Raises JobError if files
    follow, or a log; StoreError if a table is not there.
    """
    if job.to_store is None:
        raise JobError("files cannot be compared with a table")
    with opened(job.store) as source, closing(Tail(source, job.table)) as tail, opened(job.to_store) as target:
        return compared(TableSyncing(job, source, target, tail), mend)


@contextmanager
def syncing(job: Sync, force: bool = False, retry: bool = False) -> Iterator[Callable[[], Synced]]:
    """A function that brings the target up to date, each time that it is called; what is opened stays open. `force` and
    `retry`: as for `sync`."""
    if retry and job.to_folder is not None:
        raise JobError("files take every change, so none is tried again")
    with opened(job.store) as source, closing(Tail(source, job.table)) as tail:
        if job.to_folder is not None:
            yield FolderSyncing(job, job.to_folder, source, tail, force).go
            return
        assert job.to_store is not None
        with opened(job.to_store) as target:
            yield TableSyncing(job, source, target, tail, force, retry).go
