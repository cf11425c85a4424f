"""Preview and merge, as they are called."""

from __future__ import annotations

import time
from typing import Any

from ..errors import UncertainError
from ..incoming import Source
from ..jobs.job import Job
from ..jobs.opening import OpenJob, source_of
from ..stores.urls import opened
from .batch import Progress
from .beside import Beside
from .company import Company
from .kept_jobs import KeptJob, kept_job
from .result import Result
from .run import Run, TableAltered

_TRIES = 5


def preview(job: Job, incoming: Any = None, *, by: str | None = None, progress: Progress | None = None) -> Result:
    """Say what `merge` would do with the same job and batch. Writes nothing.

    With `by`, a column or an SQL expression over the table's columns, `result.groups` counts by group.

    The result has, besides the counts and decisions, `samples`: some records of each decision beside the
    rows that they meet. What only the database can refuse (a foreign key, a check) is not known beforehand.
    Raises as `merge` does; a limit that a merge would stop at is a warning.
    """
    with opened(job.store) as store:
        return take(OpenJob(job, store), incoming, False, Company(progress, by))


def merge(job: Job, incoming: Any = None, *, by: str | None = None, progress: Progress | None = None) -> Result:
    """Merge a batch into a table, in one transaction, or in one for every `commit_every` records.

    With `by`, a column or an SQL expression over the table's columns, `result.groups` counts by group.

    `incoming` is a path (CSV, JSON Lines, Parquet), an Arrow, pandas or polars frame, a list of dicts, or an
    iterator of record batches; without it the job's own is read. A bad record is rejected with a reason and
    never stops the run. Raises JobError if the job does not fit the table or the batch, IncomingError if the
    batch cannot be read, StoreError if the store refuses, LimitError past max_rejects or max_deletes; then
    nothing is written, but for what was committed before with `commit_every`.
    """
    company = Company(progress, by)
    kept = kept_job(job, job.store) if by is None and progress is None and isinstance(incoming, list) else None
    if kept is None or not kept.turn.acquire(blocking=False):
        with opened(job.store) as store:
            return take(OpenJob(job, store), incoming, True, company)
    try:
        return _take_again(kept, source_of(job, incoming))
    finally:
        kept.turn.release()


def _take_again(kept: KeptJob, source: Source) -> Result:
    """Take a batch of a kept job through."""
    taken = kept.fast.take(source)
    if kept.fast.tries(taken) and taken is not None:
        for outcome in kept.fast.merge([taken], lambda: None):
            if isinstance(outcome, UncertainError):
                raise outcome
            return outcome
    result = take(kept.open, source, True, Company(known=kept.known))
    kept.fast.learn(kept.open, kept.known, source, result)
    return result


def merge_beside(job: Job, incoming: Any, beside: Beside) -> Result:
    """Merge, as `merge` does, and do something else in the same transaction."""
    with opened(job.store) as store:
        return take(OpenJob(job, store), incoming, True, Company(beside=beside))


def take(job: OpenJob, incoming: Any, write: bool, company: Company) -> Result:
    """Take a batch through, by a job that is open."""
    tries = 0
    while True:
        began = time.perf_counter()
        with job.taking(incoming, write) as door:
            try:
                return Run(door, write, began, company).go()
            except TableAltered:
                tries += 1
                if not door.again or tries == _TRIES:
                    raise
                job.forget()
