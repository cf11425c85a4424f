"""How a command ends: its exit code, and errors as one plain sentence."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

import typer

DONE, STOPPED, WRONG_USAGE, DONE_WITH_REJECTS = 0, 1, 2, 3


@contextmanager
def errors_in_words(writes: bool = False) -> Iterator[None]:
    """Turn our errors into a message and an exit code. `writes`: say that nothing was written."""
    from ..errors import Error, JobError

    after = " Nothing was written." if writes else ""
    try:
        yield
    except JobError as error:
        _say(f"{error}.{after}")
        raise typer.Exit(WRONG_USAGE) from None
    except Error as error:
        _say(f"{error}.{'' if error.wrote else after}")
        raise typer.Exit(STOPPED) from None
    except KeyboardInterrupt:
        _say("interrupted; what was not committed is undone.")
        raise typer.Exit(STOPPED) from None
    except BrokenPipeError:
        raise typer.Exit(STOPPED) from None


def _say(message: str) -> None:
    """Print a message. What points at a place in a text has lines of its own, and what follows it has one too."""
    head, line, rest = message.partition("\n")
    message = head + line + rest.replace("^. ", "^\n").replace("^.", "^") if line else message
    typer.echo(f"rmend: {message.replace('?.', '?')}", err=True)
