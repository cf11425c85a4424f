"""A table as it was, going back from what it is by the changes since; and the life of one record."""

from __future__ import annotations

import secrets
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import date, datetime
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.hashing import hash_rows
from ..core.keys import one_array
from ..core.repeats import among
from ..core.schema import TableInfo
from ..errors import JobError
from ..incoming.ahead import ahead
from ..stores.contract import Condition, Selection, Session, Store
from ..stores.urls import opened
from .chains import agrees
from .given import key_given, moment, whole
from .guard import Guard, guard_after
from .past import NUMBER, Past, past_of, together

_ALL_THE_SAME = "; with force it is taken for the same table"
LIFE = ("valid_from", "valid_to", "change_no", "batch_no")


def as_of(
    store: str | Store,
    table: str,
    *,
    when: datetime | date | str | None = None,
    batch: int | None = None,
    position: int | None = None,
    force: bool = False,
) -> pa.Table:
    """The table as it was at a time (UTC unless it has a zone), after a batch, or after the change at a position.

    An Arrow table with the columns that the history has of all that time; the order of the rows is not kept. Raises
    JobError if the history does not reach back so far, or has a hole since; StoreError if the table has no history;
    AlteredError if a batch since then was altered after it was sealed: with `force` it is taken as it is, and a table
    that has taken the name of the one whose changes were recorded for the same.
    """
    with opened(store) as place, place.begin(write=False) as session:
        info, pages = as_it_was(session, table, when=when, batch=batch, position=position, force=force)
        return pa.concat_tables([page.cast(info.schema) for page in (info.schema.empty_table(), *pages)])


def as_it_was(
    session: Session,
    table: str,
    *,
    when: Any = None,
    batch: int | None = None,
    position: int | None = None,
    force: bool = False,
) -> tuple[TableInfo, Iterator[pa.Table]]:
    """What `as_of` gives, some rows at a time, and the shape of them."""
    if sum(one is not None for one in (when, batch, position)) != 1:
        raise JobError("say as of what: when, batch or position")
    whole("batch", batch)
    whole("position", position)
    past = past_of(session, table, hold=True)
    at = position
    if batch is not None:
        at = _end_of_batch(past, batch)
    elif when is not None:
        at = _last_before(past, moment("when", when))
    assert at is not None
    _check_reach(past, at, force)
    names = past.known_since(at + 1)
    guard = guard_after(past, at, wanted=not force)
    return replace(past.info, columns=tuple(past.info.pick(names))), _back(past, at, names, guard)


def _end_of_batch(past: Past, batch: int) -> int:
    """The position after a batch."""
    runs = past.runs([[Condition("batch_no", "=", batch)]])
    if not runs:
        raise JobError(f"there is no batch {batch} of table {past.info.name!r}; see the batches of its store")
    before = past.runs([[Condition("batch_no", "<=", batch)], [Condition("last_change", ">=", 1)]], limit=1)
    return int(before[0]["last_change"]) if before else 0


def _last_before(past: Past, when: datetime | None) -> int:
    """The last change that was made until a time."""
    begins = past.begins
    if begins is not None and when is not None and when < begins.time:
        raise JobError(f"the history of {past.info.name!r} begins on {begins.words}: older changes were pruned")
    until = [[Condition("changed_at", "<=", when)]]
    last = past.session.read(past.kept, Selection(until, NUMBER, 1, columns=[NUMBER]))
    return int(last.values[NUMBER][0].as_py()) if len(last.positions) else 0


def _check_reach(past: Past, position: int, force: bool) -> None:
    """Raise JobError if the history since a position is not all there; with `force` not where another table has taken
    the name."""
    begins = past.begins
    if begins is not None and position < begins.change:
        raise JobError(
            f"the history of {past.info.name!r} begins after change {begins.change}, on {begins.words}: older "
            "changes were pruned"
        )
    why = "so nobody knows how the table was before that"
    for hole in past.holes:
        if (hole.after is None or hole.after >= position) and not (force and hole.why == "replaced"):
            raise JobError(f"{hole.words(past.info.name)}, {why}{_ALL_THE_SAME if hole.why == 'replaced' else ''}")
    if past.identity.replaced and not force and not agrees(past):
        raise JobError(f"{past.replaced_words}, and has other rows, {why}{_ALL_THE_SAME}")


def _back(past: Past, position: int, names: list[str], guard: Guard) -> Iterator[pa.Table]:
    """The rows as they were, page by page: those that nothing has touched since, and then the others. Raises
    AlteredError before the last page if the guard finds something."""
    columns = list(dict.fromkeys([*names, *past.key]))
    wanted = [NUMBER, "action", *(past.names[f"old_{name}"] for name in columns)]
    wanted += [past.names[f"new_{name}"] for name in past.key]  # of the new rows only which they were
    since = guard.read([[Condition(NUMBER, ">", position)]], wanted)
    changes = together(since or [past.nothing()])
    slots = past.slots(changes).without_passing()
    old = past.rows(changes, "old", columns).values
    keys = pa.concat_tables([old.select(past.key), past.rows(changes, "new", past.key).values])
    touched = np.where(slots.had, slots.before, slots.after + old.num_rows)
    seed = secrets.randbits(64)
    seen = np.unique(past.hash_keys(keys.take(pa.array(touched)), seed))
    for page, folded in ahead(_scanned(past, columns)):
        keep = ~among(hash_rows(folded, seed), seen)
        yield page.select(names).filter(pa.array(keep))
    guard.check()
    yield old.select(names).take(pa.array(slots.before[slots.had]))


def _scanned(past: Past, columns: list[str]) -> Iterator[tuple[pa.Table, list[pa.Array]]]:
    """The rows of the table, some at a time, and their keys folded: all that asks the store."""
    for page in past.session.scan(past.info, columns, key=past.key):
        yield page.values, past.fold_keys(page.values)


def past_life(session: Session, table: str, key: Mapping[str, Any], force: bool = False) -> pa.Table:
    """The life of one record, as the history has it, see `valid.life`."""
    past = past_of(session, table)
    given = key_given(key)
    changes = past.of_key(given)
    batches = pc.unique(one_array(changes.values["batch_no"])).drop_null().to_pylist()
    if batches:
        guard = Guard(past, [[Condition("batch_no", "=", batch) for batch in batches]], wanted=not force)
        guard.add(changes)
        guard.check()
    columns = past.columns
    shape = pa.schema([*(past.info.schema.field(name) for name in columns), *_span_fields(columns)])
    count = len(changes.positions)
    if not count:
        return shape.empty_table()
    old, new = (past.rows(changes, side, columns).values for side in ("old", "new"))
    at = changes.values["changed_at"].cast(pa.timestamp("ms", "UTC"))
    mine = [_has(past, values, given) for values in (old, new)]
    out = []
    for place_of in range(count):
        if place_of == 0 and mine[0][0]:
            out.append((old, 0, None, at[0].as_py(), None, None))
        if mine[1][place_of]:
            until = at[place_of + 1].as_py() if place_of + 1 < count else None
            numbers = [changes.values[name][place_of].as_py() for name in LIFE[2:]]
            out.append((new, place_of, at[place_of].as_py(), until, *numbers))
    added = shape.names[len(columns) :]
    rows = [values.slice(row, 1).to_pylist()[0] | dict(zip(added, spans, strict=True)) for values, row, *spans in out]
    return pa.Table.from_pylist(rows, shape)


def _span_fields(columns: Sequence[str]) -> list[pa.Field]:
    stamp, taken = pa.timestamp("ms", "UTC"), {name.lower() for name in columns}
    names = [name if name not in taken else f"rmend_{name}" for name in LIFE]
    return [pa.field(name, stamp) for name in names[:2]] + [pa.field(name, pa.int64()) for name in names[2:]]


def _has(past: Past, rows: pa.Table, key: Mapping[str, Any]) -> np.ndarray:
    """A mask of the rows that have a key, by the database's own idea of equal."""
    mask = np.ones(rows.num_rows, bool)
    for name, value in past.sought(key).items():
        both = pa.concat_arrays([one_array(rows[name]), pa.array([value.as_py()], rows[name].type)])
        (folded,) = past.session.fold(past.info, pa.table({name: both}))
        same = pc.fill_null(pc.equal(folded, folded[-1]), False)
        mask &= same.to_numpy(zero_copy_only=False)[:-1]
    return mask
