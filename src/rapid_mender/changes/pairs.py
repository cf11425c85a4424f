"""Which pair of columns in a history is whose. By default old_X and new_X are those of the column X.

A column may be dropped and made anew under its name, be renamed, or swap its name with another's. Where the database
numbers columns (PostgreSQL), that is told by the numbers: a pair stays with its column, a new column gets a new one.
A table that was restored or made anew has other numbers; then the names count.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from ..core.names import fitted
from ..core.own_tables import history_name
from ..core.schema import TableInfo
from ..stores.contract import Session
from .detail import Detail
from .details import details_of, newest_details


@dataclass(frozen=True)
class Pairs:
    """The pairs of a table's columns."""

    names: Mapping[str, str] = field(default_factory=dict)
    """By column the name in its pair, where that is another one."""
    news: tuple[Detail, ...] = ()
    """What is to be noted of them with the next batch."""

    def of(self, column: str) -> str:
        """The name in the pair of a column."""
        return self.names.get(column, column)


def pairs_of(session: Session, info: TableInfo) -> Pairs:
    """The pairs of a table's columns, as they are noted, and as the columns are now."""
    if any(column.number is None for column in info.columns):
        return Pairs()
    noted = newest_details(session, info.name, "column")
    same_table = bool(noted) and noted[0].role == info.identity
    by_number = {one.number: one for one in noted} if same_table else {}
    by_name = {} if same_table else {one.name: one for one in noted}
    found: dict[str, str] = {}
    for column in info.columns:
        one = by_number.get(column.number) or by_name.get(column.name)
        if one is not None and one.value is not None:
            found[column.name] = one.value
    if fresh := [column.name for column in info.columns if column.name not in found]:
        taken = _taken(session, info) if noted else set()
        for name in fresh:
            found[name] = _free(name, taken)
            taken.add(found[name])
    now = tuple(
        Detail("column", info.identity, column.name, value=found[column.name], number=column.number)
        for column in info.columns
    )
    news = () if [one.said for one in now] == [one.said for one in noted] else now
    return Pairs({name: pair for name, pair in found.items() if pair != name}, news)


def _taken(session: Session, info: TableInfo) -> set[str]:
    """The names of the pairs that there are, or were."""
    taken = {one.value for one in details_of(session, info.name, "column") if one.value is not None}
    kept = session.find_own(history_name(info.name), info)
    if kept is not None:
        taken |= {c.name for c in info.columns if fitted(f"old_{c.name}", lambda name: name in kept) in kept}
    return taken


def _free(name: str, taken: set[str]) -> str:
    """A column's name as that of its pair, with a number if there is such a pair."""
    return next(one for at in range(1, len(taken) + 2) if (one := name if at == 1 else f"{name} {at}") not in taken)
