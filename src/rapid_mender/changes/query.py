"""Looking into the history of a table, and into the batches of a store."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from datetime import date, datetime
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.types as pt

from ..core.existing import Existing
from ..core.own_tables import BATCHES, BATCHES_TABLE, FIXED, history_info, stored_names
from ..core.records import known_column, value_of
from ..core.schema import Column
from ..errors import JobError, StoreError
from ..stores.contract import Condition, Selection, Session, Store
from ..stores.urls import opened
from .form import spell_changed
from .given import key_given, moment, whole
from .identity import named_before
from .past import NUMBER, Past, past_if_any, renamed_words, runs_of
from .process import killed_among


def history(
    store: str | Store,
    table: str,
    *,
    key: Mapping[str, Any] | None = None,
    batch: int | None = None,
    action: str | None = None,
    column: str | None = None,
    actor: str | None = None,
    application: str | None = None,
    since: datetime | date | str | None = None,
    until: datetime | date | str | None = None,
    after: int | None = None,
    before: int | None = None,
    limit: int | None = None,
) -> pa.Table:
    """The changes of a table, in order, as an Arrow table with the columns of its history.

    `key` maps key columns to values, before or after the change; `column` keeps the updates that changed
    that column; `since` and `until` (datetimes, dates, or texts as in ISO 8601; without a zone they are UTC) bound
    `changed_at`, `after` and `before` the position; `limit` keeps the newest so many. Raises StoreError if the table is
    not there, JobError for an unknown column, value or action. A table that was never merged into has an empty
    history; of one that was renamed a StoreError says where it is. For a large one see `history_pages`.
    """
    whole("limit", limit, 1)
    with opened(store) as place, place.begin(write=False) as session:
        shape, where, past, sought = _asked(
            session, table, key=key, batch=batch, action=action, column=column, actor=actor, application=application,
            since=since, until=until, after=after, before=before,
        )  # fmt: skip
        if past is None:
            return shape.empty_table()
        if sought:
            rows = past.of_key(sought, where, limit).values
        else:
            rows = whole_changes(session.read(past.kept, Selection(where, NUMBER, limit)))
        return as_told(past, rows)


def history_pages(store: str | Store, table: str, **filters: Any) -> Iterator[pa.Table]:
    """What `history` gives, some changes at a time, at least one page; `filters` are its own, without `limit`."""
    with opened(store) as place, place.begin(write=False) as session:
        shape, where, past, sought = _asked(session, table, **filters)
        if past is None:
            yield shape.empty_table()
        elif sought:
            yield as_told(past, whole_changes(past.of_key(sought, where)))
        else:
            none = True
            for page in past.changes(where):
                none = False
                yield as_told(past, whole_changes(page))
            if none:
                yield as_told(past, past.nothing().values)


def _asked(
    session: Session,
    table: str,
    *,
    key: Any = None,
    batch: int | None = None,
    action: str | None = None,
    column: str | None = None,
    actor: str | None = None,
    application: str | None = None,
    since: Any = None,
    until: Any = None,
    after: int | None = None,
    before: int | None = None,
) -> tuple[pa.Schema, list[list[Condition]], Past | None, dict[str, Any]]:
    """The schema of a history; the conditions that are asked for; its past, if there is one; the key."""
    if action not in (None, "insert", "update", "delete"):
        raise JobError(f"action is 'insert', 'update' or 'delete', not {action!r}")
    sought = key_given(key)
    for name, number in (("batch", batch), ("after", after), ("before", before)):
        whole(name, number)
    where: list[list[Condition]] = []
    for name, value in (("batch_no", batch), ("action", action), ("actor", actor), ("application", application)):
        if value is not None:
            where.append([Condition(name, "=", value)])
    bounds = (
        ("changed_at", ">=", moment("since", since)), ("changed_at", "<=", moment("until", until)),
        (NUMBER, ">", after), (NUMBER, "<", before),
    )  # fmt: skip
    where += [[Condition(name, op, bound)] for name, op, bound in bounds if bound is not None]  # type: ignore[arg-type]
    info = session.describe(table)
    if column is not None:
        name = known_column(info, column).name
        spelled = spell_changed([name])[1:-1]
        stands = f"[{spelled}", f", {spelled}]", f", {spelled}, "  # first, last, or between others
        where.append([Condition("changed", "contains", text) for text in stands])
    for name, value in sought.items():
        value_of(known_column(info, name), value)
    past = past_if_any(session, info.name, info)
    shape = history_info(info, session.fits, past.identity.names if past is not None else None)
    if past is None:
        if known := named_before(session, info):
            raise StoreError(f"table {info.name!r} has no history: {renamed_words(info.name, *known)}")
        names = stored_names(info, session.fits)
        full = {stored: name for name, stored in names.items()}
        return _named(shape.schema.empty_table(), full).schema, where, None, sought
    if batch is not None and (runs := past.runs([[Condition("batch_no", "=", batch)]])):
        first, last = runs[0]["first_change"], runs[0]["last_change"]
        if first is not None:  # by the numbers of its changes it is found without an index
            where += [[Condition(NUMBER, ">=", first)], [Condition(NUMBER, "<=", last)]]
    return shape.schema, where, past, sought


def whole_changes(changes: Existing) -> pa.Table:
    """Changes in which no cell of the table is lost that has no value of its column's type, see `whole_values`."""
    return changes.whole_values(but=[column.name for column in FIXED])


def as_told(past: Past, rows: pa.Table) -> pa.Table:
    """Changes with our own columns in their types, and all names whole."""
    for column in FIXED:
        if column.name not in rows.column_names:  # of a history that an earlier version made
            rows = rows.append_column(pa.field(column.name, column.type), pa.nulls(rows.num_rows, column.type))
    others = [name for name in rows.column_names if all(name != column.name for column in FIXED)]
    rows = rows.select([*(column.name for column in FIXED), *others])
    return _named(_as_declared(rows, FIXED), {stored: name for name, stored in past.names.items()})


def batches(store: str | Store, *, table: str | None = None, limit: int | None = None) -> pa.Table:
    """The batches of a store, oldest first, as an Arrow table; `limit` keeps the newest so many."""
    whole("limit", limit, 1)
    with opened(store) as place, place.begin(write=False) as session:
        kept = session.find_own(BATCHES_TABLE)
        if kept is None:
            return BATCHES.schema.empty_table()
        where: Sequence[Sequence[Condition]] = [[Condition("table_name", "=", table)]] if table else ()
        rows = session.read(kept, Selection(where, "batch_no", limit)).values
        for column in BATCHES.columns:
            if column.name not in rows.column_names:
                rows = rows.append_column(pa.field(column.name, column.type), pa.nulls(rows.num_rows, column.type))
        rows = _as_declared(rows.select(BATCHES.names), BATCHES.columns)
        running = rows.filter(pc.equal(rows["status"], "running"))["batch_no"].to_pylist()
        return _with_killed(rows, killed_among(session, running))


def one_batch(store: str | Store, number: int) -> dict[str, Any]:
    """All that is known of a batch: its row, with the figures as a dict, and `undone_by`, the batches that undo it.
    Raises JobError if there is none of that number."""
    whole("batch", number)
    with opened(store) as place, place.begin(write=False) as session:
        runs = runs_of(session, [[Condition("batch_no", "=", number)]])
        if not runs:
            raise JobError(f"there is no batch {number} in {session.where}")
        later = [
            [Condition("table_name", "=", runs[0]["table_name"])], [Condition("batch_no", ">", number)],
            [Condition("undoes", "is not null")],
        ]  # fmt: skip
        if runs[0]["status"] == "running" and killed_among(session, [number]):
            runs[0]["status"] = "killed"
        by = [one["batch_no"] for one in runs_of(session, later) if number in one["undoes"]]
    run = {name: value for name, value in runs[0].items() if not name.endswith("_text")}
    return run | {"seal": run["seal"].get("hash"), "undone_by": by}


def _with_killed(batches: pa.Table, killed: Collection[int]) -> pa.Table:
    """With "killed" as what became of some batches."""
    if not killed:
        return batches
    mine = pc.is_in(batches["batch_no"], pa.array(killed, pa.int64()))
    status = pc.if_else(mine, "killed", batches["status"])
    return batches.set_column(batches.column_names.index("status"), batches.schema.field("status"), status)


def _named(rows: pa.Table, names: Mapping[str, str]) -> pa.Table:
    """With whole names; a column that the table has no more, while another has its name, says that it was before."""
    taken = set(names.values())
    others = {name: f"{name} (before)" for name in rows.column_names if name not in names and name in taken}
    return rows.rename_columns([names.get(name) or others.get(name, name) for name in rows.column_names])


def _as_declared(rows: pa.Table, columns: Sequence[Column]) -> pa.Table:
    """With Rapid Mender's own columns in their types, where a store keeps them in another."""
    for column in columns:
        place = rows.column_names.index(column.name)
        if rows.schema.field(place).type != column.type:
            rows = rows.set_column(
                place, column.name, rows[column.name].cast(column.type, safe=not pt.is_timestamp(column.type))
            )
    return rows
