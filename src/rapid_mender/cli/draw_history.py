"""What rmend batches and rmend history show."""

from __future__ import annotations

import json
from typing import Any

import pyarrow as pa
from rich.text import Text

from .. import documents
from ..spelling import shown
from .screen import STYLES, Rows, Screen


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
    if why := json.loads(row["figures"] or "{}").get("stopped"):
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
