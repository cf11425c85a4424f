"""The tables of Rapid Mender's own, as they are found in a store."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from ..core.schema import TableInfo
from ..errors import StoreError
from ..stores.contract import Session


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


def not_ours(name: str) -> StoreError:
    """That a table of ours cannot be made, as one of its name is there."""
    return StoreError(f"a table named {name!r} is there already and is not Rapid Mender's; rename it")
