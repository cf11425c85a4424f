"""CSV files, also packed. A line that cannot be split or decoded is a broken record, with its number."""

from __future__ import annotations

import codecs
import csv
import io
import os
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import IO, Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pcsv

from ..core.cast import as_text
from ..errors import IncomingError
from .ahead import ahead
from .broken import Broken
from .chunks import Chunk, Options, Source
from .csv_scan import Scanned, Untold, scan, whole_records
from .packed import DAMAGED, unpacked

_BLOCK = 16 << 20
_LONGEST = 64 << 20


@dataclass
class CsvFile(Source):
    path: str = ""
    options: Options = field(default_factory=Options)

    def __post_init__(self) -> None:
        self.unit = "line"
        self.size = os.path.getsize(self.path)
        self._names: list[str] | None = None
        self._file: IO[bytes] | None = None
        self._header_lines = 0

    @property
    def schema(self) -> pa.Schema:
        return pa.schema([(name, pa.string()) for name in self.columns])

    @property
    def columns(self) -> list[str]:
        if self._names is None:
            with self._text(self.options.encoding) as lines:
                read: list[str] = []
                try:
                    names = next(self._reader(_noted(lines, read)))
                except StopIteration:
                    raise IncomingError(f"{self.name} is empty: it has not even a line of column names") from None
                except (UnicodeError, csv.Error, *DAMAGED) as error:
                    raise IncomingError(f"{error}; check the encoding and the file", self.name, "line 1") from error
            if why := _unread(read, self.options.encoding):
                raise IncomingError(why, self.name, "line 1")
            self._names, self._header_lines = names, max("".join(read).count("\n"), 1)
        return self._names

    @property
    def done(self) -> int:
        return self._file.tell() if self._file is not None and not self._file.closed else 0

    def __iter__(self) -> Iterator[Chunk]:
        with open(self.path, "rb") as self._file:
            looked_at = self._looked_at()
            for block, whole, line in ahead(looked_at) if (self.size or 0) > _BLOCK else looked_at:
                if isinstance(whole, int):
                    yield from self._at_once(memoryview(block)[:whole], line, self.options.quote.encode() in block)
                else:
                    yield from self._records(block, whole, line, len(self.columns))

    def _reader(self, lines: Iterator[str]) -> Iterator[list[str]]:
        """The line of column names, split into values, and those behind it."""
        for _ in range(self.options.skip):
            next(lines)
        return csv.reader(lines, delimiter=self.options.delimiter, quotechar=self.options.quote)

    def _looked_at(self) -> Iterator[tuple[bytes, int | Scanned, int]]:
        """Blocks that begin with a record, and the line on which each does. With each: where its last whole record
        ends, or, if it breaks rules, its records as scanned."""
        line, rest, header = 1, b"", self._header_lines if self.columns else 0
        for block, last in self._blocks():
            block = rest + block
            while header and (end := block.find(b"\n") + 1 or (len(block) if last else 0)):
                block, line, header = block[end:], line + 1, header - 1
            if header:
                rest = block
                continue
            delimiter = ord(self.options.delimiter)
            told = whole_records(block, delimiter, ord(self.options.quote), last) if len(self.columns) > 1 else None
            if told is not None:
                scanned: int | Scanned = told[0]
                whole, breaks = told
            else:
                scanned = self._scanned(block, line, last)
                whole, breaks = scanned.whole, block.count(b"\n", 0, scanned.whole)
            rest, following = block[whole:], line + breaks
            if len(rest) > _LONGEST:
                raise IncomingError(
                    f"a record is longer than {_LONGEST >> 20} MiB; a quote seems to be opened there and never closed",
                    self.name,
                    f"line {following}",
                )
            yield block, scanned, line
            line = following

    def _scanned(self, block: bytes, line: int, last: bool) -> Scanned:
        try:
            return scan(block, ord(self.options.delimiter), ord(self.options.quote), last)
        except Untold as error:
            at = line + block.count(b"\n", 0, error.start)
            raise IncomingError(error.why, self.name, f"line {at}") from None

    def _at_once(self, block: memoryview, line: int, quoted: bool) -> Iterator[Chunk]:
        """The records of a block that breaks no rule, except perhaps the number of values."""
        ragged: list[Any] = []

        def put_aside(row: Any) -> str:
            ragged.append(row)
            return "skip"

        if not len(block):
            return
        text = _is_utf8(bytes(block))
        try:
            table = self._parsed(block, None, text, put_aside if text else None)
        except IncomingError:
            if text:
                raise
            # the reader hands on no row with too many values that is not UTF-8
            yield from self._records(bytes(block), self._scanned(bytes(block), line, True), line, len(self.columns))
            return
        count = table.num_rows + len(ragged)
        aside = np.array([row.number for row in ragged], np.int64) - 1
        good = np.ones(count, bool)
        good[aside] = False
        breaks = np.zeros(count, np.int64)
        if quoted:
            breaks[good] = _breaks(table)
        breaks[aside] = [row.text.count("\n") for row in ragged]
        rows = np.arange(count) + line + np.cumsum(breaks) - breaks
        for row, number in zip(ragged, rows[aside].tolist(), strict=True):
            self.broken.append(Broken(number, _miscounted(row.actual_columns, len(self.columns)), row.text))
        if table.num_rows:
            yield from self._decoded(table, rows[good])

    def _records(self, block: bytes, scanned: Scanned, line: int, width: int) -> Iterator[Chunk]:
        """The records of a block that was scanned."""
        rows = scanned.lines + line
        good = scanned.values == width
        good[list(scanned.broken)] = False
        aside = (scanned.values != 0) & ~good
        for at in np.flatnonzero(aside).tolist():
            text = block[scanned.starts[at] : scanned.ends[at]].decode("utf-8", "backslashreplace").rstrip("\r\n")
            why = scanned.broken.get(at) or _miscounted(int(scanned.values[at]), width)
            self.broken.append(Broken(int(rows[at]), why, text))
        if not good.any():
            return
        if not good.all():
            edges = np.flatnonzero(np.diff(np.concatenate([[False], good, [False]]).astype(np.int8))).reshape(-1, 2)
            kept = memoryview(b"".join(block[scanned.starts[a] : scanned.ends[b - 1]] for a, b in edges.tolist()))
        else:
            kept = memoryview(block)[: scanned.whole]
        yield from self._decoded(self._parsed(kept, int(good.sum()), False), rows[good])

    def _parsed(self, block: memoryview, count: int | None, text: bool, handler: Any = None) -> pa.Table:
        """Records that keep the rules, as a table of bytes, or of `text` that is known to be UTF-8; `count` of them, if
        that is known."""
        names = [f"c{place}" for place in range(len(self.columns))]
        try:
            table = pcsv.read_csv(
                pa.BufferReader(block),
                read_options=pcsv.ReadOptions(use_threads=False, block_size=len(block) + 1, column_names=names),
                parse_options=pcsv.ParseOptions(
                    delimiter=self.options.delimiter, quote_char=self.options.quote, newlines_in_values=True,
                    ignore_empty_lines=False, invalid_row_handler=handler,
                ),
                convert_options=pcsv.ConvertOptions(
                    check_utf8=False, column_types=dict.fromkeys(names, pa.string() if text else pa.binary()),
                    null_values=list(self.options.nulls), strings_can_be_null=True, quoted_strings_can_be_null=False,
                ),
            )  # fmt: skip
        except pa.ArrowInvalid as error:
            raise IncomingError(str(error), self.name) from error
        if count is not None and table.num_rows != count:
            raise IncomingError(f"it has {count:,} records, and {table.num_rows:,} were read", self.name)
        return table

    def _blocks(self) -> Iterator[tuple[bytes, bool]]:
        """The file as UTF-8, unpacked, in blocks; each with whether it is the last."""
        assert self._file is not None
        plain = _encoding(self.options) == "utf8"
        try:
            stream = unpacked(self.path, self._file)
            decoder = None if plain else codecs.getincrementaldecoder(self.options.encoding)("surrogateescape")
            block, first = stream.read(_BLOCK), True
            while True:
                following = stream.read(_BLOCK)
                last = not following
                data = block
                if decoder is not None:
                    data = decoder.decode(block, last).encode("utf-8", "surrogateescape")
                if first:
                    data, first = data.removeprefix(b"\xef\xbb\xbf"), False
                yield data, last
                if last:
                    return
                block = following
        except (*DAMAGED, UnicodeError, LookupError) as error:
            raise IncomingError(f"{error}; check the encoding and the file", self.name) from error

    @contextmanager
    def _text(self, encoding: str) -> Iterator[io.TextIOWrapper]:
        """The file as text, opened a second time."""
        encoding = "utf-8-sig" if encoding.lower() == "utf-8" else encoding
        with open(self.path, "rb") as file:
            try:
                lines = io.TextIOWrapper(unpacked(self.path, file), encoding, "surrogateescape", newline="")
            except LookupError as error:
                raise IncomingError(f"{error}; check the encoding", self.name) from error
            yield lines

    def _decoded(self, table: pa.Table, rows: np.ndarray) -> Iterator[Chunk]:
        """Bytes as text. Records that are not valid text are broken."""
        texts, bad = [], np.zeros(table.num_rows, bool)
        for column in table.columns:
            text, wrong = as_text(column.chunk(0) if column.num_chunks else pa.array([], pa.binary()))
            texts.append(text)
            if wrong is not None:
                bad |= wrong
        for at in np.flatnonzero(bad):
            values = [column[int(at)].as_py() for column in table.columns]
            line = self.options.delimiter.join((v or b"").decode("utf-8", "backslashreplace") for v in values)
            name = next(n for n, v in zip(self.columns, values, strict=True) if not _decodes(v))
            self.broken.append(Broken(int(rows[at]), f"{name}: the bytes are not {self.options.encoding} text", line))
        done = pa.table(texts, names=self.columns)
        if bad.any():
            done, rows = done.filter(pa.array(~bad)), rows[~bad]
        if len(rows):
            yield Chunk(done, rows)


def _noted(lines: Iterable[str], into: list[str]) -> Iterator[str]:
    for line in lines:
        into.append(line)
        yield line


def _unread(header: list[str], encoding: str) -> str | None:
    """Why the line of column names cannot be right: it is in another encoding, or its lines end in another way. None
    if it can."""
    text = "".join(header)
    if "\0" in text or text[:2] in ("\udcff\udcfe", "\udcfe\udcff"):
        return f'this looks like UTF-16, and was read as {encoding}; set encoding = "utf-16"'
    if any("\ud800" <= letter <= "\udfff" for letter in text):
        return f'the names are no {encoding} text; set the encoding that they are in (encoding = "cp1252")'
    if header[-1].endswith("\r"):
        return "the line ends with a carriage return alone; let lines end with a line feed"
    return None


def _miscounted(values: int, width: int) -> str:
    return f"the line has {'1 value' if values == 1 else f'{values} values'}, the header {width}"


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


def _is_utf8(data: bytes) -> bool:
    return data.isascii() or _decodes(data)


def _decodes(value: bytes | None) -> bool:
    try:
        (value or b"").decode()
    except UnicodeDecodeError:
        return False
    return True
