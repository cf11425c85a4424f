"""What rmend sync and rmend followers show."""

from __future__ import annotations

from datetime import timedelta

import pyarrow as pa
from rich.text import Text

from ..followers.compare import Compared
from ..followers.syncing import Synced
from ..spelling import shown
from .screen import STYLES, Rows, Screen, counted

_LINES = 20
_REASONS = 5


def synced(done: Synced, short: bool = False) -> None:
    """What a sync has done; `short`: on one line."""
    console = Screen()
    moved = [f"{counted(done.filled, 'row')} filled"] if done.filled else []
    moved += [counted(done.changes, "change")] if done.changes else []
    counts = [Text(f"{done.counts[name]:,} {name}", STYLES[name]) for name in STYLES if done.counts[name]]
    what = ", ".join(moved) or "nothing new"
    if short:
        line = Text.assemble((done.to_table or done.to_store, "bold"), f": {what}, up to {done.position:,}")
        for one in counts:
            line.append(" · ").append_text(one)
        console.print(line.append(f" · {done.seconds:.2f} s", "dim"))
    else:
        console.print(Text.assemble(*_named(done), (done.table, "bold"), "."))
        console.print(f"{what[0].upper()}{what[1:]}, up to change {done.position:,}, in {done.seconds:.2f} s.")
        if counts:
            table = Rows("decision", "rows", "", right=("rows",))
            every = sum(done.counts.values())
            for name, style in STYLES.items():
                count = done.counts[name]
                bar = "■" * round(count / every * 40)
                table.add_row(Text(name, style if count else "dim"), f"{count:,}", Text(bar, style))
            console.print()
            console.print(table)
    for path in done.files:
        console.print(f"Wrote {path}.")
    for why, count in done.reasons.most_common(_REASONS):
        console.print(Text.assemble((f"{counted(count, 'reject')}: ", STYLES["reject"]), why))
    if done.rejects_path is not None:
        console.print(f"The rejects are in {done.rejects_path}.")
    elif done.reasons and not done.refused:
        console.print("The rejects were not kept; say in the job where they go (rejects).")
    if done.rejected and not short:
        rows = counted(done.rejected, "row")
        console.print(f"{rows} of {done.table} not taken by {done.to_table} so far; --retry tries again.")
        for row in done.refused[:_REASONS]:
            console.print(Text(f"  {', '.join(map(shown, row['key']))}: {row['reason']}", "dim"))
    if done.outdone:
        what = counted(done.outdone, "change")
        console.print(f"{what} not written: the other table's change of the row counts.")
    for note in done.notes:
        console.print(Text(f"The capture of {done.table} does not know the table as it is: {note}.", "yellow"))
    for holder in done.held_by:
        console.print(Text(f"Later changes wait for {holder}.", "yellow"))


def compared(done: Compared) -> None:
    """What differs between a table and the one that follows it."""
    console = Screen()
    rows = f"{counted(done.to_rows, 'row')}, of {done.rows:,} that are sent"
    console.print(Text.assemble((done.to_table, "bold"), " follows ", (done.table, "bold"), f": {rows}."))
    if done.alike:
        console.print(Text("Nothing differs.", "green"))
    counts = (("missing", "insert"), ("different", "update"), ("extra", "delete"), ("refused", "reject"))
    if not done.alike:
        table = Rows("what", "rows", right=("rows",))
        for word, style in counts:
            count = getattr(done, word)
            table.add_row(Text(word, STYLES[style] if count else "dim"), f"{count:,}")
        console.print()
        console.print(table)
        console.print()
        lines = done.differences.slice(0, _LINES).to_pylist()
        keys = done.differences.column_names[3:]
        styles = dict(counts)
        table = Rows("what", *keys, "columns", *(["reason"] if done.refused else []))
        for line in lines:
            named = [shown(line[name]) for name in keys]
            why = [line["reason"] or "" if line["what"] == "refused" else ""] if done.refused else []
            table.add_row(
                Text(line["what"], STYLES[styles[line["what"]]]), *named, ", ".join(line["changed"] or ()), *why
            )
        console.print(table)
        more = done.missing + done.different + done.extra + done.refused - len(lines)
        if more > 0:
            console.print(Text(f"… and {more:,} more; --json has them.", "dim"))
        console.print()
    if done.behind:
        differs = "" if done.mended else "; until then some rows may differ"
        console.print(f"{counted(done.behind, 'change')} still to be followed{differs}.")
    mended = done.mended and not done.alike
    but = f", but for {counted(done.refused, 'row')} that {done.to_table} does not take" if done.refused else ""
    console.print(f"What differed is mended{but}." if mended else "Nothing was written.")


def _named(done: Synced) -> list[str | tuple[str, str]]:
    if done.to_table:
        return [(done.to_table, "bold"), " in ", done.to_store, " follows "]
    return ["The files in ", (done.to_store, "bold"), " follow "]


def followers(rows: pa.Table, store: str) -> None:
    """Who follows which table."""
    console = Screen()
    if not rows.num_rows:
        console.print(f"Nobody follows a table in {store} yet.")
        return
    table = Rows("follower", "table", "goes to", "position", "behind", "for", "moved (UTC)", "seen (UTC)",
                 right=("position", "behind", "for"))  # fmt: skip
    for row in rows.to_pylist():
        behind = "?" if row["behind"] is None else f"{row['behind']:,}"
        late = "" if row["seconds_behind"] is None else _long(row["seconds_behind"])
        stamps = [f"{row[name]:%Y-%m-%d %H:%M:%S}" if row[name] else "" for name in ("moved_at", "seen_at")]
        style = "yellow" if row["behind"] else "dim"
        table.add_row(
            row["follower"], row["table_name"], row["goes_to"] or "", f"{row['position']:,}", Text(behind, style),
            Text(late, style), *stamps,
        )  # fmt: skip
    console.print(table)
    for row in rows.to_pylist():
        if row["held_by"]:
            console.print(Text(f"{row['follower']} waits for {row['held_by']}.", "yellow"))
        if row["rejected"]:
            told = f"{counted(row['rejected'], 'change')} for {row['follower']} rejected; sync --retry tries again."
            console.print(Text(told, STYLES["reject"]))


def _long(seconds: float) -> str:
    return f"{seconds:.1f} s" if seconds < 60 else str(timedelta(seconds=round(seconds)))
