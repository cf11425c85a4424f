"""What rmend explain and rmend check show."""

from __future__ import annotations

from rich.text import Text

from ..jobs.check import Checked
from ..merging.explain import Explained, Explanation
from ..spelling import TRUTHS, record, sentence, shown, together
from .screen import STYLES, Rows, Screen


def explained(explanation: Explanation) -> None:
    """One record after the other: what came, column by column, rule by rule, the decision."""
    console = Screen()
    key = together(explanation.key.values())
    console.print(Text.assemble("Key ", (key, "bold"), f" of {explanation.table}, by {', '.join(explanation.key)}."))
    if len(explanation.existing) != 1:
        console.print(f"{len(explanation.existing) or 'No'} rows have this key.")
    if explanation.note is not None:
        console.print(sentence(explanation.note))
    for one in explanation.records:
        console.print()
        _record(one, explanation)


def _record(one: Explained, explanation: Explanation) -> None:
    console = Screen()
    console.print(Text.assemble((f"{explanation.unit} {one.row}", "bold"), " came as  ", (record(one.came), "dim")))
    if one.compared:
        console.print()
        table = Rows("column", "existing", "", "incoming", "verdict")
        for cell in one.compared:
            style = f"bold {STYLES['update']}" if cell.changed else ""
            old = Text(shown(cell.existing) if explanation.existing else "no row", "dim")
            new = Text(shown(cell.incoming), style) if cell.sent else Text("", "dim")
            table.add_row(cell.column, old, "≠" if cell.changed else "", new, Text(cell.verdict, style or "dim"))
        console.print(table)
    if one.rules:
        console.print()
        table = Rows("rule", "decides", "value", "", "when", right=("rule",))
        for rule in one.rules:
            style = STYLES[rule.decide] if rule.decided else ""
            value = Text(TRUTHS[rule.value], style)
            table.add_row(str(rule.number), Text(rule.decide, style), value, "◀" if rule.decided else "", rule.when)
        console.print(table)
    console.print()
    console.print(Text.assemble("Decision: ", (one.decision, STYLES[one.decision]), f", {one.reason}"))


def checked(checked_job: Checked) -> None:
    """Problems, warnings, and what the job does."""
    console = Screen()
    for problem in checked_job.problems:
        console.print(Text.assemble(("Wrong: ", STYLES["reject"]), problem))
    for warning in checked_job.warnings:
        console.print(Text.assemble(("Note: ", "yellow"), warning))
    for said in checked_job.sentences:
        console.print(Text(said))
    if not checked_job.problems:
        console.print("\nNothing is wrong with this job.")
