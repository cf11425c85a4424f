"""What is decided otherwise where a table keeps versions: records that come late, spans that overlap, what opens a
version."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.cast import as_text, cast, plain
from ..core.compare import Patterns
from ..core.decisions import DELETE, INSERT, REJECT, SKIP, UPDATE, Decisions
from ..core.keys import one_array
from ..core.row_numbers import as_indices, is_row
from ..core.versions import ALWAYS, NEVER, as_instants, flags_of, instants
from ..jobs.plan import Plan
from .timeline import Timeline

_LATE = "dated before the current version"


@dataclass(frozen=True)
class Versioned:
    """What is to be known of records beside the decisions on them."""

    timeline: Timeline
    opens: np.ndarray
    """Which of them open a version, if they update."""
    exact: np.ndarray
    """Which have the date on which the version begins that they meet."""
    again: bool
    """Their keys come in several chunks."""


def settle(
    plan: Plan,
    timeline: Timeline,
    decisions: Decisions,
    matched_row: np.ndarray,
    patterns: Patterns,
    again: bool,
    moot: np.ndarray,
) -> Versioned:
    """Decide anew on what the spans forbid, and give reasons that say what becomes of versions."""
    spans = plan.spans
    assert spans is not None
    count = len(matched_row)
    met = np.flatnonzero(is_row(matched_row))
    rows = matched_row[met]
    begins = np.full(count, ALWAYS)
    begins[met] = instants(timeline.existing.values[spans.begin], ALWAYS)[rows]
    exact = (begins == timeline.at) & is_row(matched_row)
    differs = np.zeros(count, bool)
    differs[met] = patterns.having(spans.versioned)[rows]
    opens = differs & ~exact
    decisions.put(timeline.odd, REJECT, timeline.odd_texts)
    told, besides = spans.options, (decisions.codes == UPDATE) & ~differs  # what is not versioned alone
    decisions.put(besides & moot, SKIP, "another record of the batch, dated later, says this of the same version")
    corrects = exact & (told.late == "insert") & (told.overwrite == "current")
    decisions.put(
        besides & ~moot & timeline.late & ~corrects, SKIP, f"{_LATE}, and says nothing new of what is versioned"
    )
    if told.late != "insert":
        late = timeline.late & np.isin(decisions.codes, (INSERT, UPDATE, DELETE))
        decisions.put(late, SKIP if told.late == "skip" else REJECT, _LATE)
    _refuse_copies(plan, timeline, decisions, matched_row, opens & (decisions.codes == UPDATE))
    plainly = ~decisions.by_rule
    fresh = (decisions.codes == INSERT) & plainly & (timeline.late | timeline.known)
    decisions.put(fresh, INSERT, "no version of this key is in force on that date")
    opening = np.flatnonzero(opens & (decisions.codes == UPDATE) & plainly)
    if len(opening):
        texts = [one.take(pa.array(opening)) for one in _dates(plan, timeline, matched_row)]
        why = decisions.texts.take(pa.array(decisions.why[opening]))
        said = pc.binary_join_element_wise(why, "; closes the version of ", texts[0], ", opens one on ", texts[1], "")
        mask = np.zeros(count, bool)
        mask[opening] = True
        decisions.put(mask, UPDATE, said)
    return Versioned(timeline, opens, exact, again)


def _dates(plan: Plan, timeline: Timeline, matched_row: np.ndarray) -> tuple[pa.Array, pa.Array]:
    """When the versions begin that records meet, and those that they open, as texts."""
    spans = plan.spans
    assert spans is not None
    begins = one_array(timeline.existing.values[spans.begin])
    began = begins.take(as_indices(matched_row))
    opened = as_instants(timeline.at, begins.type, pa.scalar(None, begins.type))
    first, second = (as_text(plain(one))[0] for one in (began, opened))
    return pc.fill_null(first, "ever"), second


def _refuse_copies(
    plan: Plan, timeline: Timeline, decisions: Decisions, matched_row: np.ndarray, opening: np.ndarray
) -> None:
    """A cell that has no value of its column's type cannot be copied into a new version."""
    for name, cells in timeline.existing.verbatim.items():
        if plan.info[name].generated:
            continue
        bad = np.zeros(len(opening), bool)
        places = np.flatnonzero(opening)
        bad[places] = cells.mask[matched_row[places]]
        decisions.put(
            bad, REJECT, f"the row has a value of another form in {name}, which a new version cannot take over"
        )


def reopening(plan: Plan, timeline: Timeline) -> dict[str, tuple[pa.Array, np.ndarray]]:
    """What is set in versions that were marked when they began, and so have no span, if a record of that date brings
    them back: by column the values, and a mask of the rows."""
    spans, existing = plan.spans, timeline.existing
    assert spans is not None
    begin, end = spans.instants(existing.values)
    empty = (begin == end) & (begin == timeline.at[existing.positions])
    if not empty.any():
        return {}
    until = timeline.until[existing.positions]
    back = {spans.end: (spans.ends(until, plan.info[spans.end].type), empty)}
    if spans.current is not None:
        back[spans.current] = flags_of(plan.info[spans.current], until == NEVER), empty
    return back


def with_spans(plan: Plan, timeline: Timeline, values: pa.Table) -> pa.Table:
    """Records with all that says which span they have when they are inserted."""
    spans = plan.spans
    assert spans is not None
    for name in spans.columns[1:]:
        values = values.drop_columns([name]) if name in values.column_names else values
    return _appended(values, plan, timeline, timeline.until, np.arange(len(timeline.at)))


def _appended(values: pa.Table, plan: Plan, timeline: Timeline, until: np.ndarray, records: np.ndarray) -> pa.Table:
    spans = plan.spans
    assert spans is not None
    values = values.append_column(spans.end, spans.ends(until, plan.info[spans.end].type))
    if spans.current is not None:
        values = values.append_column(spans.current, flags_of(plan.info[spans.current], until == NEVER))
    if spans.number is not None:
        numbers = pa.array(timeline.number[records] + 1)
        values = values.append_column(spans.number, cast(numbers, plan.info[spans.number])[0])
    return values


def next_versions(
    plan: Plan,
    timeline: Timeline,
    setting: pa.Table,
    changed: dict[str, np.ndarray],
    rows: np.ndarray,
    records: np.ndarray,
) -> pa.Table:
    """The versions that records open: as the ones that these meet, at `rows`, but for what changes."""
    spans, info, existing = plan.spans, plan.info, timeline.existing
    assert spans is not None
    index = pa.array(rows)
    values = {}
    for column in info.columns:
        name = column.name
        if column.generated or name in spans.columns or name in spans.surrogates:
            continue
        values[name] = one_array(existing.values[name]).take(index)
        if name in changed and changed[name][rows].any():
            new = one_array(setting[name]).take(index)
            values[name] = pc.if_else(pa.array(changed[name][rows]), new, values[name])
    kind = info[spans.begin].type
    values[spans.begin] = as_instants(timeline.at[records], kind, pa.scalar(None, kind))
    table = pa.table({name: values[name] for name in info.names if name in values})
    table = table.append_column(spans.end, one_array(existing.values[spans.end]).take(index))
    if spans.current is not None:
        table = table.append_column(spans.current, one_array(existing.values[spans.current]).take(index))
    if spans.number is not None:
        numbers = pa.array(timeline.number[records] + 1)
        table = table.append_column(spans.number, cast(numbers, info[spans.number])[0])
    return table
