"""What the commands show: tables for people, JSON for programs."""

from __future__ import annotations

import json as json_lib
from typing import Any

import pyarrow as pa
from rich.text import Text

from .. import documents
from ..merging.result import Result
from ..spelling import changed_columns, deciding_rules, shown, together
from ..stores.contract import Store
from ..stores.urls import open_store
from .screen import Rows, Screen

STYLES = {"insert": "green", "update": "yellow", "delete": "red", "skip": "dim", "reject": "bold red"}
_WOULD = {
    "insert": "inserted",
    "update": "updated",
    "delete": "deleted",
    "skip": "skipped",
    "reject": "rejected",
}


def json(document: Any) -> None:
    """Print one JSON document."""
    print(documents.as_json(document))


def store_name(store: object) -> str:
    return (store if isinstance(store, Store) else open_store(str(store))).where


# -- tables -----------------------------------------------------------------------------------------


def preview(result: Result) -> None:
    console = Screen()
    key = ", ".join(result.key)
    head = f" of {result.records:,} records into "
    console.print(Text.assemble(("Preview", "bold"), head, (result.table, "bold"), f" by {key}."))
    console.print(_counts(result))
    _columns_changed(console, result, "would change")
    _rules_and_groups(console, result)
    if result.samples:
        console.print()
        console.print(_samples(result))
    console.print("\nNothing was written.")


def merged(result: Result) -> None:
    console = Screen()
    key = ", ".join(result.key)
    head = f" {result.records:,} records into "
    console.print(Text.assemble(("Merged", "bold"), head, (result.table, "bold"), f" by {key}."))
    console.print(_counts(result))
    _columns_changed(console, result, "changed")
    _rules_and_groups(console, result)
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


def _columns_changed(console: Screen, result: Result, word: str) -> None:
    if result.changed:
        console.print(changed_columns(result.changed, word))


def _rules_and_groups(console: Screen, result: Result) -> None:
    if result.rules:
        console.print(deciding_rules(result.rules))
    if result.missing:
        console.print(f"Rows that did not come: {result.missing:,} of the deletes")
    if result.groups is not None:
        console.print()
        console.print(_groups(result.groups, result.by or ""))
    for warning in result.warnings:
        console.print(Text(f"Note: {warning}", "yellow"))


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


def batches(rows: pa.Table, store: str, of: str | None) -> None:
    console = Screen()
    if not rows.num_rows:
        console.print(f"No batch was merged into {f'{of} in ' if of else ''}{store} yet.")
        return
    counts = dict(zip(("inserted", "updated", "deleted", "skipped", "rejected"), STYLES.values(), strict=True))
    table = Rows(
        "batch",
        "table",
        "job",
        "by",
        "started (UTC)",
        "took",
        *counts,
        "status",
        right=("batch", "took", *counts),
    )
    for row in rows.to_pylist():
        took = (row["finished_at"] - row["started_at"]).total_seconds() if row["finished_at"] else None
        table.add_row(
            str(row["batch_no"]), row["table_name"], row["job"] or "", row["actor"] or "",
            f"{row['started_at']:%Y-%m-%d %H:%M:%S}", "" if took is None else f"{took:.2f} s",
            *(Text(f"{row[name] or 0:,}", style if row[name] else "dim") for name, style in counts.items()),
            _status(row),
        )  # fmt: skip
    console.print(table)


def _status(row: dict[str, Any]) -> Text:
    """How a run ended; why, if it was stopped."""
    text = row["status"] + (f", {row['unrecorded']:,} unrecorded" if row["unrecorded"] else "")
    if why := json_lib.loads(row["figures"] or "{}").get("stopped"):
        text = f"{text}: {why}"
    return Text(text, "" if row["status"] == "done" else STYLES["reject"])


def history(changes: pa.Table, name: str, key: list[str], full: bool) -> None:
    """`key` are the columns that tell the records apart, where there may be several."""
    console = Screen()
    if not changes.num_rows:
        console.print(f"No such change of {name}.")
        return
    table = Rows(
        "change",
        "batch",
        "when (UTC)",
        "by",
        "action",
        *(["record"] if key else []),
        "column",
        "old",
        "",
        "new",
        right=("change", "batch"),
    )
    for change in documents.of_changes(changes):
        old, new = change["old"] or {}, change["new"] or {}
        names = change["changed"] or [c for c, value in (new or old).items() if value is not None]
        first = [
            str(change["change_no"]), str(change["batch_no"] or ""), f"{change['changed_at']:%Y-%m-%d %H:%M:%S}",
            change["actor"] or "", Text(change["action"], STYLES[change["action"]]),
        ]  # fmt: skip
        if key:
            row = {column.lower(): value for column, value in (new or old).items()}
            first.append(" · ".join(shown(row.get(column.lower())) for column in key))
        for number, column in enumerate(names):
            sides = [Text(shown(old[column]), "dim") if old else "", "→", shown(new[column]) if new else ""]
            table.add_row(*(first if not number else [""] * len(first)), column, *sides)
    console.print(table)
    if full:
        console.print(f"The newest {changes.num_rows:,}; --limit shows more.", style="dim")
