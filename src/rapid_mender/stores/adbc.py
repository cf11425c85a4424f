"""A connection over ADBC, the Arrow database standard: whole tables in and out, no Python object a cell.

Not the drivers' DB-API: it imports pandas and polars where they are installed, which takes half a second.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager, suppress
from typing import Any

import pyarrow as pa

_MOST_PREPARED = 64


def release(handle: Any) -> None:
    """Close a connection or a database of the driver's. It refuses while something of it is open that an interrupt
    left, and nobody holds: then both end when the error is gone."""
    with suppress(RuntimeError):
        handle.close()


class AdbcLink:
    """One connection to a database, which the caller closes. Errors pass as the driver raises them."""

    def __init__(self, database: Any) -> None:
        from adbc_driver_manager import AdbcConnection

        self._connection = AdbcConnection(database)
        self._prepared: dict[tuple[Any, ...], Any] = {}

    def close(self) -> None:
        while self._prepared:
            release(self._prepared.popitem()[1])
        release(self._connection)

    def cancel(self) -> None:
        """Make an end of what the connection does, from another thread."""
        self._connection.cancel()

    @contextmanager
    def statement(self, sql: str | None = None, bound: pa.Table | None = None, **options: Any) -> Iterator[Any]:
        """A statement that is ready to be run; `bound` has the values of its parameters, row by row."""
        from adbc_driver_manager import AdbcStatement

        with AdbcStatement(self._connection) as statement:
            if options:
                statement.set_options(**options)
            if sql is not None:
                statement.set_sql_query(sql)
                if bound is not None:
                    statement.prepare()
            if bound is not None:
                statement.bind_stream(bound)
            yield statement

    def prepared(self, sql: str, bound: pa.Table, **options: Any) -> Any:
        """A statement that stays prepared, with the values of its parameters. After an error that is not of the
        database's it is of no more use."""
        from adbc_driver_manager import AdbcStatement

        place = (sql, *options.items())
        statement = self._prepared.get(place)
        if statement is None:
            if len(self._prepared) >= _MOST_PREPARED:
                release(self._prepared.pop(next(iter(self._prepared))))
            statement = AdbcStatement(self._connection)
            try:
                statement.set_options(**options)
                statement.set_sql_query(sql)
                statement.prepare()
            except BaseException:
                release(statement)
                raise
            self._prepared[place] = statement
        statement.bind_stream(bound)
        return statement

    def execute(self, sql: str, bound: pa.Table | None = None) -> int:
        """Run a statement. Returns how many rows it affected, or -1 if that is unknown."""
        with self.statement(sql, bound) as statement:
            return int(statement.execute_update())

    def batches(self, sql: str, bound: pa.Table | None = None, **options: Any) -> Iterator[pa.RecordBatch]:
        """The rows of a query, as they come."""
        with self.statement(sql, bound, **options) as statement:
            handle, _ = statement.execute_query()
            with pa.RecordBatchReader._import_from_c(handle.address) as reader:
                yield from reader

    def query(self, sql: str, bound: pa.Table | None = None, **options: Any) -> pa.Table:
        """The rows of a query."""
        with self.statement(sql, bound, **options) as statement:
            handle, _ = statement.execute_query()
            with pa.RecordBatchReader._import_from_c(handle.address) as reader:
                return reader.read_all()

    def ingest(self, table: pa.Table, name: str, create: bool, **options: Any) -> None:
        """Bulk-load a table: into a new temporary one, or into one that is there, by the names of the columns."""
        mode = "adbc.ingest.mode.create" if create else "adbc.ingest.mode.append"
        where = {"adbc.ingest.temporary": "true"} if create else {}
        settings = {"adbc.ingest.target_table": name, "adbc.ingest.mode": mode, **where, **options}
        with self.statement(bound=table, **settings) as statement:
            statement.execute_update()
