"""Results as a notebook shows them: HTML, without a script, with no colour but that of a decision."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from html import escape
from typing import TYPE_CHECKING, Any

from .spelling import TRUTHS, changed_columns, deciding_rules, record, sentence, shown, together, visible

if TYPE_CHECKING:
    from .jobs.check import Checked
    from .merging.explain import Explained, Explanation
    from .merging.result import Result

_COLOURS = {"insert": "#2da44e", "update": "#bf8700", "delete": "#cf222e", "skip": "#888", "reject": "#cf222e"}
_REJECTS = 5
_CELL = "padding:2px 10px 2px 0;text-align:{};vertical-align:top;border:none"


def of_result(result: Result) -> str:
    """A merge or a preview: the counts, what changed, the groups, and some records."""
    head = f"{'Merged' if result.wrote else 'Preview of'} {result.records:,} records into"
    key = ", ".join(result.key)
    out = [f"{_text(head)} <b>{_text(result.table)}</b> by {_text(key)}.", _counts(result)]
    if result.changed:
        out.append(_text(changed_columns(result.changed, "changed" if result.wrote else "would change")))
    if result.rules:
        out.append(_text(deciding_rules(result.rules)))
    if result.missing:
        out.append(f"Rows that did not come: {result.missing:,} of the deletes")
    if result.groups is not None:
        names = result.groups.column_names[1:]
        rows = [[row["group"], *(f"{row[name]:,}" for name in names)] for row in result.groups.to_pylist()]
        out.append(_table([result.by or "", *names], rows, right=names))
    out += [f"<i>Note: {_text(warning)}</i>" for warning in result.warnings]
    if result.samples:
        out.append(_samples(result))
    if result.wrote and result.counts["reject"]:
        first = result.rejects.slice(0, _REJECTS).select(["rmend_row", "rmend_reason"]).to_pylist()
        rows = [[f"{row['rmend_row']}", row["rmend_reason"]] for row in first]
        where = f" They are in {result.rejects_path}." if result.rejects_path else ""
        out.append(_text(f"The first {len(rows)} of {result.counts['reject']:,} rejects.{where}"))
        out.append(_table([result.unit, "reason"], rows, right=[result.unit]))
    end = f"Batch <b>{result.batch}</b>. {result.seconds:.2f} s." if result.wrote else "Nothing was written."
    return _page([*out, end])


def _counts(result: Result) -> str:
    every = sum(result.counts.values())
    rows: list[list[Any]] = []
    for name, count in result.counts.items():
        share = count / every if every else 0.0
        bar = f'<div style="background:{_COLOURS[name]};height:0.7em;width:{share * 20:.2f}em;margin-top:0.3em"></div>'
        colour = _COLOURS[name if count else "skip"]
        rows.append([_Styled(name, colour), f"{count:,}", f"{share:.1%}", _Html(bar)])
    return _table(["decision", "records", "share", ""], rows, right=["records", "share"])


def _samples(result: Result) -> str:
    rows: list[list[Any]] = []
    order = list(_COLOURS)
    for one in sorted(result.samples, key=lambda s: (order.index(s.decision), s.row or 0)):
        key = together(one.key.values())
        differs = [f"{name}: {shown(old)} → {shown(new)}" for name, old, new, changed in one.cells if changed]
        if one.decision == "insert":
            differs = [f"{name}: {shown(new)}" for name, _, new, _ in one.cells if name not in one.key]
        row = "" if one.row is None else f"{one.row}"
        values = _Html("; ".join(map(_whole, differs)))
        rows.append([row, _Styled(one.decision, _COLOURS[one.decision]), _Html(_whole(key)), values, one.reason])
    return _table([result.unit, "decision", "key", "values", "reason"], rows, right=[result.unit])


def of_explanation(explanation: Explanation) -> str:
    """The records of one key: every column, every rule, the decision."""
    names = ", ".join(explanation.key)
    key = together(explanation.key.values())
    out = [f"Key <b>{_text(key)}</b> of {_text(explanation.table)}, by {_text(names)}."]
    if len(explanation.existing) != 1:
        out.append(f"{len(explanation.existing) or 'No'} rows have this key.")
    if explanation.note is not None:
        out.append(_text(sentence(explanation.note)))
    for one in explanation.records:
        out += _record(one, explanation)
    return _page(out)


def _record(one: Explained, explanation: Explanation) -> Iterable[str]:
    yield f"<b>{explanation.unit} {one.row}</b> came as {_text(record(one.came))}"
    if one.compared:
        old = [shown(cell.existing) if explanation.existing else "no row" for cell in one.compared]
        rows = [
            [cell.column, before, "≠" if cell.changed else "", shown(cell.incoming) if cell.sent else "", cell.verdict]
            for cell, before in zip(one.compared, old, strict=True)
        ]
        yield _table(["column", "existing", "", "incoming", "verdict"], rows)
    if one.rules:
        listed = [[f"{r.number}", r.decide, TRUTHS[r.value], "◀" if r.decided else "", r.when] for r in one.rules]
        yield _table(["rule", "decides", "value", "", "when"], listed)
    yield f"Decision: {_cell(_Styled(one.decision, _COLOURS[one.decision]))}, {_text(one.reason)}"


def of_checked(checked: Checked) -> str:
    """Problems, warnings, and what the job does."""
    out = [f"<b>Wrong:</b> {_text(problem)}" for problem in checked.problems]
    out += [f"<i>Note: {_text(warning)}</i>" for warning in checked.warnings]
    out += [_text(sentence) for sentence in checked.sentences]
    return _page(out if checked.problems else [*out, "Nothing is wrong with this job."])


class _Html(str):
    """What is HTML already."""


class _Styled(str):
    """A word in a colour."""

    def __new__(cls, text: str, colour: str) -> _Styled:
        made = super().__new__(cls, text)
        made.colour = colour
        return made

    colour: str


def _text(value: str) -> str:
    return escape(visible(value))


def _whole(value: str) -> str:
    """A text that stays on one line."""
    return f'<span style="white-space:nowrap">{_text(value)}</span>'


def _cell(value: Any) -> str:
    if isinstance(value, _Html):
        return value
    if isinstance(value, _Styled):
        return f'<span style="color:{value.colour};font-weight:bold">{_text(value)}</span>'
    return _text(value if isinstance(value, str) else shown(value))


def _table(head: Sequence[str], rows: Iterable[Sequence[Any]], right: Sequence[str] = ()) -> str:
    sides = ["right" if name in right else "left" for name in head]

    def line(tag: str, cells: Sequence[Any]) -> str:
        made = (
            f'<{tag} style="{_CELL.format(side)}">{_cell(one)}</{tag}>' for one, side in zip(cells, sides, strict=True)
        )
        return f"<tr>{''.join(made)}</tr>"

    return f"<table>{line('th', head)}{''.join(line('td', row) for row in rows)}</table>"


def _page(parts: Iterable[str]) -> str:
    return "".join(part if part.startswith("<table") else f"<div>{part}</div>" for part in parts)
