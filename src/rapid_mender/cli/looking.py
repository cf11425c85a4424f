"""rmend batches and rmend history."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING, Annotated

import typer

from .exits import errors_in_words
from .merging import AsJson

if TYPE_CHECKING:
    from ..stores.base import Store

Where = Annotated[str, typer.Argument(metavar="JOB|STORE", help="A job file, or a store URL.")]
Limit = Annotated[int, typer.Option("--limit", min=1, help="Show the newest so many.")]
Moment = datetime | None
_FORMATS = ["%Y-%m-%d", "%Y-%m-%dT%H:%M:%S", "%Y-%m-%d %H:%M:%S"]


def batches(
    where: Where,
    table: Annotated[str | None, typer.Option("--table", help="Only the batches of this table.")] = None,
    limit: Limit = 20,
    json: AsJson = False,
) -> None:
    """List the batches of a store.

    When, what, by whom, and how many of each decision.
    """
    with errors_in_words():
        from ..history import batches
        from . import draw

        store, _, _ = _place(where)
        found = batches(store, table=table, limit=limit)
        if json:
            draw.json({"store": draw.store_name(store), "batches": draw.rows(found)})
        else:
            draw.batches(found, draw.store_name(store))


def history(
    where: Where,
    table: Annotated[str | None, typer.Option("--table", help="The table; needed with a store URL.")] = None,
    key: Annotated[
        list[str] | None,
        typer.Option("--key", metavar="COLUMN=VALUE", help="One record; once for each key column."),
    ] = None,
    batch: Annotated[int | None, typer.Option("--batch", help="Only this batch.")] = None,
    action: Annotated[str | None, typer.Option("--action", help="Only insert, update or delete.")] = None,
    column: Annotated[str | None, typer.Option("--column", help="Only updates that changed this column.")] = None,
    since: Annotated[Moment, typer.Option("--since", formats=_FORMATS, help="Not before this time (UTC).")] = None,
    until: Annotated[Moment, typer.Option("--until", formats=_FORMATS, help="Not after this time (UTC).")] = None,
    limit: Limit = 20,
    json: AsJson = False,
) -> None:
    """Show the changes of a table, or of one record.

    When, in which batch, by whom, from what to what.
    """
    with errors_in_words():
        from ..errors import JobError
        from ..history import history
        from . import draw

        store, job_table, job_key = _place(where)
        name = table or job_table
        if name is None:
            raise JobError("name the table with --table, or give a job file instead of a store URL")
        found = history(
            store,
            name,
            key=key_values(key),
            batch=batch,
            action=action,
            column=column,
            since=since,
            until=until,
            limit=limit,
        )
        if json:
            draw.json({"store": draw.store_name(store), "table": name, "changes": draw.changes(found)})
        else:
            identity = [] if key else job_key or _primary_key(store, name)
            draw.history(found, name, identity, full=found.num_rows == limit)


def _place(where: str) -> tuple[str | Store, str | None, list[str]]:
    """The store, and the table and the key if a job file names them."""
    if "://" in where:
        return where, None, []
    from ..job import Job

    job = Job.load(where)
    return job.store, job.table, job.key


def _primary_key(store: str | Store, table: str) -> list[str]:
    from ..stores.base import opened

    with opened(store) as place, place.begin(write=False) as session:
        return list(session.describe(table).primary_key)


def key_values(pairs: list[str] | None) -> dict[str, str]:
    """COLUMN=VALUE words as a mapping."""
    from ..errors import JobError

    key = {}
    for pair in pairs or []:
        name, separator, value = pair.partition("=")
        if not separator or not name:
            raise JobError(f"--key {pair!r} is not COLUMN=VALUE")
        key[name] = value
    return key
