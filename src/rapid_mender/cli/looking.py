"""rmend batches and rmend history."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING, Annotated

import typer

from .exits import errors_in_words
from .options import AsJson, Key, Names, OtherStore, Table, Where, pairs, place_of

if TYPE_CHECKING:
    from ..stores.contract import Store

Limit = Annotated[int, typer.Option("--limit", min=1, help="Show the newest so many.")]
Moment = datetime | None
_FORMATS = ["%Y-%m-%d", "%Y-%m-%dT%H:%M:%S", "%Y-%m-%d %H:%M:%S"]


def batches(
    where: Where,
    table: Annotated[str | None, typer.Option("--table", help="Only the batches of this table.")] = None,
    limit: Limit = 20,
    set: Names = None,
    json: AsJson = False,
) -> None:
    """List the batches of a store.

    When, what, by whom, and how many of each decision.
    """
    with errors_in_words():
        from .. import documents
        from ..changes.query import batches
        from ..stores.urls import open_store
        from . import draw_history, screen

        store, _, _ = place_of(where, None, set)
        rows = batches(store, table=table, limit=limit)
        if json:
            screen.print_json({"store": open_store(store).where, "batches": documents.of_batches(rows)})
        else:
            draw_history.batches(rows, open_store(store).where, table)


def history(
    where: Where,
    table: Table = None,
    key: Key = None,
    batch: Annotated[int | None, typer.Option("--batch", help="Only this batch.")] = None,
    action: Annotated[str | None, typer.Option("--action", help="Only insert, update or delete.")] = None,
    column: Annotated[str | None, typer.Option("--column", help="Only updates that changed this column.")] = None,
    since: Annotated[Moment, typer.Option("--since", formats=_FORMATS, help="Not before this time (UTC).")] = None,
    until: Annotated[Moment, typer.Option("--until", formats=_FORMATS, help="Not after this time (UTC).")] = None,
    limit: Limit = 20,
    other: OtherStore = None,
    set: Names = None,
    json: AsJson = False,
) -> None:
    """Show the changes of a table, or of one record.

    When, in which batch, by whom, from what to what.
    """
    with errors_in_words():
        from .. import documents
        from ..changes.query import history
        from ..errors import JobError
        from ..stores.urls import open_store
        from . import draw_history, screen

        store, name, job_key = place_of(where, other, set, table)
        if not name:
            raise JobError("name the table with --table, or give a job file instead of a store URL")
        given = pairs("--key", "COLUMN=VALUE", key)
        changes = history(
            store,
            name,
            key=given,
            batch=batch,
            action=action,
            column=column,
            since=since,
            until=until,
            limit=limit,
        )
        if json:
            screen.print_json(
                {"store": open_store(store).where, "table": name, "changes": documents.of_changes(changes)}
            )
        else:
            identity = job_key or _primary_key(store, name)
            whole = {column.lower() for column in identity} <= {column.lower() for column in given}
            draw_history.history(changes, name, [] if given and whole else identity, full=changes.num_rows == limit)


def _primary_key(store: str | Store, table: str) -> list[str]:
    from ..stores.urls import opened

    with opened(store) as place, place.begin(write=False) as session:
        return list(session.describe(table).primary_key)
