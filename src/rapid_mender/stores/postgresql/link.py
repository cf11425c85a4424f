"""One connection to PostgreSQL, over ADBC: staging by binary COPY, errors in our words."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from typing import Any

import pyarrow as pa

from ...core.cast import plain
from ...core.schema import Column
from ...errors import StoreError
from ..adbc import AdbcLink
from ..sql.link import Cells, Described, Pick, Rows, SQLLink
from ..sql.text import literals, name_sql, text_sql
from ..waiting import in_words
from .catalog import BLOCKS, HIDDEN, INDEXED, NAMES, QUESTIONS, SEQUENCES, WAITS, WRITERS, op
from .errors import translated
from .tables import declare, described, numeric_type, spellings

_DIRECT = {"adbc.postgresql.use_copy": "false"}  # a statement that COPY cannot wrap, or whose error we want to know
SETTINGS = {
    "standard_conforming_strings": "on",
    "client_min_messages": "warning",
    "plan_cache_mode": "force_generic_plan",
    "jit": "off",
    "constraint_exclusion": "partition",  # else planning a look at a table may run what its owner checks with
    "work_mem": "64MB",
    # a page in no order costs little more than the next one on today's disks; else a few rows of a large table are
    # sought by reading all of it
    "random_page_cost": "1.1",
}
_OWN_TYPES = ("numeric", "interval", "json", "jsonb", "uuid", "money", "oid", "bpchar")


class PostgreSQLLink(SQLLink):
    bytes_sql = "'\\x{}'"

    def __init__(self, where: str, database: Any, statement_timeout: float | None) -> None:
        self.where = where
        self._stages = 0
        self._path: str | None = None
        """A search path in which nothing stands before what is PostgreSQL's own, where it had to be made."""
        self.encoding = ""
        self._prepared: set[str] = set()
        self._described: dict[tuple[str, tuple[str, str] | None], tuple[str, Described]] = {}
        self._timeout = statement_timeout
        with translated(where):
            self._adbc = self._connect(database)
        told = [
            Pick("pg_catalog.current_setting('server_encoding')", "encoding", pa.string()),
            Pick("pg_catalog.pg_backend_pid()", "process", pa.int32()),
            Pick("pg_catalog.array_to_json(pg_catalog.current_schemas(false))::pg_catalog.text", "path", pa.string()),
        ]
        try:
            self._settle()
            answer = self.select(told, "").to_pylist()[0]
            self.encoding, path, self.process = answer["encoding"], json.loads(answer["path"]), answer["process"]
            if "pg_catalog" in path[1:]:  # what stands before it would be taken for its own
                path = [schema for schema in path if schema != "pg_catalog"]
                self._path = ", ".join(map(name_sql, path))
                self.run(f"SELECT {setting_sql('search_path', self._path, self.in_caller)}")
            self.schema = path[0] if path else ""
        except BaseException:
            self.close()
            raise

    def _connect(self, database: Any) -> Any:
        """The driver's connection."""
        return AdbcLink(database)

    def _settle(self) -> None:
        """Set what the connection needs; that of somebody else only for its transaction."""
        settings = dict(SETTINGS)
        if self._timeout is not None:
            settings["statement_timeout"] = str(int(self._timeout * 1000))
        if self._path is not None:
            settings["search_path"] = self._path
        self.run(settling_sql(settings, self.in_caller))

    def waits(self, other: PostgreSQLLink, table: str, turn: str) -> str | None:
        del turn
        with translated(self.where):
            waiting = self._adbc.query(WAITS.format(other.process)).to_pylist()
        holders = [(one["who"], one["since"]) for one in waiting]
        return in_words(table, holders, any(one["turn"] for one in waiting)) if waiting else None

    def close(self) -> None:
        self._adbc.close()

    def cancel(self) -> None:
        with suppress(StoreError), translated(self.where):
            self._adbc.cancel()

    def fits(self, name: str) -> bool:
        return len(name.encode()) <= 63

    def name_sql(self, name: str) -> str:
        return name_sql(name)

    def op(self, sign: str) -> str:
        return op(sign)

    def call(self, function: str) -> str:
        return f"pg_catalog.{function}"

    def run(self, sql: str) -> int:
        with translated(self.where, sql):
            return self._adbc.execute(sql)

    def select(self, picks: Sequence[Pick], rest: str, number: str | None = None, end: str = "") -> pa.Table:
        with translated(self.where):
            return _bare(self._adbc.query(f"SELECT {_listed(picks)} {rest}{end}"))

    def tried(self, picks: Sequence[Pick], rest: str, number: str) -> pa.Table:
        with translated(self.where):
            return _bare(self._adbc.query(f"SELECT {_listed(picks)} {rest}", **_DIRECT))

    def fetch_next(self, cursor: str, count: int) -> pa.Table:
        """The next rows of a cursor."""
        with translated(self.where):
            return _bare(self._adbc.query(f"FETCH {count} FROM {cursor}", **_DIRECT))

    def returning(self, sql: str, picks: Sequence[Pick]) -> pa.Table:
        with translated(self.where, sql):
            return _bare(self._adbc.query(f"{sql} RETURNING {_listed(picks)}", **_DIRECT))

    @contextmanager
    def staged(self, rows: Rows) -> Iterator[str]:
        columns = rows.columns
        names = [f"c{i}" for i in range(len(columns))]
        if len(rows) <= self.few_rows:
            yield f"({self._values(columns)} AS v ({', '.join(names)}))"
            return
        self._stages += 1
        stage = f"rmend_stage_{self._stages}"
        with translated(self.where):
            self._adbc.ingest(pa.table([one.values for one in columns], names=names), stage, create=True)
        self.run(f"ANALYZE pg_temp.{stage}")  # else the planner reads the whole of a large table for a few rows
        yield f"pg_temp.{stage}"
        self.run(f"DROP TABLE pg_temp.{stage}")

    def _values(self, columns: Sequence[Cells]) -> str:
        rows = literals([one.values for one in columns], self.bytes_sql)
        empty = "" if rows else " WHERE false"
        first = rows[0] if rows else ["NULL"] * len(columns)
        typed = ", ".join(one.form.literal.format(v) for v, one in zip(first, columns, strict=True))
        others = "".join(f", ({', '.join(row)})" for row in rows[1:])
        marks = ", ".join(f"w{i}" for i in range(len(columns)))
        return f"SELECT * FROM (SELECT * FROM (VALUES ({typed}){others}) AS w ({marks}){empty})"

    def load(self, table: Described, names: Sequence[str], rows: Rows) -> None:
        values = pa.table([one.values for one in rows.columns], names=list(names))
        with translated(self.where, "INSERT"):
            schema, name = table.place
            self._adbc.ingest(values, name, create=False, **{"adbc.ingest.target_db_schema": schema})

    def describe(self, name: str, place: tuple[str, str] | None = None) -> Described | None:
        for question, schema, table in spellings(name) if place is None else [("rmend_exact", *place)]:
            if question not in self._prepared:  # planning it takes longer than running it
                self.run(f"PREPARE {question} (pg_catalog.text, pg_catalog.text) AS {QUESTIONS[question]}")
                self._prepared.add(question)
            named = f"{text_sql(schema) if schema is not None else 'NULL'}, {text_sql(table)}"
            with translated(self.where):
                answer = self._adbc.query(f"EXECUTE {question} ({named})", **_DIRECT)
            if answer.num_rows:
                text = answer["found"][0].as_py()
                if self._described.get((name, place), ("",))[0] != text:
                    self._described[name, place] = text, described(text)
                return self._described[name, place][1]
        return None

    def sequences(self, table: int) -> list[dict[str, Any]]:
        """What counts for the columns of a table, by its number in the catalogue."""
        with translated(self.where):
            return list(self._adbc.query(SEQUENCES.format(table)).to_pylist())

    def answer(self, sql: str) -> list[dict[str, Any]]:
        """The few rows of a question to the catalogue."""
        with translated(self.where):
            return list(self._adbc.query(sql, **_DIRECT).to_pylist())

    def blocks(self, table: int) -> int | None:
        """The blocks of a table, of the largest of its parts; None if it cannot be read by spans of blocks."""
        with translated(self.where):
            answer = self._adbc.query(BLOCKS.format(table)).to_pylist()[0]
        return int(answer["blocks"]) if answer["may"] else None

    def writers(self, table: str) -> dict[str, str]:
        """The transactions that write to a table, by its number in the catalogue; and who they are."""
        with translated(self.where):
            answer = self._adbc.query(WRITERS.format(table))
        return dict(zip(answer["number"].to_pylist(), answer["who"].to_pylist(), strict=True))

    def schema_that_hides(self, name: str) -> str | None:
        """A schema that has a table of a name, but which the user may not use."""
        with translated(self.where):
            schemas = self._adbc.query(HIDDEN.format(text_sql(name.rpartition(".")[2])))
        return str(schemas["schema"][0].as_py()) if schemas.num_rows else None

    def tables(self) -> list[str]:
        with translated(self.where):
            return [str(name) for name in self._adbc.query(NAMES)["name"].to_pylist()]

    def declare(self, column: Column) -> str:
        return declare(column)

    def has_index(self, table: Described, name: str) -> bool:
        with translated(self.where):
            sql = INDEXED.format(text_sql(table.place[0]), text_sql(table.place[1]), text_sql(name))
            return bool(self._adbc.query(sql).num_rows)

    def define(self, sql: str) -> None:
        self.run(sql)

    def query(self, sql: str) -> Iterator[pa.Table]:
        inner = f"({sql.rstrip().rstrip(';')}\n) AS q"
        with translated(self.where):
            shape = self._adbc.query(f"SELECT * FROM {inner} LIMIT 0").schema
        picked = []
        kinds: list[pa.DataType | None] = []
        for field in shape:
            about = field.metadata or {}
            kind = about.get(b"POSTGRESQL:type", b"").decode()
            native = not isinstance(field.type, pa.BaseExtensionType) and not pa.types.is_nested(field.type)
            as_text = "" if native and kind not in _OWN_TYPES else "::pg_catalog.text"
            picked.append(f"{name_sql(field.name)}{as_text}")
            kinds.append(numeric_type(int(about.get(b"POSTGRESQL:typmod", b"-1"))) if kind == "numeric" else None)
        if len(set(shape.names)) < len(shape.names):
            raise StoreError("two columns of the query have one name; name them apart with AS")
        with translated(self.where):
            for batch in self._adbc.batches(f"SELECT {', '.join(picked)} FROM {inner}"):
                columns = [plain(column) for column in batch.columns]
                yield pa.table([_typed(c, k) for c, k in zip(columns, kinds, strict=True)], names=shape.names)


def settling_sql(settings: Mapping[str, str], local: bool) -> str:
    """What sets what the connection goes by; one that is not somebody else's (`local`) gets a name, if it has none."""
    calls = [setting_sql(name, value, local) for name, value in settings.items()]
    if not local:
        given = "pg_catalog.current_setting('application_name')"
        named = f"CASE WHEN {given} {op('=')} '' THEN 'rmend' ELSE {given} END"
        calls.append(f"pg_catalog.set_config('application_name', {named}, false)")
    return f"SELECT {', '.join(calls)}"


def setting_sql(name: str, value: str, local: bool) -> str:
    """A call that sets what the connection goes by; `local`: for the transaction only."""
    return f"pg_catalog.set_config({text_sql(name)}, {text_sql(value)}, {'true' if local else 'false'})"


def _listed(picks: Sequence[Pick]) -> str:
    return ", ".join(f"{one.expression} AS {one.alias}" for one in picks)


def _bare(table: pa.Table) -> pa.Table:
    """Without the driver's extension types and the fields' metadata."""
    return pa.table([plain(column) for column in table.columns], names=table.column_names)


def _typed(values: pa.Array, kind: pa.DataType | None) -> pa.Array:
    """Numbers that came as text as decimals, where all of them can be."""
    if kind is not None:
        try:
            return values.cast(kind)
        except pa.ArrowInvalid:
            pass
    return values
