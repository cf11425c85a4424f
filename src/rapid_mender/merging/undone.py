"""What came of an undo, or would come of it."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, NamedTuple

import pyarrow as pa

from .conflicts import LINES

DONE = ("insert", "update", "delete")


class Putting(NamedTuple):
    """A row that would be put back. `cells`: column, the value now, the value then."""

    action: str
    key: dict[str, Any]
    cells: list[tuple[str, Any, Any]]


@dataclass
class Undone:
    """What an undo did, or would do.

    `what` was undone, in words; `undoes` are the batches, newest first, if whole ones were; `batch` is the undo's own
    number, None where nothing was written. `counts` has the rows that were inserted, updated and deleted. `conflicts`
    has a line for each column of a row that is not as the changes left it: the key, `column`, what was `left` in it,
    what is there `now`, and `why`; values are texts. `forced` rows were put back all the same, `kept` rows stay as they
    are.
    """

    table: str
    store: str
    key: list[str]
    undoes: list[int]
    wrote: bool
    what: str = ""
    batch: int | None = None
    counts: dict[str, int] = field(default_factory=lambda: dict.fromkeys(DONE, 0))
    conflicts: pa.Table = field(default_factory=lambda: LINES.empty_table())
    forced: int = 0
    kept: int = 0
    stops: bool = False
    """Of a preview: whether an undo would stop at the conflicts."""
    retries: int = 0
    seconds: float = 0.0
    samples: list[Putting] = field(default_factory=list)
    """Of a preview: some rows of each action."""


def in_words(undone: Undone) -> str:
    rows = undone.kept + undone.forced
    return (
        f"{rows:,} {'rows' if rows > 1 else 'row'} of {undone.table!r} {'are' if rows > 1 else 'is'} not as "
        f"{undone.what} left {'them' if rows > 1 else 'it'}, or cannot be put back; "
        "nothing was undone; look at the conflicts, and undo the rest (rest), or these too (force)"
    )
