"""The one door of merge, preview and explain: what a job and a call name, opened and held together. `check` goes by
its parts, since it tells of what cannot be opened."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from typing import Any

from ..errors import JobError
from ..incoming import Options, Source, open_incoming
from ..incoming.rejected import check_rejects_path, is_ragged, schema_of
from ..stores.contract import Session, Store
from ..stores.urls import opened
from .binding import bind
from .hazards import look_for_hazards
from .job import Job
from .layouts import Layouts, shape_of
from .plan import Plan
from .problems import Problems


@dataclass(frozen=True)
class Opened:
    """A job whose store and batch are open, and the plan by which they go together."""

    job: Job
    store: Store
    source: Source
    plan: Plan
    layouts: Layouts
    problems: Problems
    """What may surprise; by now nothing is wrong."""
    _planning: ExitStack
    """Holds the session open in which the plan was made, while it is of use."""
    _session: Session

    @contextmanager
    def first_session(self) -> Iterator[Session]:
        """A session for reading the batch, which writes nothing: that of the plan, if the batch is at hand.

        Other batches may take long to be read, or be read from the same store.
        """
        if self.source.at_hand:
            with self._planning:
                yield self._session
        else:
            with self.store.begin(write=False, guests=self.source.only_once) as session:
                yield session


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
    with opened(job.store) as store, ExitStack() as planning:
        session = planning.enter_context(store.begin(write=False))
        plan, problems = plan_of(session, job, source, trusting=writes)
        if not source.at_hand:
            planning.close()
        layouts = Layouts(plan, problems)
        if (schema := schema_of(source)) is not None:  # then all that is wrong can be told together
            layouts.check_batch(schema.names, shape_of(schema))
        problems.raise_all()
        yield Opened(job, store, source, plan, layouts, problems, planning, session)


def batch_of(job: Job, incoming: Any) -> Any:
    """What is to be merged: what the call gives, else what the job names."""
    return incoming if incoming is not None else job.batch


def source_of(job: Job, incoming: Any) -> Source:
    """What is to be merged, ready to be read. Raises IncomingError."""
    return open_incoming(batch_of(job, incoming), job.incoming.options if job.incoming is not None else Options())


def plan_of(session: Session, job: Job, source: Source | None, trusting: bool = False) -> tuple[Plan, Problems]:
    """A job bound to its table, and what is wrong with it. `trusting`: as in `Catalog.describe`."""
    problems = Problems()
    plan = bind(session, job, source is None or is_ragged(source), problems, trusting)
    look_for_hazards(plan, problems)
    return plan, problems
