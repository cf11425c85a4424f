"""The tables of Rapid Mender's own, as they are found in a store."""

from __future__ import annotations

from ..core.schema import TableInfo
from ..errors import StoreError
from ..stores.contract import Session


def own(session: Session, shape: TableInfo) -> TableInfo | None:
    """One of our tables, if it is there. Raises StoreError if a table of its name is another."""
    table = session.find_own(shape.name)
    if table is not None and not all(column.name in table for column in shape.columns):
        raise not_ours(shape.name)
    return table


def not_ours(name: str) -> StoreError:
    """That a table of ours cannot be made, as one of its name is there."""
    return StoreError(f"a table named {name!r} is there already and is not Rapid Mender's; rename it")
