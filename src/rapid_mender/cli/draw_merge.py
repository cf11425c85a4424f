"""What rmend preview and rmend merge show."""

from __future__ import annotations

from typing import Any

import pyarrow as pa
from rich.text import Text

from ..merging.result import Result
from ..spelling import changed_columns, deciding_rules, shown, together
from .screen import STYLES, Rows, Screen, counted


def preview(result: Result) -> None:
    """Counts, samples, and that nothing was written."""
    console = _outcome("Preview", " of", result, "would change")
    if result.samples:
        console.print()
        console.print(_samples(result))
    console.print("\nNothing was written.")


def merged(result: Result) -> None:
    """Counts, the batch, and where the rejects are."""
    console = _outcome("Merged", "", result, "changed")
    rate = f", {result.records / result.seconds:,.0f} records a second" if result.records and result.seconds else ""
    if not result.landed:
        console.print(f"\n{'Nothing to write' if result.records else 'No records came'}: the table is as it was.")
    head = "Batch " if not result.landed else "\nBatch "
    console.print(Text.assemble(head, (str(result.batch), "bold"), f". {result.seconds:.2f} s{rate}."))
    if result.retries:
        times = "once" if result.retries == 1 else f"{result.retries} times"
        console.print(f"Other programs wrote the same rows meanwhile, so work was done again {times}.")
    if count := result.counts["reject"]:
        place = f"in {result.rejects_path}" if result.rejects_path else "in the result"
        words = f"The {count:,} rejects are {place}, with their reasons." if count > 1 else f"The reject is {place}."
        console.print(Text(words))


def _outcome(what: str, of: str, result: Result, word: str) -> Screen:
    """What a preview and a merge have in common; `word` says what became of the columns."""
    console = Screen()
    head = f"{of} {counted(result.records, 'record')} into "
    console.print(Text.assemble((what, "bold"), head, (result.table, "bold"), f" by {', '.join(result.key)}."))
    console.print(_counts(result))
    if result.changed:
        console.print(changed_columns(result.changed, word))
    if result.rules:
        console.print(deciding_rules(result.rules))
    if result.missing:
        console.print(f"Rows that did not come: {result.missing:,} of the deletes")
    if result.groups is not None:
        console.print()
        console.print(_groups(result.groups, result.by or ""))
    for warning in result.warnings:
        console.print(Text(f"Note: {warning}", "yellow"))
    return console


def _counts(result: Result) -> Rows:
    table = Rows("decision", "records", "share", "", right=("records", "share"))
    every = sum(result.counts.values())
    for name, count in result.counts.items():
        if not count and name == "delete":
            continue
        share = count / every if every else 0.0
        style = STYLES[name] if count else "dim"
        table.add_row(Text(name, style), f"{count:,}", f"{share:.1%}", Text("■" * round(share * 40), style))
    return table


def _groups(groups: pa.Table, by: str) -> Rows:
    numbers = groups.column_names[1:]
    listed = [name for name in numbers if name in ("before", "after") or any(groups[name].to_pylist())]
    table = Rows(by, *listed, "", right=listed)
    for row in groups.to_pylist():
        more = row["after"] - row["before"]
        cells = [
            Text(f"{row[name]:,}", STYLES.get(name, "") if row[name] else "dim") if name in STYLES else f"{row[name]:,}"
            for name in listed
        ]
        table.add_row(shown(row["group"]), *cells, f"{more:+,}" if more else "")
    return table


def _samples(result: Result) -> Rows:
    """Some records of each decision: one line a changed value, existing beside incoming."""
    table = Rows(result.unit, "decision", "key", "column", "existing", "", "incoming", "reason", right=(result.unit,))
    order = list(STYLES)
    for sample in sorted(result.samples, key=lambda s: (order.index(s.decision), s.row or 0)):
        style = STYLES[sample.decision]
        key = together(sample.key.values())
        first = ["" if sample.row is None else str(sample.row), Text(sample.decision, style), key]
        changed = [(column, old, new) for column, old, new, differs in sample.cells if differs]
        lines: list[tuple[Any, ...]]
        if sample.row is None:
            lines = [("", "", "", Text("no record", "dim"))]
        elif sample.decision == "insert":
            others = [shown(new) for column, _, new, _ in sample.cells if column not in sample.key]
            lines = [("", Text("no row", "dim"), "", Text(" · ".join(others), style))]
        elif changed:
            lines = [(c, Text(shown(old), "dim"), "≠", Text(shown(new), f"bold {style}")) for c, old, new in changed]
        else:
            lines = [("", "", "", Text(sample.cells[0][2], "dim") if not sample.key else "")]
        for number, line in enumerate(lines):
            reason = Text(sample.reason, style if sample.decision in ("reject", "skip") else "") if not number else ""
            table.add_row(*(first if not number else ["", "", ""]), *line, reason)
    return table
