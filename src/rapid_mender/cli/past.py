"""rmend undo, rmend as-of and rmend verify: the history put to work."""

from __future__ import annotations

from contextlib import closing
from typing import TYPE_CHECKING, Annotated

import typer

from .exits import DIFFERS, STOPPED, errors_in_words, output
from .options import AsJson, Force, Key, Names, OtherStore, Table, Where, pairs, place_of

if TYPE_CHECKING:
    from ..stores.contract import Store

Number = Annotated[int | None, typer.Argument(metavar="BATCH", help="The number of the batch.")]


def undo(
    where: Where,
    batch: Number = None,
    since_batch: Annotated[
        int | None, typer.Option("--since-batch", metavar="N", help="This batch and all later ones of its table.")
    ] = None,
    since: Annotated[
        str | None, typer.Option("--since", metavar="TIME", help="Changes of the table from this time on (UTC).")
    ] = None,
    until: Annotated[str | None, typer.Option("--until", metavar="TIME", help="Changes until this time.")] = None,
    actor: Annotated[str | None, typer.Option("--actor", metavar="NAME", help="Changes that he made.")] = None,
    application: Annotated[
        str | None, typer.Option("--application", metavar="NAME", help="Changes that this program made.")
    ] = None,
    preview: Annotated[bool, typer.Option("--preview", help="Show what would be put back, and write nothing.")] = False,
    rest: Annotated[bool, typer.Option("--rest", help="Leave rows that were changed since, undo the others.")] = False,
    force: Annotated[
        bool, typer.Option("--force", help="Put back rows that were changed since, too, and altered batches.")
    ] = False,
    table: Table = None,
    other: OtherStore = None,
    set: Names = None,
    json: AsJson = False,
) -> None:
    """Put back what a batch did, or what somebody or a program did since a time, as a batch of its own.

    A row that was changed since is a conflict: all are shown, and nothing is undone, unless --rest or --force.
    """
    with errors_in_words(writes=not preview):
        from .. import documents
        from ..errors import ConflictError
        from ..merging.undo import undo
        from . import draw_past, screen

        store, name, _ = place_of(where, other, set, table, needed=False)
        stopped = False
        try:
            done = undo(
                store, batch, since_batch=since_batch, table=name or None, since=since, until=until, actor=actor,
                application=application, rest=rest, force=force, preview=preview,
            )  # fmt: skip
        except ConflictError as error:
            done, stopped = error.undone, True
        with output():
            if json:
                screen.print_json(documents.of_undone(done))
            else:
                draw_past.undone(done, preview, stopped)
    if stopped:
        raise typer.Exit(STOPPED)


def as_of(
    where: Where,
    when: Annotated[str | None, typer.Option("--when", metavar="TIME", help="At this time (UTC).")] = None,
    batch: Annotated[int | None, typer.Option("--batch", metavar="N", help="After this batch.")] = None,
    position: Annotated[int | None, typer.Option("--position", metavar="N", help="After this change.")] = None,
    key: Key = None,
    out: Annotated[
        str | None, typer.Option("--out", metavar="FILE", help="Write all rows to a CSV, JSON Lines or Parquet file.")
    ] = None,
    to: Annotated[str | None, typer.Option("--to", metavar="URL", help="Write all rows to a new table there.")] = None,
    to_table: Annotated[str | None, typer.Option("--to-table", metavar="NAME", help="The name of that table.")] = None,
    as_known: Annotated[
        bool, typer.Option("--as-known", help="A time before the history begins is taken for its beginning.")
    ] = False,
    force: Force = False,
    limit: Annotated[int, typer.Option("--limit", min=1, help="Show so many rows.")] = 20,
    table: Table = None,
    other: OtherStore = None,
    set: Names = None,
    json: AsJson = False,
) -> None:
    """Show a table as it was, or one row of it, or the life of one record.

    With --key and a time, batch or position the one row is shown; with --key alone the rows that a record has had, with
    the spans in which they stood.
    """
    with errors_in_words():
        from .. import documents
        from ..changes.as_of import as_it_was
        from ..changes.export import into_table, write_file
        from ..errors import JobError
        from ..incoming import Spool
        from ..stores.urls import opened
        from . import draw_past, screen

        store, name, _ = place_of(where, other, set, table)
        if (to is None) != (to_table is None):
            raise JobError("a new table needs both: --to, its store, and --to-table, its name")
        given = pairs("--key", "COLUMN=VALUE", key) if key else None
        if given is not None and when is None and batch is None and position is None:
            show_life(store, name, given, json, force)
            return
        spool = Spool()
        with opened(store) as place, place.begin(write=False) as session:
            info, pages = as_it_was(
                session, name, when=when, batch=batch, position=position, key=given, as_known=as_known, force=force
            )
            if out is not None:
                count = write_file(out, info.schema, pages)
                screen.say(f"Wrote {screen.counted(count, 'row')} to {out}.")
            elif to is not None:
                for page in pages:  # kept, so that it can be written where it is read
                    spool.put(page)
            elif json:
                screen.print_json({"table": name, "rows": [row for page in pages for row in documents.of_rows(page)]})
            else:
                draw_past.rows(pages, info.names, limit)
        if to is not None and to_table is not None:
            with closing(spool):
                count = into_table(to, to_table, info, spool)
                screen.say(f"Wrote {screen.counted(count, 'row')} to the new table {to_table}.")


def verify(
    where: Where,
    expect: Annotated[
        str | None, typer.Option("--expect", metavar="HASH", help="The seal that was noted elsewhere.")
    ] = None,
    table: Table = None,
    other: OtherStore = None,
    set: Names = None,
    json: AsJson = False,
) -> None:
    """Make sure that the history and the table say the same, and nobody altered it.

    Exits with 4 if they do not.
    """
    with errors_in_words():
        from .. import documents
        from ..changes.verify import verify
        from . import draw_past, screen

        store, name, _ = place_of(where, other, set, table)
        done = verify(store, name, expect=expect)
        if json:
            screen.print_json(documents.of_verified(done))
        else:
            draw_past.verified(done)
        if not done.holds:
            raise typer.Exit(DIFFERS)


def prune(
    where: Where,
    before: Annotated[str | None, typer.Option("--before", metavar="TIME", help="Changes before this time.")] = None,
    before_batch: Annotated[
        int | None, typer.Option("--before-batch", metavar="N", help="Changes of batches before this one.")
    ] = None,
    yes: Annotated[bool, typer.Option("--yes", help="Remove them; without it, it is only said how many.")] = False,
    force: Annotated[
        bool, typer.Option("--force", help="Also what a follower has still to see; it loses its place.")
    ] = False,
    table: Table = None,
    other: OtherStore = None,
    set: Names = None,
    json: AsJson = False,
) -> None:
    """Remove the oldest changes of a history.

    Without --yes nothing is removed. What is left can still be undone, looked into and verified.
    """
    with errors_in_words():
        from .. import documents
        from ..changes.prune import prune
        from . import draw_past, screen

        store, name, _ = place_of(where, other, set, table)
        done = prune(store, name, before=before, before_batch=before_batch, preview=not yes, force=force)
        with output():
            if json:
                screen.print_json(documents.of_pruned(done))
            else:
                draw_past.pruned(done)


def show_life(store: str | Store, table: str, key: dict[str, str], json: bool, force: bool = False) -> None:
    """Show the versions of one thing, or the rows that a record has had."""
    from .. import documents
    from ..changes.as_of import past_life
    from ..changes.valid import versions_of
    from ..stores.urls import opened
    from . import draw_past, draw_versions, screen

    with opened(store) as place, place.begin(write=False) as session:
        kept = versions_of(session, table, key)
        rows = kept.rows.values if kept is not None else past_life(session, table, key, force)
    if json:
        screen.print_json({"table": table, "rows": documents.of_rows(rows)})
    elif kept is not None:
        draw_versions.life(kept, table, key)
    else:
        draw_past.life(rows, table)
