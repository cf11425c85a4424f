"""JSON Lines files, also gzipped: one object a line. A line that is not one is a broken record."""

from __future__ import annotations

import gzip
import io
import json
import os
import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import IO, Any

import numpy as np
import pyarrow as pa
import pyarrow.json as pjson
import pyarrow.types as pt

from .broken import Broken, BrokenRecords
from .chunks import Chunk, Source

_BLOCK = 16 << 20
_LONGEST = 64 << 20
_SHOWN = 1_000  # bytes of a line that is too long
_LONG_NUMBER = re.compile(rb"[0-9][0-9.]{16}")


@dataclass
class JsonLinesFile(Source):
    path: str = ""

    def __post_init__(self) -> None:
        self.unit = "line"
        self.size = os.path.getsize(self.path)
        self._file: IO[bytes] | None = None
        self._as_text: dict[str, pa.DataType] = {}

    @property
    def done(self) -> int:
        return self._file.tell() if self._file is not None and not self._file.closed else 0

    def __iter__(self) -> Iterator[Chunk]:
        with open(self.path, "rb") as self._file:
            lines: IO[bytes] = gzip.GzipFile(fileobj=self._file) if self.path.endswith(".gz") else self._file  # type: ignore[assignment]
            line, rest, long = 1, b"", False
            while block := lines.read(_BLOCK):
                if long:  # the end of a line that is too long
                    end = block.find(b"\n") + 1
                    if not end:
                        continue
                    block, line, long = block[end:], line + 1, False
                block = rest + block
                end = block.rfind(b"\n") + 1
                block, rest = block[:end], block[end:]
                if block:
                    yield from self._block(block, line)
                    line += block.count(b"\n")
                if len(rest) > _LONGEST:
                    text = rest[:_SHOWN].decode("utf-8", "backslashreplace")
                    reason = f"the line is longer than {_LONGEST >> 20} MiB; only its beginning is kept"
                    self.broken.append(Broken(line, reason, text))
                    rest, long = b"", True
            if rest:
                yield from self._block(rest, line)

    def _block(self, block: bytes, line: int) -> Iterator[Chunk]:
        if line == 1:
            block = block.removeprefix(b"\xef\xbb\xbf")
        table = self._at_once(block)
        if table is not None:
            yield Chunk(table, np.arange(line, line + table.num_rows))
        else:
            yield from self._line_by_line(block, line)

    def _at_once(self, block: bytes) -> pa.Table | None:
        """The whole block by Arrow's reader, if every line is an object with the same simple attributes."""
        count = block.count(b"\n") + (not block.endswith(b"\n"))
        try:
            block.decode()
            table = self._read(block)
            stamps = {f.name: pa.string() for f in table.schema if pt.is_temporal(f.type)}
            if stamps:  # the reader takes texts that look like times for times
                self._as_text |= stamps
                table = self._read(block)
        except (pa.ArrowInvalid, pa.ArrowNotImplementedError, UnicodeDecodeError):
            return None
        kinds = table.schema.types
        if table.num_rows != count or any(pt.is_nested(kind) for kind in kinds):
            return None
        if any(pt.is_floating(kind) for kind in kinds) and _LONG_NUMBER.search(block):
            return None  # more digits than a float holds
        for name in table.column_names:
            attribute = re.escape(json.dumps(name, ensure_ascii=False).encode())
            if table[name].null_count and len(re.findall(attribute + rb"\s*:", block)) != count:
                return None  # absent in some records, which is not the same as null
        return table

    def _read(self, block: bytes) -> pa.Table:
        return pjson.read_json(
            io.BytesIO(block),
            read_options=pjson.ReadOptions(use_threads=False, block_size=len(block) + 1),
            parse_options=pjson.ParseOptions(
                explicit_schema=pa.schema(list(self._as_text.items())) if self._as_text else None
            ),
        )

    def _line_by_line(self, block: bytes, line: int) -> Iterator[Chunk]:
        records: list[dict[str, Any]] = []
        rows: list[int] = []
        for number, text in enumerate(block.splitlines(), line):
            if not text.strip():
                continue
            try:
                record = json.loads(text.decode(), parse_float=_exact)
                reason = None if isinstance(record, dict) else "the line is not a JSON object"
            except UnicodeDecodeError:
                reason = "the line is not UTF-8 text"
            except (ValueError, RecursionError) as error:  # also a number of thousands of digits
                reason = f"the line is not JSON: {str(error).partition('; use sys')[0]}"
            if reason is None:
                records.append(record)
                rows.append(number)
            else:
                self.broken.append(Broken(number, reason, text.decode("utf-8", "backslashreplace")))
        yield from dict_chunks(records, rows, self.broken)


def dict_chunks(records: list[dict[str, Any]], rows: list[int], broken: BrokenRecords) -> Iterator[Chunk]:
    """Dicts as chunks: one for each set of attributes, since an absent attribute is a column not sent."""
    groups: dict[tuple[str, ...], list[int]] = {}
    for at, record in enumerate(records):
        groups.setdefault(tuple(sorted(map(str, record))), []).append(at)
    broken.extend(Broken(rows[at], "the record is empty", "{}") for at in groups.pop((), []))
    for places in groups.values():
        try:
            yield _chunk(records, rows, places)
        except ValueError:  # of a text or a number that cannot be written; Arrow's own errors are dealt with there
            unfit = {at: why for at in places if (why := _unfit(records[at]))}
            if not unfit:
                raise
            broken.extend(Broken(rows[at], why, json.dumps(_shown(records[at]))) for at, why in unfit.items())
            if fit := [at for at in places if at not in unfit]:
                yield _chunk(records, rows, fit)


def _chunk(records: list[dict[str, Any]], rows: list[int], places: list[int]) -> Chunk:
    order = list(records[places[0]])
    arrays = [_array([records[at][name] for at in places]) for name in order]
    table = pa.table(arrays, names=[str(n) for n in order])
    return Chunk(table, np.array([rows[at] for at in places], np.int64))


def _shown(record: dict[str, Any]) -> dict[str, Any]:
    """A record that can be written as JSON: a number that is too long in hexadecimal digits, all else as text."""
    return {
        str(name): hex(value) if isinstance(value, int) and value.bit_length() > _MOST_BITS else _spelled(value)
        for name, value in record.items()
    }


_SURROGATE = re.compile("[\ud800-\udfff]")
_MOST_BITS = 14_000  # of a whole number: Python spells none of more than 4,300 digits


def _unfit(record: dict[str, Any]) -> str | None:
    """Why a record cannot be kept as it is; None if it can."""
    for name, value in record.items():
        if isinstance(value, int) and value.bit_length() > _MOST_BITS:
            return f"{name!r} is a number of more than 4,200 digits"
        text = value if isinstance(value, str) else json.dumps(value, ensure_ascii=False, default=str)
        if _SURROGATE.search(str(name)) or _SURROGATE.search(text):
            return f"{name!r} has half of a surrogate pair, which is no character"
    return None


def _exact(text: str) -> float | str:
    """A number as a float, unless that would drop digits of it."""
    return float(text) if len(text) <= 16 else text


def _array(values: list[Any]) -> pa.Array:
    """Values of any kinds as one array; where the kinds do not go together, as texts."""
    try:
        array = pa.array(values, from_pandas=True)
    except (pa.ArrowInvalid, pa.ArrowTypeError, pa.ArrowNotImplementedError, OverflowError):
        return pa.array([_spelled(v) for v in values], pa.string())
    if pt.is_nested(array.type):
        return pa.array([_spelled(v) for v in values], pa.string())
    return array


def _spelled(value: Any) -> str | None:
    if value is None or isinstance(value, str):
        return value
    if isinstance(value, bytes):
        return value.hex()
    if isinstance(value, bool | dict | list):
        return json.dumps(value, ensure_ascii=False, default=str)
    return str(value)
