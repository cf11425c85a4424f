"""Anything that holds records as a Source."""

from __future__ import annotations

import glob
import gzip
import io
import os
import shutil
import sys
import weakref
import zlib
from bisect import bisect_left
from collections.abc import Iterable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field, replace
from typing import Any, cast

import numpy as np
import pyarrow as pa

from ..core.frames import as_table, checked
from ..core.names import not_text
from ..errors import IncomingError
from ..stores.urls import path_shown
from .chunks import FORMATS, Chunk, Options, Source
from .csv import CsvFile
from .excel import ExcelFile
from .jsonl import JsonLinesFile, dict_chunks
from .packed import DAMAGED, inner_name, is_packed, unpacked
from .python import as_records, gathered
from .query import Query, QueryRows
from .rejected import own_options, restored
from .spool import room_for_a_file

_ROWS = 1 << 16
FEW = 1000
_KINDS = {
    ".csv": "csv", ".txt": "csv", ".tsv": "tsv", ".jsonl": "jsonl", ".ndjson": "jsonl", ".json": "json",
    ".parquet": "parquet", ".pq": "parquet", ".arrow": "arrow", ".feather": "arrow", ".ipc": "arrow",
    ".xlsx": "excel", ".xlsm": "excel", ".xlsb": "excel", ".xls": "excel", ".ods": "excel",
}  # fmt: skip
_ENDINGS = (
    "'.csv', '.tsv', '.jsonl', '.ndjson', '.json' (each also with '.gz', '.zst' or '.zip'), '.parquet', '.arrow', "
    "'.feather', '.xlsx' or '.ods'"
)


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


def _file(path: str, options: Options, called: str | None = None) -> Source:
    if path == "-" and called is None:
        return _standard_input(options)
    shown = path_shown(path)
    if why := not_text(path, path=True):
        raise IncomingError(f"{shown!r} is no path: {why}")
    if not os.path.exists(path):
        if glob.has_magic(path) and (paths := sorted(filter(os.path.isfile, glob.glob(path, recursive=True)))):
            return Files(f"{len(paths):,} files", sources=[_file(one, options) for one in paths])
        raise IncomingError(f"no file fits {shown}" if glob.has_magic(path) else f"there is no file {shown}")
    if not os.path.isfile(path):
        raise IncomingError(f"{shown} is not a file")
    if not os.access(path, os.R_OK):
        raise IncomingError(f"{shown} cannot be read by this user; change the rights on it")
    kind = options.format or kind_of(path)
    if kind in ("csv", "tsv"):
        if kind == "tsv" and options.delimiter == ",":
            options = replace(options, delimiter="\t")
        with suppress(*DAMAGED), open(path, "rb") as file:
            options = own_options(bytes(unpacked(path, file).read(64)), options)
        return CsvFile(called or path, path=path, options=options)
    if kind == "jsonl":
        return JsonLinesFile(called or path, path=path)
    if kind == "json":
        return JsonLinesFile(called or path, path=path, by_line=False)
    if kind is not None and is_packed(path):
        raise IncomingError(f"{shown} is packed, and a {kind} file is read as it is; unpack it")
    if kind == "parquet":
        return ParquetFile(called or path, path=path)
    if kind == "arrow":
        return ArrowFile(called or path, path=path)
    if kind == "excel":
        return ExcelFile(called or path, path=path, options=options)
    raise IncomingError(
        f"{path}: the ending of an incoming file is {_ENDINGS}; or say what it is: format = one of {', '.join(FORMATS)}"
    )


def kind_of(path: str) -> str | None:
    """What a file is, one of FORMATS, by the ending of its name; None if that does not say it."""
    name = inner_name(path)
    return next((kind for ending, kind in _KINDS.items() if name.endswith(ending)), None)


def _standard_input(options: Options) -> Source:
    """What comes over standard input, kept in a file while it is read: it is looked at more than once."""
    if sys.stdin is None or sys.stdin.isatty():
        raise IncomingError("nothing comes over standard input; send it a file: rmend merge JOB - < FILE")
    file = room_for_a_file()
    try:
        stream = io.BufferedReader(cast(io.RawIOBase, sys.stdin.buffer))
        packed = stream.peek(2)[:2] == b"\x1f\x8b"
        shutil.copyfileobj(gzip.GzipFile(fileobj=stream) if packed else stream, file, 1 << 20)
        file.flush()
    except (OSError, EOFError, zlib.error) as error:
        raise IncomingError(str(error), "standard input") from error
    source = _file(file.name, replace(options, format=options.format or "csv"), "standard input")
    weakref.finalize(source, file.close)
    return source


@dataclass
class Frame(Source):
    table: pa.Table | None = None

    def __post_init__(self) -> None:
        self.in_memory = self.at_hand = True

    @property
    def few(self) -> bool:
        assert self.table is not None
        return self.table.num_rows <= FEW

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
        self.ragged = self.at_hand = True

    @property
    def few(self) -> bool:
        assert self.records is not None
        return len(self.records) <= FEW

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
            "records: dicts or objects with fields, singly or in lists",
            place=f"record {row}",
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
            raise IncomingError(f"this is not a Parquet file, or a damaged one: {error}", self.name) from error
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
            raise IncomingError(f"the file is damaged there or after: {error}", self.name, f"row {row}") from error


@dataclass
class ArrowFile(Source):
    """A file of Arrow's own: Feather, or IPC, as a file or as a stream."""

    path: str = ""

    def __post_init__(self) -> None:
        with self._opened() as reader:
            self._schema: pa.Schema = reader.schema
        checked(self._schema.empty_table())

    @contextmanager
    def _opened(self) -> Iterator[Any]:
        try:
            with pa.memory_map(self.path) as file:
                try:
                    reader = pa.ipc.open_file(file)
                except pa.ArrowInvalid:
                    file.seek(0)
                    reader = pa.ipc.open_stream(file)
                yield reader
        except (pa.ArrowInvalid, OSError) as error:
            raise IncomingError(f"this is not an Arrow file, or a damaged one: {error}", self.name) from error

    @property
    def schema(self) -> pa.Schema:
        return self._schema

    def __iter__(self) -> Iterator[Chunk]:
        row = 1
        with self._opened() as reader:
            whole = hasattr(reader, "num_record_batches")
            for batch in map(reader.get_batch, range(reader.num_record_batches)) if whole else reader:
                for start in range(0, batch.num_rows, _ROWS):
                    part = batch.slice(start, _ROWS)
                    yield Chunk(pa.Table.from_batches([part]), np.arange(row, row + part.num_rows))
                    row += part.num_rows


@dataclass
class Files(Source):
    """Several files, one after the other. `rows` count through all of them."""

    sources: list[Source] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.ragged = True
        self.size = sum(source.size or 0 for source in self.sources) or None
        self._read = 0
        self._firsts: list[int] = []

    @property
    def done(self) -> int:
        return self._read

    def place(self, row: int) -> str | None:
        at = bisect_left(self._firsts, row) - 1
        source = self.sources[at]
        return f"{source.name}, {source.unit} {row - self._firsts[at]}"

    def __iter__(self) -> Iterator[Chunk]:
        self._firsts, self._read, last = [], 0, 0
        for source in self.sources:
            first = last
            self._firsts.append(first)
            for chunk in restored(source):
                rows = chunk.rows + first
                last = max(last, int(rows.max(initial=0)))
                yield Chunk(chunk.raw, rows)
            for one in source.broken:
                self.broken.append(one._replace(row=one.row + first))
                last = max(last, one.row + first)
            source.broken.close()
            self._read += source.size or 0
