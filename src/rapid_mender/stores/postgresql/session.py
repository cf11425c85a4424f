"""One transaction on PostgreSQL."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any, NamedTuple

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ...core.existing import Existing
from ...core.keys import one_array
from ...core.masks import mask_of
from ...core.schema import Column, TableInfo
from ...errors import StoreError
from ..contract import Conflict, Refused, Written
from ..sql.link import PAGE_ROWS, Cells, Described, Form, Pick, SQLLink
from ..sql.session import Sent, SQLSession
from ..sql.text import name_sql, text_sql
from .capturing import PostgreSQLCapturing
from .catalog import op
from .link import PostgreSQLLink
from .tables import NUMBER, TEXT

BEGIN = "BEGIN ISOLATION LEVEL REPEATABLE READ"
_MOST_COLUMNS = 1600
_FIRST_BLOCKS, _MOST_BLOCKS = 256, 1 << 16
_COUNTED = 10_000
"""A sequence that is at most this far behind is advanced value by value; further behind, nobody else can catch up
meanwhile."""
_PAGE = 8160
_LONG = ("text", "character varying", "bytea")
_SHORT = 500  # letters, of which an entry of a B-tree can hold several times as many
_POINTER = 18  # bytes that a long value leaves on its page


def _bytes(kind: pa.DataType) -> int:
    """How many bytes of a page a value takes at least, where all values take as many."""
    if pa.types.is_boolean(kind):
        return 1
    return kind.bit_width // 8 if pa.types.is_primitive(kind) else 0


def _may_be_long(column: Column) -> bool:
    limit = column.length if column.length is not None else _SHORT + 1
    return (column.declared or "").startswith(_LONG) and limit > _SHORT


class _Brought(NamedTuple):
    """Values that rows brought for a column which a sequence counts for."""

    sequence: int
    most: int
    values: pa.Array
    written: Written


class PostgreSQLSession(PostgreSQLCapturing, SQLSession):
    keys_later = True
    number, text = NUMBER, TEXT
    returns_updates = True

    def __init__(
        self,
        link: PostgreSQLLink,
        known: dict[TableInfo, Described],
        connect: Callable[[], PostgreSQLLink],
        write: bool,
        trusts_owners: bool,
    ) -> None:
        """`connect` makes another connection, which the session closes."""
        super().__init__(link, known, write, trusts_owners)
        self._connect = connect
        self._reader: PostgreSQLLink | None = None
        self._looks = 0
        self._beside = 0
        self._checked: list[str] = []
        """The constraints that are checked at once in this transaction, and else at the commit."""
        self._scans = 0
        self._brought: list[_Brought] = []
        self._counted: dict[TableInfo, list[dict[str, Any]]] = {}

    def close(self) -> None:
        super().close()
        self._bring_up()
        self._let_reader_go()

    def abandon(self) -> None:
        super().abandon()
        self._let_reader_go()

    def _let_reader_go(self) -> None:
        if self._reader is not None:
            self._reader.close()
            self._reader = None

    def _links(self) -> list[SQLLink]:
        return [*super()._links(), *([self._reader] if self._reader is not None else [])]

    def _reading(self) -> SQLLink:
        self._looks += 1
        if not self._writes or self._looks == 1:
            return super()._reading()
        if self._reader is None and self._looks == 2:  # the batch is worth a second connection
            link: PostgreSQLLink = self._write.drained()
            snapshot = link.select([Pick("pg_catalog.pg_export_snapshot()", "id", pa.string())], "")["id"][0].as_py()
            try:
                self._reader = self._connect()
                self._reader.run(BEGIN)
                self._reader.run(f"SET TRANSACTION SNAPSHOT {text_sql(snapshot)}")
            except StoreError:  # no more connections are to be had
                self._let_reader_go()
        return self._reader or super()._reading()

    def _reading_link(self) -> SQLLink:
        return self._reader or super()._reading_link()

    def insert(self, info: TableInfo, values: pa.Table, key: Sequence[str]) -> Written:
        mine = {column.name for column in info.columns if column.has_default}
        if self._brought and not mine <= set(values.column_names):  # values are to be made
            self._bring_up()
        written = super().insert(info, values, key)
        for one in self._sequences(info) if mine & set(values.column_names) else ():
            if one["may"] and one["column"] in values.column_names:
                self._brought.append(_Brought(one["oid"], one["most"], one_array(values[one["column"]]), written))
        return written

    def _sequences(self, info: TableInfo) -> list[dict[str, Any]]:
        """What counts for the columns of a table."""
        if info not in self._counted:
            link: PostgreSQLLink = self._reading_link()  # type: ignore[assignment]
            self._counted[info] = link.sequences(int(self._described(info).info.identity))
        return self._counted[info]

    def take_numbers(self, info: TableInfo, count: int, reserved: int | None = None) -> list[int]:
        if reserved is not None:
            return [reserved]
        table, link = self._described(info), self._write.drained()
        column = name_sql(info.primary_key[0])
        counter = f"pg_catalog.pg_get_serial_sequence({text_sql(table.sql)}, {text_sql(info.primary_key[0])})"
        may = "pg_catalog.has_sequence_privilege(c.counter, 'UPDATE')"
        picks = [
            Pick(f"CASE WHEN {may} THEN pg_catalog.nextval(c.counter::pg_catalog.regclass) END", "next", pa.int64()),
            Pick(f"(SELECT {link.call('max')}(t.{column}) FROM {table.sql} AS t)", "last", pa.int64()),
        ]
        each = f", pg_catalog.generate_series(1, {count})" if count > 1 else ""
        taken = link.select(picks, f"FROM (SELECT {counter} AS counter) AS c{each}").to_pylist()
        sound = all(one["next"] is not None and one["next"] > (one["last"] or 0) for one in taken)
        return sorted(one["next"] for one in taken) if sound else []

    def behind(self, info: TableInfo) -> list[tuple[str, str]]:
        return [(one["column"], one["name"]) for one in self._sequences(info) if not one["may"]]

    def _bring_up(self) -> None:
        """Bring sequences up to the values that rows brought of their own, so that none is made twice.

        What a sequence has counted stays so if the transaction is undone.
        """
        if not self._brought:
            return
        highest: dict[tuple[int, int], int] = {}
        for one in self._brought:
            values = one.values
            if one.written.refusals():
                values = values.filter(pa.array(one.written.landed(len(values))))
            top = pc.max(values).as_py()
            highest[one.sequence, one.most] = max(int(top or 0), highest.get((one.sequence, one.most), 0))
        self._brought.clear()
        link = self._write.drained()
        for (sequence, most), top in highest.items():
            at = f"{sequence}::pg_catalog.oid::pg_catalog.regclass"
            last = f"coalesce(pg_catalog.pg_sequence_last_value({at}), 0)"
            ahead = top - int(link.select([Pick(last, "n", pa.int64())], "")["n"][0].as_py())
            if 0 < ahead <= _COUNTED:  # counting is safe beside others who count
                link.run(f"SELECT pg_catalog.nextval({at}) FROM pg_catalog.generate_series(1, {ahead})")
            elif ahead > 0 and top < most:
                link.run(f"SELECT pg_catalog.setval({at}, {top})")

    def hold(self, info: TableInfo) -> None:
        table, link = self._described(info), self._write.drained()
        if table.locators:  # after TRUNCATE, or an ALTER TABLE that rewrites it, a table is empty in older snapshots
            link.run("COMMIT AND CHAIN")  # the next snapshot is taken after the lock
            link.run(f"LOCK TABLE {table.sql} IN ACCESS SHARE MODE")

    def scan(
        self, info: TableInfo, columns: Sequence[str], fresh: bool = False, key: Sequence[str] = ()
    ) -> Iterator[Existing]:
        table, picked = self._described(info), info.pick(columns)
        link: PostgreSQLLink = self._write.drained()
        blocks = link.blocks(int(info.identity)) if table.locators else None
        if blocks is not None:
            for page in self._by_blocks(link, table, picked, blocks):
                yield self._existing(link, table, page, picked, key)
            return
        listed = ", ".join(f"{one.expression} AS {one.alias}" for one in self._picks(table, picked))
        self._scans += 1
        cursor = f"rmend_scan_{self._scans}"  # an earlier one may not have come to its end
        link.run(f"DECLARE {cursor} NO SCROLL CURSOR FOR SELECT {listed} FROM {table.sql} AS t")
        while (page := link.fetch_next(cursor, PAGE_ROWS)).num_rows:
            yield self._existing(link, table, page, picked, key)
        link.run(f"CLOSE {cursor}")

    def add_key(self, info: TableInfo, columns: Sequence[str]) -> None:
        listed = ", ".join(map(name_sql, columns))
        self._write.drained().define(f"ALTER TABLE {self._described(info).sql} ADD PRIMARY KEY ({listed})")

    def _by_blocks(
        self, link: PostgreSQLLink, table: Described, columns: Sequence[Column], blocks: int
    ) -> Iterator[pa.Table]:
        """All rows, some at a time: so many blocks that they have about as many rows as a page."""
        first, count, picks = 0, _FIRST_BLOCKS, self._picks(table, columns)
        while first < blocks:
            bounds = ((">=", first), ("<", first + count))
            tests = [f"t.ctid {op(sign)} '({place},0)'::pg_catalog.tid" for sign, place in bounds]
            page = link.select(picks, f"FROM {table.sql} AS t WHERE {' AND '.join(tests)}")
            first += count
            count = min(count * PAGE_ROWS // max(page.num_rows, 1), count * 4, _MOST_BLOCKS) or 1
            if page.num_rows:
                yield page

    def _cannot_hold(self, table: Described, column: Column, values: pa.Array) -> np.ndarray | None:
        if not pa.types.is_string(values.type):
            return None
        bad = mask_of(pc.fill_null(pc.match_substring(values, "\x00"), False))
        link: PostgreSQLLink = self._reading_link()  # type: ignore[assignment]
        if link.encoding not in ("UTF8", "SQL_ASCII"):
            bad |= self._unknown_letters(link, values)
        return bad

    def _unknown_letters(self, link: PostgreSQLLink, values: pa.Array) -> np.ndarray:
        """A mask of the texts that the encoding of the database has no letters for."""
        beyond = pc.if_else(pc.string_is_ascii(values), pa.scalar(None, values.type), values)
        if beyond.null_count == len(beyond):
            return np.zeros(len(values), bool)
        each = beyond.dictionary_encode()
        form = Form(pa.binary(), "pg_catalog.bytea", "{}::pg_catalog.bytea")
        known = f"pg_catalog.length(pg_catalog.convert(s.c1, 'UTF8', {text_sql(link.encoding)}))"
        picks = [Pick("s.c0", "n", NUMBER.wire), Pick(known, "length", NUMBER.wire)]
        with link.staged(self._numbered([Cells(form, each.dictionary.cast(pa.binary()))])) as stage:

            def some(first: int, last: int) -> pa.Table:
                return link.tried(picks, f"FROM {stage} AS s WHERE {self._between(first, last)}", "s.c0")

            unknown = link.in_parts(len(each.dictionary), some, lambda error, row: None)[1]
        return mask_of(pc.fill_null(pc.is_in(each.indices, pa.array(list(unknown), pa.int32())), False))

    def _updating(self, table: Described, sets: Mapping[str, str], stage: str, where: str) -> str:
        listed = ", ".join(f"{name_sql(name)} = {value}" for name, value in sets.items())
        return f"UPDATE {table.sql} AS t SET {listed} FROM {stage} AS s WHERE {where}"

    def _deleting(self, table: Described, stage: str, where: str) -> str:
        return f"DELETE FROM {table.sql} AS t USING {stage} AS s WHERE {where}"

    def _join(self, table: Described, stage: str, on: str) -> str:
        return f"FROM {stage} AS s JOIN {table.sql} AS t ON {on}"

    def _contains(self, expression: str, text: str) -> str:
        return f"pg_catalog.strpos({expression}::pg_catalog.text, {text}) {op('>')} 0"

    def _raise_conflict(self, link: SQLLink, sent: Sent, error: Refused, stage: str, row: int) -> None:
        if not error.unique:
            return
        table, known = sent.table, sent.table.extra["unique"]
        # the constraints of a partition have names of their own
        partition = len(table.locators) > 1 and error.constraint not in known
        meant = known.values() if partition else [known.get(error.constraint, ())]
        told = [columns for columns in meant if columns and set(columns) <= set(sent.names)]
        if not told:
            return  # an index over an expression, or a column that was not sent: nothing tells who was first
        for columns in told:
            staged = {name: f"s.c{sent.names.index(name) + 1}" for name in columns}
            forms = table.forms
            same = " AND ".join(
                f"t.{name_sql(n)} {forms[n].equals} {forms[n].write.format(s)}" for n, s in staged.items()
            )
            rest = self._join(table, stage, f"s.c0 {op('=')} {row} AND {same}")
            if link.select([Pick("pg_catalog.count(*)", "n", pa.int64())], rest)["n"][0].as_py():
                return
        raise Conflict(f"{self.where}: another program wrote the same key meanwhile ({error.reason})")

    def _check_at_once(self, link: SQLLink, table: Described) -> None:
        if deferred := [name for name in table.extra["deferred"] if name not in self._checked]:
            self._check_now(link, deferred)

    def _check_now(self, link: SQLLink, constraints: list[str]) -> None:
        """Have constraints checked at once from now on. Raises Refused if something breaks one already."""
        link.run(f"SET CONSTRAINTS {', '.join(constraints)} IMMEDIATE")
        self._checked += constraints

    @contextmanager
    def _watched(self, link: SQLLink, table: Described) -> Iterator[list[int]]:
        seen: list[int] = []
        if not table.info.triggers:
            yield seen
            return
        before = self._touched(link, table)
        yield seen
        self._beside += max(self._touched(link, table) - before - sum(seen), 0)

    def _touched(self, link: SQLLink, table: Described) -> int:
        """How many rows of a table this transaction has inserted, updated or deleted so far."""
        counted = f" {op('+')} ".join(
            f"pg_catalog.pg_stat_get_xact_tuples_{how}(oid)" for how in ("inserted", "updated", "deleted")
        )
        at = f"{table.info.identity}::pg_catalog.oid"
        tree = f"SELECT relid::pg_catalog.oid FROM pg_catalog.pg_partition_tree({at}::pg_catalog.regclass)"
        rest = f"FROM (SELECT DISTINCT oid FROM (SELECT {at} UNION ALL {tree}) AS every (oid)) AS part"
        picks = [Pick(f"coalesce(pg_catalog.sum({counted}), 0)::pg_catalog.int8", "n", pa.int64())]
        return int(link.select(picks, rest)["n"][0].as_py())

    def _afterwards(
        self, table: Described, stored: Existing, key: Sequence[str], were: pa.Table | None = None
    ) -> Existing:
        if were is not None and "r1" in were.column_names:  # a row that moves to another partition counts twice
            self._recorded(pc.not_equal(were["r1"], stored.locators["r1"]))
        if not table.extra["after"] or not key or not len(stored.positions):
            return stored
        now = self.fetch(table.info, stored.values.select(list(key)), fresh=True)
        if now.values.num_rows != stored.values.num_rows:
            raise StoreError(
                f"{self.where}: {stored.values.num_rows} rows of {table.info.name!r} were written and "
                f"{now.values.num_rows} are found under their keys; a trigger on the table seems to delete or move rows"
            )
        if table.locators:  # what a trigger did to the row itself is in the history
            self._recorded(pc.not_equal(now.locators["r0"], stored.locators["r0"]))
        now.positions = stored.positions
        return now

    def _recorded(self, rows: pa.ChunkedArray) -> None:
        """Take so many off the changes that were counted: they are recorded after all."""
        self._beside = max(self._beside - int(pc.sum(rows).as_py() or 0), 0)

    def unrecorded(self, info: TableInfo) -> int:
        link, table = self._write.drained(), self._described(info)
        if table.extra["late"]:
            with self._watched(link, table) as seen:
                link.run("SET CONSTRAINTS ALL IMMEDIATE")
                seen.append(0)
        beside, self._beside = self._beside, 0
        return beside

    def unseen(self, name: str) -> str | None:
        link: PostgreSQLLink = self._write.drained()
        schema = link.schema_that_hides(name)
        if schema is None:
            return None
        return (
            f"schema {schema!r} has one, but this user may not use the schema: GRANT USAGE ON SCHEMA {name_sql(schema)}"
        )

    def _lacks(self, place: tuple[str, str], verbs: frozenset[str], table: Described | None) -> list[str]:
        to = f"TO {self._says('pg_catalog.quote_ident(current_user)::pg_catalog.text')}"
        if table is not None:
            lacks = sorted(verbs - (table.info.rights or frozenset()))
            return [f"GRANT {', '.join(lacks).upper()} ON {table.sql} {to}"] if lacks else []
        may = self._says(f"pg_catalog.has_schema_privilege({text_sql(place[0])}, 'CREATE')::pg_catalog.text")
        return [] if may == "true" else [f"GRANT CREATE ON SCHEMA {name_sql(place[0])} {to}"]

    def _lacks_temporary(self) -> list[str]:
        here = "pg_catalog.current_database()"
        if self._says(f"pg_catalog.has_database_privilege({here}, 'TEMPORARY')::pg_catalog.text") == "true":
            return []
        at, to = (self._says(f"pg_catalog.quote_ident({one})::pg_catalog.text") for one in (here, "current_user"))
        return [f"GRANT TEMPORARY ON DATABASE {at} TO {to}"]

    def add_index(self, info: TableInfo, name: str, columns: Sequence[str]) -> None:
        """An entry of a B-tree holds 2,704 bytes at most, and a longer value could not be written. So each column of
        texts or bytes without a limit has a hash index of its own."""
        link, table = self._write.drained(), self._described(info)
        hashed = [one.name for one in info.pick(columns) if _may_be_long(one)]
        if not hashed:
            super().add_index(info, name, columns)
            return
        sorted_ = [one for one in columns if one not in hashed]
        parts = [f"USING hash ({name_sql(one)})" for one in hashed]
        if len(sorted_) > 1:  # the last is the number of the change
            parts.append(f"({', '.join(map(name_sql, sorted_))})")
        for at, part in enumerate(parts):
            link.define(f"CREATE INDEX {name_sql(f'{name}_{at}' if at else name)} ON {table.sql} {part}")

    def cannot_make(self, info: TableInfo) -> str | None:
        if len(info.columns) > _MOST_COLUMNS:
            return f"it would have {len(info.columns):,} columns, and PostgreSQL has {_MOST_COLUMNS:,} at most"
        fixed = sum(_bytes(column.type) for column in info.columns)
        if fixed > _PAGE:
            return f"a row of it could take {fixed:,} bytes, and {_PAGE:,} fit on a page of PostgreSQL"
        return None

    def tight(self, info: TableInfo) -> str | None:
        most = sum(_bytes(column.type) or _POINTER for column in info.columns)
        if most > _PAGE:
            return f"a row without empty columns takes up to {most:,} bytes, and {_PAGE:,} fit on a page of PostgreSQL"
        return None

    def _spelled(self, expression: str) -> str:
        return f"{expression}::pg_catalog.text"

    def _unspelled(self, expression: str, table: Described, name: str) -> str:
        return f"{expression}::{table.info[name].declared}"

    def _numbering(self) -> str:
        return " GENERATED BY DEFAULT AS IDENTITY"
