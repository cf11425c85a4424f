"""Tables in memory: the same engine on frames."""

from __future__ import annotations

import threading
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import replace
from functools import reduce
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.types as pt

from ..core.cast import plain
from ..core.existing import Existing
from ..core.frames import as_table
from ..core.keys import fold_table, match, one_array
from ..core.masks import mask_of
from ..core.schema import Column, TableInfo
from ..errors import JobError
from .contract import ALL, Condition, Load, Selection, Session, Store, Where, Written
from .contract.fast import FastPath, FastTable
from .memory_fast import MemoryFastPath, appended

_OPS = {"=": pc.equal, ">=": pc.greater_equal, "<=": pc.less_equal, "<": pc.less, ">": pc.greater}


class MemoryStore(Store):
    """Named tables in memory.

    `tables` maps names to frames: anything that `pyarrow.table` takes or that offers the Arrow PyCapsule
    interface. Column types and nullability are the frame's own. `keys` may name the primary key of a table, and
    `numbered` a column of whole numbers that the store fills, after the largest, in rows that come without.
    `store["trees"]` is the table as it is now, a `pyarrow.Table`. One writer at a time; readers see the
    tables as they were when they began.
    """

    reads_beside_writes = reads_by_spans = False
    finds_keys = True

    def __init__(
        self,
        tables: Mapping[str, Any] | None = None,
        keys: Mapping[str, Sequence[str]] | None = None,
        numbered: Mapping[str, str] | None = None,
    ) -> None:
        self.lock = threading.RLock()
        self._tables: dict[str, pa.Table] = {}
        self._paths: list[MemoryFastPath] = []
        self._infos: dict[str, TableInfo] = {}
        for name, frame in (tables or {}).items():
            table = as_table(frame)
            if not isinstance(table, pa.Table):
                kind = type(frame).__name__
                raise JobError(f"table {name!r} is {kind}; give a frame whose columns have one type each")
            arrays = [plain(column) for column in table.columns]
            self._infos[name] = TableInfo(
                name,
                tuple(
                    Column(
                        field.name,
                        array.type,
                        nullable=field.nullable,
                        has_default=(numbered or {}).get(name) == field.name,
                    )
                    for field, array in zip(table.schema, arrays, strict=True)
                ),
                tuple((keys or {}).get(name, ())),
            )
            self._tables[name] = pa.table(arrays, schema=_schema(self._infos[name]))

    def __repr__(self) -> str:
        return f"MemoryStore({sorted(self._tables)})"

    def __getitem__(self, name: str) -> pa.Table:
        self.settle()
        return self._tables[name]

    @property
    def tables(self) -> dict[str, pa.Table]:
        return self._tables

    def settle(self, but: FastPath | None = None) -> None:
        for path in self._paths:
            if path is not but and path.waits:
                with self.lock:
                    path.hand_over()

    def fast_path(self, table: FastTable) -> FastPath:
        with self.lock:
            self.settle()
            path = MemoryFastPath(self, table)
            self._paths = [*(one for one in self._paths if not one.closed), path]
            return path

    @property
    def where(self) -> str:
        return "memory"

    @contextmanager
    def begin(
        self, write: bool, table: TableInfo | None = None, alone: bool = False, guests: bool = False
    ) -> Iterator[Session]:
        del table, alone, guests  # there is one writer at a time
        self.settle()
        if not write:
            yield MemorySession(dict(self._tables), dict(self._infos))
            return
        with self.lock:
            self.settle()
            session = MemorySession(dict(self._tables), dict(self._infos))
            yield session
            self._tables, self._infos = session.data, session.infos


class MemorySession(Session):
    sorts = False
    chunk_rows = slice_rows = 1 << 22

    def __init__(self, data: dict[str, pa.Table], infos: dict[str, TableInfo]) -> None:
        self.data = data
        self.infos = infos

    @property
    def where(self) -> str:
        return "memory"

    def tables(self) -> list[str]:
        return list(self.data)

    def find(self, name: str) -> TableInfo | None:
        return self.infos.get(name)

    def fetch(
        self,
        info: TableInfo,
        keys: pa.Table,
        fresh: bool = False,
        only: Condition | None = None,
        by: Sequence[str] = (),
    ) -> Existing:
        del fresh, by  # every session has its own tables, always up to date, whose rows have places
        columns = info.pick(keys.column_names)
        table = self.data[info.name]
        asked, rows = match(fold_table(keys, columns), fold_table(table, columns))
        if only is not None:
            kept = mask_of(one_array(_test(table, only)))[rows]
            asked, rows = asked[kept], rows[kept]
        return Existing(asked, table.take(pa.array(rows)), pa.table({"row": rows}))

    def scan(
        self, info: TableInfo, columns: Sequence[str], fresh: bool = False, key: Sequence[str] = ()
    ) -> Iterator[Existing]:
        del fresh  # always
        table = self.data[info.name]
        for start in range(0, table.num_rows, self.chunk_rows):
            part = table.select(list(columns)).slice(start, self.chunk_rows)
            rows = np.arange(start, start + part.num_rows)
            yield Existing(rows, part, pa.table({"row": rows}))

    def again(self, info: TableInfo, rows: Existing) -> Existing:
        return Existing(rows.positions, self.data[info.name].take(rows.locators["row"]), rows.locators)

    def count(self, info: TableInfo, where: Where = ()) -> int:
        return len(_holding(self.data[info.name], where))

    def insert(self, info: TableInfo, values: pa.Table, key: Sequence[str]) -> Written:
        del key  # the rows are known without it
        for column in info.columns:
            if column.has_default and column.name not in values.column_names:
                first = (pc.max(self.data[info.name][column.name]).as_py() or 0) + 1
                numbers = pa.array(np.arange(first, first + values.num_rows)).cast(column.type)
                values = values.append_column(column.name, numbers)
        rows = info.complete(values).cast(_schema(info))
        self.data[info.name] = appended(self.data[info.name], rows)
        return Written(Existing(np.arange(values.num_rows), rows, pa.table({})))

    def move(self, info: TableInfo, rows: Existing, to: TableInfo) -> Written:
        self.insert(to, self.again(info, rows).values, ())
        return self.delete(info, rows)

    def update(self, info: TableInfo, rows: Existing, values: pa.Table, key: Sequence[str] = ()) -> Written:
        table, stored = self.data[info.name], rows.values
        places = rows.locators["row"].to_numpy()
        order = np.argsort(places)
        mask = np.zeros(table.num_rows, bool)
        mask[places] = True
        for name in values.column_names:
            at = info.names.index(name)
            new = one_array(values[name])
            done = _replaced(one_array(table[name]), mask, new.take(pa.array(order)))
            table = table.set_column(at, table.schema.field(at), done)
            stored = stored.set_column(at, stored.schema.field(at), new)
        self.data[info.name] = table
        return Written(Existing(rows.positions, stored, rows.locators))

    def delete(self, info: TableInfo, rows: Existing) -> Written:
        keep = np.ones(self.data[info.name].num_rows, bool)
        keep[rows.locators["row"].to_numpy()] = False
        self.data[info.name] = self.data[info.name].filter(pa.array(keep))
        return Written(rows)

    def create(self, info: TableInfo, beside: TableInfo | None = None) -> None:
        self.infos[info.name] = info
        self.data[info.name] = _schema(info).empty_table()

    def add_columns(self, name: str, columns: Iterable[Column]) -> None:
        for column in columns:
            self.infos[name] = replace(self.infos[name], columns=(*self.infos[name].columns, column))
            empty = pa.nulls(self.data[name].num_rows, column.type)
            self.data[name] = self.data[name].append_column(pa.field(column.name, column.type), empty)

    def widen_columns(self, name: str, columns: Iterable[Column]) -> None:
        wide = {column.name: column for column in columns}
        info = self.infos[name]
        self.infos[name] = replace(info, columns=tuple(wide.get(one.name, one) for one in info.columns))
        for column in wide.values():
            at = self.data[name].column_names.index(column.name)
            values = self.data[name][column.name].cast(column.type)
            self.data[name] = self.data[name].set_column(at, pa.field(column.name, column.type), values)

    def append(self, info: TableInfo, rows: Load, after: Sequence[Written] = ()) -> None:
        del after  # nothing is ever refused in memory, or verbatim
        values = rows.values
        for name, value in rows.same.items():
            values = values.append_column(name, pa.repeat(pa.scalar(value, info[name].type), values.num_rows))
        self.insert(info, values, ())

    def read(self, info: TableInfo, wanted: Selection = ALL) -> Existing:
        table = self.data[info.name]
        rows = _holding(table, wanted.where)
        limit = len(rows) if wanted.limit is None else wanted.limit
        if wanted.by:
            order = pc.sort_indices(table[wanted.by].take(rows))
            rows = rows.take(order).slice(0 if wanted.first else max(len(rows) - limit, 0))
        rows = rows.slice(0, limit)
        values = table.select(info.names if wanted.columns is None else list(wanted.columns)).take(rows)
        return Existing(np.arange(len(rows)), values, pa.table({"row": rows}))

    def pages(self, info: TableInfo, wanted: Selection) -> Iterator[Existing]:
        page = self.read(info, wanted)
        if len(page.positions):
            yield page

    def take_numbers(self, info: TableInfo, count: int, reserved: int | None = None) -> list[int]:
        last = self.last(info.name, info.primary_key[0])
        return list(range(last + 1, last + 1 + count))

    def last(self, name: str, column: str) -> int:
        return pc.max(self.data[name][column]).as_py() or 0


def _replaced(values: pa.Array, mask: np.ndarray, new: pa.Array) -> pa.Array:
    if not pt.is_nested(values.type):
        return pc.replace_with_mask(values, mask, new)
    places = np.arange(len(values))  # Arrow replaces no lists or records
    places[mask] = len(values) + np.arange(len(new))
    return pa.concat_arrays([values, new]).take(pa.array(places))


def _holding(table: pa.Table, where: Where) -> pa.Array:
    """The rows for which conditions hold."""
    rows = pa.array(np.arange(table.num_rows))
    for group in where:
        columns = table.select(list({one.column for one in group}))
        some = columns if len(rows) == table.num_rows else columns.take(rows)
        rows = rows.filter(one_array(reduce(pc.or_kleene, [_test(some, one) for one in group])))
    return rows


def _test(table: pa.Table, one: Condition) -> pa.ChunkedArray:
    if one.value is None:
        return (pc.is_valid if one.op == "is not null" else pc.is_null)(table[one.column])
    if one.op == "contains":
        return pc.match_substring(table[one.column], one.value)
    return _OPS[one.op](table[one.column], pa.scalar(one.value, table[one.column].type))


def _schema(info: TableInfo) -> pa.Schema:
    return pa.schema([pa.field(column.name, column.type, column.nullable) for column in info.columns])
