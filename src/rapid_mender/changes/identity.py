"""Which table it is whose changes a history has, and which pair of the history's columns belongs to which column.

By default old_X and new_X are those of the column X. A column may be dropped and made anew under its name, be renamed,
or swap its name with another's. Where the database numbers columns (PostgreSQL), that is told by the numbers: a pair
stays with its column, a new column gets a new one. A table that was restored or made anew has other numbers; then the
names count.

A table too may be dropped and made anew, be renamed, or swap its name with another's. Where the database numbers tables
(PostgreSQL, SQLite), that is told by the number of the table beside that of its history.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from ..core.names import fitted
from ..core.own_tables import history_name
from ..core.schema import TableInfo
from ..stores.contract import Condition, Numbers, Session
from .detail import Detail
from .details import details_named, details_of, newest_details


@dataclass(frozen=True)
class Identity:
    """A table, and its columns, as their history knows them."""

    names: Mapping[str, str] = field(default_factory=dict)
    """By column the name in its pair, where that is another one."""
    replaced: bool = False
    """Another table stands under the name than the one whose changes the history has."""
    columns: tuple[Detail, ...] = ()
    """What is to be noted of the columns."""
    unnoted: frozenset[str] = frozenset()
    """Columns whose pair is in the history now, but was not when the columns were noted last, or was another column's.
    It was added by a run that was rolled back, on a database that keeps it all the same; or the column was dropped and
    made anew. No change so far has a value of such a column."""
    noted: tuple[Detail, ...] = ()
    """What was noted last."""

    def pair(self, column: str) -> str:
        """The name in the pair of a column."""
        return self.names.get(column, column)

    def beginning(self, stored: Mapping[str, str], history: TableInfo) -> list[str]:
        """The pairs that no change so far has values of, though the history was there already. `stored`: what each
        column of a pair is called in it."""
        names = (one.name for one in self.columns)
        return [
            self.pair(name) for name in names if name and (stored[f"old_{name}"] not in history or name in self.unnoted)
        ]

    def news(self, info: TableInfo, history: TableInfo | None) -> list[Detail]:
        """What is to be noted with the next batch: nothing if all is as it was noted last."""
        now = list(self.columns)
        if history is not None and (numbers := _numbers(info, history)) is not None:
            now += [Detail("table", name, number=number) for name, number in numbers._asdict().items()]
        return [] if [one.said for one in now] == [one.said for one in self.noted] else now


class KnownHistory:
    """What is known of a table's history from one batch to the next, for as long as both are as they were, and nothing
    of them is to be noted."""

    def __init__(self) -> None:
        self._known: tuple[Any, ...] | None = None
        self.identity = Identity()
        self.shape: TableInfo | None = None
        self.stored: dict[str, str] = {}
        self.gone: tuple[str, ...] = ()
        """The columns of the history that the table has no more."""

    def holds(self, info: TableInfo, history: TableInfo) -> bool:
        """Whether it is about a table and a history as they are now."""
        return self._known == (info, info.number, history, history.number)

    @property
    def tables(self) -> tuple[TableInfo, TableInfo] | None:
        """The table and the history that it is about."""
        return None if self._known is None else (self._known[0], self._known[2])

    def keep(
        self,
        info: TableInfo,
        history: TableInfo,
        identity: Identity,
        shape: TableInfo,
        stored: dict[str, str],
        gone: Sequence[str],
    ) -> None:
        """Keep it, if nothing is to be noted."""
        if not identity.replaced and not identity.news(info, history):
            self._known = info, info.number, history, history.number
            self.identity, self.shape, self.stored, self.gone = identity, shape, stored, tuple(gone)


def identity_of(session: Session, info: TableInfo) -> Identity:
    """The identity of a table: as it was noted, and as the table is now."""
    noted = newest_details(session, info.name, "column", "table")
    kept = session.find_own(history_name(info.name), info) if noted else None
    replaced = False
    if kept is not None and (before := _noted(noted)) is not None and (now := _numbers(info, kept)) is not None:
        replaced = session.is_another(before, now)
    of_columns = [one for one in noted if one.detail == "column"]
    if any(column.number is None for column in info.columns):
        pairs, table = {name: name for name in info.names}, None
    else:
        pairs, table = _pairs(session, info, of_columns, kept), info.identity
    columns = tuple(
        Detail("column", table, column.name, value=pairs[column.name], number=column.number) for column in info.columns
    )
    names = {name: pair for name, pair in pairs.items() if pair != name}
    return Identity(names, replaced, columns, _unnoted(pairs, of_columns, kept), tuple(noted))


def _unnoted(pairs: Mapping[str, str], noted: list[Detail], kept: TableInfo | None) -> frozenset[str]:
    """See `Identity.unnoted`. Where a pair that was noted is not in the history any more, somebody renamed it there, as
    its column was renamed; then all pairs are taken as they are."""
    before = {one.value for one in noted if one.value is not None}
    if kept is None or not before or any(_old(pair, kept) not in kept for pair in before):
        return frozenset()
    return frozenset(name for name, pair in pairs.items() if pair not in before and _old(pair, kept) in kept)


def _old(pair: str, kept: TableInfo) -> str:
    """What the first column of a pair is called in a history, if it is there."""
    return fitted(f"old_{pair}", lambda name: name in kept)


def named_before(session: Session, info: TableInfo) -> tuple[str, int] | None:
    """Under which name a table without a history had one before it was renamed, and until which batch, if that can be
    told."""
    if info.number is None:
        return None
    same = [[Condition("role", "=", "table")], [Condition("number", "=", info.number)]]
    for name, one in reversed(details_named(session, "table", same)):
        history = session.find(history_name(name))
        before = _noted(newest_details(session, name, "column", "table"))
        if name != info.name and history is not None and before == _numbers(info, history):
            return name, one.batch
    return None


def _noted(noted: list[Detail]) -> Numbers | None:
    numbers = {one.role: one.number for one in noted if one.detail == "table"}
    table, history = numbers.get("table"), numbers.get("history")
    return Numbers(table, history) if table is not None and history is not None else None


def _numbers(info: TableInfo, history: TableInfo) -> Numbers | None:
    if info.number is None or history.number is None:
        return None
    return Numbers(info.number, history.number)


def _pairs(session: Session, info: TableInfo, noted: list[Detail], kept: TableInfo | None) -> dict[str, str]:
    """By column the name in its pair."""
    same_table = bool(noted) and noted[0].role == info.identity
    by_number = {one.number: one for one in noted} if same_table else {}
    by_name = {} if same_table else {one.name: one for one in noted}
    found: dict[str, str] = {}
    for column in info.columns:
        one = by_number.get(column.number) or by_name.get(column.name)
        if one is not None and one.value is not None:
            found[column.name] = one.value
    if fresh := [column.name for column in info.columns if column.name not in found]:
        taken = _taken(session, info, kept) if noted else set()
        for name in fresh:
            found[name] = _free(name, taken)
            taken.add(found[name])
    return found


def _taken(session: Session, info: TableInfo, kept: TableInfo | None) -> set[str]:
    """The names of the pairs that there are, or were."""
    taken = {one.value for one in details_of(session, info.name, "column") if one.value is not None}
    if kept is not None:
        taken |= {c.name for c in info.columns if _old(c.name, kept) in kept}
    return taken


def _free(name: str, taken: set[str]) -> str:
    """A column's name as that of its pair, with a number if there is such a pair."""
    return next(one for at in range(1, len(taken) + 2) if (one := name if at == 1 else f"{name} {at}") not in taken)
