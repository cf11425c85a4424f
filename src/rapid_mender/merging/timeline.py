"""The versions that records meet: the one in force at the date of each, and how its key goes on."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.cast import as_text, plain
from ..core.existing import Existing, concatenated
from ..core.keys import one_array
from ..core.row_numbers import NO_ROW, as_indices, is_row
from ..core.versions import ALWAYS, NEVER, Found, instants, versions_at
from ..jobs.plan import Plan
from ..jobs.spans import Spans
from ..stores.contract import Session


@dataclass(frozen=True)
class Timeline:
    """How the keys of some records go on.

    `existing` has the versions that are in force at the dates of the records. For each record: `at` is its date, and
    `until` when the next version begins, both as instants; `late` masks those before whose key's last version; `odd`
    those whose key has spans that overlap, with `odd_texts` in words; `number` is that of the version before.
    """

    existing: Existing
    at: np.ndarray
    until: np.ndarray
    late: np.ndarray
    known: np.ndarray
    """Whose key has a version that ended before."""
    odd: np.ndarray
    odd_texts: pa.Array
    number: np.ndarray
    later: Existing
    """The versions that begin after the date of a late record; their positions are the records'."""


def timeline_of(session: Session, plan: Plan, values: pa.Table, fresh: bool) -> Timeline:
    """Look up the versions that records meet. Closed versions are read only where they are needed: for records that
    are late, or whose key has no current version."""
    spans = plan.spans
    assert spans is not None
    keys, info, count = values.select(plan.key), plan.info, values.num_rows
    at = instants(values[spans.begin], ALWAYS)
    current = session.fetch(info, keys, fresh, spans.in_force, [spans.begin])
    matches = np.bincount(current.positions, minlength=count)
    behind = at[current.positions] < instants(current.values[spans.begin], ALWAYS)
    need = matches != 1
    need[current.positions[behind]] = True
    plainly = np.flatnonzero(~need[current.positions])
    parts = [current.take(plainly)]
    until, late, odd = np.full(count, NEVER), np.zeros(count, bool), np.zeros(count, bool)
    number, known = np.zeros(count, np.int64), np.zeros(count, bool)
    texts = pa.nulls(0, pa.string())
    later = current.take(np.arange(0))
    if need.any():
        asked = np.flatnonzero(need)
        every = session.fetch(info, keys.take(pa.array(asked)), fresh, by=[spans.begin])
        found = versions_at(at[asked], every.positions, *spans.instants(every.values))
        until[asked], late[asked], odd[asked] = found.until, found.late, found.odd
        known[asked] = is_row(found.before)
        texts = _in_words(spans, every, found)
        chosen = np.where(found.odd, NO_ROW, found.row)
        if spans.number is not None:
            number[asked] = _numbers(every, spans.number, np.where(is_row(chosen), chosen, found.before))
        begins = instants(every.values[spans.begin], ALWAYS)
        mine = np.flatnonzero((begins > at[asked][every.positions]) & ~found.odd[every.positions])
        if len(mine):
            later = every.take(mine)
            later.positions = asked[later.positions]
        there = np.flatnonzero(is_row(chosen))
        if len(there):
            some = every.take(chosen[there])
            some.positions = asked[there]
            parts.append(some)
    existing = concatenated(parts)
    existing = existing.take(np.argsort(existing.positions, kind="stable"))
    if spans.number is not None:
        number[existing.positions] = _numbers(existing, spans.number, np.arange(len(existing.positions)))
    return Timeline(existing, at, until, late, known, odd, texts, number, later)


def _numbers(rows: Existing, name: str, places: np.ndarray) -> np.ndarray:
    """The numbers of some versions, 0 where there is none."""
    known = one_array(rows.values[name]).take(as_indices(places))
    return np.asarray(pc.fill_null(known.cast(pa.int64()), 0).to_numpy(zero_copy_only=False))


def _in_words(spans: Spans, every: Existing, found: Found) -> pa.Array:
    """For each record whose key has spans that overlap, which rows that are."""
    odd = np.flatnonzero(found.odd)
    if not len(odd):
        return pa.nulls(0, pa.string())
    shown = []
    for record in odd.tolist():
        mine = pa.array(np.flatnonzero(every.positions == record))
        cells = [as_text(plain(every.values[name]).take(mine))[0].to_pylist() for name in (spans.begin, spans.end)]
        rows = sorted(f"{begin or 'ever'} to {end or 'no end'}" for begin, end in zip(*cells, strict=True))
        shown.append(f"the versions of this key overlap: {', '.join(rows[:5])}; mend the table first")
    return pa.array(shown, pa.string())
