"""The ways in which people do it by hand on database servers, each written as well as we know how.

All work in one transaction on equal tables, staged by the fastest load that the database has, and keep the same
history.
"""

from __future__ import annotations

import json
import tempfile
from abc import ABC, abstractmethod
from collections.abc import Sequence
from typing import Any

import pyarrow as pa
import pyarrow.csv as pcsv

from .data import COLUMNS, KEY

REST = COLUMNS[2:]
_NAMES = ", ".join(COLUMNS)
_NEWS, _OLDS = ", ".join(f"new_{c}" for c in COLUMNS), ", ".join(f"old_{c}" for c in COLUMNS)
_FIXED = "batch_no, action, changed, changed_at, actor, application"
_SAME = " AND ".join(f"t.{c} = s.{c}" for c in KEY)
_THEIRS, _MINE = ", ".join(f"t.{c}" for c in COLUMNS), ", ".join(f"s.{c}" for c in COLUMNS)


class Server(ABC):
    """A database server with a table of trees in it, which can be brought back to what it was."""

    types: Sequence[str]
    text: str
    moment: str
    numbered: str
    concat: str

    def __init__(self, table: pa.Table) -> None:
        self.prepare(table)

    @abstractmethod
    def prepare(self, table: pa.Table) -> None:
        """Make the table, once."""

    @abstractmethod
    def reset(self) -> str:
        """Bring the table back; the store URL of it."""

    @abstractmethod
    def drop(self) -> None:
        """Leave nothing behind."""

    @abstractmethod
    def connect(self) -> Any:
        """A DB-API connection, in a transaction."""

    @abstractmethod
    def stage(self, cursor: Any, batch: pa.Table) -> None:
        """The batch in a temporary table `stage`, indexed by the key."""

    @abstractmethod
    def differ(self, one: str, other: str) -> str:
        """Whether two values differ; null equals null."""

    @abstractmethod
    def triggers(self) -> list[str]:
        """Triggers that keep the history of rows that changed."""

    @abstractmethod
    def upsert(self) -> str:
        """The database's own upsert from `stage`."""

    @abstractmethod
    def update_join(self) -> str:
        """UPDATE trees t from stage s where they differ."""

    more: Sequence[str] = ()
    """Columns of numbers behind the others."""

    def shape(self, schema: pa.Schema) -> None:
        self.more = schema.names[len(COLUMNS) :]

    def ddl(self, name: str, more: str = "") -> str:
        columns = ", ".join(f"{c} {t}" for c, t in zip(COLUMNS, self.types, strict=True))
        columns += "".join(f", {c} double precision" for c in self.more)
        return f"CREATE TABLE {name} ({columns}, PRIMARY KEY (district, tag_no)){more}"

    def history(self) -> str:
        sides = ", ".join(f"old_{c} {t}, new_{c} {t}" for c, t in zip(COLUMNS, self.types, strict=True))
        sides = sides.replace(" NOT NULL", "")
        return (
            f"CREATE TABLE trees_history (change_no {self.numbered} PRIMARY KEY, batch_no BIGINT, "
            f"action {self.text} NOT NULL CHECK (action IN ('insert', 'update', 'delete')), changed {self.text}, "
            f"changed_at {self.moment} NOT NULL, actor {self.text}, application {self.text}, {sides})"
        )

    def differs(self) -> str:
        return " OR ".join(self.differ(f"t.{c}", f"s.{c}") for c in REST)

    def changed_json(self, old: str, new: str) -> str:
        cases = [f"CASE WHEN {self.differ(f'{old}.{c}', f'{new}.{c}')} THEN ', \"{c}\"' ELSE '' END" for c in REST]
        joined = f"concat({', '.join(cases)})"
        return f"concat('[', substr({joined}, 3), ']')"

    # -- the ways ---------------------------------------------------------------------------------------

    def row_at_a_time(self, batch: pa.Table) -> None:
        """Look each record up; insert it or update it; note the change."""
        connection = self.connect()
        cursor = connection.cursor()
        cursor.execute(self.history())
        marks = ", ".join(["%s"] * len(COLUMNS))
        select = f"SELECT {_NAMES} FROM trees WHERE district = %s AND tag_no = %s"
        insert = f"INSERT INTO trees ({_NAMES}) VALUES ({marks})"
        update = f"UPDATE trees SET {', '.join(f'{c} = %s' for c in REST)} WHERE district = %s AND tag_no = %s"
        sides = ", ".join([f"old_{c}" for c in COLUMNS] + [f"new_{c}" for c in COLUMNS])
        note = (
            f"INSERT INTO trees_history ({_FIXED}, {sides}) "
            f"VALUES (1, %s, %s, now(), 'bench', 'peer', {marks}, {marks})"
        )
        nothing = (None,) * len(COLUMNS)
        for part in batch.to_batches(max_chunksize=10_000):
            for record in zip(*(column.to_pylist() for column in part.columns), strict=True):
                cursor.execute(select, record[:2])
                old = cursor.fetchone()
                if old is None:
                    cursor.execute(insert, record)
                    cursor.execute(note, ("insert", None, *nothing, *record))
                elif tuple(old) != record:
                    changed = [c for c, a, b in zip(COLUMNS, old, record, strict=True) if a != b]
                    cursor.execute(update, (*record[2:], *record[:2]))
                    cursor.execute(note, ("update", json.dumps(changed), *old, *record))
        connection.commit()
        connection.close()

    def plain_upsert(self, batch: pa.Table) -> None:
        """The database's own upsert; no history."""
        self._upsert(batch, False)

    def upsert_with_triggers(self, batch: pa.Table) -> None:
        """The database's own upsert; triggers keep the history, of rows that changed."""
        self._upsert(batch, True)

    def _upsert(self, batch: pa.Table, noted: bool) -> None:
        connection = self.connect()
        cursor = connection.cursor()
        for statement in [self.history(), *self.triggers()] if noted else ():
            cursor.execute(statement)
        self.stage(cursor, batch)
        cursor.execute(self.upsert())
        connection.commit()
        connection.close()

    def set_based_sql(self, batch: pa.Table) -> None:
        """Stage; history of what will change; update by join; history of what is new; insert it."""
        connection = self.connect()
        cursor = connection.cursor()
        cursor.execute(self.history())
        self.stage(cursor, batch)
        cursor.execute(
            f"INSERT INTO trees_history ({_FIXED}, {_OLDS}, {_NEWS}) "
            f"SELECT 1, 'update', {self.changed_json('t', 's')}, now(), 'bench', 'peer', "
            f"{_THEIRS}, {_MINE} FROM stage AS s JOIN trees AS t ON {_SAME} "
            f"WHERE {self.differs()}"
        )
        cursor.execute(self.update_join())
        new = f"FROM stage AS s LEFT JOIN trees AS t ON {_SAME} WHERE t.tag_no IS NULL"
        cursor.execute(
            f"INSERT INTO trees_history ({_FIXED}, {_NEWS}) "
            f"SELECT 1, 'insert', NULL, now(), 'bench', 'peer', {_MINE} {new}"
        )
        cursor.execute(f"INSERT INTO trees ({_NAMES}) SELECT {_MINE} {new}")
        connection.commit()
        connection.close()

    def state(self) -> tuple[Any, ...]:
        """What must come out the same whichever way was taken."""
        connection = self.connect()
        cursor = connection.cursor()
        cursor.execute("SELECT count(*), sum(tag_no), sum(girth_cm), sum(height_m), max(surveyed_on) FROM trees")
        count, numbers, *sums, day = cursor.fetchone()
        cursor.execute("SELECT action, changed, count(*) FROM trees_history GROUP BY 1, 2 ORDER BY 1, 2")
        actions = [tuple(row) for row in cursor.fetchall()]
        connection.rollback()
        connection.close()
        return count, int(numbers), *(round(float(one), 1) for one in sums), str(day), actions


class PostgreSQL(Server):
    types = (
        "text NOT NULL",
        "bigint NOT NULL",
        "text NOT NULL",
        "double precision",
        "double precision",
        "text",
        "text",
        "date",
    )
    text, moment, numbered = "text", "timestamptz(3)", "bigint GENERATED BY DEFAULT AS IDENTITY"
    server = "postgresql://postgres@127.0.0.1:5432"

    def admin(self, *statements: str) -> None:
        import psycopg

        with psycopg.connect(f"{self.server}/postgres", autocommit=True) as connection:
            for statement in statements:
                connection.execute(statement)

    def prepare(self, table: pa.Table) -> None:
        self.admin("DROP DATABASE IF EXISTS rmend_bench_base WITH (FORCE)", "CREATE DATABASE rmend_bench_base")
        from adbc_driver_postgresql import dbapi

        with (
            dbapi.connect(f"{self.server}/rmend_bench_base", autocommit=True) as connection,
            connection.cursor() as cursor,
        ):
            cursor.execute(self.ddl("trees", " WITH (autovacuum_enabled = false)"))
            cursor.adbc_ingest("trees", table, mode="append")
            cursor.execute("VACUUM (FREEZE, ANALYZE) trees")

    def reset(self) -> str:
        self.admin(
            "DROP DATABASE IF EXISTS rmend_bench WITH (FORCE)",
            "CREATE DATABASE rmend_bench TEMPLATE rmend_bench_base STRATEGY FILE_COPY",
            "CHECKPOINT",
        )
        return f"{self.server}/rmend_bench"

    def drop(self) -> None:
        self.admin(*(f"DROP DATABASE IF EXISTS {name} WITH (FORCE)" for name in ("rmend_bench", "rmend_bench_base")))

    def connect(self) -> Any:
        import psycopg

        return psycopg.connect(f"{self.server}/rmend_bench")

    def stage(self, cursor: Any, batch: pa.Table) -> None:
        types = ", ".join(f"{c} {t}" for c, t in zip(COLUMNS, self.types, strict=True))
        cursor.execute(f"CREATE TEMP TABLE stage ({types})")
        # binary COPY as the driver for Arrow does it, and text COPY, take the same time; this is one connection
        with tempfile.TemporaryFile() as file, cursor.copy(f"COPY stage ({_NAMES}) FROM STDIN (FORMAT csv)") as copy:
            pcsv.write_csv(batch, file, pcsv.WriteOptions(include_header=False))
            file.seek(0)
            while data := file.read(1 << 20):
                copy.write(data)
        cursor.execute(f"CREATE UNIQUE INDEX ON stage ({', '.join(KEY)})")
        cursor.execute("ANALYZE stage")

    def differ(self, one: str, other: str) -> str:
        return f"{one} IS DISTINCT FROM {other}"

    def triggers(self) -> list[str]:
        news, olds = ", ".join(f"NEW.{c}" for c in COLUMNS), ", ".join(f"OLD.{c}" for c in COLUMNS)
        body = (
            f"BEGIN IF TG_OP = 'INSERT' THEN INSERT INTO trees_history ({_FIXED}, {_NEWS}) "
            f"VALUES (1, 'insert', NULL, now(), 'bench', 'peer', {news}); ELSE INSERT INTO trees_history "
            f"({_FIXED}, {_OLDS}, {_NEWS}) VALUES (1, 'update', {self.changed_json('OLD', 'NEW')}, now(), 'bench', "
            f"'peer', {olds}, {news}); END IF; RETURN NULL; END"
        )
        make = "CREATE TRIGGER trees_{0} AFTER {0} ON trees FOR EACH ROW {1} EXECUTE FUNCTION trees_noted()"
        return [
            f"CREATE FUNCTION trees_noted() RETURNS trigger LANGUAGE plpgsql AS $$ {body} $$",
            make.format("insert", ""),
            make.format("update", "WHEN (OLD.* IS DISTINCT FROM NEW.*)"),
        ]

    def upsert(self) -> str:
        sets = ", ".join(f"{c} = excluded.{c}" for c in REST)
        into = f"INSERT INTO trees ({_NAMES}) SELECT {_NAMES} FROM stage"
        return f"{into} ON CONFLICT (district, tag_no) DO UPDATE SET {sets}"

    def update_join(self) -> str:
        sets = ", ".join(f"{c} = s.{c}" for c in REST)
        return f"UPDATE trees AS t SET {sets} FROM stage AS s WHERE {_SAME} AND ({self.differs()})"


class MariaDB(Server):
    types = (
        "varchar(20) NOT NULL", "bigint NOT NULL", "varchar(40) NOT NULL", "double", "double", "varchar(10)",
        "varchar(40)", "date",
    )  # fmt: skip
    text, moment, numbered = "varchar(120)", "datetime(3)", "bigint AUTO_INCREMENT"
    address = {"host": "127.0.0.1", "user": "root", "local_infile": True, "charset": "utf8mb4"}  # noqa: RUF012

    def admin(self, *statements: str) -> None:
        import pymysql

        connection = pymysql.connect(**self.address, autocommit=True)  # type: ignore[arg-type]
        with connection, connection.cursor() as cursor:
            for statement in statements:
                cursor.execute(statement)

    def prepare(self, table: pa.Table) -> None:
        collated = " DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin"
        self.admin("DROP DATABASE IF EXISTS rmend_bench", f"CREATE DATABASE rmend_bench{collated}")
        connection = self.connect()
        with connection, connection.cursor() as cursor:
            cursor.execute(self.ddl("base"))
            ordered = table.sort_by([(name, "ascending") for name in KEY])
            for start in range(0, ordered.num_rows, 100_000):  # one large load would fill the server's log
                self._load(cursor, "base", ordered.slice(start, 100_000))
                connection.commit()

    def reset(self) -> str:
        self.admin(
            *(f"DROP TABLE IF EXISTS rmend_bench.{name}" for name in ("trees", "trees_history", "rmend_batches")),
            "CREATE TABLE rmend_bench.trees LIKE rmend_bench.base",
            "INSERT INTO rmend_bench.trees SELECT * FROM rmend_bench.base ORDER BY district, tag_no",
            "ANALYZE TABLE rmend_bench.trees",
        )
        return "mariadb://root@127.0.0.1/rmend_bench"

    def drop(self) -> None:
        self.admin("DROP DATABASE rmend_bench")

    def connect(self) -> Any:
        import pymysql

        return pymysql.connect(**self.address, database="rmend_bench")  # type: ignore[arg-type]

    def _load(self, cursor: Any, name: str, table: pa.Table) -> None:
        with tempfile.NamedTemporaryFile() as file:
            pcsv.write_csv(table, file, pcsv.WriteOptions(include_header=False))
            file.flush()
            cursor.execute(
                f"LOAD DATA LOCAL INFILE '{file.name}' INTO TABLE {name} CHARACTER SET utf8mb4 "
                f"FIELDS TERMINATED BY ',' OPTIONALLY ENCLOSED BY '\"' ({', '.join(table.column_names)})"
            )

    def stage(self, cursor: Any, batch: pa.Table) -> None:
        cursor.execute(self.ddl("stage").replace("CREATE TABLE", "CREATE TEMPORARY TABLE"))
        self._load(cursor, "stage", batch)

    def differ(self, one: str, other: str) -> str:
        return f"NOT ({one} <=> {other})"

    def triggers(self) -> list[str]:
        news, olds = ", ".join(f"NEW.{c}" for c in COLUMNS), ", ".join(f"OLD.{c}" for c in COLUMNS)
        differs = " OR ".join(self.differ(f"OLD.{c}", f"NEW.{c}") for c in REST)
        return [
            f"CREATE TRIGGER trees_inserted AFTER INSERT ON trees FOR EACH ROW INSERT INTO trees_history "
            f"({_FIXED}, {_NEWS}) VALUES (1, 'insert', NULL, now(3), 'bench', 'peer', {news})",
            f"CREATE TRIGGER trees_updated AFTER UPDATE ON trees FOR EACH ROW BEGIN IF {differs} THEN "
            f"INSERT INTO trees_history ({_FIXED}, {_OLDS}, {_NEWS}) VALUES (1, 'update', "
            f"{self.changed_json('OLD', 'NEW')}, now(3), 'bench', 'peer', {olds}, {news}); END IF; END",
        ]

    def upsert(self) -> str:
        sets = ", ".join(f"{c} = VALUES({c})" for c in REST)
        return f"INSERT INTO trees ({_NAMES}) SELECT {_NAMES} FROM stage ON DUPLICATE KEY UPDATE {sets}"

    def update_join(self) -> str:
        sets = ", ".join(f"t.{c} = s.{c}" for c in REST)
        return f"UPDATE stage AS s JOIN trees AS t ON {_SAME} SET {sets} WHERE {self.differs()}"
