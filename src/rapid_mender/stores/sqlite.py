"""SQLite, over ADBC.

Nothing is staged: the driver binds whole Arrow tables to one prepared statement, row after row in C, also for
queries, whose results it joins. So keys are looked up, rows inserted and changed without a Python object a cell.
"""

from __future__ import annotations

import os
import re
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from typing import Any
from urllib.parse import quote

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.existing import Existing, Odd
from ..core.keys import one_array
from ..core.schema import Column, Fold, TableInfo
from ..errors import StoreError
from .base import Condition, Session, Settled, Store
from .sqlite_types import (
    PARTS,
    Decoded,
    affinity,
    column_type,
    declare,
    decode,
    decode_parts,
    encode,
    expected,
    in_parts,
    too_many_digits,
    typed_parts,
)

_NUMERIC_LOOKING = r"^\s*[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]+)?\s*$"
_ALL_ROWS = {"adbc.sqlite.query.batch_rows": 1 << 30}  # types are then inferred from every row
_BUSY_MILLISECONDS = 5_000
_CACHE_KIB = 131_072


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
        with _translated(self.path):
            connection = _connect(self.path, "rw" if writable else "ro")
        try:
            session = SQLiteSession(self.path, connection.cursor())
            try:
                yield from session.transaction(write)
            finally:
                session.close()
        finally:
            connection.close()


def _connect(path: str, mode: str) -> Any:
    from adbc_driver_sqlite import dbapi

    return dbapi.connect(f"file:{quote(path)}?mode={mode}", autocommit=True)


@contextmanager
def _translated(where: str) -> Iterator[None]:
    """Turn the driver's errors into ours, which say what to do."""
    import adbc_driver_manager

    try:
        yield
    except adbc_driver_manager.Error as error:
        text = re.sub(r"^[A-Z_]+: (\[SQLite\] )?", "", str(error)).split("\nquery:")[0]
        text = re.sub(r"^Failed to (prepare|execute) query: ", "", text).strip()
        for sign, mend in (
            ("locked", "another program is writing to it; try again when that is done"),
            ("readonly", "it is read-only; make the file and its folder writable for this user"),
            ("disk is full", "there is no room left on the disk; free some and run again"),
            ("disk I/O", "the disk refused; check the disk and its free space"),
            ("not a database", "it is not a SQLite file; check the path in the store URL"),
            ("failed to open", "it cannot be opened; check the path and the rights on it"),
            ("unable to open", "it cannot be opened; make its folder writable for this user"),
            ("malformed", "the file is damaged; restore it from a copy"),
        ):
            if sign in text:
                raise StoreError(f"{where}: {text}: {mend}") from error
        raise StoreError(f"{where}: the database refused: {text}") from error


class SQLiteSession(Session):
    def __init__(self, path: str, cursor: Any) -> None:
        self._path = path
        self._cursor = cursor
        self._infos: dict[str, TableInfo | None] = {}
        self._row_name: dict[str, str | None] = {}
        self._plans: dict[tuple[str, tuple[str, ...]], bool] = {}

    @property
    def where(self) -> str:
        return self._path

    def close(self) -> None:
        self._cursor.close()

    def transaction(self, write: bool) -> Iterator[Session]:
        self._run(f"PRAGMA busy_timeout = {_BUSY_MILLISECONDS}")
        self._run(f"PRAGMA cache_size = -{_CACHE_KIB}")
        self._run("PRAGMA foreign_keys = ON")
        self._run("BEGIN IMMEDIATE" if write else "BEGIN")
        try:
            yield self
            self._run("COMMIT" if write else "ROLLBACK")
        except BaseException:
            with suppress(StoreError):
                self._run("ROLLBACK")
            raise

    # -- describing ---------------------------------------------------------------------------------

    def tables(self) -> list[str]:
        rows = self._rows("SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\'")
        return [name for (name,) in rows]

    def find(self, name: str) -> TableInfo | None:
        if name not in self._infos:
            self._infos[name] = self._describe(name)
        return self._infos[name]

    def _describe(self, name: str) -> TableInfo | None:
        kinds = self._rows("SELECT name, type FROM sqlite_master WHERE name = ?1 COLLATE NOCASE", [name])
        kinds = [row for row in kinds if row[1] in ("table", "view")]
        if not kinds:
            return None
        real_name, kind = kinds[0]
        if kind == "view":
            raise StoreError(f"{name!r} is a view; records can be merged into a table only")
        listed = self._rows("SELECT * FROM pragma_table_xinfo(?1)", [real_name])
        without_rowid = bool(self._rows("SELECT wr FROM pragma_table_list WHERE name = ?1 AND schema = 'main'", [real_name])[0][0])
        key = [row[1] for row in sorted((r for r in listed if r[5]), key=lambda r: r[5])]
        own_number = None
        if len(key) == 1 and not without_rowid:
            own_number = next(r[1] for r in listed if r[1] == key[0])
            if next(r[2] for r in listed if r[1] == own_number).upper() != "INTEGER":
                own_number = None
        columns = tuple(
            self._column(real_name, row, own_number, without_rowid) for row in listed if row[6] != 1
        )
        taken = {column.name.lower() for column in columns}
        free = [alias for alias in ("rowid", "_rowid_", "oid") if alias not in taken]
        self._row_name[real_name] = None if without_rowid else own_number or (free[0] if free else None)
        triggers = self._rows("SELECT count(*) FROM sqlite_master WHERE type = 'trigger' AND tbl_name = ?1 COLLATE NOCASE", [real_name])
        return TableInfo(real_name, columns, tuple(key), self._unique(real_name), bool(triggers[0][0]))

    def _column(self, table: str, row: Sequence[Any], own_number: str | None, without_rowid: bool) -> Column:
        _, name, declared, not_null, default, in_key, hidden = row
        seen: frozenset[str] = frozenset()
        if declared.upper() in ("", "ANY"):
            found = self._rows(
                f"SELECT DISTINCT typeof(c) FROM (SELECT {_q(name)} AS c FROM {_q(table)} LIMIT 100000)"
            )
            seen = frozenset(form for (form,) in found) - {"null"}
        kind, length = column_type(declared, seen)
        is_number = name == own_number
        return Column(
            name=name,
            type=kind,
            declared=declared,
            nullable=not (not_null or is_number or (without_rowid and in_key)),
            has_default=is_number or (default is not None and default.upper() != "NULL"),
            generated=hidden in (2, 3),
            length=length,
            fold=self._fold(table, name) if pa.types.is_string(kind) else None,
            settles=pa.types.is_string(kind) and affinity(declared) not in ("TEXT", "BLOB"),
            nan=False,
        )

    def _fold(self, table: str, column: str) -> Fold | None:
        """What the column's collation holds equal. A compound query takes the collation of its first part."""
        one = f"SELECT {_q(column)} AS c FROM {_q(table)} WHERE 0 UNION ALL SELECT 'a'"
        case, blanks = self._rows(f"SELECT c = 'A', c = 'a ' FROM ({one})")[0]
        return "case" if case else "blanks" if blanks else None

    def _unique(self, table: str) -> tuple[tuple[str, ...], ...]:
        found = []
        for _, index, unique, origin, partial in self._rows("SELECT * FROM pragma_index_list(?1)", [table]):
            if unique and not partial and origin != "pk":
                names = [row[0] for row in self._rows("SELECT name FROM pragma_index_info(?1) ORDER BY seqno", [index])]
                if None not in names:
                    found.append(tuple(names))
        return tuple(found)

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
        forms = ", ".join(f"CASE typeof(c) WHEN '{form}' THEN c END AS {form}" for form in PARTS)
        sql = f"SELECT {forms} FROM (SELECT CAST(?1 AS NUMERIC) AS c)"
        parts = typed_parts(self._query(sql, pa.table({"v": values.filter(mask)})))
        return pc.replace_with_mask(values, mask, decode_parts(column, parts).values)

    def fetch(self, info: TableInfo, keys: pa.Table) -> Existing:
        names = keys.column_names
        bound = {f"k{i}": encode(info[name], one_array(keys[name])) for i, name in enumerate(names)}
        select, locators = self._select_list(info)
        if self._has_index(info, tuple(names)):
            where = " AND ".join(f"t.{_q(name)} = ?{i + 2}" for i, name in enumerate(names))
            sql = f"SELECT ?1 AS position, {select} FROM {_q(info.name)} AS t WHERE {where}"
            found = self._query(sql, pa.table({"position": np.arange(keys.num_rows), **bound}))
        else:
            found = self._fetch_by_scan(info, names, bound, select, locators)
        return self._existing(info, found, locators)

    def _fetch_by_scan(
        self, info: TableInfo, names: list[str], bound: dict[str, pa.Array], select: str, locators: list[str]
    ) -> pa.Table:
        """Without an index on the key: one pass over the table, each row looked up among the keys."""
        collation = {"case": "NOCASE", "blanks": "RTRIM", None: "BINARY"}
        types = [f"k{i} {declare(info[n])} COLLATE {collation[info[n].fold]}" for i, n in enumerate(names)]
        index = ", ".join(bound)
        self._run("DROP TABLE IF EXISTS temp.rmend_keys")
        self._run(f"CREATE TEMP TABLE rmend_keys (position INTEGER, {', '.join(types)})")
        count = len(next(iter(bound.values())))
        marks = ", ".join(f"?{i + 1}" for i in range(len(bound) + 1))
        self._run(f"INSERT INTO temp.rmend_keys VALUES ({marks})", pa.table({"position": np.arange(count), **bound}))
        self._run(f"CREATE INDEX temp.rmend_keys_index ON rmend_keys ({index})")
        on = " AND ".join(f"t.{_q(name)} = s.k{i}" for i, name in enumerate(names))
        found = self._query(
            f"SELECT s.position AS position, {select} FROM {_q(info.name)} AS t CROSS JOIN temp.rmend_keys AS s ON {on}"
        )
        self._run("DROP TABLE temp.rmend_keys")
        return found.sort_by([("position", "ascending"), *((name, "ascending") for name in locators)])

    def _has_index(self, info: TableInfo, key: tuple[str, ...]) -> bool:
        """Whether the key's columns can all be looked up in one index, as SQLite itself plans it."""
        if (info.name, key) not in self._plans:
            where = " AND ".join(f"t.{_q(name)} = ?{i + 1}" for i, name in enumerate(key))
            sql = f"EXPLAIN QUERY PLAN SELECT 1 FROM {_q(info.name)} AS t WHERE {where}"
            plan = self._query(sql, pa.table({f"k{i}": ["x"] for i in range(len(key))}))
            detail = plan["detail"][0].as_py()
            self._plans[info.name, key] = detail.startswith("SEARCH") and detail.count("=?") == len(key)
        return self._plans[info.name, key]

    def _select_list(self, info: TableInfo) -> tuple[str, list[str]]:
        """What to select for full rows, and the names of the locators among it."""
        finders = self._finders(info)
        parts = [f"t.{_q(name)} AS r{i}" for i, name in enumerate(finders)]
        for i, column in enumerate(info.columns):
            if in_parts(column):
                parts += [_form(f"t.{_q(column.name)}", form, f"c{i}_{form}") for form in PARTS]
            else:
                parts.append(f"t.{_q(column.name)} AS c{i}")
        return ", ".join(parts), [f"r{i}" for i in range(len(finders))]

    def _existing(self, info: TableInfo, found: pa.Table, locators: list[str]) -> Existing:
        where_rows = found.select(locators)
        arrays: list[pa.Array] = []
        odd: dict[str, Odd] = {}
        for i, column in enumerate(info.columns):
            parts: pa.Table | None = None
            if in_parts(column):
                parts = typed_parts(found.select([f"c{i}_{form}" for form in PARTS]))
                done = decode_parts(column, parts)
            else:
                stored = one_array(found[f"c{i}"])
                if stored.null_count < len(stored) and stored.type not in expected(column):
                    parts = self._parts(info, column, where_rows)  # values of several forms: read each apart
                    done = decode_parts(column, parts)
                else:
                    done = decode(column, stored)
            arrays.append(done.values)
            if (mask := done.odd()) is not None:
                odd[column.name] = self._odd(info, column, where_rows, parts, done, mask)
        positions = found["position"].to_numpy() if "position" in found.column_names else np.arange(found.num_rows)
        return Existing(positions, pa.table(arrays, names=info.names), where_rows, odd)

    def _parts(self, info: TableInfo, column: Column, locators: pa.Table) -> pa.Table:
        forms = ", ".join(_form(f"t.{_q(column.name)}", form, form) for form in PARTS)
        sql = f"SELECT {forms} FROM {_q(info.name)} AS t WHERE {self._located(info, 1)}"
        return typed_parts(self._query(sql, locators))

    def _odd(
        self, info: TableInfo, column: Column, locators: pa.Table, parts: pa.Table | None, done: Decoded, mask: np.ndarray
    ) -> Odd:
        rows = pa.array(np.flatnonzero(mask))
        raw = self._parts(info, column, locators.take(rows)) if parts is None else parts.take(rows)
        shown = [next((v for v in row.values() if v is not None), None) for row in raw.to_pylist()]
        text = pa.array([v.hex() if isinstance(v, bytes) else str(v) for v in shown], pa.string())
        unreadable = done.unreadable if done.unreadable is not None else np.zeros(len(mask), bool)
        return Odd(mask, unreadable, raw, text)

    def _located(self, info: TableInfo, first: int) -> str:
        return " AND ".join(f"{_q(name)} = ?{first + i}" for i, name in enumerate(self._finders(info)))

    def _finders(self, info: TableInfo) -> list[str]:
        """The columns by which a row is found again: its row number, or the primary key where it has none."""
        if info.name not in self._row_name:
            self.find(info.name)
        row_name = self._row_name[info.name]
        finders = [row_name] if row_name else list(info.primary_key)
        if not finders:
            raise StoreError(f"table {info.name!r} has columns named rowid, oid and _rowid_; rename one of them")
        return finders

    def read(
        self,
        info: TableInfo,
        where: Sequence[Sequence[Condition]] = (),
        newest: str | None = None,
        limit: int | None = None,
    ) -> pa.Table:
        select, locators = self._select_list(info)
        bound: dict[str, pa.Array] = {}
        groups = []
        for group in where:
            either = []
            for one in group:
                column = info[one.column]
                bound[f"p{len(bound)}"] = encode(column, pa.array([one.value], column.type))
                mark = f"?{len(bound)}"
                test = f"instr(t.{_q(column.name)}, {mark}) > 0" if one.op == "contains" else f"t.{_q(column.name)} {one.op} {mark}"
                either.append(test)
            groups.append(f"({' OR '.join(either)})")
        sql = f"SELECT {select} FROM {_q(info.name)} AS t"
        if groups:
            sql += f" WHERE {' AND '.join(groups)}"
        if newest:
            sql += f" ORDER BY t.{_q(newest)} DESC"
        if limit is not None:
            sql += f" LIMIT {int(limit)}"
        rows = self._existing(info, self._query(sql, pa.table(bound) if bound else None), locators).values
        return rows.take(pa.array(np.arange(rows.num_rows)[::-1])) if newest else rows

    def last(self, name: str, column: str) -> int:
        return int(self._rows(f"SELECT coalesce(max({_q(column)}), 0) FROM {_q(name)}")[0][0])

    # -- writing ------------------------------------------------------------------------------------

    def insert(self, info: TableInfo, values: pa.Table, key: Sequence[str]) -> Existing:
        self._insert(info, values)
        left_out = [column for column in info.columns if column.name not in values.column_names]
        if info.triggers or any(column.has_default or column.generated for column in left_out):
            stored = self.fetch(info, values.select(list(key)))
            if stored.values.num_rows != values.num_rows:
                raise StoreError(
                    f"{self._path}: {values.num_rows} rows were inserted into {info.name!r} and "
                    f"{stored.values.num_rows} are found under their keys; a trigger on the table seems to drop or move rows"
                )
            return stored
        count = values.num_rows
        arrays = [
            values[column.name] if column.name in values.column_names else pa.nulls(count, column.type)
            for column in info.columns
        ]
        return Existing(np.arange(count), pa.table(arrays, names=info.names), pa.table({}))

    def _insert(self, info: TableInfo, values: pa.Table) -> None:
        names = values.column_names
        marks = ", ".join(f"?{i + 1}" for i in range(len(names)))
        sql = f"INSERT INTO {_q(info.name)} ({', '.join(map(_q, names))}) VALUES ({marks})"
        self._run(sql, pa.table([encode(info[name], one_array(values[name])) for name in names], names=names))

    def update(self, info: TableInfo, rows: Existing, values: pa.Table) -> Existing:
        names = values.column_names
        sets = ", ".join(f"{_q(name)} = ?{i + 1}" for i, name in enumerate(names))
        bound = [encode(info[name], one_array(values[name])) for name in names] + rows.locators.columns
        labels = [*names, *(f"locator {i}" for i in range(rows.locators.num_columns))]
        self._run(
            f"UPDATE {_q(info.name)} SET {sets} WHERE {self._located(info, len(names) + 1)}", pa.table(bound, names=labels)
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
        for i, name in enumerate(self._finders(info)):
            if name in values.column_names:
                locators = locators.set_column(i, f"r{i}", encode(info[name], one_array(values[name])))
        select, names = self._select_list(info)
        found = self._query(f"SELECT {select} FROM {_q(info.name)} AS t WHERE {self._located(info, 1)}", locators)
        if found.num_rows != locators.num_rows:
            raise StoreError(f"{self._path}: rows of {info.name!r} vanished while they were updated; check its triggers")
        return self._existing(info, found, names)

    def delete(self, info: TableInfo, rows: Existing) -> None:
        self._run(f"DELETE FROM {_q(info.name)} WHERE {self._located(info, 1)}", rows.locators)

    def create(self, info: TableInfo) -> None:
        lines = []
        for column in info.columns:
            line = f"{_q(column.name)} {declare(column)}"
            if (column.name,) == info.primary_key:
                line += " PRIMARY KEY"
            elif not column.nullable:
                line += " NOT NULL"
            if column.one_of:
                line += f" CHECK ({_q(column.name)} IN ({', '.join(map(_text, column.one_of))}))"
            if column.fold:
                line += f" COLLATE {'NOCASE' if column.fold == 'case' else 'RTRIM'}"
            lines.append(line)
        self._run(f"CREATE TABLE {_q(info.name)} ({', '.join(lines)})")
        self._infos.pop(info.name, None)

    def add_columns(self, name: str, columns: Iterable[Column]) -> None:
        for column in columns:
            self._run(f"ALTER TABLE {_q(name)} ADD COLUMN {_q(column.name)} {declare(column)}")
        self._infos.pop(name, None)

    def append(self, info: TableInfo, values: pa.Table, raw: dict[str, Any] | None = None) -> None:
        self._insert(info, values)
        number = info.primary_key[0]
        for name, (positions, cells) in (raw or {}).items():
            bound = cells.append_column("number", values[number].take(pa.array(positions)))
            self._run(
                f"UPDATE {_q(info.name)} SET {_q(name)} = coalesce(?1, ?2, ?3, ?4) WHERE {_q(number)} = ?5", bound
            )

    # -- talking to the driver ----------------------------------------------------------------------

    def _run(self, sql: str, bound: pa.Table | None = None) -> None:
        if bound is not None and not bound.num_rows:
            return
        with _translated(self._path):
            if bound is None:
                self._cursor.execute(sql)
            else:
                self._cursor.executemany(sql, bound)

    def _query(self, sql: str, bound: pa.Table | None = None) -> pa.Table:
        with _translated(self._path):
            self._cursor.adbc_statement.set_options(**_ALL_ROWS)
            self._cursor.execute(sql, None if bound is None else bound.combine_chunks())
            return self._cursor.fetch_arrow_table()

    def _rows(self, sql: str, values: Sequence[str] = ()) -> list[tuple[Any, ...]]:
        bound = pa.table({f"p{i}": [value] for i, value in enumerate(values)}) if values else None
        return [tuple(row.values()) for row in self._query(sql, bound).to_pylist()]


def _form(expression: str, form: str, name: str) -> str:
    return f"CASE typeof({expression}) WHEN '{form}' THEN {expression} END AS {name}"


def _q(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _text(value: str) -> str:
    return "'" + value.replace("'", "''") + "'"
