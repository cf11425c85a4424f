"""The tables of Rapid Mender's own, as they are found in a store."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import pyarrow as pa

from ..core.schema import TableInfo
from ..errors import StoreError
from ..stores.contract import Condition, Selection, Session


def own(session: Session, shape: TableInfo) -> TableInfo | None:
    """One of our tables, if it is there; an earlier version may have made it, without columns that may be null. Raises
    StoreError if a table of its name is another."""
    table = session.find_own(shape.name)
    if table is not None and not all(column.name in table for column in shape.columns if not column.nullable):
        raise not_ours(shape.name)
    return table


def check_rows(session: Session, shape: TableInfo, rows: Iterable[Mapping[str, Any]]) -> None:
    """Raise StoreError if a row of one of our tables lacks what every row has: somebody has altered it."""
    needed = [column.name for column in shape.columns if not column.nullable]
    for row in rows:
        for name in needed:
            if row[name] is None:
                raise StoreError(
                    f"{session.where}: row {row[shape.primary_key[0]]} of {shape.name} has no {name}, so somebody has "
                    "altered it; put it back"
                )


def rows_of(session: Session, shape: TableInfo, **same: Any) -> list[dict[str, Any]]:
    """The rows of one of our tables in which some columns have given values; none if the table is not there."""
    table = own(session, shape)
    if table is None:
        return []
    where = [[Condition(name, "=", value)] for name, value in same.items()]
    found = session.read(table, Selection(where, shape.primary_key[0])).values.to_pylist()
    none = dict.fromkeys(shape.names)
    found = [none | row for row in found]
    check_rows(session, shape, found)
    # a database may call names equal that differ in case
    return [row for row in found if all(row[name] == value for name, value in same.items())]


def remove_rows(session: Session, shape: TableInfo, **same: Any) -> int:
    """Remove the rows of one of our tables in which some columns have given values. Returns how many."""
    there = rows_of(session, shape, **same)
    remove(session, shape, there)
    return len(there)


def remove(session: Session, shape: TableInfo, rows: Sequence[Mapping[str, Any]]) -> None:
    """Remove rows of one of our tables."""
    table, number = own(session, shape), shape.primary_key[0]
    if table is not None and rows:
        keys = pa.table({number: pa.array([row[number] for row in rows], pa.int64())})
        session.delete(table, session.fetch(table, keys, fresh=True)).refusals()


def not_ours(name: str) -> StoreError:
    """That a table of ours cannot be made, as one of its name is there."""
    return StoreError(f"a table named {name!r} is there already and is not Rapid Mender's; rename it")
