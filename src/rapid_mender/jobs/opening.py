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
class Bound:
    """A job bound to its table, as the table was then."""

    plan: Plan
    layouts: Layouts
    problems: Problems
    """What may surprise; by now nothing is wrong."""


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
    _session: Session | None

    @property
    def again(self) -> bool:
        """Whether the batch can be taken again, if the table turns out to be another than the one that was bound."""
        return self.source.few

    @contextmanager
    def first_session(self) -> Iterator[Session]:
        """A session for reading the batch, which writes nothing: that of the plan, if the batch is at hand.

        Other batches may take long to be read, or be read from the same store.
        """
        if self._session is not None:
            with self._planning:
                yield self._session
        else:
            with self.store.begin(write=False, guests=self.source.only_once) as session:
                yield session


class OpenJob:
    """A job whose store is open. What it is bound to is kept for further batches."""

    def __init__(self, job: Job, store: Store) -> None:
        self.job, self.store = job, store
        self._bound: dict[bool, Bound] = {}

    @contextmanager
    def taking(self, incoming: Any, writes: bool = False) -> Iterator[Opened]:
        """Open what is to be merged; close at the end what was opened. `writes`: rejects will be, too.

        Raises JobError with all that is wrong with the job, IncomingError and StoreError if something cannot be opened.
        """
        if incoming is None and self.job.incoming is None:
            raise JobError("there is nothing to merge; give a batch, or name one in the job as incoming")
        if writes and self.job.rejects_path is not None:
            check_rejects_path(self.job.rejects_path.path, batch_of(self.job, incoming))
        source = source_of(self.job, incoming)
        with ExitStack() as planning:
            session, ragged = None, is_ragged(source)
            bound = self._bound.pop(ragged, None)
            if not source.few or self.job.lookup:  # whether another table is as it was is not found out on the way
                bound = None
            if bound is not None:
                bound.problems.reset()
            else:
                session = planning.enter_context(self.store.begin(write=False))
                plan, problems = plan_of(session, self.job, source, trusting=writes)
                problems.keep()
                bound = Bound(plan, Layouts(plan, problems), problems)
            if not source.at_hand or source.few:
                planning.close()
                session = None
            if (schema := schema_of(source)) is not None:  # then all that is wrong can be told together
                bound.layouts.check_batch(schema.names, shape_of(schema))
            bound.problems.raise_all()
            self._bound[ragged] = bound
            yield Opened(self.job, self.store, source, bound.plan, bound.layouts, bound.problems, planning, session)

    @property
    def plan_of_few(self) -> Plan | None:
        """The job as it was bound for records that are Python objects."""
        bound = self._bound.get(True)
        return bound.plan if bound is not None else None

    def forget(self) -> None:
        """Bind the job anew for the next batch: the table was altered."""
        self._bound.clear()


@contextmanager
def opened_job(job: Job, incoming: Any, writes: bool = False) -> Iterator[Opened]:
    """Open a job's store, and what is to be merged, as `OpenJob.taking` does."""
    with opened(job.store) as store, OpenJob(job, store).taking(incoming, writes) as door:
        yield door


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
