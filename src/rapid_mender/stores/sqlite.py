"""SQLite, over ADBC.

Nothing is staged: the driver binds whole Arrow tables to one prepared statement, row after row in C, also for
queries, whose results it joins. So keys are looked up, rows inserted and changed without a Python object a cell.

A merge has two connections. One writes, in a thread of its own. The other looks up the existing rows meanwhile:
nobody else can write then, so it sees the table as it was when the merge began, which is all that a merge asks of
rows that it has not written yet. Once SQLite needs the file for the writer alone, all goes through the writer.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from types import MappingProxyType
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.existing import Existing
from ..core.keys import one_array
from ..core.schema import Column, TableInfo
from ..errors import StoreError
from .base import Condition, Session, Settled, Store
from .sqlite_link import Background, Link, Locked, name_sql, refuse_a_second_library, text_sql
from .sqlite_rows import Rows
from .sqlite_tables import describe, table_names
from .sqlite_types import PARTS, declare, decode_parts, encode, form_sql, too_many_digits, typed_parts

_NUMERIC_LOOKING = r"^\s*[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]+)?\s*$"
_READER_CACHE_KIB = 32_768  # it reads sorted keys, and so each page once
_PATIENCE = 5_000  # milliseconds to wait for another program's lock


class SQLiteStore(Store):
    """The tables of one SQLite file, which must exist."""

    def __init__(self, path: str | os.PathLike[str]) -> None:
        self.path = os.path.abspath(os.fspath(path))

    def __repr__(self) -> str:
        return f"SQLiteStore({self.path!r})"

    @property
    def where(self) -> str:
        return self.path

    @contextmanager
    def begin(self, write: bool) -> Iterator[Session]:
        if not os.path.isfile(self.path):
            raise StoreError(f"there is no SQLite file {self.path}; check the path in the store URL")
        writable = os.access(self.path, os.W_OK)
        if write and not writable:
            raise StoreError(f"{self.path} is read-only; make it writable for this user to merge into it")
        refuse_a_second_library(self.path)
        link = Link(self.path, writable, _PATIENCE)
        try:
            link.run("BEGIN IMMEDIATE" if write else "BEGIN")
            session = SQLiteSession(link, write)
            try:
                yield session
                session.close()
                link.run("COMMIT" if write else "ROLLBACK")
            except BaseException:
                session.abandon()
                with suppress(StoreError):
                    link.run("ROLLBACK")
                raise
        finally:
            link.close()


class SQLiteSession(Session):
    def __init__(self, link: Link, write: bool) -> None:
        self._path = link.path
        self._write = Background(link)
        self._reader = Link(link.path, False, 0, _READER_CACHE_KIB) if write else None
        self._tables: dict[str, Rows | None] = {}

    @property
    def where(self) -> str:
        return self._path

    def close(self) -> None:
        """Let all writes end. Raises the error of one that failed."""
        self._write.settled()
        self.abandon()

    def abandon(self) -> None:
        self._write.close()
        if self._reader is not None:
            self._reader.close()
            self._reader = None

    # -- describing ---------------------------------------------------------------------------------

    def tables(self) -> list[str]:
        return table_names(self._write.settled())

    def find(self, name: str) -> TableInfo | None:
        if name not in self._tables:
            described = describe(self._write.settled(), name)
            self._tables[name] = Rows(described) if described is not None else None
        rows = self._tables[name]
        return None if rows is None else rows.info

    def _rows(self, info: TableInfo) -> Rows:
        self.find(info.name)
        rows = self._tables[info.name]
        assert rows is not None
        return rows

    # -- reading ------------------------------------------------------------------------------------

    def settle(self, info: TableInfo, values: pa.Table) -> Settled:
        refused: dict[str, np.ndarray] = {}
        for place, name in enumerate(values.column_names):
            column = info[name]
            if column.settles:
                values = values.set_column(place, name, self._settled(column, one_array(values[name])))
            mask = too_many_digits(column, one_array(values[name]))
            if mask is not None and mask.any():
                refused[name] = mask
        return values, refused

    def _settled(self, column: Column, values: pa.Array) -> pa.Array:
        """Texts that look like numbers, as the numbers that the column's affinity makes of them."""
        mask = pc.fill_null(pc.match_substring_regex(values, _NUMERIC_LOOKING), False)
        if not pc.any(mask).as_py():
            return values
        forms = ", ".join(form_sql("c", form, form) for form in PARTS)
        sql = f"SELECT {forms} FROM (SELECT CAST(?1 AS NUMERIC) AS c)"
        link = self._reader or self._write.settled()
        parts = typed_parts(link.query(sql, pa.table({"v": values.filter(mask)})))
        return pc.replace_with_mask(values, mask, decode_parts(column, parts).values)

    def rows_at_once(self, info: TableInfo, key: Sequence[str]) -> int:
        return self.slice_rows if self._rows(info).is_indexed(self._write.settled(), tuple(key)) else self.chunk_rows

    def fetch(self, info: TableInfo, keys: pa.Table, fresh: bool = False) -> Existing:
        if self._reader is not None and not fresh and not info.triggers:
            try:
                with self._reader.one_look():
                    return self._rows(info).fetch(self._reader, keys)
            except Locked:  # the writer's cache is full, and it has taken the file
                self._reader.close()
                self._reader = None
        return self._rows(info).fetch(self._write.settled(), keys)

    def read(
        self,
        info: TableInfo,
        where: Sequence[Sequence[Condition]] = (),
        newest: str | None = None,
        limit: int | None = None,
    ) -> pa.Table:
        return self._rows(info).read(self._write.settled(), where, newest, limit)

    def last(self, name: str, column: str) -> int:
        return int(
            self._write.settled().rows(f"SELECT coalesce(max({name_sql(column)}), 0) FROM {name_sql(name)}")[0][0]
        )

    # -- writing ------------------------------------------------------------------------------------

    def insert(self, info: TableInfo, values: pa.Table, key: Sequence[str]) -> Existing:
        self._insert(info, values)
        left_out = [column for column in info.columns if column.name not in values.column_names]
        if info.triggers or any(column.has_default or column.generated for column in left_out):
            stored = self.fetch(info, values.select(list(key)), fresh=True)
            if stored.values.num_rows != values.num_rows:
                raise StoreError(
                    f"{self.where}: {values.num_rows} rows were inserted into {info.name!r} and "
                    f"{stored.values.num_rows} are found under their keys; "
                    "a trigger on the table seems to drop or move rows"
                )
            return stored
        return Existing(np.arange(values.num_rows), info.complete(values), pa.table({}))

    def _insert(self, info: TableInfo, values: pa.Table, literals: Mapping[str, str] = MappingProxyType({})) -> None:
        names = values.column_names
        bound: dict[tuple[Any, ...], tuple[int, pa.Array]] = {}  # what stands in two columns is bound once
        marks = []
        for name in names:
            array = one_array(values[name])
            place = (
                array.type,
                array.offset,
                *(None if part is None else part.address for part in array.buffers()),
            )
            if place not in bound:
                bound[place] = len(bound) + 1, encode(info[name], array)
            marks.append(f"?{bound[place][0]}")
        listed = ", ".join(map(name_sql, [*names, *literals]))
        sql = f"INSERT INTO {name_sql(info.name)} ({listed}) VALUES ({', '.join([*marks, *literals.values()])})"
        arrays = [array for _, array in bound.values()]
        self._write.later(sql, pa.table(arrays, names=[f"p{i}" for i in range(len(arrays))]))

    def update(self, info: TableInfo, rows: Existing, values: pa.Table) -> Existing:
        names = values.column_names
        sets = ", ".join(f"{name_sql(name)} = ?{i + 1}" for i, name in enumerate(names))
        bound = [encode(info[name], one_array(values[name])) for name in names] + rows.locators.columns
        labels = [*names, *(f"locator {i}" for i in range(rows.locators.num_columns))]
        self._write.later(
            f"UPDATE {name_sql(info.name)} SET {sets} WHERE {self._rows(info).located(len(names) + 1)}",
            pa.table(bound, names=labels),
        )
        if info.triggers or any(column.generated for column in info.columns):
            return self._again(info, rows, values)
        table, odd = rows.values, dict(rows.odd)
        for name in names:
            table = table.set_column(table.column_names.index(name), name, values[name])
            odd.pop(name, None)
        return Existing(rows.positions, table, rows.locators, odd)

    def _again(self, info: TableInfo, rows: Existing, values: pa.Table) -> Existing:
        """The rows once more, as they are now."""
        locators = rows.locators
        for i, name in enumerate(self._rows(info).finders):
            if name in values.column_names:
                locators = locators.set_column(i, f"r{i}", encode(info[name], one_array(values[name])))
        found = self._rows(info).again(self._write.settled(), locators)
        if len(found.positions) != locators.num_rows:
            raise StoreError(
                f"{self.where}: rows of {info.name!r} vanished while they were updated; check its triggers"
            )
        return found

    def delete(self, info: TableInfo, rows: Existing) -> None:
        self._write.later(f"DELETE FROM {name_sql(info.name)} WHERE {self._rows(info).located(1)}", rows.locators)

    def create(self, info: TableInfo) -> None:
        lines = []
        for column in info.columns:
            line = f"{name_sql(column.name)} {declare(column)}"
            if (column.name,) == info.primary_key:
                line += " PRIMARY KEY"
            elif not column.nullable:
                line += " NOT NULL"
            if column.one_of:
                # not IN: SQLite would build a little table of the list for every row
                line += (
                    f" CHECK ({' OR '.join(f'{name_sql(column.name)} = {text_sql(text)}' for text in column.one_of)})"
                )
            if column.fold:
                line += f" COLLATE {'NOCASE' if column.fold == 'case' else 'RTRIM'}"
            lines.append(line)
        self._write.later(f"CREATE TABLE {name_sql(info.name)} ({', '.join(lines)})")
        self._tables.pop(info.name, None)

    def add_columns(self, name: str, columns: Iterable[Column]) -> None:
        for column in columns:
            self._write.later(f"ALTER TABLE {name_sql(name)} ADD COLUMN {name_sql(column.name)} {declare(column)}")
        self._tables.pop(name, None)

    def append(
        self, info: TableInfo, values: pa.Table, same: Mapping[str, Any], raw: Mapping[str, Any] | None = None
    ) -> None:
        empty = [name for name in values.column_names if values[name].null_count == values.num_rows]
        literals = {name: self._literal(info[name], value) for name, value in same.items() if value is not None}
        self._insert(info, values.drop_columns(empty), literals)
        number = info.primary_key[0]
        for name, (positions, cells) in (raw or {}).items():
            bound = cells.append_column("number", values[number].take(pa.array(positions)))
            cell = f"{name_sql(name)} = coalesce(?1, ?2, ?3, ?4)"
            sql = f"UPDATE {name_sql(info.name)} SET {cell} WHERE {name_sql(number)} = ?5"
            self._write.later(sql, bound)

    def _literal(self, column: Column, value: Any) -> str:
        stored = encode(column, pa.array([value], column.type))[0].as_py()
        return text_sql(stored) if isinstance(stored, str) else str(int(stored))
