"""What rmend capture shows."""

from __future__ import annotations

import sys
from collections.abc import Sequence

from rich.text import Text

from ..changes.capture import Captured
from ..changes.mending import Mended
from ..spelling import visible
from ..stores.contract import Store
from ..stores.urls import opened
from .screen import Rows, Screen

_STATES = {"on": "green", "paused": "yellow", "broken": "bold red"}


def started(done: Captured) -> None:
    """That a table is captured from now on."""
    console = Screen()
    console.print(Text.assemble("Whatever any program writes to ", (done.table, "bold"), " is recorded now."))
    console.print(f"It goes into {done.history}, after change {done.position:,}. To see it: rmend history.")
    for name, value in done.options.items():
        console.print(f"  {name}: {_spelled(value)}")
    _said(console, done)


def resumed(table: str, mended: Mended | None) -> None:
    """That a table is recorded again, and what was found."""
    console = Screen()
    console.print(Text.assemble((table, "bold"), " is recorded again."))
    if mended is None:
        console.print("What was written meanwhile is not in its history.")
        return
    found = [f"{n:,} {what}{'s' if n > 1 else ''}" for what, n in mended.counts.items() if n]
    if found:
        console.print(f"What was changed meanwhile is in its history, as batch {mended.batch}: {', '.join(found)}.")
    else:
        console.print("Nothing was found that was changed meanwhile.")
    if not mended.whole:
        console.print(
            Text(
                f"Of {mended.unknown:,} rows its history has never had a change: whether they were changed or added, "
                "or others removed, nobody knows. For what follows the table: rmend sync --compare.",
                "yellow",
            )
        )


def captures(every: Sequence[Captured], where: str) -> None:
    """The captured tables of a store."""
    console = Screen()
    if not every:
        console.print(f"No table of {where} is captured. To begin: rmend capture start STORE TABLE")
        return
    console.print(Text.assemble("Captured tables of ", (where, "bold"), "\n"))
    table = Rows("table", "state", "since", "recorded", "a second", "options", right=("recorded", "a second"))
    for one in every:
        state = Text(one.state, _STATES[one.state])
        options = "; ".join(f"{name} {_spelled(value)}" for name, value in one.options.items())
        since = f"{one.since:%Y-%m-%d %H:%M}"
        table.add_row(one.table, state, since, f"{one.recorded:,}", f"{one.a_second:,.1f}", options)
    console.print(table)
    for one in every:
        if one.notes or one.others:
            console.print()
            console.print(Text(one.table, "bold"))
            _said(console, one)


def _said(console: Screen, one: Captured) -> None:
    for note in one.notes:
        console.print(Text.assemble(("  note ", "yellow"), note))
    for other in one.others:
        shown = other if len(other) <= 200 else f"{other[:199]}…"
        console.print(Text.assemble(("  other trigger ", "yellow"), shown))
    if one.others:
        those = "that trigger does" if len(one.others) == 1 else "those triggers do"
        console.print(f"  Whatever {those} to this table is recorded as well.")


def _spelled(value: object) -> str:
    if isinstance(value, dict):
        return ", ".join(f"{name} = {one}" for name, one in value.items())
    return ", ".join(map(str, value)) if isinstance(value, list | tuple) else str(value)


def statements(store: str | Store, every: Sequence[str]) -> None:
    """SQL for somebody else to run, as the database's own program takes it; on a terminal, where it is only looked at,
    without control characters."""
    if sys.stdout.isatty():
        every = [visible(sql, lines=True) for sql in every]
    with opened(store) as place:
        for line in place.script(every):
            print(line)
