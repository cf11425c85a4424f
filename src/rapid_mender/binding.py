"""Binding a job to its table and its batch, before a row is read."""

from __future__ import annotations

from .hazards import look_for_hazards
from .incoming import Source
from .incoming.rejected import is_ragged, schema_of
from .job import Job
from .layouts import shape_of
from .plan import Plan
from .stores.base import Store


def bind(job: Job, store: Store, source: Source) -> Plan:
    """A job bound to its table and to what is known of the batch. Raises JobError with all that is wrong."""
    with store.begin(write=False) as session:
        plan = Plan(job, session.describe(job.table), ragged=is_ragged(source))
        plan.bind_archive(session)
        look_for_hazards(plan)
    if (schema := schema_of(source)) is not None:  # then all that is wrong can be told together
        plan.layouts.check_batch(schema.names, shape_of(schema))
    plan.raise_problems()
    return plan
