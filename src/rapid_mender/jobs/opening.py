"""The one door of merge, preview, explain, check and draft: what a job and a call name, opened and held together."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

from ..errors import JobError
from ..incoming import Options, Source, open_incoming
from ..incoming.rejected import check_rejects_path, is_ragged, schema_of
from ..stores.contract import Session, Store
from ..stores.urls import opened
from .hazards import look_for_hazards
from .job import Job
from .layouts import shape_of
from .plan import Plan


@dataclass(frozen=True)
class Opened:
    """A job whose store and batch are open, and the plan by which they go together."""

    job: Job
    store: Store
    source: Source
    plan: Plan


@contextmanager
def opened_job(job: Job, incoming: Any, writes: bool = False) -> Iterator[Opened]:
    """Open what is to be merged, and where; close at the end what was opened. `writes`: rejects will be, too.

    Raises JobError with all that is wrong with the job, IncomingError and StoreError if something cannot be opened.
    """
    if incoming is None and job.incoming is None:
        raise JobError("there is nothing to merge; give a batch, or name one in the job as incoming")
    if writes and job.rejects_path is not None:
        check_rejects_path(job.rejects_path.path, batch_of(job, incoming))
    source = source_of(job, incoming)
    with opened(job.store) as store:
        with store.begin(write=False) as session:
            plan = plan_of(session, job, source)
        if (schema := schema_of(source)) is not None:  # then all that is wrong can be told together
            plan.layouts.check_batch(schema.names, shape_of(schema))
        plan.raise_problems()
        yield Opened(job, store, source, plan)


def batch_of(job: Job, incoming: Any) -> Any:
    """What is to be merged: what the call gives, else what the job names."""
    return incoming if incoming is not None else job.batch


def source_of(job: Job, incoming: Any) -> Source:
    """What is to be merged, ready to be read. Raises IncomingError."""
    return open_incoming(batch_of(job, incoming), job.incoming.options if job.incoming is not None else Options())


def plan_of(session: Session, job: Job, source: Source | None) -> Plan:
    """A job bound to its table; what is wrong is among the plan's problems."""
    plan = Plan(job, session.describe(job.table), ragged=source is None or is_ragged(source))
    plan.bind_archive(session)
    look_for_hazards(plan)
    return plan
