"""One connection to MariaDB: rows go in as text by LOAD DATA, and come out as text, many in one value.

The driver makes a Python object of every cell that it is given. So it is given few: rows are spelled as CSV by the
server, hundreds of them in one cell, and read by Arrow.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field, replace
from typing import Any

import pyarrow as pa
import pyarrow.types as pt

from ...core.schema import Column
from ...errors import StoreError
from ..contract import Refused
from ..sql.link import FEW_ROWS, PAGE_ROWS, Cells, Described, Pick, Rows, SQLLink
from ..sql.text import literals, text_sql
from ..waiting import in_words
from .errors import translated
from .lines import lines_of, parsed
from .tables import column_of, declare, definition, describe, quoted
from .wire import TLS, can_offer, connect, offered

_KEY_LENGTH = 255  # letters of a text in a key that the server is to make
_GROUP = 1_000  # rows that come in one value
_MODE = "STRICT_ALL_TABLES,ERROR_FOR_DIVISION_BY_ZERO,NO_ENGINE_SUBSTITUTION,NO_AUTO_VALUE_ON_ZERO,NO_BACKSLASH_ESCAPES"
SETTINGS = {
    "sql_mode": f"'{_MODE}'", "time_zone": "'+00:00'", "group_concat_max_len": "1073741824", "join_cache_level": "4",
    "sql_notes": "0",
}  # fmt: skip
"""What every connection over which is merged goes by, as SQL."""
_WAITS = (
    "SELECT b.trx_mysql_thread_id FROM information_schema.INNODB_TRX AS r "
    "JOIN information_schema.INNODB_LOCK_WAITS AS w ON w.requesting_trx_id = r.trx_id "
    "JOIN information_schema.INNODB_TRX AS b ON b.trx_id = w.blocking_trx_id"
)
_NOT_ALLOWED = (1148, 3948, 4166, 4168)
_INSERT_BYTES = 1 << 20


@dataclass(frozen=True)
class Address:
    """What a store URL says of a server."""

    where: str
    options: Mapping[str, Any] = field(repr=False)
    tls: TLS
    statement_timeout: float | None = None


class MariaDBLink(SQLLink):
    def __init__(self, address: Address, several: bool = False) -> None:
        """`several`: a message may have several statements, for `answers`."""
        try:
            import pymysql  # noqa: F401
        except ImportError as error:
            raise StoreError(
                "MariaDB needs a driver that is not installed; run: pip install 'rapid-mender[mariadb]'"
            ) from error
        self.where = address.where
        self._address, self._several = address, several
        self.schema = address.options["database"]
        self._stages = 0
        self._loads = can_offer()
        self._by_index = False
        self.merging = False
        """Variables of the connection say which table it merges into."""
        self._described: dict[tuple[str, tuple[str, str] | None], tuple[Described, str | None]] = {}
        self._other: MariaDBLink | None = None
        with translated(self.where):
            self._connection: Any = self._connect()
        timeout = address.statement_timeout or 0
        try:
            self._set_up(timeout)
        except BaseException:
            self.close()
            raise

    def _connect(self) -> Any:
        """The driver's connection."""
        return connect(self._address.options, self._address.tls, self._several)

    def _set_up(self, timeout: float) -> None:
        own = {"max_statement_time": f"{timeout}", "tx_isolation": "'READ-COMMITTED'", "net_write_timeout": "600"}
        self.run(setting_sql(SETTINGS | own))
        told = self.ask("SELECT @@max_allowed_packet AS p, CONNECTION_ID() AS id")[0]
        self.packet, self._id = int(told["p"]), told["id"]

    def waits(self, other: MariaDBLink, table: str, turn: str) -> str | None:
        process = "information_schema.PROCESSLIST"
        state = self.ask(f"SELECT STATE AS s FROM {process} WHERE ID = {other._id}")
        if state and state[0]["s"] == "User lock":
            name = turn[turn.index("'") : turn.rindex("'") + 1]
            holder = f"p.ID = IS_USED_LOCK({name})"
        elif self.ask(f"{_WAITS} WHERE r.trx_mysql_thread_id = {other._id}"):
            holder = f"p.ID IN ({_WAITS} WHERE r.trx_mysql_thread_id = {other._id})"
        else:
            return None
        holders = self.ask(
            f"SELECT CONCAT_WS(', ', p.USER, p.HOST, CONCAT('connection ', p.ID)) AS who, "
            "(SELECT MIN(t.trx_started) FROM information_schema.INNODB_TRX AS t WHERE t.trx_mysql_thread_id = p.ID) "
            f"AS since FROM {process} AS p WHERE {holder} ORDER BY p.ID LIMIT 3"
        )
        return in_words(table, [(one["who"], one["since"]) for one in holders], "IS_USED" in holder)

    @property
    def process(self) -> int:
        """The number of the connection."""
        return int(self._id)

    def close(self) -> None:
        if self._other is not None:
            self._other.close()
        if self._connection.open:
            with translated(self.where):
                self._connection.close()

    def cancel(self) -> None:
        """The server ends the connection: after an interrupt nobody knows what comes over it next."""
        with suppress(StoreError):
            other = MariaDBLink(self._address)
            with suppress(StoreError):
                other.run(f"KILL {self._id}")
            other.close()

    def name_sql(self, name: str) -> str:
        return quoted(name)

    def fits(self, name: str) -> bool:
        return len(name) <= 64

    def expect(self, indexed: bool) -> None:
        """Without join buffers the server goes by the index; with them it rather hashes the whole of a table."""
        if indexed != self._by_index:
            self.run(f"SET SESSION join_cache_level = {0 if indexed else 4}")
            self._by_index = indexed

    def run(self, sql: str) -> int:
        with translated(self.where, self._state, sql), self._connection.cursor() as cursor:
            return int(cursor.execute(sql))

    @property
    def last_number(self) -> int:
        """What AUTO_INCREMENT gave the row of the last statement."""
        return int(self._connection.insert_id())

    def _state(self) -> str:
        """The SQLSTATE of the error that has just come."""
        import pymysql

        try:
            with self._connection.cursor() as cursor:
                cursor.execute("GET DIAGNOSTICS CONDITION 1 @rmend_state = RETURNED_SQLSTATE")
                cursor.execute("SELECT @rmend_state")
                return str(_text(cursor.fetchone()[0]) or "")
        except (pymysql.Error, OSError, AttributeError, TypeError):
            return ""

    def ask(self, sql: str) -> list[dict[str, Any]]:
        """A few rows, as texts by the names of the columns."""
        with translated(self.where), self._connection.cursor() as cursor:
            cursor.execute(sql)
            names = [column[0] for column in cursor.description or ()]
            if not names:
                raise StoreError(f"{self.where}: the server answers a question without rows; what answers there?")
            return [dict(zip(names, map(_text, row), strict=True)) for row in cursor.fetchall()]

    def answers(self, sql: str, found: list[Any] | None = None) -> list[Any]:
        """What several statements answer, each: its rows; or the number that AUTO_INCREMENT gave, and how many rows
        it was about. `found` gets what was answered before one fails."""
        found = [] if found is None else found
        with translated(self.where), self._connection.cursor() as cursor:
            cursor.execute(sql)
            while True:
                rows = cursor.description is not None
                found.append(cursor.fetchall() if rows else (cursor.lastrowid, cursor.rowcount))
                if not cursor.nextset():
                    return found

    # -- rows that come ---------------------------------------------------------------------------------

    def select(self, picks: Sequence[Pick], rest: str, number: str | None = None, end: str = "") -> pa.Table:
        row = self._spelled(picks)
        if number is not None:
            group = f"{number} DIV {_GROUP}"
            sql = f"SELECT GROUP_CONCAT({row} SEPARATOR '\n'), COUNT(*) {rest} GROUP BY {group}{end}"
            parts = self._cells(sql)
            table = None
            if all(text is not None for text, _ in parts):
                table = parsed([text for text, _ in parts], picks)
            if table is not None and table.num_rows == sum(int(count) for _, count in parts):
                return table
            # a group that did not fit into a packet was cut
        return _need(parsed([text for (text,) in self._cells(f"SELECT {row} {rest}{end}")], picks), self.where)

    def returning(self, sql: str, picks: Sequence[Pick]) -> pa.Table:
        cells = self._cells(f"{sql} RETURNING {self._spelled(picks)}")
        return _need(parsed([text for (text,) in cells], picks), self.where)

    def _cells(self, sql: str) -> Sequence[tuple[Any, ...]]:
        with translated(self.where, self._state), self._connection.cursor() as cursor:
            cursor.execute(sql)
            return cursor.fetchall()  # type: ignore[no-any-return]

    def _spelled(self, picks: Sequence[Pick]) -> str:
        """A row as a line of CSV. What is null is left empty; texts stand in quotes."""
        cells = []
        for one in picks:
            if pt.is_string(one.wire):
                cells.append(f"COALESCE(CONCAT('\"', REPLACE({one.expression}, '\"', '\"\"'), '\"'), '')")
            else:
                cells.append(f"COALESCE({one.expression}, '')")
        return f"CONCAT_WS(',', {', '.join(cells)})"

    def query(self, sql: str) -> Iterator[pa.Table]:
        self.run("DROP TEMPORARY TABLE IF EXISTS rmend_query")
        self.run(
            "CREATE TEMPORARY TABLE rmend_query (rmend_n BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY) "
            f"AS {sql.rstrip().rstrip(';')}"  # not within another query, which would not keep its order
        )
        described = [column_of(row) for row in self.ask("SHOW FULL COLUMNS FROM rmend_query")][1:]
        picks = [
            Pick(form.read.format(quoted(column.name)), f"c{i}", form.came or form.wire)
            for i, (column, form) in enumerate(described)
        ]
        last = int(self.ask("SELECT COALESCE(MAX(rmend_n), 0) AS n FROM rmend_query")[0]["n"])
        from ...core.cast import cast

        for start in range(0, last, PAGE_ROWS):
            within = f"FROM rmend_query WHERE rmend_n > {start} AND rmend_n <= {start + PAGE_ROWS}"
            page = self.select(picks, within, "rmend_n")
            columns = [cast(page[f"c{i}"], column)[0] for i, (column, _) in enumerate(described)]
            yield pa.table(columns, names=[column.name for column, _ in described])
        self.run("DROP TEMPORARY TABLE rmend_query")

    # -- rows that go -----------------------------------------------------------------------------------

    @contextmanager
    def staged(self, rows: Rows) -> Iterator[str]:
        names = [f"c{i}" for i in range(len(rows.columns))]
        if len(rows) <= FEW_ROWS and sum(one.values.nbytes for one in rows.columns) < self.packet // 8:
            yield self._few(rows.columns)
            return
        self._stages += 1
        stage = f"rmend_stage_{self._stages}"
        lines = ", ".join(f"{name} {one.form.staged}" for name, one in zip(names, rows.columns, strict=True))
        # it is read once, from its begin to its end: what InnoDB keeps of it takes twice the time
        self.run(f"CREATE TEMPORARY TABLE {stage} ({lines}) ENGINE = Aria TRANSACTIONAL = 0")
        self._load(stage, names, rows)
        yield stage
        self.run(f"DROP TEMPORARY TABLE {stage}")

    def _few(self, columns: Sequence[Cells]) -> str:
        rows = literals([one.values for one in columns], self.bytes_sql)
        end = "" if rows else " LIMIT 0"
        templates = [f"{one.form.literal} AS c{i}" for i, one in enumerate(columns)]
        selects = [
            ", ".join(template.format(value) for template, value in zip(templates, row, strict=True))
            for row in rows or [("NULL",) * len(columns)]
        ]
        return f"({' UNION ALL '.join(f'SELECT {one}' for one in selects)}{end})"

    def load(self, table: Described, names: Sequence[str], rows: Rows) -> None:
        self._load(table.sql, [quoted(name) for name in names], rows)

    def _load(self, into: str, names: Sequence[str], rows: Rows) -> None:
        columns = rows.columns
        if not self._loads:
            self._insert(into, names, columns)
            return
        binary = [pt.is_binary(one.values.type) for one in columns]
        targets = [f"@v{i}" if binary[i] else name for i, name in enumerate(names)]
        sets = ", ".join(f"{n} = UNHEX({t})" for n, t in zip(names, targets, strict=True) if n != t)
        with offered(self._connection, rows.packed or lines_of(columns)) as name:
            sql = (
                f"LOAD DATA LOCAL INFILE {text_sql(name)} INTO TABLE {into} CHARACTER SET utf8mb4 "
                "FIELDS TERMINATED BY ',' OPTIONALLY ENCLOSED BY '\"' ESCAPED BY '' LINES TERMINATED BY 0x0A "
                f"({', '.join(targets)}){f' SET {sets}' if sets else ''}"
            )
            try:
                with translated(self.where, self._state):
                    done = self._run_load(sql)
            except _Forbidden:
                self._loads = False
                self._insert(into, names, columns)
                return
        # LOCAL makes errors of rows into warnings
        warnings = self.ask("SHOW WARNINGS LIMIT 1")
        if done != len(rows) or warnings:
            missing = f"{len(rows) - done} rows were not loaded"
            raise Refused(self.where, warnings[0]["Message"] if warnings else missing)

    def _run_load(self, sql: str) -> int:
        import pymysql

        try:
            with self._connection.cursor() as cursor:
                return int(cursor.execute(sql))
        except pymysql.Error as error:
            if error.args and error.args[0] in _NOT_ALLOWED:
                raise _Forbidden from error
            raise

    def _insert(self, into: str, names: Sequence[str], columns: Sequence[Cells]) -> None:
        """Where the server forbids LOAD DATA LOCAL: statements of many rows."""
        rows = [f"({', '.join(row)})" for row in literals([one.values for one in columns], self.bytes_sql)]
        start = 0
        while start < len(rows):
            end, size = start, 0
            while end < len(rows) and size < _INSERT_BYTES:
                size += len(rows[end])
                end += 1
            self.run(f"INSERT INTO {into} ({', '.join(names)}) VALUES {', '.join(rows[start:end])}")
            start = end

    # -- tables -----------------------------------------------------------------------------------------

    def describe(self, name: str, place: tuple[str, str] | None = None) -> Described | None:
        known, was = self._described.get((name, place), (None, None))
        now = None if known is None else definition(self.ask, known)
        if known is not None and now is not None and now == was:
            return known
        described = describe(self.ask, name, place)
        if described is not None:  # `now` was asked before: what is altered in between is seen next time
            self._described[name, place] = described, now if known is not None and known.sql == described.sql else None
        return described

    def tables(self) -> list[str]:
        rows = self.ask(
            "SELECT TABLE_NAME AS t FROM information_schema.TABLES "
            "WHERE TABLE_SCHEMA = DATABASE() AND TABLE_TYPE = 'BASE TABLE' ORDER BY 1"
        )
        return [row["t"] for row in rows]

    def declare(self, column: Column) -> str:
        return declare(column)

    def declare_key(self, column: Column) -> str:
        bounded = pt.is_string(column.type) and column.length is None  # what has no bounds cannot be a key
        return declare(replace(column, length=_KEY_LENGTH) if bounded else column)

    def has_index(self, table: Described, name: str) -> bool:
        schema, of = (text_sql(one) for one in table.place)
        sql = f"TABLE_SCHEMA = {schema} AND TABLE_NAME = {of} AND INDEX_NAME = {text_sql(name)}"
        rows = self.ask(f"SELECT count(*) AS n FROM information_schema.STATISTICS WHERE {sql}")
        return int(rows[0]["n"]) > 0

    def define(self, sql: str) -> None:
        """Over a connection of its own: MariaDB commits a transaction in which a table is made."""
        if self._other is None:
            self._other = MariaDBLink(self._address)
        self._other.run(sql)


def setting_sql(settings: Mapping[str, str]) -> str:
    """The statement that sets what a connection goes by; the values are SQL."""
    return f"SET SESSION {', '.join(f'{name} = {value}' for name, value in settings.items())}"


class _Forbidden(Exception):
    """The server does not allow LOAD DATA LOCAL."""


def _text(value: Any) -> Any:
    return value.decode() if isinstance(value, bytes) else None if value is None else str(value)


def _need(table: pa.Table | None, where: str) -> pa.Table:
    if table is None:
        raise StoreError(f"{where}: the server's answer cannot be read; is max_allowed_packet large enough for a row?")
    return table
