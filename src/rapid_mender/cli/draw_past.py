"""What rmend undo, rmend as-of and rmend verify show."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import pyarrow as pa
from rich.text import Text

from ..changes.as_of import LIFE
from ..changes.prune import Pruned
from ..changes.verify import Verified
from ..merging.undone import Undone
from ..spelling import shown, together
from .screen import STYLES, Rows, Screen, counted

_LINES = 20


def undone(done: Undone, preview: bool, stopped: bool) -> None:
    """What was put back, or would be; the conflicts; the batch."""
    console = Screen()
    what = done.what
    head = "Undo of " if preview or stopped else "Undone: "
    console.print(Text.assemble(head, (what, "bold"), " in ", (done.table, "bold"), "."))
    if not stopped:
        table = Rows("put back by", "rows", "", right=("rows",))
        every = sum(done.counts.values())
        for action, count in done.counts.items():
            style = STYLES[action] if count else "dim"
            bar = "■" * (round(count / every * 40) if every else 0)
            table.add_row(Text(action, style), f"{count:,}", Text(bar, style))
        console.print(table)
    if done.samples:
        table = Rows("action", "key", "column", "now", "", "then")
        for sample in done.samples:
            first = [Text(sample.action, STYLES[sample.action]), together(sample.key.values())]
            style, lines = STYLES[sample.action], list[tuple[Any, ...]]()
            if sample.action == "update":
                lines = [(column, Text(shown(now), "dim"), "→", shown(then)) for column, now, then in sample.cells]
            else:
                cells = [one for one in sample.cells if one[0] not in sample.key]
                row = [shown(then if sample.action == "insert" else now) for _, now, then in cells]
                text, none = Text(" · ".join(row), style), Text("no row", "dim")
                lines = [("", none, "→", text) if sample.action == "insert" else ("", text, "→", none)]
            for number, line in enumerate(lines):
                table.add_row(*(["", ""] if number else first), *line)
        console.print()
        console.print(table)
    if done.conflicts.num_rows:
        console.print()
        _conflicts(console, done)
    if stopped:
        console.print("\nNothing was undone. --rest undoes the other rows, --force puts these back too.")
    elif preview:
        stop = " An undo would stop here; with --rest it leaves these rows, with --force it puts them back too."
        console.print(f"\nNothing was written.{stop if done.stops else ''}")
    elif done.batch is None:
        console.print("\nNothing to undo: the table is as it was.")
    else:
        stay = "1 row stays as it is" if done.kept == 1 else f"{done.kept:,} rows stay as they are"
        kept = f" {stay}." if done.kept else ""
        console.print(Text.assemble("\nBatch ", (str(done.batch), "bold"), f". {done.seconds:.2f} s.{kept}"))


def _conflicts(console: Screen, done: Undone) -> None:
    table = Rows("key", "column", "the batch left", "", "there is now", "why")
    last = None
    for row in done.conflicts.slice(0, _LINES).to_pylist():
        values = list(row.values())
        key, (column, left, now, why) = together(values[:-4]), values[-4:]
        sides = [left or "", "≠" if column else "", Text(now or "", STYLES["reject"])]
        table.add_row("" if key == last else key, column or "", *sides, why)
        last = key
    rows = done.kept + done.forced
    said = "1 row is not as it was left" if rows == 1 else f"{rows:,} rows are not as they were left"
    console.print(Text(f"{said}, or cannot be put back:", STYLES["reject"]))
    console.print(table)
    if done.conflicts.num_rows > _LINES:
        console.print(f"{done.conflicts.num_rows - _LINES:,} lines more; --json has all of them.", style="dim")


def rows(pages: Iterable[pa.Table], names: list[str], limit: int) -> None:
    """The first rows of a table as it was."""
    console, table, count = Screen(), Rows(*names), 0
    for page in pages:
        for row in page.slice(0, max(limit - count, 0)).to_pylist():
            table.add_row(*(shown(value) for value in row.values()))
        count += page.num_rows
    console.print(table)
    more = f", of which {limit:,} are shown; --out writes all" if count > limit else ""
    console.print(f"{counted(count, 'row')}{more}.", style="dim")


def life(rows: pa.Table, name: str) -> None:
    """The rows of one record, one below the other."""
    console = Screen()
    if not rows.num_rows:
        console.print(f"The history of {name} has no such record.")
        return
    columns, (begin, end, change, batch) = rows.column_names[: -len(LIFE)], rows.column_names[-len(LIFE) :]
    table = Rows("from (UTC)", "to (UTC)", "batch", "change", "the row", right=("batch", "change"))
    before: dict[str, Any] = {}
    for row in rows.to_pylist():
        spans = [_time(row[begin], "before"), _time(row[end], "now")]
        numbers = [str(row[name] or "") for name in (batch, change)]
        new = [f"{one} {shown(row[one])}" for one in columns if before and row[one] != before[one]]
        cells = new or [shown(row[one]) for one in columns]
        table.add_row(*spans, *numbers, Text(" · ".join(cells), STYLES["update"] if new else ""))
        before = row
    console.print(table)


def _time(value: Any, none: str) -> str:
    return none if value is None else f"{value:%Y-%m-%d %H:%M:%S}"


def verified(done: Verified) -> None:
    """Whether the history holds, and what differs."""
    console = Screen()
    head = f": {counted(done.changes, 'change')}, {counted(done.rows, 'row')}"
    console.print(Text.assemble((done.table, "bold"), head, f", {done.unknown:,} of them never changed."))
    if not done.found:
        console.print(Text("The history and the table say the same.", STYLES["insert"]))
    for hole in done.holes:
        console.print(Text(f"Nobody knows what was done meanwhile: {hole}.", "yellow"))
    if done.altered.num_rows:
        console.print(Text("Somebody altered the history or the batches:", STYLES["reject"]))
        table = Rows("batch", "change", "what", right=("batch", "change"))
        for row in done.altered.slice(0, _LINES).to_pylist():
            table.add_row(str(row["batch_no"] or ""), str(row["change_no"] or ""), row["what"])
        console.print(table)
    if done.found:
        console.print(
            Text(f"They differ in {done.found:,} {'places' if done.found > 1 else 'place'}:", STYLES["reject"])
        )
        table = Rows(
            "key", "column", "the history says", "", "there is", "since change", "what", right=("since change",)
        )
        for row in done.differences.slice(0, _LINES).to_pylist():
            values = list(row.values())
            key, (column, before, after, since, what) = together(values[:-5]), values[-5:]
            sides = [before or "", "≠" if column else "", Text(after or "", STYLES["reject"])]
            table.add_row(key, column or "", *sides, str(since), what)
        console.print(table)
        if done.differences.num_rows > _LINES:
            console.print(f"{done.differences.num_rows - _LINES:,} lines more; --json has them.", style="dim")
    if done.sealed:
        console.print(Text(f"{done.sealed:,} batches are sealed; the last seal is {done.seal}.", "dim"))
    if done.unsealed:
        more = [f"{len(done.unsealed) - _LINES:,} more; --json has them"] * (len(done.unsealed) > _LINES)
        console.print(Text("No seal covers " + "; ".join([*done.unsealed[:_LINES], *more]) + ".", "dim"))


def pruned(done: Pruned) -> None:
    """How much was removed, or would be, and where the history begins now."""
    console = Screen()
    for name, position in done.held_by.items():
        console.print(f"The follower {name} has still to see the changes after {position:,}; they stay.")
    if not done.changes:
        console.print(
            f"The history of {done.table} has no changes that are so old{' and may go' * bool(done.held_by)}."
        )
        return
    began = f"{done.begins:%Y-%m-%d %H:%M:%S}"
    if done.batch is None:
        console.print(f"{counted(done.changes, 'change')} of {done.table} would be removed, those up to {began}.")
        console.print("Nothing was removed; --yes removes them.")
        return
    console.print(f"Removed {counted(done.changes, 'change')} of {done.table}: the history begins on {began}.")
    console.print(Text.assemble("Batch ", (str(done.batch), "bold"), "."))
