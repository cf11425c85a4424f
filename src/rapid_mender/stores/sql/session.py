"""What the stores on database servers share: rows are staged, and then read or written with one statement.

A store of its own brings a link (`SQLLink`) and the few statements that its SQL spells in its own way.
"""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import Future
from contextlib import contextmanager
from dataclasses import replace
from typing import Any, NamedTuple, TypeVar

import numpy as np
import pyarrow as pa

from ...core.existing import Existing
from ...core.keys import one_array
from ...core.schema import Column, TableInfo
from ...errors import StoreError
from ..contract import KEPT, Load, Refusals, Refused, Written
from .capturing import SQLCapturing
from .link import FEW_ROWS, Cells, Described, Pick, Rows, SQLLink, together
from .reading import NUMBER
from .text import text_sql

_T = TypeVar("_T")


class Sent(NamedTuple):
    """What staged rows are for: the table, which of its columns are staged first, and the key of the merge."""

    table: Described
    names: Sequence[str] = ()
    key: Sequence[str] = ()


def _can_load(columns: Sequence[Cells], few: int) -> bool:
    """Whether rows can be loaded straight into their table, and they are more than a `few`, which is worth while."""
    return len(columns[0].values) > few and all(one.form.loads for one in columns)


def _patterns(
    verbatim: Mapping[str, tuple[np.ndarray, pa.Table]], keep: np.ndarray
) -> Iterator[tuple[np.ndarray, dict[str, pa.Array]]]:
    """The places of rows that are kept, those together that have verbatim cells in the same columns; and by column the
    texts of these cells."""
    which = np.zeros((len(keep), len(verbatim)), bool)
    for place, (places, _) in enumerate(verbatim.values()):
        which[places, place] = True
    patterns, pattern_of = np.unique(which, axis=0, return_inverse=True)
    for number, pattern in enumerate(patterns):
        mine = np.flatnonzero(keep & (pattern_of.reshape(-1) == number))
        texts = {}
        for has, (name, (places, cells)) in zip(pattern, verbatim.items(), strict=True):
            if has:
                order = np.argsort(places)
                at = order[np.searchsorted(places[order], mine)]
                texts[name] = one_array(cells["text"].take(pa.array(at)))
        yield mine, texts


class SQLSession(SQLCapturing):
    """One transaction on a database server. Writes go on in the background; reads wait for them."""

    many_writers = True
    returns_updates = False
    """An UPDATE can give back the rows that it wrote."""
    no_values = "DEFAULT VALUES"
    """What an INSERT says for a row whose every column the database fills."""

    # -- what each database spells in its own way -----------------------------------------------------

    @abstractmethod
    def _updating(self, table: Described, sets: Mapping[str, str], stage: str, where: str) -> str:
        """UPDATE the rows t of a table from the staged rows s."""

    @abstractmethod
    def _deleting(self, table: Described, stage: str, where: str) -> str:
        """DELETE the rows t of a table that the staged rows s are about."""

    @abstractmethod
    def _raise_conflict(self, link: SQLLink, sent: Sent, error: Refused, stage: str, row: int) -> None:
        """Raise Conflict if the database refused a staged row for what another transaction wrote meanwhile."""

    def _later(self, count: int, work: Callable[[SQLLink], _T]) -> Future[_T]:
        """Write in the background; `count` is how many rows."""
        return self._write.later(work, little=count <= FEW_ROWS)

    # -- writing ----------------------------------------------------------------------------------------

    def insert(self, info: TableInfo, values: pa.Table, key: Sequence[str]) -> Written:
        table = self._described(info)
        left_out = [column for column in info.columns if column.name not in values.column_names]
        as_sent = table.as_sent and table.info.undoes and not info.triggers
        as_sent = as_sent and not any(column.has_default or column.generated for column in left_out)
        sent = Sent(table, values.column_names, tuple(key))
        columns = self._cells(table, values)
        straight = bool(columns) and as_sent and table.loads and _can_load(columns, self._write.link.few_rows)
        rows = self._rows(columns) if straight else self._numbered(columns, values.num_rows)
        if as_sent:
            write = self._load if straight else self._insert
            done = self._later(len(rows), lambda link: write(link, sent, rows))
            stored = Existing(np.arange(values.num_rows), info.complete(values), pa.table({}))
            return Written(stored, None, lambda: done.result()[1])
        link = self._write.drained()
        picks = self._picks(table, info.columns, "")
        parts, refusals = self._insert(link, sent, rows, picks)
        landed = np.delete(np.arange(values.num_rows), list(refusals))
        stored = self._existing(link, table, together(parts, picks), info.columns, list(key))
        if len(stored.positions) != len(landed):
            raise StoreError(
                f"{self.where}: {len(landed)} rows were inserted into {info.name!r} and "
                f"{len(stored.positions)} came back; a trigger on the table seems to drop rows"
            )
        return Written(self._afterwards(table, stored, key), landed, lambda: refusals)

    def _load(self, link: SQLLink, sent: Sent, rows: Rows) -> tuple[list[Any], dict[int, str]]:
        """Load rows straight into their table; if it refuses one of them, stage and insert them instead."""
        self._check_at_once(link, sent.table)
        link.run("SAVEPOINT rmend_load")
        try:
            link.load(sent.table, sent.names, rows)
            link.run("RELEASE SAVEPOINT rmend_load")
            return [], {}
        except Refused:
            link.run("ROLLBACK TO SAVEPOINT rmend_load")
            link.run("RELEASE SAVEPOINT rmend_load")
        return self._insert(link, sent, self._numbered(rows.columns))

    def _insert(
        self, link: SQLLink, sent: Sent, rows: Rows, picks: Sequence[Pick] = ()
    ) -> tuple[list[Any], dict[int, str]]:
        into = f"INSERT INTO {sent.table.sql} ({', '.join(map(self._q, sent.names))}){sent.table.overriding} "
        values = ", ".join(one.form.write.format(f"s.c{i}") for i, one in enumerate(rows.columns[1:], 1))

        def write(stage: str, within: str, count: int) -> Any:
            sql = f"{into}SELECT {values} FROM {stage} AS s WHERE {within} ORDER BY s.c0"
            if not sent.names:  # the database fills all of it, and knows that of one row only
                sql = f"INSERT INTO {sent.table.sql} {self.no_values}"
            return self._whole(link.returning(sql, picks) if picks else link.run(sql), count, sent.table)

        return self._in_parts(link, sent, rows, write, singly=not sent.names)

    def _whole(self, written: Any, count: int, table: Described) -> Any:
        """What was written. Raises Refused if it is less than `count` rows, and triggers may have kept the others."""
        number = written.num_rows if isinstance(written, pa.Table) else written
        if table.info.triggers and 0 <= number < count:
            raise Refused(self.where, KEPT)
        return written

    def _in_parts(
        self, link: SQLLink, sent: Sent, rows: Rows, write: Callable[[str, str, int], Any], singly: bool = False
    ) -> tuple[list[Any], dict[int, str]]:
        """Stage numbered rows and write them, leaving out those that the database refuses on their own account.

        `write(stage, within, count)` writes the staged rows s for which the condition `within` holds, so many.
        """
        self._check_at_once(link, sent.table)
        with link.staged(rows) as stage:

            def part(first: int, last: int) -> Any:
                with self._watched(link, sent.table) as seen:
                    one = write(stage, self._between(first, last), last - first + 1)
                    seen.append(one.num_rows if isinstance(one, pa.Table) else one)
                return one

            return link.in_parts(
                len(rows),
                part,
                lambda error, row: self._raise_conflict(link, sent, error, stage, row),
                at_most=None if sent.table.info.undoes and not singly else 1,
            )

    def _check_at_once(self, link: SQLLink, table: Described) -> None:
        """Have the database check what it would only check at the commit, when it names no row any more."""

    @contextmanager
    def _watched(self, link: SQLLink, table: Described) -> Iterator[list[int]]:
        """Count the other rows that change in a table while rows are written; their number is put into the list."""
        yield []

    def update(self, info: TableInfo, rows: Existing, values: pa.Table, key: Sequence[str] = ()) -> Written:
        table, names = self._described(info), values.column_names
        columns = self._cells(table, values)
        sent = self._numbered([*columns, *self._locating(table, rows.locators)])
        sets = {n: one.form.write.format(f"s.c{i}") for i, (n, one) in enumerate(zip(names, columns, strict=True), 1)}
        as_sent = table.as_sent and not info.triggers and not any(column.generated for column in info.columns)
        where = self._located(table, rows.locators, len(names) + 1)
        picks = [Pick("s.c0", "position", NUMBER), *self._picks(table, info.columns)]
        back = picks if self.returns_updates and not as_sent else None

        def work(link: SQLLink) -> tuple[list[Any], dict[int, str]]:
            link.expect(bool(table.locators))

            def write(stage: str, within: str, count: int) -> Any:
                sql = self._updating(table, sets, stage, f"{where} AND {within}")
                done = self._concerned(link.run(sql), count, table) if back is None else link.returning(sql, back)
                return done if back is None else self._whole(done, count, table)

            return self._in_parts(link, Sent(table, names), sent, write)

        if as_sent:
            done = self._later(len(sent), work)
            stored = rows.values
            for name in names:
                stored = stored.set_column(stored.column_names.index(name), name, values[name])
            verbatim = {name: cells for name, cells in rows.verbatim.items() if name not in names}
            return Written(Existing(rows.positions, stored, rows.locators, verbatim), None, lambda: done.result()[1])
        link = self._write.drained()
        parts, refusals = work(link)
        landed = np.delete(np.arange(len(rows.positions)), list(refusals))
        if back is None:
            known = rows.take(landed)
            if by_key := [f"={name}" for name in key if f"={name}" in known.locators.column_names]:
                known = replace(known, locators=known.locators.select(by_key))  # what else there was may be another now
            return Written(self._again(link, info, known), landed, lambda: refusals)
        by = [name[1:] for name in rows.locators.column_names if name.startswith("=")]
        stored = self._existing(link, table, together(parts, picks), info.columns, by)
        if len(stored.positions) != len(landed):
            raise StoreError(
                f"{self.where}: {len(landed)} rows of {info.name!r} were to be updated and {len(stored.positions)} "
                "were; a trigger on the table seems to keep the others"
            )
        stored = self._afterwards(table, stored, key, rows.locators.take(pa.array(landed)))
        stored.positions = rows.positions[landed]
        return Written(stored, landed, lambda: refusals)

    def _afterwards(
        self, table: Described, stored: Existing, key: Sequence[str], were: pa.Table | None = None
    ) -> Existing:
        """The rows that were written, as triggers left them. `were`: their locators before."""
        return stored

    def _concerned(self, count: int, wanted: int, table: Described) -> int:
        if table.as_sent and not table.info.triggers and 0 <= count < wanted:
            raise StoreError(
                f"{self.where}: {wanted - count} rows of {table.info.name!r} vanished while they were written; "
                "run again"
            )
        return count

    def delete(self, info: TableInfo, rows: Existing) -> Written:
        return self._take_away(info, rows, None)

    def move(self, info: TableInfo, rows: Existing, to: TableInfo) -> Written:
        target = self._described(to)
        names = ", ".join(self._q(column.name) for column in info.columns if not column.generated)
        listed = ", ".join(f"t.{self._q(column.name)}" for column in info.columns if not column.generated)
        into = f"INSERT INTO {target.sql} ({names}){target.overriding} SELECT "
        alike = any(name.startswith("=") for name in rows.locators.column_names)  # which rows that are alike share

        def copying(rest: str) -> str:
            if alike:
                return f"{into}{names} FROM (SELECT DISTINCT s.c0 AS rmend_row, {listed} {rest}) AS d"
            return f"{into}{listed} {rest}"

        return self._take_away(info, rows, copying)

    def _take_away(self, info: TableInfo, rows: Existing, copying: Callable[[str], str] | None) -> Written:
        """Delete rows. `copying` gives the statement that copies them before, from what stands behind its SELECT."""
        table = self._described(info)
        located = self._numbered(self._locating(table, rows.locators))

        def work(link: SQLLink) -> Refusals:
            link.expect(bool(table.locators))

            def write(stage: str, within: str, count: int) -> Any:
                if copying is not None:
                    where = self._located(table, rows.locators)
                    link.run(copying(f"{self._join(table, stage, where)} WHERE {within}"))
                return self._whole(self._delete(link, table, rows.locators, stage, within), count, table)

            return self._in_parts(link, Sent(table), located, write)[1]

        return Written(rows, None, self._later(len(rows.positions), work).result)

    def _delete(self, link: SQLLink, table: Described, locators: pa.Table, stage: str, within: str) -> int:
        """Delete the rows of those staged for which the condition `within` holds. Returns how many went."""
        return link.run(self._deleting(table, stage, f"{self._located(table, locators)} AND {within}"))

    def append(self, info: TableInfo, rows: Load, after: Sequence[Written] = ()) -> None:
        table, values, count = self._described(info), rows.values, rows.values.num_rows
        empty = [name for name in values.column_names if values[name].null_count == count]
        values = values.drop_columns(empty)
        for name, value in rows.same.items():
            if value is not None:
                values = values.append_column(name, pa.repeat(pa.scalar(value, table.info[name].type), count))
        names = values.column_names
        every = self._rows(self._cells(table, values)) if values.num_columns and not rows.verbatim else None

        def work(link: SQLLink) -> None:
            keep = np.ones(count, bool)
            for written in after:
                if written.rows is None and written.refusals():
                    keep &= written.landed(count)
            try:
                if every is not None and keep.all():
                    send(link, names, every)
                    return
                for places, verbatim in _patterns(rows.verbatim, keep):
                    columns = self._cells(table, values.take(pa.array(places)))
                    cells = dict(zip(names, columns, strict=True)) | {
                        name: self._as_spelled(table, name, texts) for name, texts in verbatim.items()
                    }
                    send(link, list(cells), self._rows(list(cells.values())))
            except Refused as error:
                raise StoreError(
                    f"{self.where}: {info.name!r} did not take a row: {error.reason}; mend that table, or, if it is a "
                    "history, set history = false"
                ) from error

        def send(link: SQLLink, names: Sequence[str], sent: Rows) -> None:
            if table.loads and _can_load(sent.columns, link.few_rows):
                link.load(table, names, sent)
            elif len(sent):
                picked = ", ".join(one.form.write.format(f"s.c{i}") for i, one in enumerate(sent.columns))
                into = f"INSERT INTO {table.sql} ({', '.join(map(self._q, names))}) "
                with link.staged(sent) as stage:
                    link.run(f"{into}SELECT {picked} FROM {stage} AS s")

        self._later(count, work)

    def _as_spelled(self, table: Described, name: str, texts: pa.Array) -> Cells:
        """Cells of a column that go in as the database spells them."""
        return Cells(replace(self.text, write=self._unspelled("{}", table, name)), texts)

    @abstractmethod
    def _unspelled(self, expression: str, table: Described, name: str) -> str:
        """The value of a column from the text that the database writes for it."""

    # -- defining ---------------------------------------------------------------------------------------

    def create(self, info: TableInfo, beside: TableInfo | None = None) -> None:
        link = self._write.drained()
        link.define(self.create_sql(info, beside))
        at = link.place_of(info.name, self._described(beside) if beside is not None else None)
        self._by_name[info.name] = link.describe(info.name, at)
        for name, index in info.indexes if not self.indexes_within else ():
            self.add_index(self._named(info.name).info, name, index)

    indexes_within = False
    """The indexes of a table are made by the statement that makes the table."""

    def create_sql(self, info: TableInfo, beside: TableInfo | None = None) -> str:
        link = self._write.drained()
        at = link.place_of(info.name, self._described(beside) if beside is not None else None)
        lines = []
        for column in info.columns:
            declared = link.declare_key(column) if column.name in info.primary_key else link.declare(column)
            line = f"{self._q(column.name)} {declared}"
            if not column.nullable:
                line += " NOT NULL"
            if (column.name,) == info.primary_key:
                line += f"{self._numbering() if column.has_default else ''} PRIMARY KEY"
            if column.one_of:
                tests = [f"{self._q(column.name)} {self._op('=')} {text_sql(text)}" for text in column.one_of]
                line += f" CHECK ({' OR '.join(tests)})"
            lines.append(line)
        if len(info.primary_key) > 1:
            lines.append(f"PRIMARY KEY ({', '.join(map(self._q, info.primary_key))})")
        for name, columns in info.indexes if self.indexes_within else ():
            lines.append(f"KEY {self._q(name)} ({', '.join(map(self._q, columns))})")
        return f"CREATE TABLE {'.'.join(map(self._q, at))} ({', '.join(lines)}){self._making()}"

    def _making(self) -> str:
        """The options of every table that is created."""
        return ""

    @abstractmethod
    def _numbering(self) -> str:
        """The clause that makes the database number the rows of a table."""

    def has_index(self, info: TableInfo, name: str) -> bool:
        return self._write.drained().has_index(self._described(info), name)

    def add_index(self, info: TableInfo, name: str, columns: Sequence[str]) -> None:
        link, table = self._write.drained(), self._described(info)
        link.define(f"CREATE INDEX {self._q(name)} ON {table.sql} ({', '.join(map(self._q, columns))})")

    def add_columns(self, name: str, columns: Iterable[Column]) -> None:
        self._alter(name, self.add_columns_sql(self._named(name).info, list(columns)))

    def widen_columns(self, name: str, columns: Iterable[Column]) -> None:
        self._alter(name, self.widen_sql(self._named(name).info, list(columns)))

    def _alter(self, name: str, statements: Iterable[str]) -> None:
        link = self._write.drained()
        for sql in statements:
            link.define(sql)
        self._by_name.pop(name, None)
