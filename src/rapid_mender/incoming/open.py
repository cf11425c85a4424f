"""Anything that holds records as a Source."""

from __future__ import annotations

import gzip
import os
import zlib
from collections.abc import Iterable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa

from ..core.frames import as_table, checked
from ..errors import IncomingError
from .chunks import Chunk, Options, Source
from .csv import CsvFile
from .jsonl import JsonLinesFile, dict_chunks
from .python import as_records, gathered
from .query import Query, QueryRows
from .rejected import own_options

_ROWS = 1 << 16
_ENDINGS = "'.csv', '.tsv', '.jsonl', '.ndjson' (each also with '.gz') or '.parquet'"


def open_incoming(incoming: Any, options: Options | None = None) -> Source:
    """A Source over a path, a frame, dicts, or an iterable of record batches.

    Raises IncomingError if there is no such file, its ending is unknown, or the object holds no records.
    """
    if isinstance(incoming, Source):
        return incoming
    if isinstance(incoming, Query):
        return QueryRows("the rows of a query", query=incoming)
    if isinstance(incoming, str | os.PathLike):
        return _file(os.fspath(incoming), options or Options())
    if isinstance(incoming, dict):
        raise IncomingError("a dict is one record; put it into a list: [record]")
    if isinstance(incoming, list | tuple) and not all(hasattr(one, "__arrow_c_array__") for one in incoming):
        return Dicts("the records", records=as_records(incoming))
    if hasattr(incoming, "read_next_batch"):
        return Batches("the stream", batches=iter(incoming))
    table = as_table(incoming)
    if table is not None:
        return Frame("the frame", table=table) if isinstance(table, pa.Table) else Dicts("the frame", records=table)
    if isinstance(incoming, Iterable) and not isinstance(incoming, str | bytes):
        return Batches("the iterator", batches=iter(incoming))
    raise IncomingError(
        f"records cannot be read from {type(incoming).__name__}; give a path, an Arrow, pandas or polars frame, "
        "a list of records (dicts, or objects with fields), or an iterator of any of these"
    )


def _file(path: str, options: Options) -> Source:
    if not os.path.exists(path):
        raise IncomingError(f"there is no file {path}")
    if not os.path.isfile(path):
        raise IncomingError(f"{path} is not a file")
    if not os.access(path, os.R_OK):
        raise IncomingError(f"{path} cannot be read by this user; change the rights on it")
    name = path.lower().removesuffix(".gz")
    if name.endswith((".csv", ".tsv", ".txt")):
        if name.endswith(".tsv") and options.delimiter == ",":
            options = Options("\t", options.encoding, options.nulls)
        with suppress(OSError, EOFError, zlib.error), (gzip.open if name != path.lower() else open)(path, "rb") as file:
            options = own_options(file.read(64), options)
        return CsvFile(path, path=path, options=options)
    if name.endswith((".jsonl", ".ndjson")):
        return JsonLinesFile(path, path=path)
    if name.endswith((".parquet", ".pq")):
        return ParquetFile(path, path=path)
    raise IncomingError(f"{path}: the ending of an incoming file is {_ENDINGS}")


@dataclass
class Frame(Source):
    table: pa.Table | None = None

    def __post_init__(self) -> None:
        self.in_memory = True

    @property
    def schema(self) -> pa.Schema:
        assert self.table is not None
        return self.table.schema

    def __iter__(self) -> Iterator[Chunk]:
        assert self.table is not None
        if self.table.num_rows:
            yield Chunk(self.table, np.arange(1, self.table.num_rows + 1))


@dataclass
class Dicts(Source):
    records: list[dict[str, Any]] | None = None

    def __post_init__(self) -> None:
        self.ragged = True

    def __iter__(self) -> Iterator[Chunk]:
        assert self.records is not None
        for start in range(0, len(self.records), _ROWS):
            part = self.records[start : start + _ROWS]
            yield from dict_chunks(part, list(range(start + 1, start + 1 + len(part))), self.broken)


@dataclass
class Batches(Source):
    batches: Iterator[Any] | None = None

    def __post_init__(self) -> None:
        self.only_once = self.ragged = True

    def __iter__(self) -> Iterator[Chunk]:
        assert self.batches is not None
        row = 1
        for one in gathered(self.batches):
            table = as_records(one, row) if isinstance(one, list | tuple) else _as_table(one, row)
            if isinstance(table, list):
                yield from dict_chunks(table, list(range(row, row + len(table))), self.broken)
                row += len(table)
                continue
            if table.num_rows:
                yield Chunk(table, np.arange(row, row + table.num_rows))
            row += table.num_rows


def _as_table(one: Any, row: int) -> pa.Table | list[dict[str, Any]]:
    table = as_table(one)
    if table is None:
        raise IncomingError(
            f"the iterator gives {type(one).__name__} at record {row}; it must give Arrow record batches, frames, or "
            "records: dicts or objects with fields, singly or in lists"
        )
    return table


@dataclass
class ParquetFile(Source):
    path: str = ""

    def __post_init__(self) -> None:
        import pyarrow.parquet as pq

        try:
            self._file = pq.ParquetFile(self.path)
        except (pa.ArrowInvalid, OSError) as error:
            raise IncomingError(f"{self.path} is not a Parquet file, or a damaged one: {error}") from error
        checked(self._file.schema_arrow.empty_table())

    @property
    def schema(self) -> pa.Schema:
        return self._file.schema_arrow

    def __iter__(self) -> Iterator[Chunk]:
        row = 1
        try:
            for batch in self._file.iter_batches(_ROWS, use_threads=False):
                if batch.num_rows:
                    yield Chunk(pa.Table.from_batches([batch]), np.arange(row, row + batch.num_rows))
                row += batch.num_rows
        except (pa.ArrowInvalid, OSError) as error:
            raise IncomingError(f"{self.path} is damaged at or after row {row}: {error}") from error
