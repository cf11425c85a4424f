"""The fast path on SQLite: one look, and each kind of row that is written by one statement."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from datetime import UTC, date, datetime
from typing import Any, Protocol

import pyarrow as pa

from ...core.own_tables import BATCHES, NEWEST_BATCHES
from ...core.plain_values import Kind, kind_of
from ...errors import StoreError
from ..contract import Refused
from ..contract.fast import FastBatch, FastPath, FastTable, Found, NotFast, TableChanged, Values
from ..sql.fast import change_sql
from ..sql.text import name_sql, text_sql
from .link import Link, Locked
from .types import affinity, in_parts, spelled

_SENT: dict[Kind, pa.DataType] = {
    "int": pa.int64(), "float": pa.float64(), "bool": pa.int64(), "text": pa.string(), "date": pa.string(),
    "time": pa.string(), "zoned time": pa.string(),
}  # fmt: skip
_AFFINITIES: dict[Kind, tuple[str, ...]] = {
    "int": ("INTEGER", "NUMERIC"), "float": ("REAL",), "bool": ("NUMERIC", "INTEGER"), "text": ("TEXT",),
    "date": ("NUMERIC", "TEXT"), "time": ("NUMERIC", "TEXT"), "zoned time": ("NUMERIC", "TEXT"),
}  # fmt: skip
_TIME = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2} [0-9:]{8}(\.[0-9]{6})?Z?")
_EXACT = 1 << 53
"""Whole numbers up to this are floats too, and so are powers of two."""


class Links(Protocol):
    """Where a connection comes from for each transaction."""

    def taken(self) -> Link:
        """A connection on which a transaction for writing has begun. Raises StoreError."""

    def given_back(self, link: Link, sound: bool) -> None:
        """It is used no more; `sound`: it can be used again."""

    def commit(self, link: Link) -> None:
        """Commit its transaction. Raises StoreError, after which it can be undone."""


class SQLiteFastPath(FastPath):
    """Raises NotFast if the tables are not plain."""

    def __init__(self, links: Links, table: FastTable) -> None:
        self._links, self._table = links, table
        self._kinds = [_plain_kind(table, name) for name in table.info.names]
        self._kind_of = dict(zip(table.info.names, self._kinds, strict=True))
        self._readers = [_READERS[kind] for kind in self._kinds]
        self._link: Link | None = None
        self._last = 0
        """The last batch, which nobody else follows while the transaction is open."""
        names = [table.info.name, table.history.name, table.batches.name]
        q = name_sql
        cells = [f"t.{q(name)}" for name in table.info.names]
        where = " AND ".join(f"t.{q(name)} = ?{at}" for at, name in enumerate(table.key, 1))
        newest = (
            f"(SELECT last_change, seal, status FROM {q(names[2])} WHERE table_name = {text_sql(names[0])} "
            f"AND last_change >= 1 ORDER BY last_change DESC LIMIT {NEWEST_BATCHES})"
        )
        listed = ", ".join(text_sql(name.lower()) for name in names)
        self._signing = (
            "(SELECT schema_version FROM pragma_schema_version) || (SELECT group_concat(type || ' ' || name || ' ' || "
            f"rowid || ' ' || coalesce(sql, '')) FROM sqlite_master WHERE lower(tbl_name) IN ({listed}))"
        )
        picks = [
            f"(SELECT max(change_no) FROM {q(names[1])})", f"(SELECT max(last_change) FROM {newest})",
            f"(SELECT max(seal IS NOT NULL OR status = 'running') FROM {newest})",
            f"(SELECT max(batch_no) FROM {q(names[2])})", self._signing, *cells, *(f"typeof({cell})" for cell in cells),
        ]  # fmt: skip
        self._look = (
            f"SELECT {', '.join(f'{pick} AS c{at}' for at, pick in enumerate(picks))} FROM (SELECT 1) AS one "
            f"LEFT JOIN {q(names[0])} AS t ON {where}"
        )
        self._at, _, self._batches = map(q, names)
        self._noting = f"INSERT INTO {q(names[1])} ({', '.join(map(q, table.history_columns))}) VALUES"
        try:
            with self._refusing():
                self._link = links.taken()
                self._signature = self._link.query(f"SELECT {self._signing}")[0][0].as_py()
        finally:
            self.undo()

    @contextmanager
    def _refusing(self) -> Iterator[None]:
        try:
            yield
        except Locked:  # that was waited for
            raise
        except (StoreError, OSError, ValueError, OverflowError) as error:
            raise NotFast(str(error)) from error

    def look(self, keys: Sequence[Values]) -> Found:
        with self._refusing():
            link = self._link = self._links.taken()
            kinds = [self._kind_of[name] for name in self._table.key]
            found = link.look_up_few(self._look, _bound(kinds, keys))
        lines = list(zip(*(column.to_pylist() for column in found.columns), strict=True))
        if len(lines) != len(keys):
            raise NotFast
        change, newest, held, batch, signature = lines[0][:5]
        if signature != self._signature:
            raise TableChanged
        self._last = batch or 0
        return Found([self._row(line[5:]) for line in lines], change or 0, newest, bool(held), self._last)

    def _row(self, line: Sequence[Any]) -> Values | None:
        values, forms = line[: len(self._kinds)], line[len(self._kinds) :]
        if forms[self._table.places[self._table.key[0]]] == "null":  # the key has none in a row
            return None
        return [
            None if form == "null" else read(value, form)
            for read, value, form in zip(self._readers, values, forms, strict=True)
        ]

    def write(self, batches: Sequence[FastBatch], at: datetime, by: tuple[str | None, str]) -> list[int]:
        link, moment = self._link, spelled(BATCHES["started_at"].type, at)
        assert link is not None
        with self._refusing():
            numbers = [self._last + 1 + place for place in range(len(batches))]
            noted = []
            for number, batch in zip(numbers, batches, strict=True):
                for change in batch.changes:
                    link.run(change_sql(self._at, self._table, change, name_sql, _literal))
                    values = change.values(number, at, by)
                    noted.append(", ".join(_literal(moment if value is at else value) for value in values))
                names = ", ".join(map(name_sql, batch.row))
                said = ", ".join(_literal(_of_batch(name, value)) for name, value in batch.row.items())
                link.run(f"INSERT INTO {self._batches} (batch_no, {names}) VALUES ({number}, {said})")
            if noted:
                link.run(f"{self._noting} ({'), ('.join(noted)})")
            return numbers

    def commit(self) -> None:
        assert self._link is not None
        try:
            self._links.commit(self._link)
        except Refused as error:  # a deferred constraint
            raise NotFast(str(error)) from error
        link, self._link = self._link, None
        self._links.given_back(link, True)

    def undo(self) -> None:
        link, self._link = self._link, None
        if link is not None:
            sound = False
            with suppress(StoreError):
                link.run("ROLLBACK")
                sound = True
            with suppress(StoreError):
                self._links.given_back(link, sound)

    def close(self) -> None:
        self.closed = True
        self.undo()


def _plain_kind(table: FastTable, name: str) -> Kind:
    column = table.info[name]
    kind = kind_of(column)
    if kind not in _SENT or in_parts(column) or affinity(column.declared) not in _AFFINITIES[kind]:
        raise NotFast
    return kind


def _bound(kinds: Sequence[Kind], rows: Sequence[Sequence[Any]]) -> pa.Table:
    """Rows as the driver binds them."""
    columns = zip(*rows, strict=True)
    arrays = [
        pa.array(map(_sent, values), _SENT[kind], size=len(rows)) for kind, values in zip(kinds, columns, strict=True)
    ]
    return pa.Table.from_arrays(arrays, [f"p{at}" for at in range(len(arrays))])


def _sent(value: Any) -> Any:
    """A value in the form in which SQLite is given it, as `types.encode` makes it."""
    if type(value) is bool:
        return int(value)
    if type(value) is datetime:
        plain = value.replace(tzinfo=None).isoformat(" ")
        return plain if value.tzinfo is None else f"{plain}Z"
    return value.isoformat() if type(value) is date else value


def _of_batch(name: str, value: Any) -> Any:
    return spelled(BATCHES[name].type, value) if type(value) is datetime else value


def _literal(value: Any) -> str:
    """A value as SQL writes it. A number with a fraction is written as the quotient that it is: SQLite may read its
    digits as another one."""
    if value is None:
        return "NULL"
    value = _sent(value)
    if type(value) is str:
        return text_sql(value)
    if type(value) is int:
        return str(value)
    if not math.isfinite(value):
        raise NotFast
    above, below = value.as_integer_ratio()
    if abs(above) > _EXACT or below > _EXACT:
        raise NotFast
    return f"(1.0 * {above})" if below == 1 else f"(1.0 * {above} / {below})"


def _read_as(form: str, of: Callable[[Any], Any]) -> Callable[[Any, str], Any]:
    def read(value: Any, found: str) -> Any:
        if found != form:
            raise NotFast
        return of(value)

    return read


def _as_time(zoned: bool) -> Callable[[str], datetime]:
    def read(text: str) -> datetime:
        if not _TIME.fullmatch(text) or text.endswith("Z") != zoned:
            raise NotFast
        try:
            value = datetime.fromisoformat(text.removesuffix("Z"))
        except ValueError:
            raise NotFast from None
        value = value.replace(tzinfo=UTC) if zoned else value
        if _sent(value) != text:
            raise NotFast
        return value

    return read


def _as_date(text: str) -> date:
    try:
        value = date.fromisoformat(text)
    except ValueError:
        raise NotFast from None
    if value.isoformat() != text:
        raise NotFast
    return value


def _as_bool(value: int) -> bool:
    if value not in (0, 1):
        raise NotFast
    return bool(value)


_READERS: dict[Kind, Callable[[Any, str], Any]] = {
    "int": _read_as("integer", int), "float": _read_as("real", float), "bool": _read_as("integer", _as_bool),
    "text": _read_as("text", str), "date": _read_as("text", _as_date), "time": _read_as("text", _as_time(False)),
    "zoned time": _read_as("text", _as_time(True)),
}  # fmt: skip
