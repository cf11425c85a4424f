"""What rmend shows of versions: the life of a thing as a line of time."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from rich.text import Text

from ..changes.valid import Life
from ..core.cast import as_text, plain
from ..core.versions import ALWAYS, NEVER
from ..jobs.span_check import SpansChecked
from ..spelling import shown
from .screen import STYLES, Rows, Screen, counted

_MOST = 64
_BAR, _OPEN, _NONE = "━", "▶", "·"


def life(kept: Life, table: str, key: Mapping[str, str]) -> None:
    """The versions of a thing: a line of time, and below it what was so in each span."""
    console, rows, keeping = Screen(), kept.rows, kept.keeping
    count = len(rows.positions)
    if not count:
        console.print(f"{table} has no such row.")
        return
    names = ", ".join(f"{name} {value}" for name, value in key.items())
    console.print(Text.assemble((f"{table}: {names}", "bold"), f", {counted(count, 'version')}\n"))
    begin, end = keeping.spans(rows.values)
    finite = [int(one) for one in (*begin, *end) if one not in (ALWAYS, NEVER)] or [0]
    first, last = min(finite), max(finite)
    span = max(last - first, 1)
    last += span // 8 if NEVER in end else 0  # what goes on has some room
    texts = [as_text(plain(rows.values[name]))[0].to_pylist() for name in (keeping.begin, keeping.end)]

    wide = min(_MOST, console.width // 3)

    def place(instant: int) -> int:
        if instant in (ALWAYS, NEVER):
            return 0 if instant == ALWAYS else wide
        return round((instant - first) * wide / max(last - first, 1))

    ends = texts[0][0] or "ever", "now" if NEVER in end else texts[1][-1] or ""
    drawn = Rows(ends[0] + ends[1].rjust(wide - len(ends[0])), "from", "to", "the row")
    hidden = {keeping.begin, keeping.end, *keeping.key, *keeping.also}
    before: dict[str, Any] = {}
    for at in range(count):
        here, until = place(int(begin[at])), place(int(end[at]))
        goes_on = end[at] == NEVER
        bar = _BAR * max(until - here - goes_on, 0 if goes_on else 1) + (_OPEN if goes_on else "")
        line = Text.assemble((_NONE * here, "dim"), (bar, STYLES["insert"] if goes_on else STYLES["update"]))
        line.append(_NONE * max(wide - here - len(bar), 0), "dim")
        row = {name: value for name, value in rows.shown(at).items() if name not in hidden}
        new = [name for name in keeping.columns if before and row[name] != before[name]]
        told = Text(" · ").join(
            Text(f"{name} {shown(value)}", "bold" if name in new else "")
            for name, value in row.items()
            if name in keeping.columns or (value != before[name] if before else value is not None)
        )
        until_text = "now" if goes_on else texts[1][at]
        drawn.add_row(line, texts[0][at] or "ever", until_text, told)
        before = row
    console.print(drawn)


def spans(found: SpansChecked, mends: str | None) -> None:
    """What is wrong with the spans of a table."""
    console = Screen()
    console.print(f"{found.table}: {counted(found.rows, 'version')} of {counted(found.keys, 'key')}.")
    for count, words in (
        (found.overlaps, "versions end after the next one begins"), (found.current, "of these have no end"),
        (found.twice, "versions begin with another of their key; look which one is right"),
        (found.backwards, "versions end before they begin"), (found.flags, "flags do not say whether there is an end"),
        (found.numbers, "numbers are not the place among the versions"),
    ):  # fmt: skip
        if count:
            console.print(Text.assemble((f"{count:>9,} ", "bold red"), words))
    if found.gaps:
        console.print(Text.assemble((f"{found.gaps:>9,} ", "dim"), ("gaps, which deletes make, too", "dim")))
    if found.sound:
        console.print("The spans fit together.")
    if found.examples.num_rows and not found.sound:
        table = Rows(*found.examples.column_names)
        for row in found.examples.slice(0, 20).to_pylist():
            table.add_row(*(shown(value) if name != "what" else value for name, value in row.items()))
        console.print()
        console.print(table)
    if found.mends.num_rows:
        key = ", ".join(f'"{name}"' for name in found.key)
        told = f"are in {mends}" if mends is not None else "can be had: --mends FILE.csv"
        console.print(
            f"\n{counted(found.mends.num_rows, 'row')} that would mend this {told}. Merge them with a job that has "
            f'key = [{key}], allow = ["update"], and no [versions].'
        )
