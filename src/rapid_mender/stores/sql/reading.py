"""How the stores on database servers read: rows are staged, and then looked up with one statement."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterator, Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.types as pt

from ...core.cast import cast, plain
from ...core.existing import Existing, Verbatim
from ...core.hashing import hash_rows
from ...core.keys import one_array
from ...core.row_numbers import NO_ROW, as_indices, no_rows
from ...core.schema import Column, TableInfo
from ...errors import StoreError
from ..contract import ALL, Condition, Normalised, Selection, Where
from .describing import SQLDescribing
from .link import Cells, Described, Form, Pick, Rows, SQLLink, together
from .text import literals

NUMBER = pa.int32()


class SQLReading(SQLDescribing):
    """One transaction on a database server. Writes go on in the background; reads wait for them."""

    slice_rows = 1 << 19  # a page of a large table, once read, is then used for many rows
    number: Form
    """How the number of a staged row is sent."""
    text: Form
    """How a text is sent whatever the column."""

    def close(self) -> None:
        """Wait for all writes to end. Raises the error of one that failed."""
        self._write.drained()
        self._write.close()

    def abandon(self) -> None:
        """Stop at once; cancel what is still running."""
        self._write.close(self.cancel)

    def cancel(self) -> None:
        """Cancel what the connections are doing, from another thread."""
        for link in self._links():
            link.cancel()

    def _links(self) -> list[SQLLink]:
        return [self._write.link]

    # -- what each database spells in its own way -----------------------------------------------------

    @abstractmethod
    def _join(self, table: Described, stage: str, on: str) -> str:
        """FROM … for the rows t of a table that the staged rows s are about."""

    @abstractmethod
    def _contains(self, expression: str, text: str) -> str:
        """A test whether a text contains another, exactly as it is spelled."""

    def _reading(self) -> SQLLink:
        """The link for reading rows that this transaction has not written."""
        return self._reading_link()

    def _reading_link(self) -> SQLLink:
        """The link for asking the database what it makes of values."""
        link: SQLLink = self._write.drained()
        return link

    # -- the way to the database and back ----------------------------------------------------------------

    def _cells(self, table: Described, values: pa.Table) -> list[Cells]:
        return [
            Cells(table.forms[name], to_wire(one_array(values[name]), table.forms[name].wire))
            for name in values.column_names
        ]

    def _rows(self, columns: Sequence[Cells]) -> Rows:
        """Rows of these columns, prepared for sending as far as is possible without the link."""
        return Rows(columns)

    def _between(self, first: int, last: int) -> str:
        """The staged rows s with these numbers and those between."""
        return f"s.c0 {self._op('>=')} {first} AND s.c0 {self._op('<=')} {last}"

    def _numbered(self, columns: Sequence[Cells], count: int | None = None) -> Rows:
        """Rows with their number before them: c0 is the number, c1 the first column, if there is one."""
        count = len(columns[0].values) if count is None else count
        return self._rows([Cells(self.number, pa.array(np.arange(count, dtype=np.int32))), *columns])

    def _picks(self, table: Described, columns: Sequence[Column], of: str = "t.") -> list[Pick]:
        found = self._found(table, columns)
        wanted = [(f"r{i}", *one) for i, one in enumerate(table.locators) if found[i] == f"r{i}"]
        return self._picked([*wanted, *self._columns(table, columns)], of)

    def _columns(self, table: Described, columns: Sequence[Column]) -> list[tuple[str, str, Form]]:
        return [(f"c{i}", self._q(column.name), table.forms[column.name]) for i, column in enumerate(columns)]

    def _picked(self, wanted: Sequence[tuple[str, str, Form]], of: str = "t.") -> list[Pick]:
        return [Pick(form.read.format(f"{of}{sql}"), alias, form.came or form.wire) for alias, sql, form in wanted]

    def _found(self, table: Described, columns: Sequence[Column]) -> list[str]:
        """As what each locator is selected: as one of the columns, if that is read alike, or apart as r0, r1 …"""
        read = {(one.expression, one.wire): one.alias for one in self._picked(self._columns(table, columns))}
        apart = self._picked([(f"r{i}", *one) for i, one in enumerate(table.locators)])
        return [read.get((one.expression, one.wire), one.alias) for one in apart]

    def _existing(
        self, link: SQLLink, table: Described, rows_read: pa.Table, columns: Sequence[Column], by: Sequence[str]
    ) -> Existing:
        """What was selected with `_picks`, in the columns' types. `by`: what the rows were looked up by, and are found
        by again if the table has no locators, or these were not selected."""
        positions = np.arange(rows_read.num_rows)
        if "position" in rows_read.column_names:
            positions = rows_read["position"].to_numpy()
            if (np.diff(positions) < 0).any():
                order = np.argsort(positions, kind="stable")
                rows_read, positions = rows_read.take(pa.array(order)), positions[order]
        arrays, strange = [], {}
        for i, column in enumerate(columns):
            came = plain(rows_read[f"c{i}"])
            if came.type == column.type and not pt.is_temporal(came.type):
                arrays.append(came)
                continue
            values, bad = cast(came, column)
            arrays.append(values)
            if bad is not None and bad.any():
                strange[column.name] = bad
        values = pa.table(arrays, names=[column.name for column in columns])
        found = self._found(table, columns)
        if found and set(found) <= set(rows_read.column_names):
            came = zip(found, table.locators, strict=True)
            read = [cast(rows_read[name], Column("", one.form.wire))[0] for name, one in came]
            locators = pa.table(read, names=[f"r{i}" for i in range(len(read))])
        else:
            cells = self._cells(table, values.select(list(by)))
            locators = pa.table([one.values for one in cells], names=[f"={name}" for name in by])
        verbatim = {name: self._verbatim(link, table, name, locators, mask) for name, mask in strange.items()}
        return Existing(positions.astype(np.int64), values, locators, verbatim)

    def _verbatim(self, link: SQLLink, table: Described, name: str, locators: pa.Table, mask: np.ndarray) -> Verbatim:
        """Cells for which the column's Arrow type has no value, such as infinite dates: as the database writes them."""
        some = locators.filter(pa.array(mask))
        located = self._numbered(self._locating(table, some))
        picks = [Pick("s.c0", "position", NUMBER), Pick(self._spelled(f"t.{self._q(name)}"), "text", pa.string())]
        with link.staged(located) as stage:
            rows = link.select(picks, self._join(table, stage, self._located(table, some)), "s.c0")
        texts = plain(rows.sort_by("position")["text"])
        return Verbatim(mask, mask.copy(), pa.table({"text": texts}), texts)

    @abstractmethod
    def _spelled(self, expression: str) -> str:
        """A value as the text that the database writes for it."""

    def _locating(self, table: Described, locators: pa.Table) -> list[Cells]:
        known = {f"r{i}": one.form for i, one in enumerate(table.locators)}
        return [
            Cells(known.get(name) or table.forms[name[1:]], one_array(locators[name])) for name in locators.column_names
        ]

    def _located(self, table: Described, locators: pa.Table, first: int = 1, of: str = "t") -> str:
        """The condition under which the row t is that of the staged row s, whose locators are c`first` and so on. `of`:
        what else the row is called."""
        tests = []
        for i, name in enumerate(locators.column_names):
            if name.startswith("="):
                column, form = self._q(name[1:]), table.forms[name[1:]]
            else:
                column, form = table.locators[i]
            staged = form.write.format(f"s.c{first + i}")
            same = f"{of}.{column} {form.equals} {staged}"
            if name.startswith("=") and pt.is_string(form.wire):
                same += f" AND {self._to_the_letter(f'{of}.{column}')} {form.equals} {self._to_the_letter(staged)}"
            null = f"({of}.{column} IS NULL AND {staged} IS NULL)"
            tests.append(f"({same} OR {null})" if locators[name].null_count else same)
        return " AND ".join(tests)

    def _to_the_letter(self, expression: str) -> str:
        """A text in a form in which two are equal only if all their letters are, blanks and case too."""
        return expression

    # -- reading ----------------------------------------------------------------------------------------

    def normalise(self, info: TableInfo, values: pa.Table) -> Normalised:
        table = self._described(info)
        refused: dict[str, np.ndarray] = {}
        for place, name in enumerate(values.column_names):
            array = one_array(values[name])
            if array.null_count == len(array):
                continue
            bad = self._cannot_hold(table, info[name], array)
            if table.forms[name].normalises:
                if bad is not None and bad.any():
                    array = pc.if_else(pa.array(bad), pa.scalar(None, array.type), array)
                array, too = self._normalised(table, info[name], array)
                values = values.set_column(place, name, array)
                bad = too if bad is None else bad if too is None else bad | too
            if bad is not None and bad.any():
                refused[name] = bad
        return values, refused

    def _cannot_hold(self, table: Described, column: Column, values: pa.Array) -> np.ndarray | None:
        """A mask of the values that the database has no form for."""
        return None

    def _normalised(self, table: Described, column: Column, values: pa.Array) -> tuple[pa.Array, np.ndarray | None]:
        """Values as the database spells them, and a mask of those that it refuses."""
        form = table.forms[column.name]
        each = values.dictionary_encode()
        link = self._reading_link()
        picks = [
            Pick("s.c0", "n", NUMBER),
            Pick(form.read.format(form.write.format("s.c1")), "value", form.came or form.wire),
        ]
        cells = self._numbered([Cells(form, to_wire(each.dictionary, form.wire))])
        with link.staged(cells) as stage:

            def some(first: int, last: int) -> pa.Table:
                return link.tried(picks, f"FROM {stage} AS s WHERE {self._between(first, last)}", "s.c0")

            parts, _ = link.in_parts(len(each.dictionary), some, lambda error, row: None)
        answer = together(parts, picks)
        spelled = no_rows(len(each.dictionary))
        spelled[answer["n"].to_numpy()] = np.where(answer["value"].is_valid(), np.arange(answer.num_rows), NO_ROW)
        places = as_indices(spelled).take(each.indices)
        bad = np.asarray(pc.and_(pc.is_valid(values), pc.is_null(places)))
        return cast(plain(answer["value"]).take(places), column)[0], bad

    def fold(self, info: TableInfo, keys: pa.Table) -> list[pa.Array]:
        table = self._described(info)
        done = super().fold(info, keys)
        for i, name in enumerate(keys.column_names):
            form = table.forms[name]
            if form.fold is None or not keys.num_rows:
                continue
            each = one_array(keys[name]).dictionary_encode()
            link = self._reading_link()
            picks = [Pick("s.c0", "n", NUMBER), Pick(form.fold.format("s.c1"), "folded", pa.string())]
            with link.staged(self._numbered([Cells(form, each.dictionary)])) as stage:
                answer = link.select(picks, f"FROM {stage} AS s", "s.c0")
            done[i] = plain(answer.sort_by("n")["folded"]).take(each.indices)
        return done

    def fetch(
        self,
        info: TableInfo,
        keys: pa.Table,
        fresh: bool = False,
        only: Condition | None = None,
        by: Sequence[str] = (),
    ) -> Existing:
        return self._fetched(info, keys, fresh, only, by, self._locking())

    def look_up(self, info: TableInfo, keys: pa.Table) -> Existing:
        return self._fetched(info, keys, False, None, (), "")

    def _fetched(
        self, info: TableInfo, keys: pa.Table, fresh: bool, only: Condition | None, by: Sequence[str], locking: str
    ) -> Existing:
        """What `fetch` gives, with the clause that locks the rows."""
        table, names = self._described(info), keys.column_names
        link = self._write.drained() if fresh or info.triggers else self._reading()
        tests = [
            f"t.{self._q(name)} {table.forms[name].equals} {table.forms[name].write.format(f's.c{i}')}"
            for i, name in enumerate(names, 1)
        ]
        tests += [] if only is None else [self._test(table, only)]
        picks = [Pick("s.c0", "position", NUMBER), *self._picks(table, info.columns)]
        indexed = any(columns[0] in names for columns in table.indexes)
        link.expect(indexed)
        with link.staged(self._numbered(self._cells(table, keys))) as stage:
            joins = [" AND ".join(tests)] if indexed else self._apart(table, names, tests)
            parts = [link.select(picks, self._join(table, stage, join), "s.c0", locking) for join in joins]
        rows = parts[0] if len(parts) == 1 else pa.concat_tables(parts).sort_by("position")
        return self._existing(link, table, rows, info.columns, [*names, *by])

    def _apart(self, table: Described, names: Sequence[str], tests: list[str]) -> list[str]:
        """Conditions that together find the rows with some keys, and no row twice: `tests`, one for each name."""
        return [" AND ".join(tests)]

    def _locking(self) -> str:
        """The clause that locks the rows that are read."""
        return ""

    def again(self, info: TableInfo, rows: Existing) -> Existing:
        return self._again(self._write.drained(), info, rows)

    def _again(self, link: SQLLink, info: TableInfo, rows: Existing) -> Existing:
        table = self._described(info)
        picks = [Pick("s.c0", "position", NUMBER), *self._picks(table, info.columns)]
        link.expect(bool(table.locators))
        with link.staged(self._numbered(self._locating(table, rows.locators))) as stage:
            join = self._join(table, stage, self._located(table, rows.locators))
            rows_now = link.select(picks, join, "s.c0", self._locking())
        # of rows that are alike in every column, by which they are located, each meets all
        _, first, which = np.unique(rows_now["position"].to_numpy(), return_index=True, return_inverse=True)
        if len(first) < rows_now.num_rows:
            cells = hash_rows([one_array(rows_now[one.alias]) for one in picks[1:]], 0)
            if (cells != cells[first][which]).any():
                raise StoreError(
                    f"{self.where}: rows of {info.name!r} cannot be told apart after a trigger has changed them; give "
                    "the table a primary key"
                )
            rows_now = rows_now.take(pa.array(first))
        if rows_now.num_rows != rows.locators.num_rows:
            raise StoreError(f"{self.where}: rows of {info.name!r} vanished while they were read; run again")
        by = [name[1:] for name in rows.locators.column_names if name.startswith("=")]
        done = self._existing(link, table, rows_now, info.columns, by)
        return Existing(rows.positions, done.values, done.locators, done.verbatim)

    def count(self, info: TableInfo, where: Where = ()) -> int:
        table, link = self._described(info), self._write.drained()
        picks = [Pick(f"{link.call('count')}(*)", "n", pa.int64())]
        return int(link.select(picks, f"FROM {table.sql} AS t{self._holding(table, where)}")["n"][0].as_py())

    def last(self, name: str, column: str) -> int:
        table, link = self._named(name), self._write.drained()
        picks = [Pick(f"coalesce({link.call('max')}({self._q(column)}), 0)", "n", pa.int64())]
        return int(link.select(picks, f"FROM {table.sql}")["n"][0].as_py())

    def read(self, info: TableInfo, wanted: Selection = ALL) -> Existing:
        table, link = self._described(info), self._write.drained()
        rest = f"FROM {table.sql} AS t{self._holding(table, wanted.where)}"
        if wanted.by:
            rest += f" ORDER BY t.{self._q(wanted.by)}{'' if wanted.first else ' DESC'}"
        if wanted.limit is not None:
            rest += f" LIMIT {int(wanted.limit)}"
        picked = info.columns if wanted.columns is None else info.pick(wanted.columns)
        by, picks = [column.name for column in picked], self._picks(table, picked)
        if wanted.by in by:  # it numbers the rows: that is enough to find them again
            by, picks = [wanted.by], self._picked(self._columns(table, picked))
        rows = link.select(picks, rest)
        if wanted.by and not wanted.first:
            rows = rows.take(pa.array(np.arange(rows.num_rows)[::-1]))
        return self._existing(link, table, rows, picked, by)

    def _holding(self, table: Described, where: Where) -> str:
        """The clause for the rows for which conditions hold."""
        groups = [f"({' OR '.join(self._test(table, one) for one in group)})" for group in where]
        return f" WHERE {' AND '.join(groups)}" if groups else ""

    def _test(self, table: Described, one: Condition) -> str:
        column, form = table.info[one.column], table.forms[one.column]
        expression = f"t.{self._q(one.column)}"
        if one.value is None:
            return f"{expression} IS {'NOT ' if one.op == 'is not null' else ''}NULL"
        literal = self._literal(to_wire(pa.array([one.value], column.type), form.wire))
        if one.op == "contains":
            return self._contains(expression, literal)
        sign = form.equals if one.op == "=" else self._op(one.op)
        return f"{expression} {sign} {form.write.format(literal)}"

    def _literal(self, values: pa.Array) -> str:
        """One value, as SQL writes it."""
        return literals([values], self._write.link.bytes_sql)[0][0]

    def query(self, sql: str) -> Iterator[pa.Table]:
        return self._write.drained().query(sql)  # type: ignore[no-any-return]


def to_wire(values: pa.Array, wire: pa.DataType) -> pa.Array:
    return values if values.type == wire else values.cast(wire)
