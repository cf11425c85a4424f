"""Details of batches on which other code depends, as rows of `rmend_details`: where a history begins, what it lacks, by
which key rows were merged, how a table keeps versions. All of them are written and read here.

What each says is in docs/design.md. They are covered by the seals of their batches, and never altered.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import suppress
from dataclasses import fields
from datetime import UTC
from operator import eq, ge, gt, le, lt
from typing import Any, NamedTuple
from weakref import WeakKeyDictionary

import pyarrow as pa

from ..core.json_text import read_json
from ..core.own_tables import BATCHES, BATCHES_TABLE, DETAILS, DETAILS_TABLE
from ..core.schema import TableInfo
from ..errors import StoreError
from ..stores.contract import Condition, Conflict, Selection, Session, Store, Where
from .detail import Detail, Name
from .earlier import details_in, details_in_figures, kind_in
from .own import check_rows, not_ours

STANDING: tuple[Name, ...] = ("key", "versions")
"""The details that hold until a batch has others."""
_SOME = 64
"""As many details are read at once as one batch seldom has of one name."""
_MOST = 1 << 62
_LATER = {"unrecorded", "figures", "undoes", "seal", "kind"}  # columns of the batches that earlier versions do not have


_STORED = [field.name for field in fields(Detail) if field.name != "batch"]
_NEEDED: dict[str, tuple[str, ...]] = {
    "key": ("name",), "began": ("name", "change_no"), "pruned": ("change_no", "at_time"), "mended": ("of_batch",),
    "resume": ("change_no", "row_count", "at_time"), "origin": ("name",), "archive": ("name",), "restored": ("name",),
    "versions": ("role",), "column": ("name", "value"), "table": ("role", "number"), "replaced": ("change_no",),
    "left": ("row_count",), "process": ("name", "number", "value"),
}  # fmt: skip


class Told(NamedTuple):
    """A detail, and the table that it is about."""

    table: str
    detail: Detail


def is_kept(session: Session) -> bool:
    """Whether the store has details apart from the figures of its batches, as earlier versions have not."""
    batches = session.find_own(BATCHES_TABLE)
    return batches is not None and "kind" in batches


def write_details(
    session: Session, table: str, batch: int, details: Sequence[Detail], after: int = 0, owner: str = ""
) -> None:
    """Write details of a batch, which has so many already; `owner`: that of the table, who is trusted. Not those that
    hold until a batch has others: see `write_standing`."""
    mine = [one for one in details if one.detail not in STANDING]
    write_rows(session, details_rows(table, batch, mine, after), owner)


def write_standing(session: Session, table: str, batch: int, details: Sequence[Detail], owner: str = "") -> None:
    """Write those details that hold from a batch on, unless they did before."""
    for name in STANDING:
        mine = [one for one in details if one.detail == name]
        if mine and [one.said for one in newest_details(session, table, name)] != [one.said for one in mine]:
            write_rows(session, details_rows(table, batch, mine), owner)


def write_rows(session: Session, rows: Sequence[Mapping[str, Any]], owner: str = "") -> None:
    """Write rows of details. Raises StoreError if the table does not take one."""
    if not rows:
        return
    _ALL.pop(session, None)
    kept = session.find_own(DETAILS_TABLE, owner=owner)
    if kept is None:
        raise _gone(session)
    names = [*DETAILS.primary_key, *(name for name in _STORED if name != "detail")]
    values = pa.Table.from_pylist(list(rows), pa.schema([DETAILS.schema.field(name) for name in names]))
    if refused := session.insert(kept, values, DETAILS.primary_key).refusals():
        raise StoreError(f"{session.where}: {DETAILS_TABLE} does not take a row: {next(iter(refused.values()))}")


def _gone(session: Session) -> StoreError:
    return StoreError(
        f"{session.where} has no table {DETAILS_TABLE}, which tells where histories begin and what they lack: somebody "
        "dropped it; put it back from a backup. Or this user may not see it: GRANT SELECT, INSERT on it"
    )


def details_rows(table: str, batch: int, details: Sequence[Detail], after: int = 0) -> list[dict[str, Any]]:
    """Details of a batch, as rows."""
    every = (dict(zip(_STORED, one.said, strict=True)) for one in details)
    return [{"table_name": table, "batch_no": batch, "item": after + place, **said} for place, said in enumerate(every)]


def details_of(session: Session, table: str, *names: Name, where: Where = ()) -> list[Detail]:
    """The details of a table that have one of some names, in order; `where`: conditions for `batch_no`."""
    return _read(session, table, names, where, None)


def newest_details(session: Session, table: str, *names: Name) -> list[Detail]:
    """The details of some names that the newest batch has which has any, in order."""
    some = _read(session, table, names, (), _SOME)
    if not some:
        return []
    newest = some[-1].batch
    if len(some) == _SOME and some[0].batch == newest:
        return _read(session, table, names, [[Condition("batch_no", "=", newest)]], None)
    return [one for one in some if one.batch == newest]


def last_details(session: Session, table: str, name: Name, where: Where) -> list[Detail]:
    """The last few details of a name for which conditions for `batch_no` hold, in order."""
    return _read(session, table, (name,), where, _SOME)


def details_named(session: Session, name: Name, where: Where) -> list[Told]:
    """The details of a name of all tables for which conditions hold, by batch."""
    if not is_kept(session) or session.find_own(DETAILS_TABLE) is None:
        return []
    here = [[Condition("detail", "=", name)], *where]
    return [Told(table, one) for table, one in _rows(session, here, None)]


def batches_between(first: int, last: int) -> Where:
    """The conditions for batches from one to another."""
    return [[Condition("batch_no", ">=", first)], [Condition("batch_no", "<=", last)]]


def details_by_batch(details: Iterable[Detail]) -> dict[int, list[Detail]]:
    """Details by the batch that they are of."""
    found: dict[int, list[Detail]] = {}
    for one in details:
        found.setdefault(one.batch, []).append(one)
    return found


def _read(session: Session, table: str, names: Sequence[str], where: Where, limit: int | None) -> list[Detail]:
    if not is_kept(session):
        found = details_in_figures(session, table, where)
        return [one for one in found if not names or one.detail in names]
    if (every := _all_of(session, table)) is not None:
        some = [one for one in every if (not names or one.detail in names) and _holds(one, where)]
        return some if limit is None else some[-limit:]
    here: list[Sequence[Condition]] = [[Condition("table_name", "=", table)]]
    if names:
        here.append([Condition("detail", "=", name) for name in names])
    return [one for _, one in _rows(session, [*here, *where], limit)]


_FEW = 256
"""Of a table that has fewer details, all are read at once."""
_ALL: WeakKeyDictionary[Session, dict[str, list[Detail] | None]] = WeakKeyDictionary()
"""By session and table all details, as long as nothing is written; None if there are too many."""
_OPS: dict[str, Callable[[Any, Any], bool]] = {"=": eq, "<": lt, "<=": le, ">": gt, ">=": ge}


def _all_of(session: Session, table: str) -> list[Detail] | None:
    """All details of a table, in order; None if there are too many, or one of them was altered, which need not be one
    that is asked for. They are read once a session: whoever asks for some asks for others too."""
    known = _ALL.setdefault(session, {})
    if table not in known:
        known[table], rows = None, _stored_rows(session, [[Condition("table_name", "=", table)]], _FEW)
        with suppress(StoreError):
            known[table] = [one.detail for one in _as_told(session, rows)] if len(rows) < _FEW else None
    return known[table]


def _holds(one: Detail, where: Where) -> bool:
    """Whether conditions for `batch_no` and `name` hold of a detail, as the database would have it."""
    values = {"batch_no": one.batch, "name": one.name}
    return all(any(_is(values[each.column], each) for each in group) for group in where)


def _is(value: Any, condition: Condition) -> bool:
    if condition.value is None:
        return condition.op == "=" and value is None
    return value is not None and _OPS[condition.op](value, condition.value)


def _rows(session: Session, where: Where, limit: int | None) -> list[Told]:
    return _as_told(session, _stored_rows(session, where, limit))


def _stored_rows(session: Session, where: Where, limit: int | None) -> list[dict[str, Any]]:
    kept = session.find_own(DETAILS_TABLE)
    if kept is None:
        raise _gone(session)
    rows: list[dict[str, Any]] = session.read(kept, Selection(where, "batch_no", limit)).values.to_pylist()
    return rows


def _as_told(session: Session, rows: list[dict[str, Any]]) -> list[Told]:
    """Rows as details, in order. Raises StoreError if one is not as it was written."""
    check_rows(session, DETAILS, rows)
    for row in rows:
        _check(session, row)
    rows.sort(key=lambda row: (row["batch_no"], row["item"]))
    return [
        Told(row["table_name"], Detail(**{name: row[name] for name in _STORED}, batch=row["batch_no"])) for row in rows
    ]


def _check(session: Session, row: dict[str, Any]) -> None:
    """Raise StoreError if a row is not as it was written."""
    numbers = [row[name] for name in ("batch_no", "item", "change_no", "of_batch", "row_count", "number")]
    right = all(one is None or (type(one) is int and 0 <= one < _MOST) for one in numbers)
    if not right or any(row[name] is None for name in _NEEDED.get(row["detail"], ())):
        raise StoreError(
            f"{session.where}: row {row['table_name']!r}, {row['detail']}, {row['batch_no']}, {row['item']} of "
            f"{DETAILS_TABLE} is not as it was written, so somebody has altered it; put it back"
        )
    if row["at_time"] is not None and row["at_time"].tzinfo is None:
        row["at_time"] = row["at_time"].replace(tzinfo=UTC)


# -- making them ------------------------------------------------------------------------------------------


class Outdated(Conflict):
    """The store is as an earlier version left it: it is to be brought up to date, and then all is to be done again."""


def is_outdated(batches: TableInfo) -> bool:
    """Whether the table of batches is as an earlier version made it. Raises StoreError if it is not ours."""
    missing = {column.name for column in BATCHES.columns if column.name not in batches}
    if not missing <= _LATER:
        raise not_ours(BATCHES_TABLE)
    return bool(missing)


def _outdated(session: Session) -> TableInfo | None:
    """The table of batches, if an earlier version made it."""
    batches = session.find_own(BATCHES_TABLE)
    return batches if batches is not None and is_outdated(batches) else None


def make_batches(session: Session) -> None:
    """Make the tables of batches and of their details."""
    if session.find_own(DETAILS_TABLE) is None:
        session.create(DETAILS)
    session.create(BATCHES)


def bring_up_to_date(place: Store) -> None:
    """Give a store that an earlier version left its details, and its batches their kinds, if it is such a one.

    The column `kind` comes last: where a database commits as it is added, all that it stands for is there by then, and
    if that was cut before, it is done again.
    """
    with place.begin(write=False) as session:
        before = _outdated(session)
    if before is None:
        return
    with place.begin(write=True, table=before) as session:
        if (batches := _outdated(session)) is None:
            return  # somebody else did meanwhile
        if missing := [column for column in BATCHES.columns if column.name not in batches and column.name != "kind"]:
            session.add_columns(BATCHES_TABLE, missing)
        if session.find_own(DETAILS_TABLE) is None:
            session.create(DETAILS)
        for name, columns in BATCHES.indexes:
            if not session.has_index(batches, name):
                session.add_index(batches, name, columns)
        batches = session.find_own(BATCHES_TABLE)
        assert batches is not None
        standing: dict[str, dict[str, Any]] = {}
        for page in session.pages(batches, Selection((), "batch_no")):
            rows = page.values.to_pylist()
            told = ((row["table_name"], row["batch_no"], details_in(session.where, row)) for row in rows)
            write_rows(session, _lacking(session, [
                one for table, batch, details in told
                for one in details_rows(table, batch, _news(standing.setdefault(table, {}), details))
            ]))  # fmt: skip
    with place.begin(write=True, table=before) as session:
        if _outdated(session) is None:
            return
        session.add_columns(BATCHES_TABLE, [BATCHES["kind"]])
        batches = session.find_own(BATCHES_TABLE)
        assert batches is not None
        for page in session.pages(batches, Selection((), "batch_no")):
            kinds = [kind_in(row, read_json(row["figures"], dict[str, Any]())) for row in page.values.to_pylist()]
            session.update(batches, page, pa.table({"kind": pa.array(kinds, pa.string())}), BATCHES.primary_key)


def _news(standing: dict[str, Any], details: Sequence[Detail]) -> list[Detail]:
    """Details without those that stand already, as they are those of a batch before."""
    for name in STANDING:
        if mine := [one for one in details if one.detail == name]:
            if standing.get(name) == [one.said for one in mine]:
                details = [one for one in details if one.detail != name]
            standing[name] = [one.said for one in mine]
    return list(details)


def _lacking(session: Session, rows: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Those of some rows of details that are not there yet: another program may have begun with the same work."""
    kept = session.find_own(DETAILS_TABLE)
    if kept is None or not rows:
        return rows
    keys = pa.Table.from_pylist(rows, pa.schema([DETAILS.schema.field(name) for name in DETAILS.primary_key]))
    there = set(session.fetch(kept, keys, fresh=True).positions.tolist())
    return [row for place, row in enumerate(rows) if place not in there]
