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

from ..core.existing import Existing
from ..core.hashing import hash_rows
from ..core.keys import one_array
from ..core.own_tables import BATCHES_TABLE
from ..core.repeats import among
from ..core.schema import TableInfo
from ..errors import JobError
from ..incoming.ahead import ahead
from ..stores.contract import Condition, Selection, Session, Store, Where
from ..stores.urls import opened
from .chains import agrees
from .given import key_given, moment, whole
from .guard import Guard, guard_after
from .past import NUMBER, Past, in_utc, past_of, together
from .shared_keys import shared_keys

_ALL_THE_SAME = "; with force it is taken for the same table"
LIFE = ("valid_from", "valid_to", "change_no", "batch_no")


def as_of(
    store: str | Store,
    table: str,
    *,
    when: datetime | date | str | None = None,
    batch: int | None = None,
    position: int | None = None,
    key: Mapping[str, Any] | None = None,
    as_known: bool = False,
    force: bool = False,
) -> pa.Table:
    """The table as it was at a time (UTC unless it has a zone), after a batch, or after the change at a position; with
    `key` (values by column) the one row that had it then, if there was one.

    An Arrow table with the columns that the history has of all that time; the order of the rows is not kept. A time
    before the history begins is an error, unless `as_known`: then the table as it was when the history began is given.
    Raises JobError if the history does not reach back so far, or has a hole since; StoreError if the table has no
    history; AlteredError if a batch since then was altered after it was sealed: with `force` it is taken as it is, and
    a table that has taken the name of the one whose changes were recorded for the same.
    """
    with opened(store) as place, place.begin(write=False) as session:
        info, pages = as_it_was(
            session, table, when=when, batch=batch, position=position, key=key, as_known=as_known, force=force
        )
        return pa.concat_tables([page.cast(info.schema) for page in (info.schema.empty_table(), *pages)])


def as_it_was(
    session: Session,
    table: str,
    *,
    when: Any = None,
    batch: int | None = None,
    position: int | None = None,
    key: Mapping[str, Any] | None = None,
    as_known: bool = False,
    force: bool = False,
) -> tuple[TableInfo, Iterator[pa.Table]]:
    """What `as_of` gives, some rows at a time, and the shape of them."""
    if sum(one is not None for one in (when, batch, position)) != 1:
        raise JobError("say as of what: when, batch or position")
    whole("batch", batch)
    whole("position", position)
    past = past_of(session, table, hold=True)
    at, ended = position, list[list[Condition]]()
    if batch is not None:
        at, until = _end_of_batch(past, batch)
        ended = [[Condition("batch_no", "<=", batch)], [Condition("finished_at", "<=", until)]]
    elif when is not None:
        moment_ = moment("when", when)
        at, ended = _last_before(past, moment_, as_known), [[Condition("finished_at", "<=", moment_)]]
    assert at is not None
    _check_reach(past, at, force, ended)
    past.check_key(at + 1)
    names = past.known_since(at + 1)
    shape = replace(past.info, columns=tuple(past.info.pick(names)))
    if given := key_given(key):
        return shape, iter([_row_as_it_was(past, at, names, given, force)])
    return shape, _back(past, at, names, guard_after(past, at, wanted=not force))


def _end_of_batch(past: Past, batch: int) -> tuple[int, datetime]:
    """The position after a batch, and when it ended."""
    runs = past.runs([[Condition("batch_no", "=", batch)]])
    if not runs:
        raise JobError(f"there is no batch {batch} of table {past.info.name!r}; see the batches of its store")
    before = past.runs([[Condition("batch_no", "<=", batch)], [Condition("last_change", ">=", 1)]], limit=1)
    at = int(before[0]["last_change"]) if before else 0
    return at, runs[0]["finished_at"] or runs[0]["started_at"]


def _last_before(past: Past, when: datetime | None, as_known: bool) -> int:
    """The last change that was made until a time. Raises JobError if the history begins later, unless `as_known`."""
    begins = past.begins
    if begins is not None and when is not None and when < begins.time:
        raise JobError(f"the history of {past.info.name!r} begins on {begins.words}: older changes were pruned")
    until = [[Condition("changed_at", "<=", when)]]
    last = past.session.read(past.kept, Selection(until, NUMBER, 1, columns=[NUMBER]))
    if len(last.positions):
        return int(last.values[NUMBER][0].as_py())
    if begins is not None:
        return begins.change  # nothing has changed yet since the last change that was pruned
    since = _known_since(past)
    if not as_known and since is not None and when is not None and when < since:
        raise JobError(
            f"{past.info.name!r} has a history since {since:%Y-%m-%d %H:%M:%S} UTC, and nobody knows how the table was "
            "before that; with as_known (--as-known) it is taken as it was then"
        )
    return 0


def _known_since(past: Past) -> datetime | None:
    """When the history began: with its first change, or its first batch."""
    session, batches = past.session, past.session.find_own(BATCHES_TABLE)
    first = session.read(past.kept, Selection((), NUMBER, 1, True, ["changed_at"])).values["changed_at"].to_pylist()
    if batches is not None:
        mine = [[Condition("table_name", "=", past.info.name)]]
        begun = session.read(batches, Selection(mine, "batch_no", 1, True, ["started_at"]))
        first += begun.values["started_at"].to_pylist()
    return min((in_utc(one) for one in first if one is not None), default=None)


def _check_reach(past: Past, position: int, force: bool, ended: Where) -> None:
    """Raise JobError if the history since a position is not all there; with `force` not where another table has taken
    the name. `ended`: holds for batches that had ended by then; nothing if only the position is known."""
    begins = past.begins
    if begins is not None and position < begins.change:
        raise JobError(
            f"the history of {past.info.name!r} begins after change {begins.change}, on {begins.words}: older "
            "changes were pruned"
        )
    why = "so nobody knows how the table was before that"
    late = [hole for hole in past.holes if hole.after is None or hole.after >= position]
    unrecorded = [hole.batch for hole in late if hole.why == "unrecorded"]
    before = past.numbers_of([*ended, [Condition("batch_no", "=", one) for one in unrecorded]]) if unrecorded else []
    for hole in late:
        if not (force and hole.why == "replaced") and not (ended and hole.batch in before):
            raise JobError(f"{hole.words(past.info.name)}, {why}{_ALL_THE_SAME if hole.why == 'replaced' else ''}")
    if past.identity.replaced and not force and not agrees(past):
        raise JobError(f"{past.replaced_words}, and has other rows, {why}{_ALL_THE_SAME}")


def _back(past: Past, position: int, names: list[str], guard: Guard) -> Iterator[pa.Table]:
    """The rows as they were, page by page: those that nothing has touched since, and then the others. Raises
    AlteredError before the last page if the guard finds something."""
    columns = list(dict.fromkeys([*names, *past.key]))
    wanted = [NUMBER, "action", *(past.names[f"old_{name}"] for name in columns)]
    only = past.key if past.info.identifying else columns
    wanted += [past.names[f"new_{name}"] for name in only]  # of the new rows only which they were
    since = guard.read([[Condition(NUMBER, ">", position)]], wanted)
    changes = together(since or [past.nothing()])
    shared = None
    if not past.info.identifying:
        shared = shared_keys(past, changes, *(past.rows(changes, side, columns) for side in ("old", "new")))
    if shared is not None:
        changes = changes.take(np.flatnonzero(~shared.changed))
    slots = past.slots(changes)
    old = past.rows(changes, "old", columns).values
    keys = pa.concat_tables([old.select(past.key), past.rows(changes, "new", past.key).values])
    touched = np.where(slots.had, slots.before, np.where(slots.has, slots.after + old.num_rows, slots.last))
    seed = secrets.randbits(64)
    seen = np.unique(past.hash_keys(keys.take(pa.array(touched)), seed))
    for page, folded in ahead(_scanned(past, columns)):
        keep = ~among(hash_rows(folded, seed), seen)
        if shared is not None:
            keep &= ~among(hash_rows(folded, shared.seed), shared.keys)
        yield page.select(names).filter(pa.array(keep))
    guard.check()
    if shared is not None:
        yield shared.before().select(names)
    yield old.select(names).take(pa.array(slots.before[slots.had]))


def _row_as_it_was(past: Past, position: int, names: list[str], key: Mapping[str, Any], force: bool) -> pa.Table:
    """The row that had a key, if there was one."""
    _check_key(past, key)
    since = past.of_key(key, [[Condition(NUMBER, ">", position)]])
    _check_batches(past, since, force)
    if not len(since.positions):
        return _row_of(past, key).select(names)
    columns = list(dict.fromkeys([*names, *key]))
    shared = shared_keys(past, since, *(past.rows(since, side, columns) for side in ("old", "new")))
    if shared is not None:
        were = shared.before()
        return were.select(names).filter(pa.array(_has(past, were, past.sought(key))))
    old = past.rows(since.take(np.array([0])), "old", columns).values
    return old.select(names) if _has(past, old, past.sought(key))[0] else old.select(names).slice(0, 0)


def _row_of(past: Past, key: Mapping[str, Any]) -> pa.Table:
    """The row that has a key now, if there is one."""
    sought = past.sought(key)
    keys = pa.table({name: pa.array([value.as_py()], past.info[name].type) for name, value in sought.items()})
    return past.session.fetch(past.info, keys).values


def _check_key(past: Past, key: Mapping[str, Any]) -> None:
    """Raise JobError if a key may be that of several rows: if it has not all of a key of the table. Where only merges
    say by which columns rows are told apart, others may do so too."""
    given, info = set(past.sought(key)), past.info
    whole = any(names and set(names) <= given for names in (past.key, info.primary_key, *info.unique))
    if not whole and (info.identifying or given < set(past.key)):
        lacking = ", ".join(name for name in past.key if name not in given)
        raise JobError(
            f"the key of {past.info.name!r} is {', '.join(past.key)}; give a value for {lacking} too, as several rows "
            "may have the rest in common"
        )


def _check_batches(past: Past, changes: Existing, force: bool) -> None:
    """Raise AlteredError if a batch of changes was altered since it was sealed, unless `force`."""
    batches = pc.unique(one_array(changes.values["batch_no"])).drop_null().to_pylist()
    if batches:
        guard = Guard(past, [[Condition("batch_no", "=", batch) for batch in batches]], wanted=not force)
        guard.add(changes)
        guard.check()


def _scanned(past: Past, columns: list[str]) -> Iterator[tuple[pa.Table, list[pa.Array]]]:
    """The rows of the table, some at a time, and their keys folded: all that asks the store."""
    for page in past.session.scan(past.info, columns, key=past.key):
        yield page.values, past.fold_keys(page.values)


def past_life(session: Session, table: str, key: Mapping[str, Any], force: bool = False) -> pa.Table:
    """The life of one record, as the history has it, see `valid.life`."""
    past = past_of(session, table)
    given = key_given(key)
    _check_key(past, given)
    past.check_recorded(past.key)
    changes = past.of_key(given)
    _check_batches(past, changes, force)
    columns = past.columns
    rows = [past.rows(changes, side, columns) for side in ("old", "new")]
    if shared_keys(past, changes, *rows) is not None:
        raise JobError(f"several rows of {past.info.name!r} share this key, so that the life of none can be told")
    shape = pa.schema([*(past.info.schema.field(name) for name in columns), *_span_fields(columns)])
    count = len(changes.positions)
    if not count:  # a row that nothing has changed since the history began, if there is one
        row = _row_of(past, given).select(columns)
        unknown = [pa.nulls(row.num_rows, field.type) for field in list(shape)[len(columns) :]]
        return pa.Table.from_arrays([*row.columns, *unknown], schema=shape)
    old, new = (side.values for side in rows)
    at = changes.values["changed_at"].cast(pa.timestamp("ms", "UTC"))
    mine = [_has(past, values, past.sought(given)) for values in (old, new)]
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


def _has(past: Past, rows: pa.Table, key: Mapping[str, pa.Scalar]) -> np.ndarray:
    """A mask of the rows that have a key, by the database's own idea of equal."""
    mask = np.ones(rows.num_rows, bool)
    for name, value in key.items():
        both = pa.concat_arrays([one_array(rows[name]), pa.array([value.as_py()], rows[name].type)])
        (folded,) = past.session.fold(past.info, pa.table({name: both}))
        same = pc.fill_null(pc.equal(folded, folded[-1]), False)
        mask &= same.to_numpy(zero_copy_only=False)[:-1]
    return mask
