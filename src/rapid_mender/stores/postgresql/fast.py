"""The fast path on PostgreSQL: prepared statements over psycopg, sent together where none waits for another's answer.

A record takes three round trips: the turn and the look-up, the writes, the commit. It works in READ COMMITTED, where
each statement sees what was committed before it began; the rows that are looked up are locked.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from datetime import UTC, date, datetime
from decimal import Decimal
from functools import partial
from itertools import chain
from typing import Any

from ...core.own_tables import BATCHES, NEWEST_BATCHES
from ...core.plain_values import FIRST_YEAR, Kind, kind_of
from ..contract.fast import FastBatch, FastChange, FastPath, FastTable, Found, NotFast, TableChanged, Values
from ..sql.fast import plain_kind
from ..sql.link import Described, lost_at_commit
from ..sql.text import name_sql, text_sql
from .catalog import op
from .link import SETTINGS, settling_sql

_PATIENCE = "2s"
"""How long to wait for the turn, or for a row: then the whole way waits, and says for whom."""
_TYPES: dict[Kind, str] = {
    "int": "int8", "float": "float8", "bool": "bool", "text": "text", "date": "date", "time": "timestamp",
    "zoned time": "timestamptz", "decimal": "numeric",
}  # fmt: skip
_COMES_AS: dict[Kind, type] = {
    "int": int, "float": float, "bool": bool, "text": str, "date": date, "time": datetime, "zoned time": datetime,
    "decimal": Decimal,
}  # fmt: skip
_PREPARED, _MOST_STATEMENTS = 16, 256
"""A statement about more rows is not kept prepared; and how many texts of statements are kept."""
_MARK = "\0"
"""Where a value goes."""
_PLAIN = (
    "smallint",
    "integer",
    "bigint",
    "double precision",
    "boolean",
    "text",
    "date",
    "numeric",
    "character",
    "time",
)
"""How the declared types begin whose values pass as they are."""
_CATALOGUE = (
    ("pg_class", "oid"), ("pg_attribute", "attrelid"), ("pg_attrdef", "adrelid"), ("pg_index", "indrelid"),
    ("pg_trigger", "tgrelid"), ("pg_constraint", "conrelid"), ("pg_rewrite", "ev_class"), ("pg_policy", "polrelid"),
    ("pg_inherits", "inhparent"),
)  # fmt: skip
"""Where the catalogue speaks of a table, and by which column. A row that was changed there has the number of the
transaction that did; so how many rows there are, and how many of known numbers, tells whether one was changed."""


class PostgreSQLFastPath(FastPath):
    """Raises NotFast if the tables are not plain, or psycopg is not installed."""

    def __init__(
        self, where: str, url: str, timeout: float | None, table: FastTable, known: Sequence[Described], turn: str
    ) -> None:
        """`known`: the table, its history and the batches; `turn`: the key of the lock under which is merged."""
        self._where, self._table = where, table
        self._at, self._history, self._batches = known
        self._kinds = [_plain_kind(self._at, name) for name in table.info.names]
        kinds = dict(zip(table.info.names, self._kinds, strict=True))
        self._key = [(name_sql(name), kinds[name]) for name in table.key]
        self._type_of: Mapping[str, Kind] = kinds
        self._statements: dict[tuple[Any, ...], str] = {}
        try:
            import psycopg
            from psycopg.raw_cursor import RawCursor
        except ImportError:
            raise NotFast from None
        self._cursor: Any = RawCursor
        self._errors: type[Exception] = psycopg.Error
        try:
            self._connection: Any = psycopg.connect(url, autocommit=True, prepare_threshold=0)
        except (psycopg.Error, OSError, UnicodeError):
            raise NotFast from None
        try:
            with self._refusing():
                self._set_up(timeout)
                self._turn = f"SELECT pg_catalog.pg_advisory_xact_lock({turn})"
                self._state = self._statement(("state", 1), self._asking)
                self._signature = self._run(self._state, (table.info.name,)).fetchone()[-1]
            every, known_ones = self._signature.split(",")[0].split("/")
            if every != known_ones:  # one was changed just now
                raise NotFast
        except BaseException:
            self.close()
            raise

    def _set_up(self, timeout: float | None) -> None:
        settings = SETTINGS | {"lock_timeout": _PATIENCE}
        if timeout is not None:
            settings["statement_timeout"] = str(int(timeout * 1000))
        self._connection.execute(settling_sql(settings, False), prepare=False)
        sql = f"SELECT pg_catalog.pg_get_serial_sequence({text_sql(self._batches.sql)}, 'batch_no')"
        self._counter = self._connection.execute(sql, prepare=False).fetchone()[0]
        if self._counter is None:
            raise NotFast

    def _looking(self, count: int) -> str:
        """The statement that looks up so many keys; its rows begin with the place of the key."""
        columns = ", ".join(f"t.{name_sql(name)}" for name in self._table.info.names)
        if count == 1:
            where = " AND ".join(f"t.{name} {op('=')} {_marker(kind)}" for name, kind in self._key)
            return f"SELECT 0, {columns} FROM {self._at.sql} AS t WHERE {where} FOR NO KEY UPDATE"
        given, on = self._given([kind for _, kind in self._key], count, numbered=True)
        return f"SELECT v.n, {columns} FROM {given} JOIN {self._at.sql} AS t ON {on} FOR NO KEY UPDATE OF t"

    def _given(self, kinds: Sequence[Kind], count: int, numbered: bool = False) -> tuple[str, str]:
        """Rows of values, the first of which are a key, as a relation v; and how a row t is that of a key."""
        row = ", ".join(map(_marker, kinds))
        rows = (f"({at}, {row})" if numbered else f"({row})" for at in range(count))
        names = [*(["n"] if numbered else []), *(f"c{at}" for at in range(len(kinds)))]
        on = " AND ".join(f"t.{name} {op('=')} v.c{at}" for at, (name, _) in enumerate(self._key))
        return f"(VALUES {', '.join(rows)}) AS v ({', '.join(names)})", on

    def _asking(self) -> str:
        """The newest change and batches; and last what tells whether the tables are as they were."""
        tables = (self._at, self._history, self._batches)
        oids = f"ARRAY[{', '.join(one.info.identity for one in tables)}]::pg_catalog.oid[]"
        rows = " UNION ALL ".join(
            f"SELECT x.xmin FROM pg_catalog.{name} AS x WHERE x.{column} {op('=')} ANY ({oids})"
            for name, column in _CATALOGUE
        )
        found = self._connection.execute(f"SELECT DISTINCT u.xmin::pg_catalog.text FROM ({rows}) AS u", prepare=False)
        known = text_sql(f"{{{','.join(number for (number,) in found)}}}") + "::pg_catalog.xid[]"
        counted = f"pg_catalog.count(*) FILTER (WHERE u.xmin {op('=')} ANY ({known}))"
        told = [f"(SELECT pg_catalog.concat_ws('/', pg_catalog.count(*), {counted}) FROM ({rows}) AS u)"]
        named = [name_sql(self._at.place[1])] if self._table.info.name == self._at.place[1] else []
        for sql in (*named, *(one.sql for one in tables)):
            told.append(f"pg_catalog.to_regclass({text_sql(sql)})::pg_catalog.oid")
        number = name_sql("change_no")
        return (
            f"SELECT (SELECT pg_catalog.max(h.{number}) FROM {self._history.sql} AS h), n.last_change, n.held, "
            f"(SELECT pg_catalog.max(b.batch_no) FROM {self._batches.sql} AS b), "
            f"pg_catalog.concat_ws(',', {', '.join(told)}) FROM (SELECT 1) AS one LEFT JOIN LATERAL "
            f"(SELECT pg_catalog.max(b.last_change) AS last_change, pg_catalog.bool_or(b.seal IS NOT NULL OR "
            f"b.status {op('=')} 'running') AS held FROM (SELECT b.last_change, b.seal, b.status "
            f"FROM {self._batches.sql} AS b WHERE b.table_name {op('=')} "
            f"{_MARK}::pg_catalog.text AND b.last_change {op('>=')} 1 ORDER BY b.last_change DESC "
            f"LIMIT {NEWEST_BATCHES}) AS b) AS n ON true"
        )

    @contextmanager
    def _refusing(self) -> Iterator[None]:
        try:
            yield
        except (self._errors, OSError, ValueError, OverflowError) as error:
            raise NotFast(str(error)) from error

    def _statement(self, of: tuple[Any, ...], make: Callable[[], str]) -> str:
        """A statement as the driver wants it, made once. The last of what it is `of` is how many rows it is about."""
        if of not in self._statements:
            if len(self._statements) >= _MOST_STATEMENTS:
                self._statements.clear()
            first, *others = make().split(_MARK)
            self._statements[of] = first + "".join(f"${at}{part}" for at, part in enumerate(others, 1))
        return self._statements[of]

    def _run(self, sql: str, values: Iterable[Any], count: int = 1) -> Any:
        """Run a statement about so many rows. Values pass as texts, so that it is prepared once, not for each size of a
        number."""
        cursor = self._cursor(self._connection)
        texts = [None if value is None else _text(value) for value in values]
        cursor.execute(sql, texts, prepare=count <= _PREPARED, binary=True)
        return cursor

    def look(self, keys: Sequence[Values]) -> Found:
        count = len(keys)
        sql = self._statement(("look", count), lambda: self._looking(count))
        with self._refusing():
            with self._connection.pipeline():
                self._connection.execute("BEGIN ISOLATION LEVEL READ COMMITTED")
                self._connection.execute(self._turn)
                found = self._run(sql, chain.from_iterable(keys), count)
                state = self._run(self._state, (self._table.info.name,))
            change, newest, held, batch, signature = state.fetchone()
            if signature != self._signature:
                raise TableChanged
            rows: list[Values | None] = [None] * count
            for place, *row in found.fetchall():
                if rows[place] is not None:
                    raise NotFast
                rows[place] = self._plain(row)
            return Found(rows, change or 0, newest, bool(held), batch or 0)

    def _plain(self, row: list[Any]) -> Values:
        row = [one.astimezone(UTC) if type(one) is datetime and one.tzinfo else one for one in row]
        for value, kind in zip(row, self._kinds, strict=True):
            nan = isinstance(value, Decimal) and not value.is_finite()
            early = isinstance(value, date) and value.year < FIRST_YEAR
            if value is not None and (type(value) is not _COMES_AS[kind] or nan or early):
                raise NotFast
        return row

    def write(self, batches: Sequence[FastBatch], at: datetime, by: tuple[str | None, str]) -> list[int]:
        with self._refusing():
            if not batches:
                return []
            with self._connection.pipeline():
                written = [*self._change([change for batch in batches for change in batch.changes])]
                begun = self._begin([batch.row for batch in batches])
                if len(batches) == 1:
                    self._note([(change, None) for change in batches[0].changes], at, by)
            if any(cursor.rowcount != count for cursor, count in written):
                raise NotFast
            numbers = [int(number) for (number,) in begun.fetchall()]
            if len(batches) > 1:
                pairs = zip(batches, numbers, strict=True)
                self._note([(change, number) for batch, number in pairs for change in batch.changes], at, by)
            return numbers

    def _change(self, changes: Sequence[FastChange]) -> Iterator[tuple[Any, int]]:
        """Write changes, alike ones by one statement. Gives the cursor of each, and how many rows."""
        alike: dict[tuple[str, tuple[str, ...]], list[FastChange]] = {}
        for change in changes:
            alike.setdefault((change.action, change.columns), []).append(change)
        for (action, columns), some in alike.items():
            names = columns if action == "insert" else (*self._table.key, *columns)
            places, count = [self._table.places[name] for name in names], len(some)
            make = partial(self._inserting if action == "insert" else self._updating, columns, count)
            values = [one.new[place] for one in some for place in places]
            yield self._run(self._statement((action, columns, count), make), values, count), count

    def _inserting(self, columns: tuple[str, ...], count: int) -> str:
        return _insert(self._at.sql, columns, [_marker(self._type_of[name]) for name in columns], count)

    def _updating(self, columns: tuple[str, ...], count: int) -> str:
        """The statement that updates rows; the values of each are those of its key, then those of the columns."""
        kinds = [*(kind for _, kind in self._key), *(self._type_of[name] for name in columns)]
        given, on = self._given(kinds, count)
        sets = (f"{name_sql(name)} = v.c{at}" for at, name in enumerate(columns, len(self._key)))
        return f"UPDATE {self._at.sql} AS t SET {', '.join(sets)} FROM {given} WHERE {on}"

    def _begin(self, rows: Sequence[Mapping[str, Any]]) -> Any:
        """Insert the rows of batches, which have the same columns."""
        names, count = tuple(rows[0]), len(rows)

        def make() -> str:
            marks = [_marker(_kind_in_batches(name)) for name in names]
            return f"{_insert(self._batches.sql, names, marks, count)} RETURNING batch_no"

        values = (value for row in rows for value in row.values())
        return self._run(self._statement(("batches", names, count), make), values, count)

    def _note(self, changes: Sequence[tuple[FastChange, int | None]], at: datetime, by: tuple[str | None, str]) -> None:
        """Write changes into the history, each with the number of its batch; None: that which was given last."""
        if not changes:
            return
        count, last = len(changes), changes[0][1] is None

        def make() -> str:
            fixed: list[Kind] = ["int", "int", "text", "text", "zoned time", "text", "text"]
            marks = [_marker(kind) for kind in (*fixed, *self._kinds, *self._kinds)]
            if last:
                marks[1] = f"pg_catalog.currval({text_sql(self._counter)}::pg_catalog.regclass)"
            return _insert(self._history.sql, self._table.history_columns, marks, count)

        values = [change.values(number, at, by) for change, number in changes]
        if last:
            values = [[row[0], *row[2:]] for row in values]
        self._run(self._statement(("history", last, count), make), chain.from_iterable(values), count)

    def commit(self) -> None:
        try:
            said = self._connection.execute("COMMIT").statusmessage
        except (self._errors, OSError) as error:
            if not self._connection.broken and not self._connection.closed:
                raise NotFast(str(error)) from error  # a deferred constraint refuses
            raise lost_at_commit(self._where) from error
        if said != "COMMIT":
            raise NotFast

    def undo(self) -> None:
        from psycopg.pq import TransactionStatus

        status = self._connection.info.transaction_status
        if status in (TransactionStatus.INTRANS, TransactionStatus.INERROR):
            with suppress(self._errors, OSError):
                self._connection.execute("ROLLBACK")
        if self._connection.info.transaction_status != TransactionStatus.IDLE:
            self.close()

    def close(self) -> None:
        self.closed = True
        with suppress(Exception):
            self._connection.close()


def _plain_kind(table: Described, name: str) -> Kind:
    kind = plain_kind(table, name, _PLAIN)
    if table.forms[name].write != "{}":
        raise NotFast
    return kind


def _marker(kind: Kind) -> str:
    return f"{_MARK}::pg_catalog.{_TYPES[kind]}"


def _kind_in_batches(name: str) -> Kind:
    kind = kind_of(BATCHES[name])
    assert kind is not None
    return kind


def _insert(table: str, columns: Sequence[str], marks: Sequence[str], count: int) -> str:
    row = f"({', '.join(marks)})"
    return f"INSERT INTO {table} ({', '.join(map(name_sql, columns))}) VALUES {', '.join([row] * count)}"


def _text(value: Any) -> str:
    """A value as PostgreSQL reads it, whatever the connection's settings."""
    return value.isoformat() if isinstance(value, date) else str(value)
