"""rmend capture: recording what other programs write."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from .exits import errors_in_words, output
from .options import AsJson, Names, pairs, place_of

if TYPE_CHECKING:
    from ..stores.contract import Store

app = typer.Typer(
    name="capture",
    help="Record what other programs write to a table, in its history.",
    no_args_is_help=True,
    rich_markup_mode=None,
)
Where = Annotated[str, typer.Argument(metavar="STORE", help="A store URL, or a job file that names the store.")]
Table = Annotated[str, typer.Argument(metavar="TABLE", help="The table.")]
Print = Annotated[bool, typer.Option("--print", help="Do nothing; print the SQL, for somebody else to run.")]


@app.command()
def start(
    where: Where,
    table: Table,
    column: Annotated[
        list[str] | None,
        typer.Option("--column", metavar="NAME", help="Record only updates that change this column (or others)."),
    ] = None,
    action: Annotated[
        list[str] | None, typer.Option("--action", metavar="ACTION", help="Record only this: insert, update or delete.")
    ] = None,
    when: Annotated[
        str | None, typer.Option("--when", metavar="SQL", help="Record only where this holds, over new.X and old.X.")
    ] = None,
    actor: Annotated[
        str | None, typer.Option("--actor", metavar="SQL", help="Who did it, if not the user of the database.")
    ] = None,
    application: Annotated[
        str | None,
        typer.Option("--application", metavar="SQL", help="Which program did it, in the database's SQL."),
    ] = None,
    deletes: Annotated[
        str, typer.Option("--deletes", metavar="HOW", help="record deletes, mark the row instead, or refuse them.")
    ] = "record",
    mark: Annotated[
        list[str] | None, typer.Option("--mark", metavar="COLUMN=SQL", help="What a mark sets, for --deletes mark.")
    ] = None,
    says: Annotated[
        str | None, typer.Option("--says", metavar="TEXT", help="The text with which deletes are refused.")
    ] = None,
    truncate: Annotated[
        str, typer.Option("--truncate", metavar="HOW", help="record a TRUNCATE as deletes, or refuse it.")
    ] = "record",
    only_print: Print = False,
    set: Names = None,
    json: AsJson = False,
) -> None:
    """Record from now on what any program writes to the table."""
    with errors_in_words(writes=not only_print):
        from .. import documents
        from ..changes.capture import capture
        from . import draw_capture, screen

        store = _store(where, set)
        done = capture(
            store, table, columns=column or (), actions=action, when=when, actor=actor,
            application=application, deletes=deletes, mark=pairs("--mark", "COLUMN=SQL", mark), says=says,  # type: ignore[arg-type]
            truncate=truncate, preview=only_print,  # type: ignore[arg-type]
        )  # fmt: skip
        with output():
            if json:
                screen.print_json(documents.of_captured(done, statements=only_print))
            elif only_print:
                draw_capture.statements(store, done.statements)
            else:
                draw_capture.started(done)


@app.command("list")
def list_(where: Where, set: Names = None, json: AsJson = False) -> None:
    """List the tables of a store that are captured, and what is to be known of them."""
    with errors_in_words():
        from .. import documents
        from ..changes.capture import captures
        from ..stores.urls import open_store
        from . import draw_capture, screen

        store = _store(where, set)
        every = captures(store)
        if json:
            documents_of = [documents.of_captured(one) for one in every]
            screen.print_json({"store": open_store(store).where, "captures": documents_of})
        else:
            draw_capture.captures(every, open_store(store).where)


@app.command()
def stop(where: Where, table: Table, only_print: Print = False, set: Names = None, json: AsJson = False) -> None:
    """Record no longer what others write; the history stays."""
    with errors_in_words(writes=not only_print):
        from ..changes.capture import stop_capture
        from . import draw_capture, screen

        store = _store(where, set)
        run = stop_capture(store, table, preview=only_print)
        with output():
            if json:
                screen.print_json({"table": table, "capture": "stop", **({"statements": run} if only_print else {})})
            elif only_print:
                draw_capture.statements(store, run)
            else:
                screen.say(f"{table} is captured no longer. Its history stays.")


@app.command()
def pause(where: Where, table: Table, set: Names = None, json: AsJson = False) -> None:
    """Record nothing for a while; that something may be missing is noted."""
    from ..changes.pauses import pause_capture

    said = f"{table} is not recorded until: rmend capture resume {where} {table}"
    _do(pause_capture, _store(where, set), table, "pause", said, json)


@app.command()
def resume(
    where: Where,
    table: Table,
    mend: Annotated[
        bool, typer.Option("--mend", help="Find what changed meanwhile, by the last rows that the history has.")
    ] = False,
    set: Names = None,
    json: AsJson = False,
) -> None:
    """Record again."""
    with errors_in_words(writes=True):
        from .. import documents
        from ..changes.pauses import resume_capture
        from . import draw_capture, screen

        mended = resume_capture(_store(where, set), table, mend=mend)
        with output():
            if json:
                more = {} if mended is None else documents.of_mended(mended)
                screen.print_json({"table": table, "capture": "resume", **more})
            else:
                draw_capture.resumed(table, mended)


@app.command()
def refresh(where: Where, table: Table, set: Names = None, json: AsJson = False) -> None:
    """Record the table with the columns that it has now, and put back triggers that are missing."""
    from ..changes.capture import refresh_capture

    _do(
        refresh_capture,
        _store(where, set),
        table,
        "refresh",
        f"{table} is captured with the columns that it has.",
        json,
    )


def _do(act: Any, store: str | Store, table: str, what: str, said: str, json: bool) -> None:
    with errors_in_words(writes=True):
        from . import screen

        act(store, table)
        with output():
            if json:
                screen.print_json({"table": table, "capture": what})
            else:
                typer.echo(said)


def _store(where: str, names: list[str] | None) -> str | Store:
    with errors_in_words():
        return place_of(where, None, names, needed=False)[0]
