"""CSV files, also gzipped. A line that cannot be split or decoded is a broken record, with its number."""

from __future__ import annotations

import csv
import gzip
import io
import os
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass, field
from itertools import islice
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pcsv

from ..core.cast import as_text
from ..errors import IncomingError
from .broken import Broken
from .chunks import Chunk, Options, Source

_BLOCK = 16 << 20
_MOST_BROKEN = 1_000_000


@dataclass
class CsvFile(Source):
    path: str = ""
    options: Options = field(default_factory=Options)

    def __post_init__(self) -> None:
        self.unit = "line"
        self.size = os.path.getsize(self.path)
        self._names: list[str] | None = None
        self._stream: Any = None
        self._too_many = False

    @property
    def schema(self) -> pa.Schema:
        return pa.schema([(name, pa.string()) for name in self.columns])

    @property
    def columns(self) -> list[str]:
        if self._names is None:
            with self._text(self.options.encoding) as lines:
                try:
                    self._names = next(csv.reader(lines, delimiter=self.options.delimiter))
                    "".join(self._names).encode()  # fails if bytes of it could not be decoded
                except StopIteration:
                    raise IncomingError(f"{self.path} is empty: it has not even a line of column names") from None
                except (UnicodeError, csv.Error, OSError, EOFError) as error:
                    raise IncomingError(f"{self.path}, line 1: {error}; check the encoding and the file") from error
        return self._names

    @property
    def done(self) -> int:
        return self._stream.tell() if self._stream is not None and not self._stream.closed else 0

    def __iter__(self) -> Iterator[Chunk]:
        ragged: list[Any] = []

        def put_aside(row: Any) -> str:
            if len(ragged) + len(self.broken) >= _MOST_BROKEN:
                self._too_many = True
                return "error"
            ragged.append(row)
            return "skip"

        names = self.columns
        reader, self._stream = self._open(dict.fromkeys(names, pa.binary()), put_aside)
        lines = _Lines()
        try:
            while True:
                try:
                    batch = reader.read_next_batch()
                except StopIteration:
                    break
                except pa.ArrowInvalid as error:
                    raise self._unreadable(error, lines) from error
                table = pa.Table.from_batches([batch])
                rows, aside = lines.number(table, ragged)
                self._break(aside)
                if len(rows) and self._never_closed(table, int(rows[-1])):
                    raise IncomingError(f"{self.path}, line {rows[-1]}: a quote is opened there and never closed")
                yield from self._decoded(table, rows)
        finally:
            self._end(reader)
        self._break(lines.number(None, ragged)[1])

    def _never_closed(self, table: pa.Table, line: int) -> bool:
        """Whether the file ends inside a quote. The reader would give all that follows the quote as one value."""
        last = table.slice(table.num_rows - 1).to_pylist()[0]
        if not any(value and b"\n" in value for value in last.values()):
            return False
        with self._text("latin-1") as rest:  # every byte is a character of it
            try:
                for _ in csv.reader(islice(rest, line - 1, None), delimiter=self.options.delimiter, strict=True):
                    return False
            except csv.Error as error:
                return "unexpected end" in str(error)
        return False

    def _break(self, ragged: list[tuple[Any, int]]) -> None:
        for row, line in ragged:
            values = "1 value" if row.actual_columns == 1 else f"{row.actual_columns} values"
            why = f"the line has {values}, the header {row.expected_columns}"
            self.broken.append(Broken(line, why, row.text))

    def _end(self, reader: Any) -> None:
        """Let the reader come to its end: a thread of it that still calls us back must not outlive us."""
        with suppress(pa.ArrowException, StopIteration, OSError):
            while True:
                reader.read_next_batch()
        reader.close()
        self._stream.close()

    def _text(self, encoding: str) -> io.TextIOWrapper:
        """The file as text, apart from the reader."""
        stream = gzip.open(self.path) if self.path.endswith(".gz") else open(self.path, "rb")  # noqa: SIM115
        try:
            encoding = "utf-8-sig" if encoding.lower() == "utf-8" else encoding
            return io.TextIOWrapper(stream, encoding, "surrogateescape", newline="")
        except LookupError as error:
            stream.close()
            raise IncomingError(f"{self.path}: {error}; check the encoding") from error

    def _open(self, types: dict[str, pa.DataType], handler: Any) -> tuple[Any, Any]:
        file = pa.OSFile(self.path)
        stream = pa.CompressedInputStream(file, "gzip") if self.path.endswith(".gz") else file
        try:
            reader = pcsv.open_csv(
                stream,
                read_options=pcsv.ReadOptions(
                    use_threads=False, block_size=_BLOCK, encoding=_encoding(self.options)
                ),
                parse_options=pcsv.ParseOptions(
                    delimiter=self.options.delimiter, newlines_in_values=True, ignore_empty_lines=False,
                    invalid_row_handler=handler,
                ),
                convert_options=pcsv.ConvertOptions(
                    check_utf8=False, column_types=types, null_values=list(self.options.nulls),
                    strings_can_be_null=True, quoted_strings_can_be_null=False,
                ),
            )  # fmt: skip
        except pa.ArrowInvalid as error:
            raise self._unreadable(error, _Lines()) from error
        except (LookupError, OSError) as error:
            raise IncomingError(f"{self.path}: {error}; check the encoding and the file") from error
        return reader, file

    def _unreadable(self, error: Exception, lines: _Lines) -> IncomingError:
        text = str(error)
        if self._too_many:
            text = (
                f"more than {_MOST_BROKEN:,} lines have another number of values than the header; check the delimiter "
                f"({self.options.delimiter!r}) and the file"
            )
        elif "straddl" in text or "out of sync" in text or "block size" in text:
            text = "a record is longer than 16 MiB; most likely a quote is opened there and never closed"
        return IncomingError(f"{self.path}, at or after line {lines.next_line}: {text}")

    def _decoded(self, table: pa.Table, rows: np.ndarray) -> Iterator[Chunk]:
        """Bytes as text. Records that are not valid text are broken; those without any value are no records."""
        texts, bad = [], np.zeros(table.num_rows, bool)
        empty = np.ones(table.num_rows, bool)
        for column in table.columns:
            text, wrong = as_text(column.chunk(0) if column.num_chunks else pa.array([], pa.binary()))
            texts.append(text)
            empty &= ~np.asarray(column.is_valid())
            if wrong is not None:
                bad |= wrong
        for at in np.flatnonzero(bad):
            values = [column[int(at)].as_py() for column in table.columns]
            line = self.options.delimiter.join((v or b"").decode("utf-8", "backslashreplace") for v in values)
            name = next(n for n, v in zip(self.columns, values, strict=True) if not _decodes(v))
            self.broken.append(Broken(int(rows[at]), f"{name}: the bytes are not {self.options.encoding} text", line))
        done = pa.table(texts, names=self.columns)
        if (drop := bad | empty).any():
            done, rows = done.filter(pa.array(~drop)), rows[~drop]
        if len(rows):
            yield Chunk(done, rows)


class _Lines:
    """Gives records the numbers of the lines on which they begin."""

    def __init__(self) -> None:
        self._record = 2  # the reader's own number of the next record; the header is its first
        self._extra = 0  # line breaks inside the values of the records so far
        self.next_line = 2

    def number(self, table: pa.Table | None, ragged: list[Any]) -> tuple[np.ndarray, list[tuple[Any, int]]]:
        """The lines of the next good records, and those of the ragged ones before the last of them.

        The ragged ones that are numbered are taken out of `ragged`, since the reader may be ahead.
        Without a table: the lines of all that are left.
        """
        good = 0 if table is None else table.num_rows
        aside = np.array([row.number for row in ragged], np.int64)
        numbers = np.arange(self._record, self._record + good + len(aside))
        if len(aside):
            numbers = np.setdiff1d(numbers, aside)[:good]
        end = int(aside.max()) + 1 if table is None and len(aside) else int(numbers[-1]) + 1 if good else self._record
        now = [row for row in ragged if row.number < end]
        ragged[:] = [row for row in ragged if row.number >= end]
        breaks = np.zeros(end - self._record, np.int64)
        if table is not None:
            breaks[numbers - self._record] = _breaks(table)
        for row in now:
            breaks[row.number - self._record] = row.text.count("\n")
        lines = np.arange(self._record, end) + self._extra + np.cumsum(breaks) - breaks
        numbered = [(row, int(lines[row.number - self._record])) for row in now]
        good_lines = lines[numbers - self._record]
        self._record = end
        self._extra += int(breaks.sum())
        self.next_line = self._record + self._extra
        return good_lines, numbered


def _breaks(table: pa.Table) -> np.ndarray:
    """The line breaks inside each record's values."""
    out = np.zeros(table.num_rows, np.int64)
    for column in table.columns:
        for chunk in column.chunks:
            data = chunk.buffers()[2]
            if data is not None and b"\n" in memoryview(data).tobytes():
                out += pc.fill_null(pc.count_substring(column, "\n"), 0).to_numpy()
                break
    return out


def _encoding(options: Options) -> str:
    """The name by which the reader knows that it need not recode."""
    plain = options.encoding.lower().replace("-", "").replace("_", "")
    return "utf8" if plain in ("utf8", "utf8sig") else options.encoding


def _decodes(value: bytes | None) -> bool:
    try:
        (value or b"").decode()
    except UnicodeDecodeError:
        return False
    return True
