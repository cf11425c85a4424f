"""rmend batches and rmend history."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from .exits import errors_in_words
from .options import AsJson, Force, Key, Names, OtherStore, Table, Where, pairs, place_of
from .past import show_life

if TYPE_CHECKING:
    from ..stores.contract import Store

Limit = Annotated[int, typer.Option("--limit", min=1, help="Show the newest so many.")]


def batches(
    where: Where,
    table: Annotated[str | None, typer.Option("--table", help="Only the batches of this table.")] = None,
    batch: Annotated[int | None, typer.Option("--batch", metavar="N", help="One batch, in full.")] = None,
    limit: Limit = 20,
    set: Names = None,
    json: AsJson = False,
) -> None:
    """List the batches of a store.

    When, what, by whom, and how many of each decision.
    """
    with errors_in_words():
        from .. import documents
        from ..changes.query import batches, one_batch
        from ..stores.urls import open_store
        from . import draw_history, screen

        store, _, _ = place_of(where, None, set, needed=False)
        if batch is not None:
            run = one_batch(store, batch)
            if json:
                screen.print_json({"store": open_store(store).where, **run})
            else:
                draw_history.batch(run)
            return
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
    column: Annotated[str | None, typer.Option("--column", help="Only what changed in this column.")] = None,
    actor: Annotated[str | None, typer.Option("--actor", help="Only changes by this user.")] = None,
    application: Annotated[str | None, typer.Option("--application", help="Only changes by this program.")] = None,
    since: Annotated[str | None, typer.Option("--since", metavar="TIME", help="Not before this time (UTC).")] = None,
    until: Annotated[str | None, typer.Option("--until", metavar="TIME", help="Not after this time (UTC).")] = None,
    after: Annotated[int | None, typer.Option("--after", metavar="N", help="Only changes after number N.")] = None,
    before: Annotated[int | None, typer.Option("--before", metavar="N", help="Only changes before number N.")] = None,
    limit: Limit = 20,
    wide: Annotated[bool, typer.Option("--wide", help="Whole rows, one line a change.")] = False,
    words: Annotated[bool, typer.Option("--words", help="A sentence for each change.")] = False,
    life: Annotated[
        list[str] | None,
        typer.Option("--life", metavar="COLUMN=VALUE", help="The versions of one thing, as a line of time."),
    ] = None,
    index: Annotated[
        bool, typer.Option("--index", help="First give the history indexes by which one record is found fast.")
    ] = False,
    out: Annotated[
        str | None,
        typer.Option("--out", metavar="FILE", help="Write all of them: .csv, .jsonl, .parquet or .events.jsonl."),
    ] = None,
    force: Force = False,
    other: OtherStore = None,
    set: Names = None,
    json: AsJson = False,
) -> None:
    """Show the changes of a table, or of one record.

    When, in which batch, by whom, from what to what. --out writes a file, .events.jsonl as CloudEvents.
    """
    with errors_in_words():
        from .. import documents
        from ..changes.indexing import index_history, wants_index
        from ..changes.query import history
        from ..errors import JobError
        from ..stores.urls import open_store
        from . import draw_history, screen

        store, name, job_key = place_of(where, other, set, table)
        if life:
            show_life(store, name, pairs("--life", "COLUMN=VALUE", life), json, force)
            return
        if force:
            raise JobError("--force goes with --life; a list of changes shows altered batches as they are")
        given = pairs("--key", "COLUMN=VALUE", key)
        filters: dict[str, Any] = {
            "key": given, "batch": batch, "action": action, "column": column, "actor": actor,
            "application": application, "since": since, "until": until, "after": after, "before": before,
        }  # fmt: skip
        if index:
            made = index_history(store, name)
            typer.echo(f"Made {len(made)} indexes." if made else "The indexes are there.", err=True)
        if out is not None:
            count = _written(out, store, name, job_key, filters)
            screen.say(f"Wrote {screen.counted(count, 'change')} to {out}.")
            return
        changes = history(store, name, **filters, limit=limit)
        if json:
            shown = {"store": open_store(store).where, "table": name}
            screen.print_json(shown | {"changes": documents.of_changes(changes)})
            return
        identity = job_key or _identity(store, name)
        whole = {column.lower() for column in identity} <= {column.lower() for column in given}
        drawn = draw_history.Drawn(changes, name, [] if given and whole else identity, changes.num_rows == limit)
        if given and wants_index(store, name):
            drawn.note = "The history is large, and has no index for this: --index makes one."
        if words:
            drawn.words()
        elif wide:
            drawn.wide()
        else:
            drawn.lines(column)


def _written(path: str, store: str | Store, table: str, key: list[str], filters: dict[str, Any]) -> int:
    """Write changes to a file; returns how many."""
    from itertools import chain

    from ..changes.events import Page, event_lines
    from ..changes.export import write_file, write_lines
    from ..changes.query import history_pages
    from ..stores.urls import open_store

    pages = history_pages(store, table, **filters)
    first = next(pages)
    every = chain([first], pages)
    if path.lower().endswith(".events.jsonl"):
        names = key or _identity(store, table)
        return write_lines(path, event_lines(map(Page, every), open_store(store).where, table, names))
    return write_file(path, first.schema, every)


def _identity(store: str | Store, table: str) -> list[str]:
    """The columns that tell the rows of a table with a history apart; none if that is not known."""
    from ..changes.past import past_of
    from ..errors import JobError
    from ..stores.urls import opened

    with opened(store) as place, place.begin(write=False) as session:
        try:
            return past_of(session, table).key
        except JobError:
            return []
