"""Writing rejects where the job says. The file appears whole or not at all."""

from __future__ import annotations

import json
import math
import os
import tempfile
from collections.abc import Callable
from contextlib import suppress
from dataclasses import replace
from itertools import count
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.types as pt

from ..core.cast import as_text, hexadecimal, plain, textual
from ..core.records import REJECT_COLUMNS, REJECT_SHAPE
from ..core.schema import Column, TableInfo
from ..errors import Error, StoreError
from ..incoming import open_incoming, tables_of
from ..incoming.rejected import FORMULA, FORMULAS, own_name
from ..incoming.spool import umask
from ..stores.contract import Load, Session
from .result import Result


def _say_the_same(there: str, new: str) -> bool:
    """Whether a file of rejects says nothing that the new one does not say, apart from the batch's number."""
    size = os.path.getsize(there)
    if not size or max(size, os.path.getsize(new)) > _COMPARED:
        return not size
    try:
        return _said(there) == _said(new)
    except (OSError, Error):
        return False


def _said(path: str) -> tuple[list[pa.Table], list[Any]]:
    """What a file of rejects says, apart from the batch's number."""
    source, records = open_incoming(path), []
    for chunk in source:
        names = [name for name in chunk.raw.column_names if name != "rmend_batch"]
        records.append(chunk.raw.select(names))
    return records, list(source.broken)


class RejectsFile:
    """A file of rejects: written beside its place before the run commits, and moved into place after."""

    def __init__(self, path: str, neutral: bool = False) -> None:
        """`neutral`: in CSV, values that a spreadsheet would take for a formula begin with an apostrophe."""
        self.path, self._neutral = path, neutral
        self._place = os.path.realpath(path)
        self._waiting: str | None = None

    def prepare(self, result: Result) -> None:
        """Write the file beside its place, as CSV, JSON Lines or Parquet, by the path's ending."""
        self.drop()
        try:
            folder, ending = os.path.dirname(self._place), os.path.splitext(self._place)[1]
            with tempfile.NamedTemporaryFile(dir=folder, prefix=".rmend-", suffix=ending, delete=False) as file:
                self._waiting = file.name
                self._write(result, file)
            os.chmod(self._waiting, 0o666 & ~umask())
        except (OSError, pa.ArrowException) as error:
            self.drop()
            raise StoreError(
                f"the {result.counts['reject']:,} rejects could not be written to {self.path}: {error}; free some room "
                "there, or write them elsewhere"
            ) from error

    def _write(self, result: Result, file: Any) -> None:
        if self.path.endswith(".jsonl"):
            records = reject_lines(result, _same)
            for row, reason, text, record in zip(*(column.to_pylist() for column in records.columns), strict=True):
                told = _line(dict(zip(REJECT_COLUMNS, (row, reason, text, result.batch), strict=False)))
                file.write((told if record is None else f"{told[:-1]}, {record[1:]}").encode() + b"\n")
            return
        table = result.rejects
        if self.path.endswith(".parquet"):
            import pyarrow.parquet as pq

            try:
                pq.write_table(pa.table([plain(column) for column in table.columns], names=table.column_names), file)
            except pa.ArrowNotImplementedError:  # of a type that Parquet does not have
                file.seek(0)
                file.truncate()
                pq.write_table(_flat(table), file)
        else:
            import pyarrow.csv as pcsv

            flat = _flat(table)
            pcsv.write_csv(_neutral(flat) if self._neutral else flat, file)

    def publish(self) -> tuple[str, str | None]:
        """Put the file in its place. Returns its path, and the new path of the file that was there before, if there
        was one.

        What was there is kept under another name: it may be the only copy of what it says.
        """
        assert self._waiting is not None
        aside = None
        try:
            for _ in range(_TRIES):
                try:
                    os.link(self._waiting, self._place)
                    break
                except FileExistsError:
                    aside = self._set_aside() or aside
            self.drop()
        except OSError:  # what it says is not lost
            waiting, self._waiting = self._waiting, None
            return waiting, aside
        return self.path, aside

    def _set_aside(self) -> str | None:
        """Rename the file that is in the way, if it is worth keeping."""
        assert self._waiting is not None
        if _say_the_same(self._place, self._waiting):
            os.unlink(self._place)
            return None
        stem, ending = os.path.splitext(self._place)
        for number in count(1):
            aside = f"{stem}.{number}{ending}"
            with suppress(FileExistsError):
                os.link(self._place, aside)
                os.unlink(self._place)
                return aside if os.path.islink(self.path) else f"{os.path.splitext(self.path)[0]}.{number}{ending}"
        raise AssertionError

    @property
    def waits(self) -> bool:
        """Whether a file was prepared."""
        return self._waiting is not None

    def drop(self) -> None:
        """Forget what was prepared."""
        waiting, self._waiting = self._waiting, None
        if waiting is not None:
            with suppress(OSError):
                os.unlink(waiting)


def keep_rejects(session: Session, result: Result, name: str, owner: str) -> None:
    """Append rejects to a table of the store, which is made if it is not there; or is `owner`'s, or this user's."""
    info = replace(_TABLE, name=name)
    there = session.find_own(name, owner=owner)
    if there is None:
        session.create(info)
    elif any(column not in there for column in info.names):
        raise StoreError(
            f"rejects: a table named {name!r} is there already and does not have the columns {', '.join(info.names)}; "
            "name another table"
        )
    fixed = reject_lines(result, own_name)
    batch = pa.repeat(pa.scalar(result.batch, pa.int64()), len(fixed))
    fixed = pa.table([batch, *(plain(column) for column in fixed.columns)], names=info.names)
    for name, mask in session.normalise(info, fixed)[1].items():  # what the database has no letters for is escaped
        escape = _in_ascii if name == "rmend_record" else _escaped
        pairs = zip(fixed[name].to_pylist(), mask.tolist(), strict=True)
        texts = pa.array([escape(text) if bad else text for text, bad in pairs], pa.string())
        fixed = fixed.set_column(info.names.index(name), name, texts)
    session.append(info, Load(fixed))


_TABLE = TableInfo(
    "",
    (
        Column("rmend_batch", pa.int64(), nullable=False),
        Column("rmend_row", pa.int64()),
        Column("rmend_reason", pa.string(), nullable=False),
        Column("rmend_text", pa.string()),
        Column("rmend_record", pa.string()),
    ),
)


def _same(name: str) -> str:
    return name


def reject_lines(result: Result, called: Callable[[str], str]) -> pa.Table:
    """The rejects, each with its record as a line of JSON, which has just what was sent; null if it has no values.
    `called`: what a column is called there."""
    parts = [_LINES.empty_table()]
    for table in tables_of(result._rejects):
        names = table.column_names[len(REJECT_SHAPE) :]
        spelled = _spelled(table.select(names)).rename_columns([called(name) for name in names])
        lines: Any = [_line(row) for row in spelled.to_pylist()] if names else [None] * len(table)
        told = table.select(REJECT_SHAPE.names).cast(REJECT_SHAPE)
        parts.append(pa.table([*told.columns, pa.array(lines, pa.string())], schema=_LINES))
    return pa.concat_tables(parts).sort_by("rmend_row")


_LINES = REJECT_SHAPE.append(pa.field("rmend_record", pa.string()))
_TRIES = 100
_COMPARED = 16 << 20  # bytes


def _flat(table: pa.Table) -> pa.Table:
    """With types that CSV has no form for, or another than ours, as texts."""
    arrays = []
    for column in table.columns:
        values = plain(column)
        if pa.types.is_binary(values.type):
            values = hexadecimal(values)
        elif pt.is_floating(values.type):
            values = values.cast(pa.float64())  # a 32-bit float is another number than its own text
        elif not any(test(values.type) for test in _OF_CSV):
            values = as_text(values)[0]
        arrays.append(values)
    return pa.table(arrays, names=table.column_names)


_OF_CSV = (pt.is_integer, pt.is_string, pt.is_boolean, pt.is_null)


def _in_ascii(record: str) -> str:
    return json.dumps(json.loads(record))


def _escaped(text: str) -> str:
    return text.encode("ascii", "backslashreplace").decode().replace("\0", "\\x00")


def _line(row: dict[str, Any]) -> str:
    """A record as JSON."""
    try:
        return json.dumps(row, ensure_ascii=False, allow_nan=False, default=_spell)
    except ValueError:  # JSON has no word for these numbers
        texts = {n: str(v) if isinstance(v, float) and not math.isfinite(v) else v for n, v in row.items()}
        return json.dumps(texts, ensure_ascii=False, default=_spell)


def _spelled(table: pa.Table) -> pa.Table:
    """With dates and times as text: Python has none past the year 9999."""
    arrays = [_as_text_within(plain(column)) for column in table.columns]
    return pa.table(arrays, names=table.column_names)


def _as_text_within(values: pa.Array) -> pa.Array:
    kind = textual(values.type)
    if kind == values.type:
        return values
    return as_text(values)[0] if pt.is_temporal(values.type) else values.cast(kind)


def _neutral(table: pa.Table) -> pa.Table:
    """With an apostrophe before texts that a spreadsheet would take for a formula, and a column that says so."""
    arrays = []
    for column in table.columns:
        if pt.is_string(column.type):
            formula = pc.fill_null(pc.match_substring_regex(column, FORMULA), False)
            column = pc.if_else(formula, pc.binary_join_element_wise("'", column, ""), column)
        arrays.append(column)
    return pa.table(arrays, names=table.column_names).append_column(FORMULAS, pa.repeat("neutral", table.num_rows))


def _spell(value: object) -> str:
    return value.hex() if isinstance(value, bytes) else str(value)
