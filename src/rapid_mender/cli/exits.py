"""How a command ends: its exit code, and errors as one plain sentence."""

from __future__ import annotations

import os
import shutil
import signal
import sys
import textwrap
from collections.abc import Iterator
from contextlib import contextmanager, suppress

import typer

DONE, STOPPED, WRONG_USAGE, DONE_WITH_REJECTS = 0, 1, 2, 3
DIFFERS = 4
INTERRUPTED, TERMINATED = 130, 143  # as shells say it


class Terminated(KeyboardInterrupt):
    """A SIGTERM has come."""


def on_sigterm(number: int, frame: object) -> None:
    """What a SIGTERM does: it ends the work as a Ctrl-C does, and no second one disturbs that."""
    signal.signal(signal.SIGTERM, signal.SIG_IGN)
    raise Terminated


@contextmanager
def output() -> Iterator[None]:
    """Show the outcome of work that is done: whatever becomes of the output, the exit code is that of the work."""
    try:
        yield
        sys.stdout.flush()
    except (OSError, ValueError, KeyboardInterrupt) as error:  # a closed pipe, a full disk, odd letters, a Ctrl-C
        why = "interrupted" if isinstance(error, KeyboardInterrupt) else error
        with suppress(OSError, ValueError):
            _say(f"it is done, but what was done could not be shown: {why}")
        _forget_output()


def _forget_output() -> None:
    """Drop what is still in the buffer of the output: it would fail once more at the end."""
    with suppress(OSError, ValueError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


@contextmanager
def errors_in_words(writes: bool = False) -> Iterator[None]:
    """Turn our errors into a message and an exit code. `writes`: say that nothing was written."""
    import pyarrow as pa

    from ..errors import Error, JobError

    pa.enable_signal_handlers(False)  # Arrow's own, while it reads a text, may lose a signal that comes at the end
    after = ["Nothing was written"] if writes else []
    try:
        yield
        sys.stdout.flush()
    except JobError as error:
        _say(str(error), *after)
        raise typer.Exit(WRONG_USAGE) from None
    except Error as error:
        _say(str(error), *([] if error.wrote else after))
        raise typer.Exit(STOPPED) from None
    except KeyboardInterrupt as error:
        raise _interrupted(error, writes) from None
    except RuntimeError as error:  # a signal has met a lock of Python's own half taken, and that said so
        if not isinstance(error.__context__, KeyboardInterrupt):
            raise
        raise _interrupted(error.__context__, writes) from None
    except BrokenPipeError:
        _forget_output()
        raise typer.Exit(STOPPED) from None
    except OSError as error:
        if error.filename is not None:
            raise
        with suppress(OSError, ValueError):
            _say(f"what was found could not be shown: {error}")
        _forget_output()
        raise typer.Exit(STOPPED) from None


def _interrupted(error: KeyboardInterrupt, writes: bool) -> typer.Exit:
    """The end of a command that a signal has ended, which is told."""
    done = isinstance(error, Terminated)
    undone = "; what was not committed is undone" if writes else ""
    _say(f"{'terminated' if done else 'interrupted'}{undone}")
    return typer.Exit(TERMINATED if done else INTERRUPTED)


def _say(*sentences: str) -> None:
    """Print a message. A sentence that ends by pointing at a place in a text has no period, and the next a new line."""
    from ..spelling import visible

    message = ""
    for sentence in sentences:
        message += ("\n" if message.endswith("^") else " ") + sentence
        if not sentence.endswith(("?", "^")):
            message += "."
    message = f"rmend:{visible(message, lines=True)}"
    if sys.stderr.isatty() and "\n" not in message:  # a terminal itself breaks lines in the middle of words
        message = textwrap.fill(message, shutil.get_terminal_size().columns, break_on_hyphens=False)
    typer.echo(message, err=True)


def show_log(name: str) -> None:
    """Show on stderr what is logged as a warning under a name."""
    import logging

    class Said(logging.Handler):
        def emit(self, record: logging.LogRecord) -> None:
            if record.name == name:
                _say(record.getMessage())

    logging.getLogger(name).addHandler(Said(logging.WARNING))
