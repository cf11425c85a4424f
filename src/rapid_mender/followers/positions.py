"""Where followers are: kept in the store of the table that they follow."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from typing import Any, NamedTuple

import pyarrow as pa

from ..changes.own import own, rows_of
from ..core.own_tables import FOLLOWERS
from ..core.schema import TableInfo
from ..errors import JobError, StoreError
from ..stores.contract import Session, Store, kept


def _ready(session: Session, shape: TableInfo) -> TableInfo | None:
    """One of our tables, if it is there with all of its columns."""
    table = own(session, shape)
    return table if table is not None and all(column.name in table for column in shape.columns) else None


def make_ready(session: Session, shape: TableInfo) -> None:
    """Make one of our tables, or bring it up to date. Before anything is read of it: some databases alter no table that
    a transaction has read."""
    table = own(session, shape)
    if table is None:
        session.create(shape)
    elif missing := [column for column in shape.columns if column.name not in table]:
        session.add_columns(shape.name, missing)


def made(store: Store, shape: TableInfo) -> TableInfo:
    """One of our tables, which is made or brought up to date if it has to be."""
    with store.begin(write=False) as session:
        table = _ready(session, shape)
    if table is not None:
        return table
    failed: StoreError | None = None
    try:
        with store.begin(write=True) as session:
            make_ready(session, shape)
    except StoreError as error:
        failed = error  # unless another process was faster
    with store.begin(write=False) as session:
        if (table := _ready(session, shape)) is None:
            raise failed or StoreError(f"{store.where}: {shape.name} cannot be made")
        return table


@contextmanager
def writing(store: Store, shape: TableInfo) -> Iterator[Session]:
    """A session that writes to one of our tables, which is made or brought up to date before. One process at a time has
    one, so that none inserts a row that another one inserts too."""
    table = made(store, shape)
    with store.begin(write=True, table=table) as session:
        session.take_turn(table)
        yield session


def put_row(
    session: Session,
    shape: TableInfo,
    same: Mapping[str, Any],
    values: Mapping[str, Any],
    expected: Mapping[str, Any] | None = None,
) -> None:
    """Set columns in the row of one of our tables that has given values, or insert it; see `make_ready`.

    `expected`: what the row has as yet, or no row is there. Raises JobError if somebody has set it since.
    """
    table = own(session, shape)
    assert table is not None
    number = shape.primary_key
    there = rows_of(session, shape, **same)
    row = dict(values) if there else {**same, **values}
    written = pa.Table.from_pylist([row], pa.schema([shape.schema.field(name) for name in row]))
    if not all(text.isascii() for text in row.values() if isinstance(text, str)):
        written = kept(session.normalise(shape, written))
    if there:
        keys = pa.table({number[0]: [there[0][number[0]]]}, pa.schema([shape.schema.field(number[0])]))
        row_there = session.fetch(table, keys, fresh=True)  # locked from now on, where the store locks rows
        if expected is not None:
            _check(row_there.values.to_pylist(), same, expected)
        session.update(table, row_there, written)
    elif expected:
        _check([], same, expected)
    elif refused := session.insert(table, written, number).refusals():
        raise StoreError(f"{session.where}: {shape.name} does not take a row: {refused[0]}")


def check_row(session: Session, shape: TableInfo, same: Mapping[str, Any], expected: Mapping[str, Any]) -> None:
    """Raise JobError if somebody has set a row of one of our tables since it was read."""
    _check(rows_of(session, shape, **same), same, expected)


def _check(held: Sequence[Mapping[str, Any]], same: Mapping[str, Any], expected: Mapping[str, Any]) -> None:
    if [{name: one[name] for name in expected} for one in held] != [dict(expected)]:
        raise taken(same.get("follower"))


def taken(follower: Any) -> JobError:
    """That two processes follow under one name."""
    return JobError(
        f"another process follows as {follower!r}, and has moved on, or somebody has forgotten it; let one at a time "
        "follow under a name"
    )


def check_free(rows: Sequence[Mapping[str, Any]], follower: str, table: str, goes_to: str | None) -> None:
    """Raise JobError if a name is that of a follower of another table, or, of a program and not a sync, or the other
    way round."""
    for row in rows:
        kind = "" if row["goes_to"] is None else f", {row['goes_to']},"
        if row["table_name"] != table or (row["goes_to"] is None) != (goes_to is None):
            raise JobError(
                f"there is a follower {follower!r}{kind} of table {row['table_name']!r} already; take another name, or "
                "forget that one"
            )


def now() -> datetime:
    """The time, as the tables keep it."""
    return datetime.now(UTC)


class Place(NamedTuple):
    """How far a follower has come."""

    position: int
    batch: int
    """The newest batch then."""
    fingerprint: str | None
    """What tells the history from another one, see `fingerprints`."""


def position_of(session: Session, follower: str, table: str) -> Place | None:
    """How far a follower of a table has come. None if nobody knows it. Raises JobError if it follows another table."""
    rows = rows_of(session, FOLLOWERS, follower=follower)
    if not rows:
        return None
    check_free(rows, follower, table, None)
    return Place(int(rows[0]["position"]), int(rows[0]["batch_no"]), rows[0]["fingerprint"])
