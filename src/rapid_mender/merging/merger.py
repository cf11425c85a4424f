"""A merge kept open: records are merged as they come, a few at a time."""

from __future__ import annotations

import asyncio
import os
import threading
from contextlib import ExitStack, suppress
from functools import partial
from typing import Any

from ..changes.identity import KnownHistory
from ..errors import JobError
from ..jobs.job import Job
from ..jobs.opening import OpenJob
from ..stores.urls import opened
from .merge import take
from .result import Result
from .run import Company


class Merger:
    """A job that is kept open for records that come one by one, or a few at a time.

    with rm.Merger(job) as merger:
        result = merger.merge([{"district": "Northfold", "tag_no": 17, "height_m": 9.5}])
        result.first.decision

    The store is opened, and the job checked and bound to its table, once. Each call of `merge` is a batch of its own,
    in one transaction, with all that `rm.merge` promises. When another program has altered the table, the job is bound
    anew before a row is written.

    Several threads may use it; their calls take turns. A forked process opens one of its own.
    """

    def __init__(self, job: Job) -> None:
        """Raises JobError with all that is wrong with the job, and StoreError if the store cannot be opened."""
        if job.incoming is not None:
            raise JobError(
                "the job names what is to be merged, and a Merger is given its records with each call; leave it out "
                "of the job, or use merge"
            )
        if job.rejects_path is not None:
            raise JobError(
                "a file of rejects has those of one batch, and a Merger has many; keep them in a table: "
                'rejects = {table = "…"}, or take them from each result'
            )
        self.job = job
        self._resources = ExitStack()
        self._turn = threading.Lock()
        self._process = os.getpid()
        self._closed = False
        store = self._resources.enter_context(opened(job.store))
        self._resources.enter_context(store.kept_open())
        self._open = OpenJob(job, store)
        self._known = KnownHistory()
        try:
            with self._open.taking([]):
                pass
        except BaseException:
            self.close()
            raise

    def __enter__(self) -> Merger:
        return self

    def __exit__(self, *exception: object) -> None:
        self.close()

    def close(self) -> None:
        """Close what was opened; a call that is under way ends first. May be called again."""
        with self._turn:
            self._closed = True
            if self._process == os.getpid():  # else the connections are those of the other process
                self._resources.close()

    def merge(self, records: Any) -> Result:
        """Merge records: a list of dicts, or of objects with fields, or a frame; and what else `rm.merge` takes.

        Raises as `rm.merge` does. JobError if the Merger was closed, or opened by another process.
        """
        return self._merge(records, None)

    async def merge_async(self, records: Any) -> Result:
        """`merge`, in a thread of its own, while the event loop goes on.

        If the task is cancelled before the transaction is committed, it is undone; else the result is given all the
        same.
        """
        cancelled = threading.Event()
        work = asyncio.get_running_loop().run_in_executor(None, partial(self._merge, records, cancelled))
        try:
            return await asyncio.shield(work)
        except asyncio.CancelledError:
            cancelled.set()
            while not work.done():
                with suppress(asyncio.CancelledError, Exception):
                    await asyncio.shield(work)
            if isinstance(work.exception(), _Cancelled):
                raise
        if (task := asyncio.current_task()) is not None:
            task.uncancel()
        return work.result()

    def _merge(self, records: Any, cancelled: threading.Event | None) -> Result:
        if records is None:
            raise JobError("there is nothing to merge; give a Merger its records with each call")

        def check() -> None:
            if cancelled is not None and cancelled.is_set():
                raise _Cancelled

        with self._turn:
            self._check_open()
            return take(self._open, records, True, Company(known=self._known, before_commit=check))

    def _check_open(self) -> None:
        if self._closed:
            raise JobError("this Merger is closed; open another one")
        if self._process != os.getpid():
            raise JobError("this Merger was opened before the process was forked; open another one in this process")


class _Cancelled(Exception):
    """The caller does not want it any more, and nothing was committed."""
