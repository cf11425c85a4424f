"""Writing to a terminal: values are never taken for markup, and control characters never reach it."""

from __future__ import annotations

import sys
from collections.abc import Iterable
from typing import Any

from rich.console import Console
from rich.table import Table
from rich.text import Text

from ..core.json_text import as_json, line_of
from ..spelling import visible

STYLES = {"insert": "green", "update": "yellow", "delete": "red", "skip": "dim", "reject": "bold red"}
_WIDTH_OF_A_PIPE = 120


def counted(count: int, word: str) -> str:
    """So many of something, in words: "1 row", "2 rows"."""
    return f"{count:,} {word}{'' if count == 1 else 's'}"


def say(sentence: str) -> None:
    """Print a sentence."""
    print(visible(sentence, lines=True))


def print_json(document: Any) -> None:
    """Print one JSON document."""
    print(as_json(document))


def print_json_line(document: Any) -> None:
    """Print a JSON document on a line, at once."""
    print(line_of(document), flush=True)


def _safe(given: Any, lines: bool = False) -> Any:
    if isinstance(given, str):
        return Text(visible(given, lines))
    if not isinstance(given, Text) or visible(given.plain, lines) == given.plain:
        return given
    done = Text(style=given.style)
    for at, letter in enumerate(given.plain):
        spans = given[at : at + 1].spans
        done.append(visible(letter, lines), spans[0].style if spans else None)
    return done


class Screen(Console):
    """The console of a command."""

    def __init__(self) -> None:
        super().__init__(width=None if sys.stdout.isatty() else _WIDTH_OF_A_PIPE, highlight=False, markup=False)

    def on_broken_pipe(self) -> None:
        """Leave it to the command what a closed pipe means."""
        raise

    def print(self, *objects: Any, **options: Any) -> None:
        super().print(*(_safe(one, lines=True) for one in objects), **options)


class Rows(Table):
    """A table whose cells are texts."""

    def __init__(self, *columns: str, right: Iterable[str] = ()) -> None:
        super().__init__(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="bold", show_edge=False)
        for name in columns:
            self.add_column(_safe(name), justify="right" if name in right else "left", overflow="fold")

    def add_row(self, *cells: Any, **options: Any) -> None:
        super().add_row(*map(_safe, cells), **options)
