"""A merge kept open: records are merged as they come, a few at a time."""

from __future__ import annotations

import asyncio
import logging
import os
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack, suppress
from functools import partial
from typing import Any

from ..changes.group_recorder import NotTogether
from ..changes.identity import KnownHistory
from ..errors import JobError
from ..incoming.open import Frame
from ..jobs.batch_span import span_of
from ..jobs.job import Job
from ..jobs.opening import OpenJob, source_of
from ..stores.guests import guest_store
from ..stores.urls import opened
from .company import Company
from .fast_way import FastWay
from .group_commit import MOST, Call, Withdrawn, may_group, merge_together
from .merge import take
from .open_batch import OpenBatch
from .result import Result
from .turns import Turns

_THREADS = 32
_log = logging.getLogger("rapid_mender")


class Merger:
    """A job that is kept open for records that come one by one, or a few at a time.

    with rm.Merger(job) as merger:
        result = merger.merge([{"district": "Northfold", "tag_no": 17, "height_m": 9.5}])
        result.first.decision

    The store is opened, and the job checked and bound to its table, once. Each call of `merge` is a batch of its own,
    in one transaction, with all that `rm.merge` promises. When another program has altered the table, the job is bound
    anew before a row is written. With `batches = "hourly"` (or "daily", "15 minutes" …) in the job, calls go on with
    one batch for so long, unless somebody else has written a batch of the table meanwhile.

    Several threads may use it. Calls that wait while another is merged are merged together then, in one transaction
    (group commit): each is a batch of its own all the same, has its own result, and fails alone. A forked process opens
    a Merger of its own.
    """

    def __init__(self, job: Job, connection: Any = None) -> None:
        """With `connection` (of sqlite3, psycopg or PyMySQL, or a session or connection of SQLAlchemy over one of them)
        records are merged in the transaction that this has open, and its owner commits or rolls back; the job's store
        is not opened then. A call that fails undoes what it did, and leaves the rest of the transaction.

        Raises JobError with all that is wrong with the job, and StoreError if the store cannot be opened.
        """
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
        self._turns: Turns[Call] = Turns()
        self._threads = ThreadPoolExecutor(_THREADS, "rmend-merger")
        """Those in which calls of `merge_async` wait."""
        self._process = os.getpid()
        self._closed = False
        if connection is None:
            store = self._resources.enter_context(opened(job.store))
            self._resources.enter_context(store.kept_open())
        else:
            store = guest_store(connection)
            self._resources.callback(store.close)
        self._open = OpenJob(job, store)
        self._known = KnownHistory()
        span = span_of(job.batches)
        self._batch = OpenBatch(span) if span is not None else None
        self._fast = FastWay()
        try:
            with self._open.taking([]) as door:
                self._groups = may_group(door.plan)
        except BaseException:
            self.close()
            raise

    def __enter__(self) -> Merger:
        return self

    def __exit__(self, *exception: object) -> None:
        self.close()

    def close(self) -> None:
        """Close what was opened; a call that is under way ends first. May be called again."""
        if self._process != os.getpid():  # the connections are those of the other process, and whoever has the turn
            self._closed = True
            return
        with self._turns.turn(Call(Frame("nothing"))):
            self._closed = True
            self._threads.shutdown(wait=False)
            self._fast.close()
            self._resources.close()

    def merge(self, records: Any) -> Result:
        """Merge records: a list of dicts, or of objects with fields, or a frame; and what else `rm.merge` takes.

        Raises as `rm.merge` does. JobError if the Merger was closed, or opened by another process.
        """
        return self._merge(records, threading.Event())

    async def merge_async(self, records: Any) -> Result:
        """`merge`, in a thread of its own, while the event loop goes on.

        If the task is cancelled before the transaction is committed, it is undone; else the result is given all the
        same.
        """
        withdrawn = threading.Event()
        work = asyncio.get_running_loop().run_in_executor(self._threads, partial(self._merge, records, withdrawn))
        try:
            return await asyncio.shield(work)
        except asyncio.CancelledError:
            withdrawn.set()
            while not work.done():
                with suppress(asyncio.CancelledError, Exception):
                    await asyncio.shield(work)
            if isinstance(work.exception(), Withdrawn):
                raise
        if (task := asyncio.current_task()) is not None:
            task.uncancel()
        return work.result()

    def _merge(self, records: Any, withdrawn: threading.Event) -> Result:
        if records is None:
            raise JobError("there is nothing to merge; give a Merger its records with each call")
        self._check_open()
        call = Call(source_of(self.job, records), withdrawn)
        call.taken = self._fast.take(call.source)
        if call.taken is None and self._groups and self._turns.crowded:
            call.look(self.job.key)
        try:
            with self._turns.turn(call) as mine:
                if mine:
                    self._serve(call)
        except BaseException:  # an interrupt: nobody is to merge it any more
            call.withdrawn.set()
            raise
        if call.error is not None:
            raise call.error
        assert call.result is not None
        return call.result

    def _serve(self, call: Call) -> None:
        """Merge a call, together with others that wait if that can be."""
        self._check_open()
        if self._merge_fast(call):
            return
        others = self._turns.gather(partial(_others, call)) if call.chunk is not None else []
        if others:
            self._merge_together([call, *others])
        if not call.done:
            call.check()
            call.result = take(self._open, call.source, True, self._company(call.check))
        if call.result is not None:
            self._fast.learn(self._open, self._known, call.source, call.result)

    def _merge_fast(self, call: Call) -> bool:
        """Merge a call, and others that wait, the fast way. Returns whether it could be."""
        if not self._fast.tries(call.taken):
            return False
        calls = [call, *self._turns.gather(partial(_others_fast, call))]

        def check() -> None:
            for one in calls:
                one.check()

        try:
            outcomes = self._fast.merge([one.taken for one in calls if one.taken is not None], check)
        except Withdrawn:
            return False
        for one, outcome in zip(calls, outcomes, strict=False):
            if isinstance(outcome, Exception):
                one.error = outcome
            else:
                one.result = outcome
        return bool(outcomes)

    def _merge_together(self, calls: list[Call]) -> None:
        def check() -> None:
            if any(one.withdrawn.is_set() for one in calls):
                raise NotTogether

        try:
            merge_together(self._open, calls, self._company(check))
        except Exception as error:  # each is merged alone then, and fails alone
            _log.info("%d calls are merged one by one: %s", len(calls), error or type(error).__name__)
            for one in calls:
                one.chunk = None

    def _company(self, before_commit: Callable[[], None]) -> Company:
        return Company(known=self._known, open_batch=self._batch, before_commit=before_commit)

    def _check_open(self) -> None:
        if self._closed:
            raise JobError("this Merger is closed; open another one")
        if self._process != os.getpid():
            raise JobError("this Merger was opened before the process was forked; open another one in this process")


def _others_fast(call: Call, waiting: list[Call]) -> list[Call]:
    """Those of the calls that wait that go the fast way together with one: those that have no key in common."""
    assert call.taken is not None
    others, keys = list[Call](), call.taken.keys
    for one in waiting:
        taken = one.taken
        if taken is None or taken.path is not call.taken.path or one.withdrawn.is_set():
            continue
        if len(keys) + len(taken.records) > MOST:
            break
        if keys.isdisjoint(taken.keys):
            others.append(one)
        keys |= taken.keys
    return others


def _others(call: Call, waiting: list[Call]) -> list[Call]:
    """Those of the calls that wait that go together with one: in order, and not more than are merged together."""
    others = list[Call]()
    if call.chunk is None:
        return others
    room, keys = MOST - len(call.chunk.rows), set(call.keys)
    for one in waiting:
        if one.withdrawn.is_set() or one.chunk is None or not one.goes_with(call):
            continue
        room -= len(one.chunk.rows)
        if room < 0:
            break
        if keys.isdisjoint(one.keys):
            others.append(one)
        keys |= one.keys
    return others
