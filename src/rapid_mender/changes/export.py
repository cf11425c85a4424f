"""Writing rows to a file, which appears whole or not at all, or to a new table."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Callable, Iterable
from contextlib import suppress
from typing import Any

import pyarrow as pa
import pyarrow.csv as pcsv
import pyarrow.parquet as pq

from ..core.cast import as_text, hexadecimal, plain
from ..core.json_text import line_of
from ..core.schema import TableInfo, copied
from ..errors import JobError, StoreError
from ..incoming.spool import umask
from ..stores.contract import Load, Store
from ..stores.urls import opened

ENDINGS = (".csv", ".jsonl", ".parquet")


def write_file(path: str, schema: pa.Schema, pages: Iterable[pa.Table]) -> int:
    """Write rows as CSV, JSON Lines or Parquet, by the path's ending; returns how many. Raises JobError for another
    ending, or where there is a file already, StoreError if it cannot be written."""
    ending = next((one for one in ENDINGS if path.lower().endswith(one)), None)
    if ending is None:
        raise JobError(f"{path}: the ending says what to write: {', '.join(ENDINGS)}")
    write = {".csv": _csv, ".jsonl": _lines, ".parquet": parquet_into}[ending]
    return _whole_file(path, lambda file: write(file, schema, pages))


def write_lines(path: str, lines: Iterable[str]) -> int:
    """Write lines of text to a file, as `write_file` does; returns how many."""

    return _whole_file(path, lambda file: lines_into(file, lines))


def lines_into(file: Any, lines: Iterable[str]) -> int:
    """Write lines of text to an open file; returns how many."""
    count = 0
    for line in lines:
        file.write(f"{line}\n".encode())
        count += 1
    return count


def _whole_file(path: str, write: Callable[[Any], int]) -> int:
    if os.path.exists(path):
        raise JobError(f"there is a file {path} already; choose another name, or remove it")
    place, aside = os.path.realpath(path), None
    try:
        with tempfile.NamedTemporaryFile(dir=os.path.dirname(place), prefix=".rmend-", delete=False) as file:
            aside = file.name
            count = write(file)
            os.fchmod(file.fileno(), 0o666 & ~umask())
        os.link(aside, place)  # which overwrites nothing, whoever made it meanwhile
        return count
    except (OSError, pa.ArrowException) as error:
        raise StoreError(f"{path} could not be written: {error}; free some room there, or write elsewhere") from error
    finally:
        if aside is not None:
            with suppress(OSError):
                os.remove(aside)


def _csv(file: Any, schema: pa.Schema, pages: Iterable[pa.Table]) -> int:
    texts = pa.schema([(name, pa.string()) for name in schema.names])
    count = 0
    with pcsv.CSVWriter(file, texts) as writer:
        for page in pages:
            arrays = map(plain, page.columns)
            cells = [hexadecimal(one) if pa.types.is_binary(one.type) else as_text(one)[0] for one in arrays]
            writer.write_table(pa.table(cells, schema=texts))
            count += page.num_rows
    return count


def _lines(file: Any, schema: pa.Schema, pages: Iterable[pa.Table]) -> int:
    count = 0
    for page in pages:
        file.write("".join(f"{line_of(row)}\n" for row in page.to_pylist()).encode())
        count += page.num_rows
    return count


def parquet_into(file: Any, schema: pa.Schema, pages: Iterable[pa.Table]) -> int:
    """Write rows to an open file as Parquet; returns how many."""
    count = 0
    with pq.ParquetWriter(file, schema) as writer:
        for page in pages:
            try:
                page = page.cast(schema)
            except pa.ArrowInvalid as error:
                raise StoreError(
                    f"a cell is no value of its column's type, so Parquet cannot hold it: {error}"
                ) from None
            writer.write_table(page)
            count += page.num_rows
    return count


def into_table(store: str | Store, table: str, info: TableInfo, pages: Iterable[pa.Table]) -> int:
    """Write rows to a new table, in one transaction; returns how many. Raises JobError if there is one of the name."""
    columns = copied(info.columns)
    key = info.primary_key if set(info.primary_key) <= set(info.names) else ()
    count = 0
    with opened(store) as place, place.begin(write=True) as session:
        there, shape = session.find(table), TableInfo(table, columns, key)
        if there is not None and (there.names != shape.names or session.count(there)):
            raise JobError(f"there is a table {table!r} in {session.where} already; choose another name")
        if why := session.cannot_make(shape):
            raise JobError(f"table {table!r} cannot be made in {session.where}: {why}")
        if there is None:  # an empty one of these columns is of a run that was cut, where the database commits a CREATE
            session.create(shape)
        made = session.describe(table)
        for page in pages:
            if page.num_rows:
                session.append(made, Load(page))
                count += page.num_rows
    return count
