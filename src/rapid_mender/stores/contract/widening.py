"""Columns of histories that have less room than those of the table, which were altered since."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from ...core.own_tables import history_info, stored_names
from ...core.schema import Column, TableInfo
from ...errors import StoreError
from . import Session


def too_narrow(
    session: Session, info: TableInfo, history: TableInfo, pairs: Mapping[str, str] | None = None
) -> list[Column]:
    """The columns of a history that do not keep every value of the table's columns as it is, as they have to be.

    `pairs` as for `stored_names`. Raises StoreError if what one has already does not go into such a column.
    """
    shape, names = history_info(info, session.fits, pairs), stored_names(info, session.fits, pairs)
    found = list[Column]()
    for column in info.columns:
        for name in (names[f"{side}_{column.name}"] for side in ("old", "new")):
            if name not in history or history[name].holds(wanted := replace(shape[name], length=column.length)):
                continue
            if why := _why_not(session, history[name], wanted):
                raise StoreError(
                    f"{history.name}.{name} is {history[name].declared}, but {info.name}.{column.name} is "
                    f"{column.declared}, and {why}. Rename {history.name}: then a new history is begun; tables that "
                    "follow are mended by a sync with --mend"
                )
            found.append(wanted)
    return found


def is_narrow(session: Session, info: TableInfo, history: TableInfo) -> bool:
    """Whether there are such columns."""
    try:
        return bool(too_narrow(session, info, history))
    except StoreError:
        return True


def _why_not(session: Session, history: Column, wanted: Column) -> str | None:
    """Why a column of a history cannot become another one; None if it can."""
    if not wanted.holds(history):
        return "neither holds what the other one has"
    return session.cannot_widen(history, wanted)
