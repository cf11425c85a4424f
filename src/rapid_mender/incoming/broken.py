"""Records that could not be split into values: kept in a temporary file when they are many."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

import pyarrow as pa

from .spool import Spool

_AT_ONCE = 10_000
_SCHEMA = pa.schema([("row", pa.int64()), ("reason", pa.string()), ("text", pa.string())])


class Broken(NamedTuple):
    """A record that could not be split into values: where, why, and its text as it came."""

    row: int
    reason: str
    text: str


class BrokenRecords:
    """Broken records, in the order in which they were found."""

    def __init__(self) -> None:
        self._newest: list[Broken] = []
        self._spool = Spool()

    def __len__(self) -> int:
        return self._spool.rows + len(self._newest)

    def append(self, one: Broken) -> None:
        self._newest.append(one)
        if len(self._newest) >= _AT_ONCE:
            self._spool.put(self._table())
            self._newest.clear()

    def extend(self, several: Iterable[Broken]) -> None:
        for one in several:
            self.append(one)

    def _table(self) -> pa.Table:
        columns = [
            pa.array(part, field.type) for part, field in zip(zip(*self._newest, strict=True), _SCHEMA, strict=True)
        ]
        return pa.table(columns, schema=_SCHEMA)

    def __iter__(self) -> Iterator[Broken]:
        for table in self.tables():
            yield from map(Broken, *(column.to_pylist() for column in table.columns))

    def tables(self) -> Iterator[pa.Table]:
        """All of them, as tables of row, reason and text."""
        yield from self._spool
        if self._newest:
            yield self._table()

    def close(self) -> None:
        self._spool.close()
