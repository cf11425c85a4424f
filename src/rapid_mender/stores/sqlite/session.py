"""One transaction on a SQLite file: reading, writing, defining."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Future
from typing import Any, TypeVar

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ...core.existing import Existing
from ...core.keys import one_array
from ...core.schema import Column, TableInfo
from ...errors import StoreError
from ..contract import ALL, KEPT, Condition, Load, Normalised, Refusals, Selection, Where, Written, refused_too
from ..sql.text import name_sql, text_sql
from .capturing import SQLiteCapturing
from .deferred import Deferred, Keys, deferred_keys, run_checked, tables_that_defer, touched, with_keys
from .describing import Known, SQLiteDescribing
from .link import Link, Locked, refusal
from .rows import Rows
from .types import (
    PARTS,
    as_one,
    declare,
    decode_parts,
    encode,
    form_sql,
    spelled,
    too_many_digits,
    typed_parts,
)
from .watching import Watching

_T = TypeVar("_T")
_NUMERIC_LOOKING = r"^\s*[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]+)?\s*$"
_READER_CACHE_KIB = 32_768  # it reads sorted keys, and so each page once
FEW_ROWS = 48
"""Up to this many rows are looked up and written in the caller's thread, over one connection."""
_MOST_COLUMNS = 2000
_PAGE_ROWS = 1 << 17


class SQLiteSession(SQLiteDescribing, SQLiteCapturing):
    """`known`: what other sessions of the store know of its tables."""

    def __init__(self, link: Link, known: Known, write: bool) -> None:
        super().__init__(link, known)
        self._reads_beside = write
        """A second connection may look at the table while the first writes."""
        self._reader: Link | None = None
        self._watching = Watching()
        self._deferred_keys: dict[str, list[Deferred]] = {}
        self._that_defer: list[str] | None = None

    def close(self) -> None:
        """Wait for all writes to end. Raises the error of one that failed."""
        self._stand_aside_no_more()
        self._write.drained()
        self.abandon()

    def abandon(self) -> None:
        self._write.close()
        self._stop_reading()

    # -- reading ------------------------------------------------------------------------------------

    def normalise(self, info: TableInfo, values: pa.Table) -> Normalised:
        refused: dict[str, np.ndarray] = {}
        for place, name in enumerate(values.column_names):
            column = info[name]
            if column.normalises:
                values = values.set_column(place, name, self._normalised(column, one_array(values[name])))
            mask = too_many_digits(column, one_array(values[name]))
            if mask is not None and mask.any():
                refused[name] = mask
        return values, refused

    def _normalised(self, column: Column, values: pa.Array) -> pa.Array:
        """Texts that look like numbers, as the numbers that the column's affinity makes of them."""
        mask = pc.fill_null(pc.match_substring_regex(values, _NUMERIC_LOOKING), False)
        if not pc.any(mask).as_py():
            return values
        forms = ", ".join(form_sql("c", form, form) for form in PARTS)
        sql = f"SELECT {forms} FROM (SELECT CAST(?1 AS NUMERIC) AS c)"
        link = self._beside(few=True) or self._write.drained()
        parts = typed_parts(link.query(sql, pa.table({"v": values.filter(mask)})))
        return pc.replace_with_mask(values, mask, decode_parts(column, parts).values)

    def rows_at_once(self, info: TableInfo, key: Sequence[str]) -> int:
        return self.slice_rows if self._rows(info).is_indexed(self._write.drained(), tuple(key)) else self.chunk_rows

    def fetch(
        self,
        info: TableInfo,
        keys: pa.Table,
        fresh: bool = False,
        only: Condition | None = None,
        by: Sequence[str] = (),
    ) -> Existing:
        del by  # every row has a locator
        if fresh or info.triggers:
            return self._rows(info).fetch(self._write.drained(), keys, only)
        return self._read(lambda link, rows: rows.fetch(link, keys, only), info, keys.num_rows <= FEW_ROWS)

    def _read(self, look: Callable[[Link, Rows], Existing], info: TableInfo, few: bool = False) -> Existing:
        """Look at the table as it was when the transaction began, if that is still possible."""
        reader = self._beside(few)
        if reader is not None:
            try:
                with reader.one_look():
                    return look(reader, self._rows(info))
            except Locked:  # the writer's cache is full, and it has taken the file
                self._stop_reading()
        return look(self._write.drained(), self._rows(info))

    def _beside(self, few: bool) -> Link | None:
        """The second connection, if there may be one; `few`: it is opened only while the first is at work."""
        worth = not few or not self._write.at_rest
        if self._reader is None and self._reads_beside and worth:
            self._reader = type(self._write.link)(self._path, False, 0, _READER_CACHE_KIB)
        return self._reader

    def _stop_reading(self) -> None:
        self._reads_beside = False
        if self._reader is not None:
            self._reader.close()
            self._reader = None

    def read(self, info: TableInfo, wanted: Selection = ALL) -> Existing:
        return self._rows(info).read(self._write.drained(), wanted)

    def last(self, name: str, column: str) -> int:
        return int(
            self._write.drained().rows(f"SELECT coalesce(max({name_sql(column)}), 0) FROM {name_sql(name)}")[0][0]
        )

    def query(self, sql: str) -> Iterator[pa.Table]:
        link = self._write.drained()
        # kept in a temporary table, which SQLite moves to a file, so that it is read in pages of a known place
        # in parentheses, so that a second statement after it is an error
        link.run(f"CREATE TEMP TABLE rmend_query AS SELECT * FROM ({sql.rstrip().rstrip(';')}\n)")
        names = [name for (name,) in link.rows("SELECT name FROM pragma_table_info('rmend_query', 'temp')")]
        forms = [form_sql(name_sql(n), form, f"c{i}_{form}") for i, n in enumerate(names) for form in PARTS]
        last = 0
        while True:
            page = link.query(
                f"SELECT rowid AS place, {', '.join(forms)} FROM temp.rmend_query WHERE rowid > {last} "
                f"ORDER BY rowid LIMIT {_PAGE_ROWS}",
                about=_PAGE_ROWS,
            )
            if not page.num_rows:
                break
            last = page["place"][-1].as_py()
            columns = [typed_parts(page.select([f"c{i}_{form}" for form in PARTS])) for i in range(len(names))]
            yield pa.table([as_one(column) for column in columns], names=names)
        link.run("DROP TABLE temp.rmend_query")

    def scan(
        self, info: TableInfo, columns: Sequence[str], fresh: bool = False, key: Sequence[str] = ()
    ) -> Iterator[Existing]:
        last: pa.Table | None = None
        while True:
            look = self._page(columns, last)
            page = look(self._write.drained(), self._rows(info)) if fresh else self._read(look, info)
            if page.locators.num_rows:
                yield page
            if page.locators.num_rows < self.chunk_rows:
                return
            last = page.locators.slice(page.locators.num_rows - 1)

    def _page(self, columns: Sequence[str], last: pa.Table | None) -> Callable[[Link, Rows], Existing]:
        return lambda link, rows: rows.page(link, columns, last, self.chunk_rows)

    def again(self, info: TableInfo, rows: Existing) -> Existing:
        now = self._rows(info).again(self._write.drained(), rows.locators)
        if len(now.positions) != rows.locators.num_rows:
            raise StoreError(
                f"{self.where}: rows of {info.name!r} vanished while they were written; check its triggers"
            )
        return Existing(rows.positions, now.values, rows.locators, now.verbatim)

    def count(self, info: TableInfo, where: Where = ()) -> int:
        return self._rows(info).count(self._write.drained(), where)

    # -- writing ------------------------------------------------------------------------------------

    def insert(self, info: TableInfo, values: pa.Table, key: Sequence[str]) -> Written:
        left_out = [column for column in info.columns if column.name not in values.column_names]
        if not info.triggers and not any(column.has_default or column.generated for column in left_out):
            refused = self._insert(info, values)
            return Written(Existing(np.arange(values.num_rows), info.complete(values), pa.table({})), None, refused)
        keyless = not key or any(name not in values.column_names for name in key)
        last = self._last_row(info) if keyless else 0
        self._watch(info)
        refused = self._insert(info, values)
        rows = np.flatnonzero(Written(Existing(np.empty(0), values, values), None, refused).landed(values.num_rows))
        if keyless:
            stored = self._rows(info).since(self._write.drained(), last, len(rows))
        else:
            stored = self.fetch(info, values.select(list(key)).take(pa.array(rows)), fresh=True)
        if not keyless and len(dropped := np.setdiff1d(np.arange(len(rows)), stored.positions)):
            refused = refused_too(refused, rows[dropped])
            rows = np.delete(rows, dropped)
        if stored.values.num_rows != len(rows):
            raise StoreError(
                f"{self.where}: {len(rows)} rows were inserted into {info.name!r} and "
                f"{stored.values.num_rows} are found under their keys; "
                "a trigger on the table seems to drop, add or move rows"
            )
        self._count_beside(info, stored.locators)
        return Written(stored, rows, refused)

    def _watch(self, info: TableInfo) -> None:
        if info.triggers:
            self._watching.begin(self._write.drained(), info.name, self._rows(info).finders)

    def _count_beside(self, info: TableInfo, own: pa.Table) -> None:
        if info.triggers:
            self._watching.count(self._write.drained(), own)

    def take_numbers(self, info: TableInfo, count: int, reserved: int | None = None) -> list[int]:
        last = self.last(info.name, info.primary_key[0])  # nobody else writes meanwhile
        return list(range(last + 1, last + 1 + count))

    def unrecorded(self, info: TableInfo) -> int:
        self._write.drained()
        return self._watching.counted()

    def _last_row(self, info: TableInfo) -> int:
        finders = self._rows(info).finders
        if len(finders) != 1 or (finders[0] in info and not info[finders[0]].has_default):
            raise StoreError(f"table {info.name!r} has no row number, so a key that the database makes cannot be found")
        return self.last(info.name, finders[0])

    def _insert(self, info: TableInfo, values: pa.Table) -> Callable[[], Refusals]:
        sql, bound = self._inserting(info, values, {})
        return self._isolated(sql, bound, not info.triggers, touched(self._deferred(info), info, values, None))

    def _isolated(self, sql: str, bound: pa.Table, one_change: bool, keys: Keys) -> Callable[[], Refusals]:
        """`keys`: what the database checks at the commit only, and is checked here as well."""

        def work(link: Link) -> Refusals:
            if not keys:
                return link.run_each(sql, bound, one_change)
            return link.run_in_parts(
                lambda some: run_checked(link, self._path, keys, some, sql), with_keys(bound, keys)
            )

        return self._later(bound.num_rows, work).result

    def _deferred(self, info: TableInfo) -> list[Deferred]:
        """The foreign keys about a table that are checked at the commit only."""
        if self._that_defer is None:
            self._that_defer = tables_that_defer(self._write.drained())
        if self._that_defer and info.name not in self._deferred_keys:
            self._deferred_keys[info.name] = deferred_keys(self._write.drained(), info.name, self._that_defer)
        return self._deferred_keys.get(info.name, [])

    def _later(self, count: int, work: Callable[[Link], _T]) -> Future[_T]:
        """Write in the background; `count` is how many rows."""
        return self._write.later(work, little=count <= FEW_ROWS)

    def _inserting(self, info: TableInfo, values: pa.Table, literals: Mapping[str, str]) -> tuple[str, pa.Table]:
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
                bound[place] = len(bound) + 1, encode(array)
            marks.append(f"?{bound[place][0]}")
        if not names and not literals:  # then at least the number of the row, which the database makes
            names, marks, number = [self._rows(info).finders[0]], ["?1"], pa.nulls(values.num_rows, pa.int64())
            bound[0,] = 1, encode(number)
        listed = ", ".join(map(name_sql, [*names, *literals]))
        # OR ABORT: whatever the table says of conflicts, no row may be dropped or replaced in silence
        sql = (
            f"INSERT OR ABORT INTO {name_sql(info.name)} ({listed}) VALUES ({', '.join([*marks, *literals.values()])})"
        )
        arrays = [array for _, array in bound.values()]
        return sql, pa.table(arrays, names=[f"p{i}" for i in range(len(arrays))])

    def update(self, info: TableInfo, rows: Existing, values: pa.Table, key: Sequence[str] = ()) -> Written:
        names = values.column_names
        sets = ", ".join(f"{name_sql(name)} = ?{i + 1}" for i, name in enumerate(names))
        bound = [encode(one_array(values[name])) for name in names] + rows.locators.columns
        labels = [*names, *(f"locator {i}" for i in range(rows.locators.num_columns))]
        sql = f"UPDATE OR ABORT {name_sql(info.name)} SET {sets} WHERE {self._rows(info).located(len(names) + 1)}"
        self._watch(info)
        keys = touched(self._deferred(info), info, values, rows.values)
        refused = self._isolated(sql, pa.table(bound, names=labels), not info.triggers and not info.referenced, keys)
        if info.triggers or any(column.generated for column in info.columns):
            landed = np.flatnonzero(Written(rows, None, refused).landed(len(rows.positions)))
            some = rows.take(landed)
            for i, name in enumerate(self._rows(info).finders):
                if name in values.column_names:
                    moved = encode(one_array(values[name]).take(pa.array(landed)))
                    some.locators = some.locators.set_column(i, f"r{i}", moved)
            stored = self.again(info, some)
            self._count_beside(info, some.locators)
            return Written(stored, landed, refused)
        table, verbatim = rows.values, dict(rows.verbatim)
        for name in names:
            table = table.set_column(table.column_names.index(name), name, values[name])
            verbatim.pop(name, None)
        return Written(Existing(rows.positions, table, rows.locators, verbatim), None, refused)

    def delete(self, info: TableInfo, rows: Existing) -> Written:
        sql = f"DELETE FROM {name_sql(info.name)} WHERE {self._rows(info).located(1)}"
        self._watch(info)
        keys = touched(self._deferred(info), info, None, rows.values)
        refused = self._isolated(sql, rows.locators, not info.triggers and not info.referenced, keys)
        if info.triggers:
            gone = np.delete(np.arange(len(rows.positions)), list(refused()))
            still = self._rows(info).again(self._write.drained(), rows.locators.take(pa.array(gone)))
            refused = refused_too(refused, gone[still.positions])
            self._count_beside(info, rows.locators)
        return Written(rows, None, refused)

    def move(self, info: TableInfo, rows: Existing, to: TableInfo) -> Written:
        listed = ", ".join(name_sql(column.name) for column in info.columns if not column.generated)
        there = f"FROM {name_sql(info.name)} WHERE {self._rows(info).located(1)}"
        copying = f"INSERT OR ABORT INTO {name_sql(to.name)} ({listed}) SELECT {listed} {there}"
        self._watch(info)

        keys = touched(self._deferred(info), info, None, rows.values)

        def work(link: Link) -> Refusals:
            def write(some: pa.Table) -> None:
                run_checked(link, self._path, keys, some, copying, f"DELETE {there}")
                located = some.select(range(rows.locators.num_columns))
                if info.triggers and link.query(f"SELECT 1 {there}", located).num_rows:
                    raise refusal(self._path, KEPT)

            return link.run_in_parts(write, with_keys(rows.locators, keys))

        done = self._later(len(rows.positions), work)
        if info.triggers:
            done.result()
            self._count_beside(info, rows.locators)
        return Written(rows, None, done.result)

    def create(self, info: TableInfo, beside: TableInfo | None = None) -> None:
        for sql in (self.create_sql(info, beside), *(self._index_sql(info, *index) for index in info.indexes)):
            self._write.later(lambda link, sql=sql: link.run(sql))  # type: ignore[misc]
        self._forget(info.name)

    def create_sql(self, info: TableInfo, beside: TableInfo | None = None) -> str:
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
        if len(info.primary_key) > 1:
            lines.append(f"PRIMARY KEY ({', '.join(map(name_sql, info.primary_key))})")
        return f"CREATE TABLE {name_sql(info.name)} ({', '.join(lines)})"

    def add_index(self, info: TableInfo, name: str, columns: Sequence[str]) -> None:
        self._write.drained().run(self._index_sql(info, name, columns))
        self._forget(info.name)

    def _index_sql(self, info: TableInfo, name: str, columns: Sequence[str]) -> str:
        return f"CREATE INDEX {name_sql(name)} ON {name_sql(info.name)} ({', '.join(map(name_sql, columns))})"

    def cannot_make(self, info: TableInfo) -> str | None:
        if len(info.columns) > _MOST_COLUMNS:
            return f"it would have {len(info.columns):,} columns, and SQLite has {_MOST_COLUMNS:,} at most"
        return None

    def append(self, info: TableInfo, rows: Load, after: Sequence[Written] = ()) -> None:
        values = rows.values
        empty = [name for name in values.column_names if values[name].null_count == values.num_rows]
        literals = {name: self._literal(info[name], value) for name, value in rows.same.items() if value is not None}
        sql, bound = self._inserting(info, values.drop_columns(empty), literals)
        number = info.primary_key[0] if info.primary_key else None
        numbers = one_array(values[number]) if number is not None else None

        def work(link: Link) -> None:
            keep = np.ones(values.num_rows, bool)
            for written in after:
                if written.rows is None and written.refusals():
                    keep &= written.landed(values.num_rows)
            link.run(sql, bound if keep.all() else bound.filter(pa.array(keep)))
            for name, (positions, cells) in rows.verbatim.items():
                assert number is not None
                assert numbers is not None
                again = cells.append_column("number", numbers.take(pa.array(positions)))
                cell = f"{name_sql(name)} = coalesce(?1, ?2, ?3, ?4)"
                link.run(f"UPDATE {name_sql(info.name)} SET {cell} WHERE {name_sql(number)} = ?5", again)

        self._later(values.num_rows, work)

    def _literal(self, column: Column, value: Any) -> str:
        stored = spelled(column.type, value)
        if stored is None:
            stored = encode(pa.array([value], column.type))[0].as_py()
        return text_sql(stored) if isinstance(stored, str) else str(int(stored))
