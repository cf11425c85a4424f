"""One transaction on MariaDB."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import replace
from functools import cached_property

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ...core.existing import Existing
from ...core.hashing import hash_rows
from ...core.keys import one_array
from ...core.masks import mask_of
from ...core.own_tables import BATCHES_TABLE, history_name, stored_names
from ...core.schema import Column, TableInfo
from ..contract import Conflict, Normalised, Refused, nearest
from ..contract.widening import is_narrow
from ..sql.link import FEW_ROWS, PAGE_ROWS, Cells, Described, Pick, Rows, SQLLink
from ..sql.session import Sent, SQLSession
from ..sql.text import text_sql
from .capturing import MariaDBCapturing
from .lines import lines_of
from .link import MariaDBLink
from .tables import NUMBER, TEXT, bytes_in_row, quoted

_MOST_COLUMNS = 1017
_ROW = 65_535
_INDEXED = 700
"""Letters, or bytes, of all texts of a row that an index has room for."""
_SEED = 1
_SOME_VALUE = {pa.string(): "", pa.timestamp("ms", "UTC"): "2000-01-01"}


class MariaDBSession(MariaDBCapturing, SQLSession):
    no_values = "() VALUES ()"
    number, text = NUMBER, TEXT
    indexes_within = True  # which needs no right to make indexes
    slice_rows = 1 << 18  # a slice is in memory as text as well; twice as many are at best a tenth faster

    def normalise(self, info: TableInfo, values: pa.Table) -> Normalised:
        refused: dict[str, np.ndarray] = {}
        for place, name in enumerate(values.column_names):
            column, array = info[name], one_array(values[name])
            if column.width is not None:
                array = _filled(array, column.width)
            elif column.labels or column.members:
                array, bad = _listed(array, column)
                if bad.any():
                    refused[name] = bad
            else:
                continue
            values = values.set_column(place, name, array)
        values, others = super().normalise(info, values)
        return values, others | refused | (self._too_long(values) if values.num_rows else {})

    def take_numbers(self, info: TableInfo, count: int, reserved: int | None = None) -> list[int]:
        link: MariaDBLink = self._write.drained()
        if reserved is not None or not link.marks:
            return [] if reserved is None else [reserved]
        needed = [one for one in info.columns if not one.nullable and not one.has_default]
        names = ", ".join(quoted(one.name) for one in needed)
        values = ", ".join(text_sql(one.one_of[0] if one.one_of else _SOME_VALUE[one.type]) for one in needed)
        link.run("SAVEPOINT rmend_number")
        numbers: list[int] = []
        with suppress(Refused):  # if the counter is behind
            for _ in range(count):
                link.run(f"INSERT INTO {self._described(info).sql} ({names}) VALUES ({values})")
                numbers.append(link.last_number)
        link.run("ROLLBACK TO SAVEPOINT rmend_number")  # the rows are undone again, what has counted is not
        return numbers if len(numbers) == count else []

    def take_turn(self, info: TableInfo) -> None:
        kept = self.find_own(history_name(info.name), info, info.owner)
        if kept is None or not kept.primary_key:
            return
        if not set(stored_names(info, self.fits, {}).values()) <= set(kept.names) or is_narrow(self, info, kept):
            return  # it is to be altered, which waits for whoever has looked at it
        number = f"t.{quoted(kept.primary_key[0])}"
        first = f"FROM {self._described(kept).sql} AS t ORDER BY {number} LIMIT 1 FOR UPDATE"
        self._write.drained().run(f"SELECT {number} {first}")

    def add_index(self, info: TableInfo, name: str, columns: Sequence[str]) -> None:
        link: MariaDBLink = self._write.drained()
        table, picked = self._described(info), info.pick(columns)
        if info.name == BATCHES_TABLE:
            for column in picked:  # as earlier versions made it
                if pa.types.is_string(column.type) and column.length is None:
                    key = link.declare_key(replace(column, declared=None))
                    link.define(f"ALTER TABLE {table.sql} MODIFY {quoted(column.name)} {key} NOT NULL")
            super().add_index(info, name, columns)
            return
        texts = [one for one in picked if pa.types.is_string(one.type) or (one.declared or "").lower().endswith("blob")]
        begin = _INDEXED // max(len(texts), 1)
        parts = [
            f"{quoted(one.name)}({begin})"
            if one in texts and (one.length is None or one.length > begin)
            else quoted(one.name)
            for one in picked
        ]
        link.define(f"CREATE INDEX {quoted(name)} ON {table.sql} ({', '.join(parts)})")

    def _rows(self, columns: Sequence[Cells]) -> Rows:
        rows = Rows(columns)
        if len(rows) > FEW_ROWS:
            rows.packed = lines_of(columns)
        return rows

    def _cannot_hold(self, table: Described, column: Column, values: pa.Array) -> np.ndarray | None:
        if pa.types.is_floating(values.type):
            return mask_of(pc.fill_null(pc.invert(pc.is_finite(values)), False))
        letters = table.extra["letters"].get(column.name)
        if (
            pa.types.is_string(values.type)
            and letters not in (None, "utf8mb4")
            and not table.forms[column.name].normalises
        ):
            return self._unknown_letters(letters, values)
        return None

    def _unknown_letters(self, letters: str, values: pa.Array) -> np.ndarray:
        """A mask of the texts that a character set has no letters for: the server makes question marks of these."""
        beyond = pc.if_else(pc.string_is_ascii(values), pa.scalar(None, values.type), values)
        if beyond.null_count == len(beyond):
            return np.zeros(len(values), bool)
        each, link = beyond.dictionary_encode(), self._reading_link()
        back = f"CONVERT(CONVERT(s.c1 USING {letters}) USING utf8mb4) COLLATE utf8mb4_bin"
        with link.staged(self._numbered([Cells(TEXT, each.dictionary)])) as stage:
            picks = [Pick("s.c0", "n", NUMBER.wire)]
            lost = link.select(picks, f"FROM {stage} AS s WHERE NOT ({back} <=> s.c1 COLLATE utf8mb4_bin)", "s.c0")
        return mask_of(pc.fill_null(pc.is_in(each.indices, lost["n"]), False))

    def _too_long(self, values: pa.Table) -> dict[str, np.ndarray]:
        """By the longest column of each: a mask of the rows that the server could not give back in one packet.

        The history has a row twice, and so half a packet is what a row may have.
        """
        link: MariaDBLink = self._reading_link()  # type: ignore[assignment]
        room = link.packet // 2 - 1024
        if values.nbytes * 2 < room:
            return {}
        sizes = {}
        for name in values.column_names:
            array = one_array(values[name])
            size = pa.repeat(40, len(array))
            if pa.types.is_string(array.type):
                size = pc.add(pc.binary_length(array), pc.count_substring(array, '"'))
            elif pa.types.is_binary(array.type):
                size = pc.multiply(pc.binary_length(array), 2)
            sizes[name] = np.asarray(pc.fill_null(size, 0)).astype(np.int64)
        every = np.stack(list(sizes.values()))
        over, longest = every.sum(axis=0) > room, every.argmax(axis=0)
        return {name: over & (longest == i) for i, name in enumerate(sizes) if (over & (longest == i)).any()}

    def _locking(self) -> str:
        return " FOR UPDATE" if self._writes else ""

    def _apart(self, table: Described, names: Sequence[str], tests: list[str]) -> list[str]:
        """Where no index helps the server hashes the rows, blanks at the end too, although it holds these equal: so
        rows with such blanks are looked for apart."""
        padded = [at for at, name in enumerate(names) if table.info[name].fold == "blanks"]
        if not padded:
            return super()._apart(table, names, tests)
        blank = " OR ".join(f"t.{quoted(names[at])} LIKE '% '" for at in padded)
        bare = "TRIM(TRAILING ' ' FROM {})"

        def joined(column: str) -> str:
            each = list(tests)
            for at in padded:
                sent = table.forms[names[at]].write.format(f"s.c{at + 1}")
                each[at] = f"{column.format(f't.{quoted(names[at])}')} = {bare.format(sent)}"
            return " AND ".join(each)

        return [f"{joined('{}')} AND NOT ({blank})", f"{joined(bare)} AND ({blank})"]

    def scan(
        self, info: TableInfo, columns: Sequence[str], fresh: bool = False, key: Sequence[str] = ()
    ) -> Iterator[Existing]:
        table, picked = self._described(info), info.pick(columns)
        link: MariaDBLink = self._write.drained()
        if not table.locators and key:  # found again by all that it holds
            rows = link.select(self._picks(table, info.columns), f"FROM {table.sql} AS t")
            every = self._existing(link, table, rows, info.columns, info.names)
            verbatim = {name: cells for name, cells in every.verbatim.items() if name in columns}
            yield Existing(every.positions, every.values.select(list(columns)), every.locators, verbatim)
            return
        picks = self._picks(table, picked)
        if not table.locators:
            yield self._existing(link, table, link.select(picks, f"FROM {table.sql} AS t"), picked, key)
            return
        order = ", ".join(f"t.{sql}" for sql, _ in table.locators)
        after = ""
        while True:
            rest = f"FROM {table.sql} AS t{after} ORDER BY {order} LIMIT {PAGE_ROWS}"
            page = self._existing(link, table, link.select(picks, rest), picked, key)
            count = page.locators.num_rows
            if count:
                yield page
            if count < PAGE_ROWS:
                return
            after = f" WHERE {self._after(table, page.locators.slice(count - 1))}"

    def _after(self, table: Described, last: pa.Table) -> str:
        """The rows behind a locator, in the words from which the server sees that an index helps."""
        tests, same = [], ""
        for (sql, form), name in zip(table.locators, last.column_names, strict=True):
            value = form.literal.format(self._literal(last[name].combine_chunks()))
            tests.append(f"({same}t.{sql} > {value})")
            same += f"t.{sql} = {value} AND "
        return f"({' OR '.join(tests)})"

    def _updating(self, table: Described, sets: Mapping[str, str], stage: str, where: str) -> str:
        listed = ", ".join(f"t.{quoted(name)} = {value}" for name, value in sets.items())
        return f"UPDATE {stage} AS s STRAIGHT_JOIN {table.sql} AS t ON {where} SET {listed}"

    def _deleting(self, table: Described, stage: str, where: str) -> str:
        return f"DELETE t FROM {stage} AS s STRAIGHT_JOIN {table.sql} AS t ON {where}"

    def _delete(self, link: SQLLink, table: Described, locators: pa.Table, stage: str, within: str) -> int:
        """Of rows that are alike in all that they are located by, as many go as are staged."""
        if table.locators:
            return super()._delete(link, table, locators, stage, within)
        picks = [Pick("s.c0", "n", NUMBER.wire), Pick("COUNT(*)", "copies", pa.int64())]
        found = link.select(
            picks, f"{self._join(table, stage, self._located(table, locators))} WHERE {within} GROUP BY s.c0"
        )
        staged, copies = (found[name].to_numpy() for name in ("n", "copies"))
        if (copies == 1).all():
            return super()._delete(link, table, locators, stage, within)
        same = hash_rows([one_array(column.take(pa.array(staged))) for column in locators.columns], _SEED)
        _, first, which, alike = np.unique(same, return_index=True, return_inverse=True, return_counts=True)
        fewer = alike < copies[first]
        some = staged[fewer[which]].tolist()
        rest = f"{within} AND s.c0 NOT IN ({', '.join(map(str, some))})" if some else within
        done = super()._delete(link, table, locators, stage, rest)
        where = self._located(table, locators, of=table.sql)
        for number, count in zip(staged[first[fewer]].tolist(), alike[fewer].tolist(), strict=True):
            like = f"EXISTS (SELECT 1 FROM {stage} AS s WHERE s.c0 = {number} AND {where})"
            done += link.run(f"DELETE FROM {table.sql} WHERE {like} LIMIT {count}")
        return done

    def _to_the_letter(self, expression: str) -> str:
        return f"CAST(CONVERT({expression} USING utf8mb4) AS BINARY)"

    def _join(self, table: Described, stage: str, on: str) -> str:
        return f"FROM {stage} AS s STRAIGHT_JOIN {table.sql} AS t ON {on}"

    def _contains(self, expression: str, text: str) -> str:
        return f"LOCATE({text} COLLATE utf8mb4_bin, {expression}) > 0"

    def _raise_conflict(self, link: SQLLink, sent: Sent, error: Refused, stage: str, row: int) -> None:
        columns = sent.table.extra["indexes"].get(error.constraint)
        if error.unique and columns and set(columns) == set(sent.key):
            raise Conflict(f"{self.where}: another program wrote the same key meanwhile ({error.reason})")

    def _spelled(self, expression: str) -> str:
        return f"CAST({expression} AS CHAR) COLLATE utf8mb4_bin"

    def _unspelled(self, expression: str, table: Described, name: str) -> str:
        return expression

    def unseen(self, name: str) -> str | None:
        return f"{nearest(name, self.tables(), 'tables')}; a table on which this user has no right is not seen"

    def _lacks(self, place: tuple[str, str], verbs: frozenset[str], table: Described | None) -> list[str]:
        wanted = sorted(verbs | (frozenset() if table is not None else {"create"}))
        lacks = [verb.upper() for verb in wanted if not self._may(verb, place)]
        return [f"GRANT {', '.join(lacks)} ON {'.'.join(map(quoted, place))} TO {self._me}"] if lacks else []

    def _lacks_temporary(self) -> list[str]:
        schema = self._write.drained().schema
        if self._may("create temporary tables", (schema, "")):
            return []
        return [f"GRANT CREATE TEMPORARY TABLES ON {quoted(schema)}.* TO {self._me}"]

    @cached_property
    def _me(self) -> str:
        """The user, as GRANT writes it."""
        at = "SUBSTRING_INDEX(CURRENT_USER(), '@', -1)"
        user = f"LEFT(CURRENT_USER(), CHAR_LENGTH(CURRENT_USER()) - CHAR_LENGTH({at}) - 1)"
        return str(self._says(f"CONCAT(QUOTE({user}), '@', QUOTE({at}))"))

    def _may(self, verb: str, place: tuple[str, str]) -> bool:
        """Whether the user has a right to a table; what a role gives is not looked at, but taken for granted."""
        of = f"GRANTEE = {text_sql(self._me)} AND PRIVILEGE_TYPE = {text_sql(verb.upper())}"
        schema, table = map(text_sql, place)
        tables = ("SCHEMA_PRIVILEGES", f"{schema} LIKE TABLE_SCHEMA"), (
            "TABLE_PRIVILEGES", f"TABLE_SCHEMA = {schema} AND TABLE_NAME = {table}"
        )  # fmt: skip
        some = [f"EXISTS (SELECT 1 FROM information_schema.{name} WHERE {of} AND {at})" for name, at in tables]
        every = f"EXISTS (SELECT 1 FROM information_schema.USER_PRIVILEGES WHERE {of})"
        return self._says(f"IF(CURRENT_ROLE() IS NOT NULL OR {every} OR {' OR '.join(some)}, 'y', 'n')") == "y"

    def cannot_make(self, info: TableInfo) -> str | None:
        if len(info.columns) > _MOST_COLUMNS:
            return f"it would have {len(info.columns):,} columns, and InnoDB has {_MOST_COLUMNS:,} at most"
        size = sum(bytes_in_row(column) for column in info.columns)
        if size > _ROW:
            return f"a row of it could take {size:,} bytes, and MariaDB allows {_ROW:,}; make its texts TEXT"
        return None

    def _making(self) -> str:
        return " ENGINE = InnoDB"  # the server's default may be one that cannot undo

    def _numbering(self) -> str:
        return " AUTO_INCREMENT"


def _filled(values: pa.Array, width: int) -> pa.Array:
    """Bytes filled up with zeros, as a column of a fixed number of bytes keeps them."""
    lengths = pc.fill_null(pc.binary_length(values), width)
    lacking = pc.max_element_wise(pc.subtract(width, lengths), 0)
    zeros = pa.array([b"\0" * n for n in range(width + 1)], pa.binary()).take(lacking)
    return pc.binary_join_element_wise(values, zeros, b"")


def _listed(values: pa.Array, column: Column) -> tuple[pa.Array, np.ndarray]:
    """Values of an ENUM or a SET as their type spells them, and a mask of those that it does not have."""
    each = values.dictionary_encode()
    known = {label.lower().rstrip(): label for label in column.labels or column.members}

    def spelled(text: str | None) -> str | None:
        if column.labels:
            return known.get((text or "").lower().rstrip())
        wanted = {known.get(one.lower().rstrip()) for one in (text or "").split(",") if one}
        return None if None in wanted else ",".join(one for one in column.members if one in wanted)

    done = pa.array([spelled(text) for text in each.dictionary.to_pylist()], pa.string()).take(each.indices)
    return done, mask_of(pc.and_(pc.is_valid(values), pc.is_null(done)))
