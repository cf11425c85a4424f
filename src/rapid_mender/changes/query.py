"""Looking into the history of a table, and into the batches of a store."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, date, datetime
from typing import Any

import pyarrow as pa

from ..core.own_tables import BATCHES, BATCHES_TABLE, FIXED, history_info, is_history, stored_names
from ..core.records import known_column, value_of
from ..core.schema import Column
from ..errors import JobError, StoreError
from ..stores.contract import Condition, Selection, Store
from ..stores.urls import opened
from .algebra import spell_changed


def history(
    store: str | Store,
    table: str,
    *,
    key: Mapping[str, Any] | None = None,
    batch: int | None = None,
    action: str | None = None,
    column: str | None = None,
    since: datetime | date | str | None = None,
    until: datetime | date | str | None = None,
    limit: int | None = None,
) -> pa.Table:
    """The changes of a table, in order, as an Arrow table with the columns of its history.

    `key` maps key columns to values, before or after the change; `column` keeps the updates that changed
    that column; `since` and `until` (datetimes, dates, or texts as in ISO 8601; without a zone they are UTC) bound
    `changed_at`; `limit` keeps the newest so many. Raises StoreError if the table is not there, JobError for an
    unknown column, value or action. A table that was never merged into has an empty history.
    """
    if action not in (None, "insert", "update", "delete"):
        raise JobError(f"action is 'insert', 'update' or 'delete', not {action!r}")
    key = key_given(key)
    bounds = ((">=", _moment("since", since)), ("<=", _moment("until", until)))
    _whole("batch", batch)
    _whole("limit", limit, 1)
    with opened(store) as place, place.begin(write=False) as session:
        info = session.describe(table)
        shape, names = history_info(info, session.fits), stored_names(info, session.fits)
        full = {stored: name for name, stored in names.items()}
        stored_as = session.find_own(shape.name, info)
        where: list[list[Condition]] = []
        for name, value in key.items():
            known = known_column(info, name)
            sought = value_of(known, value).as_py()
            where.append([Condition(names[f"{side}_{known.name}"], "=", sought) for side in ("old", "new")])
        if batch is not None:
            where.append([Condition("batch_no", "=", batch)])
        if action is not None:
            where.append([Condition("action", "=", action)])
        if column is not None:
            name = known_column(info, column).name
            where.append([Condition("changed", "contains", spell_changed([name])[1:-1])])
        for op, moment in bounds:
            if moment is not None:
                where.append([Condition("changed_at", op, moment)])  # type: ignore[arg-type]
        if stored_as is None:
            return _named(shape.schema.empty_table(), full)
        if not is_history(stored_as):
            raise StoreError(f"table {shape.name!r} is not a history that Rapid Mender keeps")
        where = [[one for one in group if one.column in stored_as] for group in where]
        rows = session.read(stored_as, Selection([group for group in where if group], "change_no", limit)).values
        return _named(_as_declared(rows, FIXED), full)


def batches(store: str | Store, *, table: str | None = None, limit: int | None = None) -> pa.Table:
    """The batches of a store, oldest first, as an Arrow table; `limit` keeps the newest so many."""
    _whole("limit", limit, 1)
    with opened(store) as place, place.begin(write=False) as session:
        stored_as = session.find_own(BATCHES_TABLE)
        if stored_as is None:
            return BATCHES.schema.empty_table()
        where: Sequence[Sequence[Condition]] = [[Condition("table_name", "=", table)]] if table else ()
        return _as_declared(session.read(stored_as, Selection(where, "batch_no", limit)).values, BATCHES.columns)


def key_given(key: Any) -> dict[str, Any]:
    """A key as somebody gave it: a value by the name of each of its columns. Raises JobError."""
    if key is None:
        return {}
    if not isinstance(key, Mapping) or not all(isinstance(name, str) for name in key):
        raise JobError('a key is a dict of columns and values, such as {"tag_no": 7}')
    return dict(key)


def _moment(name: str, given: Any) -> datetime | None:
    """A time as somebody gave it, in UTC. Raises JobError."""
    if isinstance(given, str):
        try:
            given = datetime.fromisoformat(given.strip())
        except ValueError:
            raise JobError(f"{name}: {given!r} is no time; write it as 2026-04-30 or 2026-04-30T14:05:00") from None
    if isinstance(given, date) and not isinstance(given, datetime):
        given = datetime(given.year, given.month, given.day)
    if given is None:
        return None
    if not isinstance(given, datetime):
        raise JobError(f"{name} is a datetime, a date or a text, not {type(given).__name__}")
    try:
        return given.replace(tzinfo=given.tzinfo or UTC).astimezone(UTC)
    except OverflowError:
        raise JobError(f"{name}: {given} is no time that can be told in UTC") from None


def _whole(name: str, given: Any, least: int = 0) -> None:
    if given is not None and (not isinstance(given, int) or isinstance(given, bool) or not least <= given < 1 << 63):
        raise JobError(f"{name} is a whole number from {least} on, of 64 bits")


def _named(rows: pa.Table, names: Mapping[str, str]) -> pa.Table:
    return rows.rename_columns([names.get(name, name) for name in rows.column_names])


def _as_declared(rows: pa.Table, columns: Sequence[Column]) -> pa.Table:
    """With Rapid Mender's own columns in their types, where a store keeps them in another."""
    for column in columns:
        place = rows.column_names.index(column.name)
        if rows.schema.field(place).type != column.type:
            rows = rows.set_column(place, column.name, rows[column.name].cast(column.type))
    return rows
