"""rmend draft and rmend check: making a job file, and making sure of it."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING, Annotated

import typer

from ..spelling import visible
from .exits import DIFFERS, WRONG_USAGE, errors_in_words, output
from .options import AsJson, Batch, JobFile, Names, OtherStore, load

if TYPE_CHECKING:
    from ..jobs.job import Job


def draft(
    store: Annotated[
        str,
        typer.Argument(
            metavar="STORE", help="The URL of the store: sqlite:///register.db, postgresql://… or mariadb://…"
        ),
    ],
    table: Annotated[str, typer.Argument(metavar="TABLE", help="The table to merge into.")],
    incoming: Annotated[str, typer.Argument(metavar="INCOMING", help="A CSV, JSON, Excel, Parquet or Arrow file.")],
    out: Annotated[str | None, typer.Option("--out", help="The job file; default: beside INCOMING.")] = None,
    key: Annotated[
        str | None,
        typer.Option("--key", metavar="COLUMNS", help="The key, with commas between; default: found by the data."),
    ] = None,
    delimiter: Annotated[
        str | None, typer.Option("--delimiter", help="What stands between the values of a CSV file; default: found.")
    ] = None,
    force: Annotated[bool, typer.Option("--force", help="Replace the job file if it is there.")] = False,
    json: AsJson = False,
) -> None:
    """Write a first job file for a table and a batch.

    It proposes the key and the renames, and says in comments what needs care.
    """
    with errors_in_words():
        from ..errors import JobError
        from ..incoming.packed import without_ending
        from ..jobs.draft import draft
        from . import screen

        name = without_ending(os.path.basename(incoming))
        path = out or os.path.join(os.path.dirname(incoming), os.path.splitext(name)[0] + ".toml")
        if os.path.exists(path) and not force:
            raise JobError(f"{path} is there already; name another file with --out, or replace it with --force")
        columns = [one.strip() for one in key.split(",")] if key is not None else None
        text = draft(store, table, incoming, os.path.dirname(path) or ".", key=columns, delimiter=delimiter)
        try:
            with open(path, "w", encoding="utf-8") as file:
                file.write(text)
        except (OSError, ValueError) as error:  # letters that no file in UTF-8 has
            raise JobError(f"{path} cannot be written: {error}") from error
    with output():
        if json:
            screen.print_json({"path": path, "text": text})
        else:
            print(visible(text, lines=True))
            print(visible(f"This is in {path}. Look it over, then: rmend check {path}"))


def check(
    job: JobFile,
    incoming: Batch = None,
    spans: Annotated[
        bool, typer.Option("--spans", help="Look at the spans of the versions that the table has, instead.")
    ] = False,
    mends: Annotated[
        str | None,
        typer.Option("--mends", metavar="FILE", help="With --spans: write the rows that would mend them."),
    ] = None,
    store: OtherStore = None,
    set: Names = None,
    json: AsJson = False,
) -> None:
    """Tell all that is wrong with a job, and what it will do.

    This is before a record is merged; nothing is written. Exits with 2 if anything is wrong.
    """
    with errors_in_words():
        from .. import documents
        from ..jobs.check import check
        from . import draw_record, screen

        if spans or mends is not None:
            _check_spans(load(job, store, set), mends, json)
            return
        checked = check(load(job, store, set), incoming)
        if json:
            screen.print_json(documents.of_checked(checked))
        else:
            draw_record.checked(checked)
    if checked.problems:
        raise typer.Exit(WRONG_USAGE)


def _check_spans(job: Job, mends: str | None, json: bool) -> None:
    """Look at the spans of a table. Exits as for a table that differs if some do not fit."""
    from .. import documents
    from ..changes.export import write_file
    from ..jobs.span_check import check_spans
    from . import draw_versions, screen

    found = check_spans(job)
    if mends is not None:
        write_file(mends, found.mends.schema, iter([found.mends]))
    if json:
        screen.print_json(documents.of_spans(found))
    else:
        draw_versions.spans(found, mends)
    if not found.sound:
        raise typer.Exit(DIFFERS)
