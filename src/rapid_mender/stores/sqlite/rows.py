"""The rows of one SQLite table: looking them up by key, reading them by condition, reading their verbatim cells."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.types as pt

from ...core.existing import Existing, Verbatim
from ...core.keys import one_array
from ...core.schema import Column
from ..contract import Condition, Selection, Where
from ..sql.text import name_sql
from .link import Link
from .tables import Described
from .types import (
    PARTS,
    Decoded,
    declare,
    decode,
    decode_parts,
    encode,
    expected,
    form_sql,
    in_parts,
    typed_parts,
)


class Rows:
    """Reads rows of a table over any link to its file."""

    def __init__(self, described: Described) -> None:
        self.info, self.lasts = described.info, described.lasts
        self.finders = described.finders
        """The columns by which a row is found again."""
        self._indexed: dict[tuple[str, ...], bool] = {}
        self._locators = [f"r{i}" for i in range(len(self.finders))]
        self._select = self._selecting(self.info.columns)
        self._from = f"FROM {name_sql(self.info.name)} AS t"

    def _selecting(self, columns: Sequence[Column]) -> str:
        finders = zip(self.finders, self._locators, self._found(columns), strict=True)
        parts = [f"t.{name_sql(name)} AS {own}" for name, own, found in finders if found == own]
        for i, column in enumerate(columns):
            if in_parts(column):
                parts += [form_sql(f"t.{name_sql(column.name)}", form, f"c{i}_{form}") for form in PARTS]
            else:
                parts.append(f"t.{name_sql(column.name)} AS c{i}")
        return ", ".join(parts)

    def _found(self, columns: Sequence[Column]) -> list[str]:
        """As what each finder is selected: as one of the columns, or apart as r0, r1 …"""
        names = {column.name: i for i, column in enumerate(columns)}
        found = [names.get(name) for name in self.finders]
        return [
            own if at is None or in_parts(columns[at]) else f"c{at}"
            for own, at in zip(self._locators, found, strict=True)
        ]

    def located(self, first: int) -> str:
        """The condition that finds one row again; its values are bound from the number `first` on."""
        return " AND ".join(f"{name_sql(name)} = ?{first + i}" for i, name in enumerate(self.finders))

    def again(self, link: Link, locators: pa.Table) -> Existing:
        """The rows at `locators`, as they are now."""
        return self._existing(link, link.query(f"SELECT {self._select} {self._from} WHERE {self.located(1)}", locators))

    def since(self, link: Link, number: int, count: int) -> Existing:
        """The rows, `count` of them, whose number is above `number`, in the order in which they were inserted."""
        name = f"t.{name_sql(self.finders[0])}"
        sql = f"SELECT {self._select} {self._from} WHERE {name} > {number} ORDER BY {name}"
        return self._existing(link, link.query(sql, about=count))

    def page(self, link: Link, columns: Sequence[str], last: pa.Table | None, most: int) -> Existing:
        """The next `most` rows after the locator `last`, in the order of the locators."""
        picked = self.info.pick(columns)
        finders = ", ".join(f"t.{name_sql(name)}" for name in self.finders)
        marks = ", ".join(f"?{i + 1}" for i in range(len(self.finders)))
        where = "" if last is None else f" WHERE ({finders}) > ({marks})"
        sql = f"SELECT {self._selecting(picked)} {self._from}{where} ORDER BY {finders} LIMIT {most}"
        return self._existing(link, link.query(sql, last, most), picked)

    def fetch(self, link: Link, keys: pa.Table, only: Condition | None = None) -> Existing:
        """The rows that have one of `keys`, and for which a condition holds."""
        names = keys.column_names
        bound = {f"k{i}": encode(one_array(keys[name])) for i, name in enumerate(names)}
        also = ""
        if only is not None and only.value is None:
            also = f" AND t.{name_sql(only.column)} IS NULL"
        elif only is not None:
            column = self.info[only.column]
            bound["only"] = encode(pa.repeat(pa.scalar(only.value, column.type), keys.num_rows))
        if self.is_indexed(link, tuple(names)):
            where = " AND ".join(f"t.{name_sql(name)} = ?{i + 2}" for i, name in enumerate(names))
            also = also or (f" AND t.{name_sql(only.column)} = ?{len(names) + 2}" if only is not None else "")
            sql = f"SELECT ?1 AS position, {self._select} {self._from} WHERE {where}{also}"
            rows = link.query(sql, pa.table({"position": np.arange(keys.num_rows), **bound}))
        else:
            every = names if only is None or only.value is None else [*names, only.column]
            rows = self._fetch_by_scan(link, every, bound, also)
        return self._existing(link, rows)

    def _fetch_by_scan(self, link: Link, names: list[str], bound: dict[str, pa.Array], also: str) -> pa.Table:
        """Without an index on the key: one pass over the table, each row looked up among the keys."""
        collation = {"case": "NOCASE", "blanks": "RTRIM", None: "BINARY"}
        bound = {f"k{i}": values for i, values in enumerate(bound.values())}
        types = [f"k{i} {declare(self.info[n])} COLLATE {collation[self.info[n].fold]}" for i, n in enumerate(names)]
        index = ", ".join(bound)
        link.run("DROP TABLE IF EXISTS temp.rmend_keys")
        link.run(f"CREATE TEMP TABLE rmend_keys (position INTEGER, {', '.join(types)})")
        count = len(next(iter(bound.values())))
        marks = ", ".join(f"?{i + 1}" for i in range(len(bound) + 1))
        link.run(f"INSERT INTO temp.rmend_keys VALUES ({marks})", pa.table({"position": np.arange(count), **bound}))
        link.run(f"CREATE INDEX temp.rmend_keys_index ON rmend_keys ({index})")
        on = " AND ".join(f"t.{name_sql(name)} = s.k{i}" for i, name in enumerate(names)) + also
        rows = link.query(
            f"SELECT s.position AS position, {self._select} {self._from} CROSS JOIN temp.rmend_keys AS s ON {on}"
        )
        link.run("DROP TABLE temp.rmend_keys")
        found = self._found(self.info.columns)
        return rows.sort_by([("position", "ascending"), *((name, "ascending") for name in found)])

    def is_indexed(self, link: Link, key: tuple[str, ...]) -> bool:
        """Whether the key's columns can all be looked up in one index, as SQLite itself plans it."""
        if key not in self._indexed:
            where = " AND ".join(f"t.{name_sql(name)} = ?{i + 1}" for i, name in enumerate(key))
            sql = f"EXPLAIN QUERY PLAN SELECT 1 {self._from} WHERE {where}"
            plan = link.query(sql, pa.table({f"k{i}": ["x"] for i in range(len(key))}))
            detail = plan["detail"][0].as_py()
            self._indexed[key] = detail.startswith("SEARCH") and detail.count("=?") == len(key)
        return self._indexed[key]

    def _existing(self, link: Link, rows_read: pa.Table, columns: Sequence[Column] | None = None) -> Existing:
        columns = self.info.columns if columns is None else columns
        where_rows = rows_read.select(self._found(columns)).rename_columns(self._locators)
        arrays: list[pa.Array] = []
        verbatim: dict[str, Verbatim] = {}
        for i, column in enumerate(columns):
            parts: pa.Table | None = None
            if in_parts(column):
                parts = typed_parts(rows_read.select([f"c{i}_{form}" for form in PARTS]))
                done = decode_parts(column, parts)
            else:
                stored = one_array(rows_read[f"c{i}"])
                if stored.null_count < len(stored) and stored.type not in expected(column):
                    parts = self._parts(link, column, where_rows)  # values of several forms: read each apart
                    done = decode_parts(column, parts)
                else:
                    done = decode(column, stored)
            arrays.append(done.values)
            if (mask := done.verbatim()) is not None:
                verbatim[column.name] = self._verbatim(link, column, where_rows, parts, done, mask)
        positions = (
            rows_read["position"].to_numpy() if "position" in rows_read.column_names else np.arange(rows_read.num_rows)
        )
        return Existing(positions, pa.table(arrays, names=[c.name for c in columns]), where_rows, verbatim)

    def _parts(self, link: Link, column: Column, locators: pa.Table) -> pa.Table:
        forms = ", ".join(form_sql(f"t.{name_sql(column.name)}", form, form) for form in PARTS)
        sql = f"SELECT {forms} {self._from} WHERE {self.located(1)}"
        return typed_parts(link.query(sql, locators))

    def _verbatim(
        self,
        link: Link,
        column: Column,
        locators: pa.Table,
        parts: pa.Table | None,
        done: Decoded,
        mask: np.ndarray,
    ) -> Verbatim:
        rows = pa.array(np.flatnonzero(mask))
        raw = self._parts(link, column, locators.take(rows)) if parts is None else parts.take(rows)
        shown = [next((v for v in row.values() if v is not None), None) for row in raw.to_pylist()]
        text = pa.array([v.hex() if isinstance(v, bytes) else str(v) for v in shown], pa.string())
        unreadable = done.unreadable if done.unreadable is not None else np.zeros(len(mask), bool)
        return Verbatim(mask, unreadable, raw, text)

    def count(self, link: Link, where: Where = ()) -> int:
        """The number of rows for which conditions hold."""
        holding, bound = self._holding(where)
        return int(link.query(f"SELECT count(*) AS n {self._from}{holding}", bound)["n"][0].as_py())

    def _holding(self, where: Where) -> tuple[str, pa.Table | None]:
        """The clause for the rows for which conditions hold, and the values that are bound in it."""
        bound: dict[str, pa.Array] = {}
        groups = []
        for group in where:
            either = []
            for one in group:
                column = self.info[one.column]
                if one.value is None:
                    either.append(f"t.{name_sql(column.name)} IS {'NOT ' if one.op == 'is not null' else ''}NULL")
                    continue
                bound[f"p{len(bound)}"] = encode(pa.array([one.value], column.type))
                stored, mark = f"t.{name_sql(column.name)}", f"?{len(bound)}"
                if pt.is_timestamp(column.type):  # a fraction that is zero is not kept, and as texts 01Z is after 01.5Z
                    stored, mark = _moment(stored), _moment(mark)
                either.append(f"instr({stored}, {mark}) > 0" if one.op == "contains" else f"{stored} {one.op} {mark}")
            groups.append(f"({' OR '.join(either)})")
        return f" WHERE {' AND '.join(groups)}" if groups else "", pa.table(bound) if bound else None

    def read(self, link: Link, wanted: Selection) -> Existing:
        """The rows that are wanted of the table."""
        limit, picked = wanted.limit, self.info.columns if wanted.columns is None else self.info.pick(wanted.columns)
        holding, bound = self._holding(wanted.where)
        sql = f"SELECT {self._selecting(picked)} {self._from}{holding}"
        if wanted.by:
            sql += f" ORDER BY t.{name_sql(wanted.by)}{'' if wanted.first else ' DESC'}"
        if limit is not None:
            sql += f" LIMIT {int(limit)}"
        about = limit or 0
        if limit is None and not holding:
            about = self.count(link)
        rows = link.query(sql, bound, about)
        if wanted.by and not wanted.first:
            rows = rows.take(pa.array(np.arange(rows.num_rows)[::-1]))
        return self._existing(link, rows, picked)


def _moment(expression: str) -> str:
    """A time as a text that sorts as it does: with all six digits of its fraction, and without a Z."""
    point = f"CASE instr({expression}, '.') WHEN 0 THEN '.' ELSE '' END"
    return f"substr(rtrim({expression}, 'Z') || {point} || '000000', 1, 26)"
