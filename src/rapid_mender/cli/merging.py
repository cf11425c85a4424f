"""rmend preview and rmend merge."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Annotated

import typer

from .exits import DONE_WITH_REJECTS, STOPPED, errors_in_words, output
from .options import AsJson, Batch, By, JobFile, Key, Names, OtherStore, load, pairs

if TYPE_CHECKING:
    from ..jobs.job import Job
    from ..merging.batch import Progress


def preview(
    job: JobFile,
    incoming: Batch = None,
    strict: Annotated[
        bool, typer.Option("--strict", help="Exit with 3 if any record is a reject, with 1 if a merge would stop.")
    ] = False,
    by: By = None,
    store: OtherStore = None,
    set: Names = None,
    json: AsJson = False,
) -> None:
    """Show what a merge would do, and write nothing."""
    with errors_in_words():
        from .. import documents
        from ..merging.merge import preview
        from . import draw_merge, screen

        with _progress() as progress:
            result = preview(load(job, store, set), incoming, by=by, progress=progress)
        if json:
            screen.print_json(documents.of_result(result))
        else:
            draw_merge.preview(result)
    if strict and result.stops is not None:
        raise typer.Exit(STOPPED)
    if strict and result.counts["reject"]:
        raise typer.Exit(DONE_WITH_REJECTS)


def merge(
    job: JobFile,
    incoming: Batch = None,
    strict: Annotated[bool, typer.Option("--strict", help="Exit with 3 if any record was rejected.")] = False,
    by: By = None,
    store: OtherStore = None,
    set: Names = None,
    json: AsJson = False,
) -> None:
    """Merge a batch into its table, in one transaction.

    Rejects go where the job says; else to a CSV file beside the job file.
    """
    with errors_in_words(writes=True):
        from .. import documents
        from ..merging.merge import merge
        from . import draw_merge, screen

        with _progress() as progress:
            result = merge(_with_rejects(load(job, store, set)), incoming, by=by, progress=progress)
    with output():
        if json:
            screen.print_json(documents.of_result(result))
        else:
            draw_merge.merged(result)
    if strict and result.counts["reject"]:
        raise typer.Exit(DONE_WITH_REJECTS)


def explain(
    job: JobFile,
    incoming: Batch = None,
    key: Key = None,
    store: OtherStore = None,
    set: Names = None,
    json: AsJson = False,
) -> None:
    """Show what would happen to one record, and why.

    As it came, the row that it meets, every column, every rule, the decision. Nothing is written.
    """
    with errors_in_words():
        from .. import documents
        from ..merging.explain import explain
        from . import draw_record, screen

        explanation = explain(load(job, store, set), incoming, key=pairs("--key", "COLUMN=VALUE", key))
        if json:
            screen.print_json(documents.of_explanation(explanation))
        else:
            draw_record.explained(explanation)


def _with_rejects(job: Job) -> Job:
    """The job with a place for its rejects: on the command line they must not be lost."""
    if job.rejects is not None or job.source is None:
        return job
    stem = job.source.removesuffix(".toml")
    return job.model_copy(update={"rejects": f"{stem}.rejects.csv"})


@contextmanager
def _progress() -> Iterator[Progress | None]:
    """A progress bar on stderr, if that is a terminal. Short batches end before it shows."""
    from rich.console import Console
    from rich.progress import BarColumn, Progress, TaskProgressColumn, TextColumn, TimeElapsedColumn

    console = Console(stderr=True)
    if not console.is_terminal:
        yield None
        return
    columns = (TextColumn("{task.description:>8}"), BarColumn(), TaskProgressColumn(), TimeElapsedColumn())
    with Progress(*columns, console=console, transient=True) as bar:
        tasks = {}

        def progress(what: str, done: int, total: int | None) -> None:
            if what not in tasks:
                tasks[what] = bar.add_task(what, total=total)
            bar.update(tasks[what], completed=done, total=total)

        yield progress
