"""The fast path on frames: rows that were written wait beside the frames, which get them when somebody looks."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any, Protocol

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.hashing import hash_rows
from ..core.keys import null_keys, one_array
from ..core.own_tables import DETAILS_TABLE, NEWEST_BATCHES
from ..core.plain_values import Kind, kind_of
from ..core.schema import TableInfo
from .contract.fast import FastBatch, FastPath, FastTable, Found, NotFast, TableChanged, Values

_SEED = 7
_MOST_CHUNKS = 64  # of a column: a table that grew by a row at a time is put together again


def appended(table: pa.Table, rows: pa.Table) -> pa.Table:
    """A table with more rows."""
    both = pa.concat_tables([table, rows])
    return both.combine_chunks() if both.num_columns and both.column(0).num_chunks > _MOST_CHUNKS else both


class Frames(Protocol):
    """The frames of a store."""

    lock: Any
    """Held by whoever writes to them."""

    @property
    def tables(self) -> dict[str, pa.Table]:
        """By name, as they are now."""

    def settle(self, but: FastPath | None = None) -> None:
        """Have all paths hand over what waits, `but` one."""


class MemoryFastPath(FastPath):
    """Raises NotFast if a key is there more than once."""

    sorts = False

    def __init__(self, frames: Frames, table: FastTable) -> None:
        self._frames, self._lock, self._table = frames, frames.lock, table
        self._infos = {one.name: one for one in (table.info, table.history, table.batches)}
        self._at, self._history, self._batches = self._infos
        self._noted = table.history_columns
        self._kinds = [_plain_kind(table.info, name) for name in table.info.names]
        self._held = False
        with self._lock:
            tables = frames.tables
            self._depends = {DETAILS_TABLE: tables.get(DETAILS_TABLE)}
            tables[self._at] = tables[self._at].combine_chunks()
            self._base = {name: tables[name] for name in self._infos}
            self._columns = [one_array(column) for column in tables[self._at].columns]
            keys = tables[self._at].select(table.key)
            hashes = hash_rows(list(map(one_array, keys.columns)), _SEED)
            self._order = np.argsort(hashes, kind="stable")
            self._sorted = hashes[self._order]
            again = np.flatnonzero(self._sorted[1:] == self._sorted[:-1])
            if len(again) and not null_keys(keys.take(pa.array(self._order[again]))).all():
                raise NotFast
            self._last = {name: _last(tables[name], info.primary_key[0]) for name, info in [*self._infos.items()][1:]}
            self._newest_change, self._is_held = _newest(tables[self._batches], table.info.name)
        self._rows: dict[int, list[Any]] = {}
        """Rows that were written since, by their places; those behind the last of the frame are new."""
        self._new: dict[tuple[Any, ...], int] = {}
        self._count = len(self._columns[0])
        self._waiting: dict[str, list[list[Any]]] = {self._history: [], self._batches: []}
        self._names: tuple[str, ...] = ()
        self._done: tuple[Any, ...] = ()
        self._found: dict[tuple[Any, ...], int] = {}
        """The places of the keys that were looked up last; -1 of one that has no row."""

    @property
    def waits(self) -> bool:
        """Whether rows wait that the frames do not have."""
        return bool(self._rows or any(self._waiting.values()))

    def look(self, keys: Sequence[Values]) -> Found:
        self._lock.acquire()
        self._held = True
        self._frames.settle(self)
        tables = self._frames.tables
        if any(tables.get(name) is not one for name, one in (self._base | self._depends).items()):
            raise TableChanged
        places = [self._new.get(tuple(key), -1) for key in keys]
        if (asked := [at for at, place in enumerate(places) if place < 0]) and len(self._sorted):
            for at, place in zip(asked, self._sought([keys[at] for at in asked]), strict=True):
                places[at] = place
        rows = [None if place < 0 else self._row(place) for place in places]
        self._found = dict(zip(map(tuple, keys), places, strict=True))
        return Found(rows, self._last[self._history], self._newest_change, self._is_held, self._last[self._batches])

    def _sought(self, keys: Sequence[Values]) -> list[int]:
        """The places of keys in the frame, or -1."""
        info, names = self._table.info, self._table.key
        columns = zip(*keys, strict=True)
        arrays = [pa.array(values, info[name].type) for name, values in zip(names, columns, strict=True)]
        hashes = hash_rows(arrays, _SEED)
        at = np.minimum(np.searchsorted(self._sorted, hashes), len(self._sorted) - 1)
        hit = self._sorted[at] == hashes
        return np.where(hit, self._order[at], -1).tolist()

    def _row(self, place: int) -> Values:
        if place in self._rows:
            return self._rows[place]
        try:
            row = [column[place].as_py() for column in self._columns]
        except (ValueError, OverflowError, ArithmeticError):  # Python has no such time
            raise NotFast from None
        return [
            value.astimezone(UTC) if kind == "zoned time" and value is not None else value
            for value, kind in zip(row, self._kinds, strict=True)
        ]

    def write(self, batches: Sequence[FastBatch], at: datetime, by: tuple[str | None, str]) -> list[int]:
        at = _in_milliseconds(at)
        rows, new, count = dict[int, list[Any]](), dict[tuple[Any, ...], int](), self._count
        noted, begun, numbers = list[list[Any]](), list[list[Any]](), list[int]()
        for number, batch in enumerate(batches, self._last[self._batches] + 1):
            numbers.append(number)
            for change in batch.changes:
                key = tuple(change.new[self._table.places[name]] for name in self._table.key)
                place = self._found[key]
                if place < 0:
                    place, count = count, count + 1
                    new[key] = place
                rows[place] = list(change.new)
                noted.append(change.values(number, at, by))
            if self._names and tuple(batch.row) != self._names:
                raise NotFast
            self._names = tuple(batch.row)
            begun.append([number, *map(_in_milliseconds, batch.row.values())])
        self._done = rows, new, count, noted, begun
        return numbers

    def commit(self) -> None:
        if self._done:
            rows, new, self._count, noted, begun = self._done
            self._rows |= rows
            self._new |= new
            self._waiting[self._history] += noted
            self._waiting[self._batches] += begun
            if noted:
                self._last[self._history] = self._newest_change = noted[-1][0]
            if begun:
                self._last[self._batches] = begun[-1][0]
        self._leave()

    def undo(self) -> None:
        self._leave()

    def _leave(self) -> None:
        self._done = ()
        if self._held:
            self._held = False
            self._lock.release()

    def close(self) -> None:
        self.closed = True
        self._leave()

    def hand_over(self) -> None:
        """Give the frames the rows that wait. Whoever calls holds the lock; nobody has changed the frames since."""
        length = len(self._columns[0])
        changed = sorted(place for place in self._rows if place < length)
        if changed:
            mask = np.zeros(length, bool)
            mask[changed] = True
            for at, column in enumerate(self._table.info.columns):
                values = pa.array([self._rows[place][at] for place in changed], column.type)
                self._columns[at] = pc.replace_with_mask(self._columns[at], mask, values)
            self._put(self._at, pa.Table.from_arrays(self._columns, schema=self._base[self._at].schema))
        added = [self._rows[place] for place in range(length, self._count)]
        self._append(self._at, self._table.info.names, added)
        self._append(self._history, self._noted, self._waiting[self._history])
        self._append(self._batches, ["batch_no", *self._names], self._waiting[self._batches])
        if added:
            self._columns = [one_array(column) for column in self._base[self._at].columns]
        self._rows = {}
        self._waiting = {self._history: [], self._batches: []}

    def _append(self, table: str, names: Sequence[str], rows: Sequence[Sequence[Any]]) -> None:
        if not rows:
            return
        info, columns = self._infos[table], dict(zip(names, zip(*rows, strict=True), strict=True))
        arrays = [
            pa.array(columns[one.name], one.type) if one.name in columns else pa.nulls(len(rows), one.type)
            for one in info.columns
        ]
        base = self._base[table]
        self._put(table, appended(base, pa.Table.from_arrays(arrays, schema=base.schema)))

    def _put(self, name: str, table: pa.Table) -> None:
        self._frames.tables[name] = self._base[name] = table


def _plain_kind(info: TableInfo, name: str) -> Kind:
    kind = kind_of(info[name])
    if kind is None or info[name].has_default:
        raise NotFast
    return kind


def _last(table: pa.Table, column: str) -> int:
    return pc.max(table[column]).as_py() or 0


def _newest(batches: pa.Table, table: str) -> tuple[int | None, bool]:
    """The last change of a table's batches, and whether one of the newest is sealed or has not ended."""
    mine: list[dict[str, Any]] = batches.select(["table_name", "last_change", "seal", "status"]).to_pylist()
    some = [one for one in mine if one["table_name"] == table and (one["last_change"] or 0) >= 1]
    some = sorted(some, key=lambda one: one["last_change"])[-NEWEST_BATCHES:]
    held = any(one["seal"] is not None or one["status"] == "running" for one in some)
    return some[-1]["last_change"] if some else None, held


def _in_milliseconds(value: Any) -> Any:
    return value.replace(microsecond=value.microsecond // 1000 * 1000) if isinstance(value, datetime) else value
