"""rmend sync and rmend followers."""

from __future__ import annotations

from contextlib import suppress
from typing import TYPE_CHECKING, Annotated

import typer

from .exits import DIFFERS, DONE_WITH_REJECTS, errors_in_words, output, show_log
from .options import AsJson, Names, pairs, place_of

if TYPE_CHECKING:
    from ..stores.contract import Store

SyncFile = Annotated[str, typer.Argument(metavar="JOB", help="The sync's file (TOML).")]


def sync(
    job: SyncFile,
    every: Annotated[
        str | None,
        typer.Option("--every", metavar="TIME", help="Go on until stopped, looking so often: 5s, 100ms."),
    ] = None,
    compare: Annotated[
        bool, typer.Option("--compare", help="Only hold both tables against each other, and say what differs.")
    ] = False,
    mend: Annotated[bool, typer.Option("--mend", help="Compare, merge what differs, and follow from there.")] = False,
    force: Annotated[
        bool, typer.Option("--force", help="Follow also changes that were altered since they were sealed.")
    ] = False,
    strict: Annotated[bool, typer.Option("--strict", help="Exit with 3 if any change was rejected.")] = False,
    retry: Annotated[
        bool, typer.Option("--retry", help="Try the rows again that the target did not take before.")
    ] = False,
    set: Names = None,
    json: AsJson = False,
) -> None:
    """Bring a table that follows another up to date.

    The first time it is filled; then each change since takes effect once. With --compare it exits with 4 if the tables
    differ.
    """
    with errors_in_words():
        from .. import documents
        from ..errors import JobError
        from ..followers.going_on import going_on, interval
        from ..followers.sync import compare as compare_tables
        from ..followers.sync import syncing
        from ..jobs.sync_job import Sync
        from . import draw_following, screen

        told = Sync.load(job, names=pairs("--set", "NAME=VALUE", set))
        if compare or mend:
            if force or retry:
                raise JobError("--force and --retry are for following; leave them out with --compare and --mend")
            found = compare_tables(told, mend)
            with output():
                if json:
                    screen.print_json(documents.of_compared(found))
                else:
                    draw_following.compared(found)
            if not found.alike and not mend:
                raise typer.Exit(DIFFERS)
            return
        if every is not None:
            if retry:
                raise JobError("--retry is for one run; leave it out with --every")
            pause = interval(every)
            show_log("rapid_mender")
            for done in going_on(told, pause, force):
                if done.filled or done.changes or done.held_by:
                    if json:
                        screen.print_json_line(documents.of_synced(done))
                    else:
                        draw_following.synced(done, short=True)
            return
        with syncing(told, force, retry) as bring:
            done = bring()
        with output():
            if json:
                screen.print_json(documents.of_synced(done))
            else:
                draw_following.synced(done)
        if strict and done.counts["reject"]:
            raise typer.Exit(DONE_WITH_REJECTS)


def followers(
    where: Annotated[str, typer.Argument(metavar="JOB|STORE", help="A file of a job or a sync, or a store URL.")],
    forget: Annotated[str | None, typer.Option("--forget", metavar="NAME", help="Forget this follower.")] = None,
    set: Names = None,
    json: AsJson = False,
) -> None:
    """List who follows the tables of a store, and how far behind."""
    with errors_in_words():
        from .. import documents
        from ..followers import known
        from ..stores.urls import open_store
        from . import draw_following, screen

        store = _store_of(where, set)
        if forget is not None:
            known.forget(store, forget)
            with output():
                if json:
                    screen.print_json({"forgotten": forget})
                else:
                    screen.say(f"{forget} is forgotten: pruning waits for it no longer.")
            return
        rows = known.followers_of(store)
        if json:
            screen.print_json({"store": open_store(store).where, "followers": documents.of_rows(rows)})
        else:
            draw_following.followers(rows, open_store(store).where)


def _store_of(where: str, names: list[str] | None) -> str | Store:
    """The store that is meant: that of a job, or the source of a sync."""
    from ..errors import JobError
    from ..jobs.sync_job import Sync

    try:
        return place_of(where, None, names, needed=False)[0]
    except JobError:
        with suppress(JobError):
            return Sync.load(where, names=pairs("--set", "NAME=VALUE", names)).store
        raise
