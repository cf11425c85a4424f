"""rmend: the command line. Each command imports what it needs when it runs, so that --help answers at once."""

from __future__ import annotations

from typing import Annotated

import typer

from . import capturing, demo, following, jobs, looking, merging, past

app = typer.Typer(
    name="rmend",
    help="Merge incoming records into existing tables by key, decide on each, and keep every change.",
    epilog="Exit codes: 0 done (also with rejects), 1 stopped and nothing written, 2 wrong usage or a wrong job, "
    "3 done with rejects under --strict, 4 verify or sync --compare found a difference, "
    "130 interrupted, 143 terminated.",
    no_args_is_help=True,
    add_completion=False,
    pretty_exceptions_enable=False,
    rich_markup_mode=None,
)


def _version(asked: bool) -> None:
    if asked:
        from .. import __version__

        typer.echo(f"rmend {__version__}")
        raise typer.Exit


@app.callback()
def _root(
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Show the version and exit.")
    ] = False,
) -> None:
    pass


app.command()(demo.demo)
app.command()(jobs.draft)
app.command()(jobs.check)
app.command()(merging.preview)
app.command()(merging.explain)
app.command()(merging.merge)
app.command()(looking.batches)
app.command()(looking.history)
app.command()(past.undo)
app.command("as-of")(past.as_of)
app.command()(past.verify)
app.command()(past.prune)
app.command()(following.sync)
app.command()(following.followers)
app.add_typer(capturing.app)
