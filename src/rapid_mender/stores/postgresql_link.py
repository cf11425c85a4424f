"""One connection to PostgreSQL, over ADBC: staging by binary COPY, errors in our words."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any

import pyarrow as pa

from ..core.cast import plain
from ..core.schema import Column
from ..errors import StoreError
from .adbc import AdbcLink
from .base import Conflict, Refused, without_password
from .postgresql_tables import NAMES, declare, described, numeric_type, questions
from .sql_link import Cells, Described, Lost, Pick, SQLLink
from .sql_text import literals, name_sql, text_sql

_DIRECT = {"adbc.postgresql.use_copy": "false"}  # a statement that COPY cannot wrap, or whose error we want to know
_RETRY = ("40001", "40P01")
_SETTINGS = {"standard_conforming_strings": "on", "client_min_messages": "warning"}
_OWN_TYPES = ("numeric", "interval", "json", "jsonb", "uuid", "money", "oid", "bpchar")
_GRANTS = (
    (r"permission denied to create temporary tables in database (\S+)", "GRANT TEMPORARY ON DATABASE {0} TO {user}"),
    (r"permission denied for schema (\S+)", "GRANT USAGE, CREATE ON SCHEMA {0} TO {user}"),
    (r"permission denied for sequence (\S+)", "GRANT USAGE, SELECT ON SEQUENCE {0} TO {user}"),
    (r"permission denied for (?:table|view) (\S+)", "GRANT SELECT, INSERT, UPDATE, DELETE ON {0} TO {user}"),
    (r"must be owner of (?:table|relation|view) (\S+)", "let the owner of {0} merge once, or make {user} its owner"),
)


class PostgreSQLLink(SQLLink):
    def __init__(self, url: str, statement_timeout: float | None) -> None:
        try:
            import adbc_driver_postgresql
        except ImportError as error:
            raise StoreError(
                "PostgreSQL needs a driver that is not installed; run: pip install 'rapid-mender[postgresql]'"
            ) from error
        self.where = without_password(url.split("?")[0])
        self._stages = 0
        with self._translated():
            self._adbc = AdbcLink(adbc_driver_postgresql.connect(url))
        settings = dict(_SETTINGS)
        if statement_timeout is not None:
            settings["statement_timeout"] = str(int(statement_timeout * 1000))
        calls = ", ".join(f"set_config({text_sql(name)}, {text_sql(value)}, false)" for name, value in settings.items())
        self.run(f"SELECT {calls}")

    def close(self) -> None:
        self._adbc.close()

    def name_sql(self, name: str) -> str:
        return name_sql(name)

    def run(self, sql: str) -> int:
        with self._translated():
            return self._adbc.execute(sql)

    def select(self, picks: Sequence[Pick], rest: str) -> pa.Table:
        with self._translated():
            return _bare(self._adbc.query(f"SELECT {_listed(picks)} {rest}"))

    def fetch_next(self, cursor: str, count: int) -> pa.Table:
        """The next rows of a cursor."""
        with self._translated():
            return _bare(self._adbc.query(f"FETCH {count} FROM {cursor}", **_DIRECT))

    def returning(self, sql: str, picks: Sequence[Pick]) -> pa.Table:
        with self._translated():
            return _bare(self._adbc.query(f"{sql} RETURNING {_listed(picks)}", **_DIRECT))

    @contextmanager
    def staged(self, columns: Sequence[Cells]) -> Iterator[str]:
        names = [f"c{i}" for i in range(len(columns))]
        if len(columns[0].values) <= self.few_rows:
            yield f"({self._values(columns)} AS v ({', '.join(names)}))"
            return
        self._stages += 1
        stage = f"rmend_stage_{self._stages}"
        with self._translated():
            self._adbc.ingest(pa.table([one.values for one in columns], names=names), stage, create=True)
        yield f"pg_temp.{stage}"
        self.run(f"DROP TABLE pg_temp.{stage}")

    def _values(self, columns: Sequence[Cells]) -> str:
        rows = literals([one.values for one in columns], "'\\x{}'")
        empty = "" if rows else " WHERE false"
        first = rows[0] if rows else ["NULL"] * len(columns)
        typed = ", ".join(f"{v}::{one.form.staged}" for v, one in zip(first, columns, strict=True))
        others = "".join(f", ({', '.join(row)})" for row in rows[1:])
        marks = ", ".join(f"w{i}" for i in range(len(columns)))
        return f"SELECT * FROM (SELECT * FROM (VALUES ({typed}){others}) AS w ({marks}){empty})"

    def load(self, table: Described, names: Sequence[str], columns: Sequence[Cells]) -> None:
        rows = pa.table([one.values for one in columns], names=list(names))
        with self._translated():
            name = table.extra["name"]
            self._adbc.ingest(rows, name, create=False, **{"adbc.ingest.target_db_schema": table.extra["schema"]})

    def describe(self, name: str) -> Described | None:
        for sql in questions(name):
            with self._translated():
                found = self._adbc.query(sql)
            if found.num_rows:
                return described(found["found"][0].as_py())
        return None

    def tables(self) -> list[str]:
        with self._translated():
            return [str(name) for name in self._adbc.query(NAMES)["name"].to_pylist()]

    def declare(self, column: Column) -> str:
        return declare(column)

    def define(self, sql: str) -> None:
        self.run(sql)

    def query(self, sql: str) -> Iterator[pa.Table]:
        inner = f"({sql.rstrip().rstrip(';')}\n) AS q"
        with self._translated():
            shape = self._adbc.query(f"SELECT * FROM {inner} LIMIT 0").schema
        picked = []
        kinds: list[pa.DataType | None] = []
        for field in shape:
            about = field.metadata or {}
            kind = about.get(b"POSTGRESQL:type", b"").decode()
            native = not isinstance(field.type, pa.BaseExtensionType) and not pa.types.is_nested(field.type)
            picked.append(
                name_sql(field.name) if native and kind not in _OWN_TYPES else f"{name_sql(field.name)}::text"
            )
            kinds.append(numeric_type(int(about.get(b"POSTGRESQL:typmod", b"-1"))) if kind == "numeric" else None)
        if len(set(shape.names)) < len(shape.names):
            raise StoreError("two columns of the query have one name; name them apart with AS")
        with self._translated():
            for batch in self._adbc.batches(f"SELECT {', '.join(picked)} FROM {inner}"):
                columns = [plain(column) for column in batch.columns]
                yield pa.table([_typed(c, k) for c, k in zip(columns, kinds, strict=True)], names=shape.names)

    # -- errors in our words ----------------------------------------------------------------------------

    @contextmanager
    def _translated(self) -> Iterator[None]:
        import adbc_driver_manager

        try:
            yield
        except (adbc_driver_manager.Error, pa.ArrowException, OSError) as error:
            raise self._in_words(error) from error

    def _in_words(self, error: Any) -> StoreError:
        text = str(error)
        told = {name: value.decode(errors="replace") for name, value in getattr(error, "details", None) or ()}
        state = getattr(error, "sqlstate", None) or told.get("PG_DIAG_SQLSTATE") or ""
        if not told and (match := re.search(r"(?:ERROR|FATAL):  (.*?)(?:\n|$)", text)):
            told["PG_DIAG_MESSAGE_PRIMARY"] = match[1]
        text = re.sub(r"^[A-Z_]+: (\[libpq\] )?", "", text)
        what = told.get("PG_DIAG_MESSAGE_PRIMARY") or re.sub(r"\. SQLSTATE: \w+$", "", text).strip()
        detail = told.get("PG_DIAG_MESSAGE_DETAIL", "").rstrip(".")
        what = without_password(what)
        if state in _RETRY or "could not serialize access" in what:
            return Conflict(f"{self.where}: another program changed the same rows meanwhile ({what})")
        if state[:2] in ("22", "23") or state == "P0001":
            constraint = told.get("PG_DIAG_CONSTRAINT_NAME", "")
            return Refused(self.where, f"{what}: {detail}" if detail else what, constraint, unique=state == "23505")
        if state in ("42P07", "42710") and "rmend" in what + text:
            return Conflict(f"{self.where}: another merge made the same table meanwhile ({what})")
        if state == "42501":
            return StoreError(f"{self.where}: {what}; {self._grant(what)}")
        if state == "57014":
            return StoreError(
                f"{self.where}: {what}; the run was undone; raise statement_timeout in the store URL, "
                "or set commit_every"
            )
        if state[:2] in ("08", "57") or (not state and _gone(text)):
            return Lost(
                f"{self.where}: the connection was lost ({what}); what was not committed is undone; "
                "run again when the server answers"
            )
        if "no password supplied" in text or state[:2] == "28":
            return StoreError(f"{self.where}: {what}; check the user and the password in the store URL")
        return StoreError(f"{self.where}: the database refused: {what}{f': {detail}' if detail else ''}")

    def _grant(self, what: str) -> str:
        user = re.search(r"://([^@/]*)@", self.where)
        for pattern, mend in _GRANTS:
            if match := re.search(pattern, what):
                name = user[1].split(":")[0] if user else "the user"
                return mend.format(match[1].strip('"') if "{0}" in mend else "", user=name)
        return "see docs/servers.md for the rights that a merge needs"


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


_GONE = (
    "server closed the connection", "no connection to the server", "terminating connection", "connection to server",
    "could not connect", "Connection refused", "SSL SYSCALL", "bad connection",
)  # fmt: skip


def _gone(text: str) -> bool:
    return any(sign in text for sign in _GONE)
