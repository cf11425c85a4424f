"""Writing rejects where the job says. The file appears whole or not at all."""

from __future__ import annotations

import json
import math
import os
import tempfile
from contextlib import suppress
from dataclasses import replace
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.types as pt

from .core.cast import as_text, plain, textual
from .core.schema import Column, TableInfo
from .errors import JobError, StoreError
from .stores.base import Session

_ENDINGS = (".csv", ".jsonl", ".parquet")


def check_rejects_path(path: str) -> None:
    """Raise JobError unless rejects can be written to `path`."""
    if os.path.isdir(path):
        raise JobError(f"rejects: {path} is a folder; name a file in it")
    if not path.endswith(_ENDINGS):
        raise JobError(f"rejects: {path!r} must end in .csv, .jsonl or .parquet")
    folder = os.path.dirname(os.path.abspath(path))
    if not os.path.isdir(folder):
        raise JobError(f"rejects: there is no folder {folder}; make it, or write the rejects elsewhere")
    if not os.access(folder, os.W_OK):
        raise JobError(f"rejects: the folder {folder} cannot be written to by this user")


class RejectsFile:
    """A file of rejects: written beside its place before the run is committed, and put there when it is."""

    def __init__(self, path: str, neutral: bool = False) -> None:
        """`neutral`: in CSV, values that a spreadsheet would take for a formula begin with an apostrophe."""
        self.path, self._neutral = path, neutral
        self._waiting: str | None = None

    def prepare(self, table: pa.Table) -> None:
        """Write the file beside its place, as CSV, JSON Lines or Parquet, by the path's ending."""
        self.drop()
        folder = os.path.dirname(os.path.abspath(self.path))
        try:
            with tempfile.NamedTemporaryFile(dir=folder, prefix=".rmend-", delete=False) as file:
                self._waiting = file.name
                self._write(table, file)
            os.chmod(self._waiting, 0o666 & ~_umask())
        except (OSError, pa.ArrowException) as error:
            self.drop()
            raise StoreError(
                f"the {table.num_rows:,} rejects could not be written to {self.path}: {error}; free some room "
                "there, or write them elsewhere"
            ) from error

    def _write(self, table: pa.Table, file: Any) -> None:
        if self.path.endswith(".parquet"):
            import pyarrow.parquet as pq

            pq.write_table(table, file)
        elif self.path.endswith(".jsonl"):
            for batch in _spelled(table).to_batches(max_chunksize=10_000):
                file.write("".join(f"{_line(row)}\n" for row in batch.to_pylist()).encode())
        else:
            import pyarrow.csv as pcsv

            flat = _flat(table)
            pcsv.write_csv(_neutral(flat) if self._neutral else flat, file)

    def publish(self) -> str | None:
        """Put the file in its place. Returns where it is if that cannot be done: what it says is not lost."""
        waiting, self._waiting = self._waiting, None
        if waiting is None:
            return None
        try:
            os.replace(waiting, self.path)
        except OSError:
            return waiting
        return None

    def drop(self) -> None:
        """Forget what was prepared."""
        waiting, self._waiting = self._waiting, None
        if waiting is not None:
            with suppress(OSError):
                os.unlink(waiting)


def keep_rejects(session: Session, rejects: pa.Table, name: str, owner: str) -> None:
    """Append rejects to a table of the store, which is made if it is not there; or is `owner`'s, or this user's."""
    info = replace(_TABLE, name=name)
    found = session.find_own(name, owner=owner)
    if found is None:
        session.create(info)
    elif any(column not in found for column in info.names):
        raise StoreError(
            f"rejects: a table named {name!r} is there already and does not have the columns {', '.join(info.names)}; "
            "name another table"
        )
    records = rejects.drop_columns([column for column in info.names if column in rejects.column_names])
    spelled = [_line(row) for row in _spelled(records).to_pylist()]
    fixed = rejects.select(info.names[:-1]).append_column("rmend_record", pa.array(spelled, pa.string()))
    fixed = pa.table([plain(column) for column in fixed.columns], names=info.names)
    for name, mask in session.settle(info, fixed)[1].items():  # what the database has no letters for is escaped
        escape = _in_ascii if name == "rmend_record" else _escaped
        pairs = zip(fixed[name].to_pylist(), mask.tolist(), strict=True)
        texts = pa.array([escape(text) if bad else text for text, bad in pairs], pa.string())
        fixed = fixed.set_column(info.names.index(name), name, texts)
    session.append(info, fixed, {})


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


def _flat(table: pa.Table) -> pa.Table:
    """With every type as text that CSV has no form for."""
    arrays = []
    for column in table.columns:
        values = plain(column)
        if pa.types.is_binary(values.type):
            values = pa.array([None if v is None else v.hex() for v in values.to_pylist()], pa.string())
        elif pa.types.is_nested(values.type):
            values = as_text(values)[0]
        arrays.append(values)
    return pa.table(arrays, names=table.column_names)


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
    """With an apostrophe before texts that a spreadsheet would take for a formula."""
    arrays = []
    for column in table.columns:
        if pt.is_string(column.type):
            formula = pc.match_substring_regex(column, r"^[=+\-@\t\r]")
            column = pc.if_else(pc.fill_null(formula, False), pc.binary_join_element_wise("'", column, ""), column)
        arrays.append(column)
    return pa.table(arrays, names=table.column_names)


def _spell(value: object) -> str:
    return value.hex() if isinstance(value, bytes) else str(value)


def _umask() -> int:
    current = os.umask(0)
    os.umask(current)
    return current
