"""JSON files: one object a line, or an array of objects. What is not one is a broken record."""

from __future__ import annotations

import io
import json
import math
import os
import re
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from typing import IO, Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.json as pjson
import pyarrow.types as pt

from ..core.values import array_of, is_missing, spelled
from ..errors import IncomingError
from .broken import Broken, BrokenRecords
from .chunks import Chunk, Source
from .json_array import ArrayLines
from .packed import DAMAGED, unpacked

_BLOCK = 16 << 20
_LONGEST = 64 << 20
_SHOWN = 1_000  # bytes of a line that is too long
_LONG_NUMBER = re.compile(rb"[0-9][0-9.]{15}")
_SPACED = re.compile(rb'"\s+:')
_DEEP = 64


@dataclass
class JsonLinesFile(Source):
    path: str = ""
    by_line: bool = True
    """Each line is an object; else the file is an array of objects, or has them one after the other."""

    def __post_init__(self) -> None:
        self.unit, self.ragged = "line" if self.by_line else "record", True
        self.size = os.path.getsize(self.path)
        self._file: IO[bytes] | None = None
        self._as_text: dict[str, pa.DataType] = {}

    @property
    def done(self) -> int:
        return self._file.tell() if self._file is not None and not self._file.closed else 0

    def __iter__(self) -> Iterator[Chunk]:
        with open(self.path, "rb") as self._file:
            lines = unpacked(self.path, self._file)
            lines = lines if self.by_line else ArrayLines(lines, self.name)
            line, rest, long = 1, b"", False
            while block := self._more(lines, line):
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
                    reason = f"the {self.unit} is longer than {_LONGEST >> 20} MiB; only its beginning is kept"
                    self.broken.append(Broken(line, reason, text))
                    rest, long = b"", True
            if rest:
                yield from self._block(rest, line)

    def _more(self, lines: Any, line: int) -> bytes:
        try:
            return bytes(lines.read(_BLOCK))
        except DAMAGED as error:
            raise IncomingError(
                f"the file is damaged there or after: {error}", self.name, f"{self.unit} {line}"
            ) from error

    def _block(self, block: bytes, line: int) -> Iterator[Chunk]:
        if line == 1:
            block = block.removeprefix(b"\xef\xbb\xbf")
        table = self._at_once(block)
        if table is not None:
            yield Chunk(table, np.arange(line, line + table.num_rows))
        else:
            yield from self._line_by_line(block, line)

    def _at_once(self, block: bytes) -> pa.Table | None:
        """The whole block by Arrow's reader, if that gives what reading line by line does.

        So every line must be an object with the same simple attributes, each of them once; no number may have more
        digits than a float holds, and nothing may be nested so deep that the reader does not come back.
        """
        count = block.count(b"\n") + (not block.endswith(b"\n"))
        if not _lines_are_objects(block) or _depth(block) > _DEEP or _SPACED.search(block):
            return None
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
        if table.num_rows != count or not kinds or any(pt.is_nested(kind) for kind in kinds):
            return None
        if block.count(b'":') != count * len(kinds) and not self._each_once(block, table, count):
            return None
        floats = [column for column in table.columns if pt.is_floating(column.type)]
        if floats and (_LONG_NUMBER.search(block) or not all(pc.all(pc.is_finite(one)).as_py() for one in floats)):
            return None
        absent = [name for name in table.column_names if table[name].null_count]
        return table if not absent or self._each_once(block, table.select(absent), count) else None

    @staticmethod
    def _each_once(block: bytes, table: pa.Table, count: int) -> bool:
        """Whether every line has each column once: an attribute that is absent is not the same as null."""
        names = (re.escape(json.dumps(name, ensure_ascii=False).encode()) for name in table.column_names)
        return all(len(re.findall(name + b":", block)) == count for name in names)

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
        for number, text in enumerate(block.split(b"\n"), line):
            if not text.strip():
                continue
            try:
                record = json.loads(text.decode(), object_pairs_hook=_once, parse_float=_exact, parse_constant=_no_word)
                reason = None if isinstance(record, dict) else f"the {self.unit} is not a JSON object"
            except UnicodeDecodeError:
                reason = f"the {self.unit} is not UTF-8 text"
            except (ValueError, RecursionError) as error:  # also a number of thousands of digits
                reason = f"the {self.unit} is not JSON: {str(error).partition('; use sys')[0]}"
            if reason is None:
                records.append(record)
                rows.append(number)
            else:
                self.broken.append(Broken(number, reason, text.decode("utf-8", "backslashreplace")))
        yield from dict_chunks(records, rows, self.broken)


def _lines_are_objects(block: bytes) -> bool:
    """Whether every line begins as an object does: Arrow's reader does not survive all others."""
    data = np.frombuffer(block, np.uint8)
    starts = np.flatnonzero(data == 10)[: -1 if block.endswith(b"\n") else None] + 1
    return bool(data[0] == 123 and (data[starts] == 123).all())


def _depth(block: bytes) -> int:
    """The deepest nesting of brackets, counting those within texts."""
    if b"[" not in block and block.count(b"{") == block.count(b"}") <= block.count(b"\n") + 1:
        return 1
    data = np.frombuffer(block, np.uint8) | 32  # [ and {, ] and } differ in this bit
    return int(np.cumsum((data == 123).astype(np.int8) - (data == 125).astype(np.int8), dtype=np.int32).max())


def _once(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    record = dict(pairs)
    if len(record) < len(pairs):
        names = [name for name, _ in pairs]
        twice = next(name for name in names if names.count(name) > 1)
        raise ValueError(f"the attribute {twice!r} comes twice")
    return record


def _no_word(word: str) -> Any:
    raise ValueError(f"JSON has no {word}")


def dict_chunks(records: list[dict[str, Any]], rows: list[int], broken: BrokenRecords) -> Iterator[Chunk]:
    """Dicts as chunks: one for each set of attributes, since an absent attribute is a column not sent; and for each
    set of kinds of values, so that none is taken for another kind by its neighbours."""
    groups: dict[tuple[str, ...], list[int]] = {}
    for at, record in enumerate(records):
        groups.setdefault(tuple(sorted(map(str, record))), []).append(at)
    broken.extend(Broken(rows[at], "the record is empty", "{}") for at in groups.pop((), []))
    for same in groups.values():
        for places in _by_kinds(records, same):
            try:
                yield _chunk(records, rows, places)
            except ValueError:  # of a text or a number that cannot be written; Arrow's own errors are dealt with there
                unfit = {at: why for at in places if (why := _unfit(records[at]))}
                if not unfit:
                    raise
                broken.extend(Broken(rows[at], why, json.dumps(_shown(records[at]))) for at, why in unfit.items())
                if fit := [at for at in places if at not in unfit]:
                    yield _chunk(records, rows, fit)


def _by_kinds(records: list[dict[str, Any]], places: list[int]) -> Iterator[list[int]]:
    """Places of records in groups, in each of which every attribute has values of one kind; null is of any."""
    mixed: dict[str, list[Any]] = {}
    for name in records[places[0]]:
        values = [records[at][name] for at in places]
        types = set(map(type, values)) - {type(None)}
        if len(types) > 1 or not types.isdisjoint(_OF_SEVERAL):
            kinds = [_kind(value) for value in values]
            usual = Counter(kind for kind in kinds if kind is not None).most_common(1)
            if len(set(kinds) - {None}) > 1:
                mixed[name] = [usual[0][0] if kind is None else kind for kind in kinds]
    if not mixed:
        yield places
        return
    groups: dict[tuple[Any, ...], list[int]] = {}
    for at, kinds_of_one in zip(places, zip(*mixed.values(), strict=True), strict=True):
        groups.setdefault(kinds_of_one, []).append(at)
    yield from groups.values()


_OF_SEVERAL = {int, datetime}
_INT64 = 1 << 63


def _kind(value: Any) -> Any:
    """The kind of a value, which decides how it is read; None for no value."""
    if is_missing(value):
        return None
    if isinstance(value, int) and not isinstance(value, bool):
        return int if -_INT64 <= value < _INT64 else "more than 64 bits"
    if isinstance(value, datetime):
        return datetime, str(value.tzinfo)
    return type(value)


def _chunk(records: list[dict[str, Any]], rows: list[int], places: list[int]) -> Chunk:
    order = list(records[places[0]])
    arrays = [array_of([records[at][name] for at in places]) for name in order]
    table = pa.table(arrays, names=[str(n) for n in order])
    return Chunk(table, np.array([rows[at] for at in places], np.int64))


def _shown(record: dict[str, Any]) -> dict[str, Any]:
    """A record in a form that JSON can write: numbers that are too long in hexadecimal digits, everything else as
    text."""
    return {
        str(name): hex(value) if isinstance(value, int) and value.bit_length() > _MOST_BITS else spelled(value)
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
    """A number as a float; as a Decimal if a float would lose digits, or is too small for it."""
    return text if len(text) > 15 or math.isinf(float(text)) else float(text)
