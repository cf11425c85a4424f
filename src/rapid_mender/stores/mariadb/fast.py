"""The fast path on MariaDB: several statements in one message, over a connection of its own.

A record takes three round trips: the turn and the look-up, the writes, the commit. It works as any merge does, in READ
COMMITTED, and locks the rows that it looks up.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from datetime import UTC, date, datetime
from decimal import Decimal
from typing import Any

from ...core.own_tables import NEWEST_BATCHES
from ...core.plain_values import Kind
from ...errors import StoreError
from ..contract.fast import FastBatch, FastPath, FastTable, Found, NotFast, TableChanged, Values
from ..sql.fast import change_sql, plain_kind
from ..sql.link import Described, Lost, lost_at_commit
from ..sql.text import text_sql
from .link import MariaDBLink
from .tables import quoted as name_sql
from .tables import without_counter

_PATIENCE = 2  # seconds to wait for the turn, or for a row: then the whole way waits, and says for whom
_PLAIN = (
    "smallint",
    "int",
    "bigint",
    "double",
    "tinyint(1)",
    "varchar",
    "text",
    "mediumtext",
    "longtext",
    "date",
    "timestamp",
    "decimal",
)
"""How the declared types begin whose values pass as they are."""


class MariaDBFastPath(FastPath):
    """Raises NotFast if the tables are not plain."""

    def __init__(self, link: MariaDBLink, table: FastTable, known: Sequence[Described], turn: str) -> None:
        """`link`: a connection that takes several statements at once, which the path closes. `known`: the table, its
        history and the batches; `turn`: the name of the lock under which is merged."""
        self._link, self._table = link, table
        self._at, self._history, self._batches = known
        self._kinds = [_plain_kind(self._at, name) for name in table.info.names]
        self._turn = text_sql(turn)
        self._opened = False
        columns = ", ".join(f"t.{name_sql(name)}" for name in table.info.names)
        self._look = f"SELECT {columns} FROM {self._at.sql} AS t WHERE "
        first = f"SELECT t.{name_sql('change_no')} FROM {self._history.sql} AS t ORDER BY 1"
        newest = f"FROM {self._batches.sql} WHERE table_name = {text_sql(table.info.name)} AND last_change >= 1"
        schema, name = map(text_sql, self._at.place)
        self._signing = (
            f"SHOW CREATE TABLE {self._at.sql}; SHOW CREATE TABLE {self._history.sql}; SELECT COUNT(*) FROM "
            f"information_schema.TRIGGERS WHERE EVENT_OBJECT_SCHEMA = {schema} AND EVENT_OBJECT_TABLE = {name}"
        )
        self._begin = f"SELECT GET_LOCK({self._turn}, {_PATIENCE}); START TRANSACTION; {first} LIMIT 1 FOR UPDATE; "
        self._state = (
            f"{first} DESC LIMIT 1; SELECT MAX(last_change), MAX(seal IS NOT NULL OR status = 'running') "
            f"FROM (SELECT last_change, seal, status {newest} ORDER BY last_change DESC LIMIT {NEWEST_BATCHES}) AS b; "
            f"SELECT MAX(batch_no) FROM {self._batches.sql}; {self._signing}"
        )
        self._noting = f"INSERT INTO {self._history.sql} ({', '.join(map(name_sql, table.history_columns))}) VALUES "
        try:
            with self._refusing():
                link.run(f"SET SESSION innodb_lock_wait_timeout = {_PATIENCE}")
                self._signature = _signed(self._link.answers(self._signing))
        except BaseException:
            self.close()
            raise

    @contextmanager
    def _refusing(self) -> Iterator[None]:
        try:
            yield
        except (StoreError, OSError, ValueError, ArithmeticError) as error:
            raise NotFast(str(error)) from error

    def look(self, keys: Sequence[Values]) -> Found:
        with self._refusing():
            self._opened = True
            look = [f"{self._look}{self._where(key)} FOR UPDATE" for key in keys]
            turn, _, _, *found = self._link.answers(f"{self._begin}{'; '.join(look)}; {self._state}")
            if turn[0][0] != b"1":
                raise NotFast
            rows, (change, newest, batch), signature = found[: len(keys)], found[len(keys) : -3], found[-3:]
            if _signed(signature) != self._signature:
                raise TableChanged
            number, held = newest[0]
            return Found(
                [self._row(some) for some in rows],
                int(change[0][0]) if change else 0,
                None if number is None else int(number),
                held == b"1",
                int(batch[0][0] or 0),
            )

    def _where(self, key: Values) -> str:
        each = zip(self._table.key, key, strict=True)
        return " AND ".join(f"{name_sql(name)} = {_literal(value)}" for name, value in each)

    def _row(self, rows: Sequence[Any]) -> Values | None:
        if not rows:
            return None
        if len(rows) > 1:
            raise NotFast
        pairs = zip(rows[0], self._kinds, strict=True)
        return [None if value is None else _read(kind, value) for value, kind in pairs]

    def write(self, batches: Sequence[FastBatch], at: datetime, by: tuple[str | None, str]) -> list[int]:
        with self._refusing():
            statements: list[str] = []
            begun: list[int] = []
            changing: list[int] = []
            for batch in batches:
                for change in batch.changes:
                    changing.append(len(statements))
                    statements.append(change_sql(self._at.sql, self._table, change, name_sql, _literal))
                begun.append(len(statements))
                names, values = [*map(name_sql, batch.row)], [*map(_literal, batch.row.values())]
                statements.append(f"INSERT INTO {self._batches.sql} ({', '.join(names)}) VALUES ({', '.join(values)})")
                rows = [change.values(None, at, by) for change in batch.changes]
                if rows:
                    spelled = [
                        ", ".join([_literal(row[0]), "LAST_INSERT_ID()", *map(_literal, row[2:])]) for row in rows
                    ]
                    statements.append(f"{self._noting}({'), ('.join(spelled)})")
            answers = self._link.answers("; ".join(statements)) if statements else []
            if any(answers[place][1] != 1 for place in changing):
                raise NotFast
            return [answers[place][0] for place in begun]

    def commit(self) -> None:
        answered: list[Any] = []
        try:
            self._link.answers(f"COMMIT; DO RELEASE_LOCK({self._turn})", answered)
        except StoreError as error:
            if answered:  # what was committed stands, also if the connection went after it
                self.close()
            elif isinstance(error, Lost):
                raise lost_at_commit(self._link.where) from error
            else:
                raise NotFast(str(error)) from error
        self._opened = False

    def undo(self) -> None:
        if self._opened:
            try:
                self._link.answers(f"ROLLBACK; DO RELEASE_LOCK({self._turn})")
                self._opened = False
            except (StoreError, OSError):
                self.close()

    def close(self) -> None:
        self.closed = True
        with suppress(Exception):
            self._link.close()


def _plain_kind(table: Described, name: str) -> Kind:
    kind = plain_kind(table, name, _PLAIN)
    if "zerofill" in (table.info[name].declared or ""):
        raise NotFast
    if kind == "text" and table.extra["letters"][name] not in ("utf8mb4", "utf8mb3", "latin1"):
        raise NotFast
    return kind


def _signed(answers: Sequence[Any]) -> list[bytes]:
    """What tells whether the tables are as they were."""
    *made, triggers = answers
    return [*(without_counter(one[0][1].decode()).encode() for one in made), triggers[0][0]]


def _read(kind: Kind, value: bytes) -> Any:
    """A value as the server spells it. Raises ValueError or ArithmeticError if it is none of its kind."""
    text = value.decode()
    if kind == "text":
        return text
    if kind == "bool":
        return bool(("0", "1").index(text))
    if kind == "zoned time":
        return datetime.fromisoformat(text).replace(tzinfo=UTC)
    read: dict[Kind, Callable[[str], Any]] = {
        "int": int, "float": float, "date": date.fromisoformat, "time": datetime.fromisoformat, "decimal": Decimal,
    }  # fmt: skip
    return read[kind](text)


def _literal(value: Any) -> str:
    """A value as SQL writes it."""
    if value is None:
        return "NULL"
    if type(value) is bool:
        return str(int(value))
    if type(value) is float:
        text = repr(value)
        return text if "e" in text else f"{text}e0"
    if type(value) is datetime:
        return f"'{value.replace(tzinfo=None).isoformat(' ')}'"
    return text_sql(value) if type(value) is str else f"'{value}'" if type(value) is date else str(value)
