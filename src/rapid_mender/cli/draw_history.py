"""What rmend batches and rmend history show."""

from __future__ import annotations

from typing import Any

import pyarrow as pa
from rich.text import Text

from .. import documents
from ..core.json_text import read_json
from ..spelling import shown
from .screen import STYLES, Rows, Screen

_NONE: dict[str, Any] = {}
_COUNTS = ("inserted", "updated", "deleted", "skipped", "rejected")


def batches(rows: pa.Table, store: str, of: str | None) -> None:
    console = Screen()
    if not rows.num_rows:
        console.print(f"No batch was merged into {f'{of} in ' if of else ''}{store} yet.")
        return
    counts = dict(zip(_COUNTS, STYLES.values(), strict=True))
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
            str(row["batch_no"]), row["table_name"], row["job"] or _instead(row), row["actor"] or "",
            f"{row['started_at']:%Y-%m-%d %H:%M:%S}", "" if took is None else f"{took:.2f} s",
            *(Text(f"{row[name] or 0:,}", style if row[name] else "dim") for name, style in counts.items()),
            _status(row),
        )  # fmt: skip
    console.print(table)


def _instead(row: dict[str, Any]) -> str:
    """What stands in the place of a job's name."""
    if row["undoes"]:
        return f"undoes {', '.join(map(str, read_json(row['undoes'], list[int]())))}"
    return {"prune": "prunes", "undo": "undoes changes"}.get(row["kind"] or "", "")


def _status(row: dict[str, Any]) -> Text:
    """How a run ended; why, if it was stopped."""
    text = row["status"] + (f", {row['unrecorded']:,} unrecorded" if row["unrecorded"] else "")
    if why := read_json(row["figures"], _NONE).get("stopped"):
        text = f"{text}: {why}"
    return Text(text, "" if row["status"] == "done" else STYLES["reject"])


def batch(run: dict[str, Any]) -> None:
    """All that is known of one batch."""
    console, figures = Screen(), run["figures"]
    head: list[Any] = [
        "Batch ",
        (str(run["batch_no"]), "bold"),
        " of ",
        (run["table_name"], "bold"),
        ", ",
        _status_of(run),
    ]
    console.print(Text.assemble(*head))
    about = Rows("", "")
    for name, value in _about(run, figures):
        if value not in (None, "", [], {}):
            about.add_row(Text(name, "dim"), value if isinstance(value, Text) else str(value))
    console.print(about)
    for title, column, counted in (
        ("columns changed", "column", figures.get("changed")), ("rejects by reason", "reason", figures.get("rejects")),
        ("rules that decided", "rule", figures.get("rules")), ("slowest steps", "step", figures.get("steps")),
    ):  # fmt: skip
        if counted:
            unit = "seconds" if column == "step" else "records"
            table = Rows(title, unit, right=(unit,))
            for name, value in sorted(counted.items(), key=lambda pair: -pair[1])[:10]:
                table.add_row(str(name), f"{value:.3f}" if column == "step" else f"{value:,}")
            console.print()
            console.print(table)


def _status_of(run: dict[str, Any]) -> Text:
    return Text(run["status"], "" if run["status"] == "done" else STYLES["reject"])


def _about(run: dict[str, Any], figures: dict[str, Any]) -> list[tuple[str, Any]]:
    counts = Text()
    for (name, style), column in zip(STYLES.items(), _COUNTS, strict=True):
        count = run[column] or 0
        counts.append(f"{count:,} {column}  ", style if count and name else "dim")
    took = f"{(run['finished_at'] - run['started_at']).total_seconds():.2f} s" if run["finished_at"] else None
    span = f"{run['first_change']:,} to {run['last_change']:,}" if run["first_change"] is not None else "none"
    retries = figures.get("retries")
    return [
        ("records", f"{figures['records']:,}" if "records" in figures else None), ("decided", counts),
        ("job", run["job"]), ("by", run["actor"]), ("with", run["application"]),
        ("started (UTC)", f"{run['started_at']:%Y-%m-%d %H:%M:%S}"), ("took", took), ("retries", retries or None),
        ("changes", span), ("changed by triggers", run["unrecorded"] or None), ("stopped", figures.get("stopped")),
        ("undoes", ", ".join(map(str, run["undoes"]))), ("undone by", ", ".join(map(str, run["undone_by"]))),
        ("pruned", figures.get("pruned")), ("seal", run["seal"]),
    ]  # fmt: skip


class Drawn:
    """Changes on a terminal. `key` are the columns that tell the records apart, where there may be several; `full`:
    there may be more."""

    def __init__(self, changes: pa.Table, name: str, key: list[str], full: bool) -> None:
        self.console, self.name, self.key, self.full = Screen(), name, key, full
        self.changes = documents.of_changes(changes)
        self.note = ""
        """What else to say at the end."""

    def lines(self, column: str | None = None) -> None:
        """One line a changed value; of one `column` only, if that is asked for."""
        if self._none():
            return
        log = column is not None
        head = ["change", "batch", "when (UTC)", "by", *([] if log else ["action"]), *(["record"] if self.key else [])]
        why = any(change["reason"] for change in self.changes)
        head += [*([] if log else ["column"]), "old", "", "new", *(["why"] if why else [])]
        table = Rows(*head, right=("change", "batch"))
        for change in self.changes:
            old, new = change["old"] or {}, change["new"] or {}
            names = _changed(change)
            if log:
                names = [name for name in names if name.lower() == (column or "").lower()]
            first: list[Any] = [*_numbers(change), _time(change), _by(change)]
            first += [] if log else [Text(change["action"], STYLES[change["action"]])]
            first += [self._record(change)] if self.key else []
            lines: list[tuple[str, Any, Any]] = [
                (one, Text(shown(old.get(one)), "dim"), shown(new.get(one))) for one in names
            ]
            if change["action"] != "update":
                others = [one for one in names if one.lower() not in {column.lower() for column in self.key}]
                row = " · ".join(shown((new or old)[one]) for one in others)
                lines = [("", "", row) if new else ("", Text(row, "dim"), "")]
            for number, (name, *values) in enumerate(lines):
                sides = [values[0], "→", values[1]]
                reason = [(change["reason"] or "") if not number else ""] if why else []
                table.add_row(*([""] * len(first) if number else first), *([] if log else [name]), *sides, *reason)
        self.console.print(table)
        self._more()

    def wide(self) -> None:
        """Whole rows, one line a change: what changed as old → new."""
        if self._none():
            return
        names = list(self.changes[0]["new"] or self.changes[0]["old"])
        table = Rows("change", "batch", "action", *names, right=("change", "batch"))
        for change in self.changes:
            old, new = change["old"] or {}, change["new"] or {}
            style = STYLES[change["action"]]
            changed = set(change["changed"] or ())
            cells = [
                Text(f"{shown(old[name])} → {shown(new[name])}", style) if name in changed
                else Text(shown((new or old)[name]), style if change["action"] != "update" else "") for name in names
            ]  # fmt: skip
            table.add_row(*_numbers(change), Text(change["action"], style), *cells)
        self.console.print(table)
        self._more()

    def words(self) -> None:
        """A sentence for each change."""
        if self._none():
            return
        for change in self.changes:
            old, new = change["old"] or {}, change["new"] or {}
            action = {"insert": "inserted", "update": "updated", "delete": "deleted"}[change["action"]]
            said = "; ".join(f"{name} {shown(old[name])} → {shown(new[name])}" for name in change["changed"] or ())
            record = f"{self._record(change)} " if self.key else ""
            by = f"by {_by(change) or 'somebody'}"
            batch = f", batch {change['batch_no']}" if change["batch_no"] else ""
            why = f", because: {change['reason']}" if change["reason"] else ""
            rest = f"{': ' + said if said else ''}, {by}{batch}{why}."
            self.console.print(
                Text.assemble((_time(change), "dim"), f" {record}was ", (action, STYLES[change["action"]]), rest)
            )
        self._more()

    def _record(self, change: dict[str, Any]) -> str:
        row = {name.lower(): value for name, value in (change["new"] or change["old"]).items()}
        return " · ".join(shown(row.get(name.lower())) for name in self.key)

    def _none(self) -> bool:
        if not self.changes:
            self.console.print(f"No such change of {self.name}.")
        return not self.changes

    def _more(self) -> None:
        if self.full:
            first = self.changes[0]["change_no"]
            more = f"The newest {len(self.changes):,}; --before {first} shows those before, --limit more at once."
            self.console.print(more, style="dim")
        if self.note:
            self.console.print(self.note, style="dim")


def _changed(change: dict[str, Any]) -> list[str]:
    """The columns to show of a change."""
    row = change["new"] or change["old"]
    return change["changed"] or [name for name, value in row.items() if value is not None]


def _by(change: dict[str, Any]) -> str:
    """Who made a change; and with which program, if it was none of our batches."""
    program = change["application"] if not change["batch_no"] else None
    return ", ".join(one for one in (change["actor"], program) if one)


def _numbers(change: dict[str, Any]) -> list[str]:
    return [str(change["change_no"]), str(change["batch_no"] or "")]


def _time(change: dict[str, Any]) -> str:
    return f"{change['changed_at']:%Y-%m-%d %H:%M:%S}"
