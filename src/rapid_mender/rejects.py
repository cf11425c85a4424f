"""Writing rejects where the job says. The file appears whole or not at all."""

from __future__ import annotations

import json
import os
import tempfile
from dataclasses import replace

import pyarrow as pa

from .core.cast import plain
from .core.schema import Column, TableInfo
from .errors import JobError, StoreError
from .stores.base import Session

_ENDINGS = (".csv", ".jsonl", ".parquet")


def check_rejects_path(path: str) -> None:
    """Raise JobError unless rejects can be written to `path`."""
    if not path.endswith(_ENDINGS):
        raise JobError(f"rejects: {path!r} must end in .csv, .jsonl or .parquet")
    folder = os.path.dirname(os.path.abspath(path))
    if not os.path.isdir(folder):
        raise JobError(f"rejects: there is no folder {folder}; make it, or write the rejects elsewhere")
    if not os.access(folder, os.W_OK):
        raise JobError(f"rejects: the folder {folder} cannot be written to by this user")


def write_rejects(table: pa.Table, path: str) -> None:
    """Write rejects as CSV, JSON Lines or Parquet, by the path's ending."""
    folder = os.path.dirname(os.path.abspath(path))
    temporary = None
    try:
        with tempfile.NamedTemporaryFile(dir=folder, prefix=".rmend-", delete=False) as file:
            temporary = file.name
            if path.endswith(".parquet"):
                import pyarrow.parquet as pq

                pq.write_table(table, file)
            elif path.endswith(".jsonl"):
                for batch in table.to_batches(max_chunksize=10_000):
                    lines = (json.dumps(row, ensure_ascii=False, default=_spell) + "\n" for row in batch.to_pylist())
                    file.write("".join(lines).encode())
            else:
                import pyarrow.csv as pcsv

                pcsv.write_csv(_flat(table), file)
        os.chmod(temporary, 0o666 & ~_umask())
        os.replace(temporary, path)
    except OSError as error:
        if temporary is not None and os.path.exists(temporary):
            os.unlink(temporary)
        failed = StoreError(
            f"the merge is done and in the table, but its {table.num_rows} rejects could not be written to {path}: "
            f"{error}; mend that and merge the same batch again: only the rejects remain"
        )
        failed.wrote = True
        raise failed from error


def keep_rejects(session: Session, rejects: pa.Table, name: str) -> None:
    """Append rejects to a table of the store, which is made if it is not there."""
    info = replace(_TABLE, name=name)
    found = session.find_own(name)
    if found is None:
        session.create(info)
    elif any(column not in found for column in info.names):
        raise StoreError(
            f"rejects: a table named {name!r} is there already and does not have the columns {', '.join(info.names)}; "
            "name another table"
        )
    records = rejects.drop_columns([column for column in info.names if column in rejects.column_names])
    spelled = [json.dumps(row, ensure_ascii=False, default=_spell) for row in records.to_pylist()]
    fixed = rejects.select(info.names[:-1]).append_column("rmend_record", pa.array(spelled, pa.string()))
    fixed = pa.table([plain(column) for column in fixed.columns], names=info.names)
    for name, mask in session.settle(info, fixed)[1].items():  # what the database has no letters for is escaped
        texts = zip(fixed[name].to_pylist(), mask.tolist(), strict=True)
        fixed = fixed.set_column(
            info.names.index(name), name, pa.array([_escaped(t) if bad else t for t, bad in texts])
        )
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
    from .core.cast import as_text

    arrays = []
    for column in table.columns:
        values = plain(column)
        if pa.types.is_binary(values.type):
            values = pa.array([None if v is None else v.hex() for v in values.to_pylist()], pa.string())
        elif pa.types.is_nested(values.type):
            values = as_text(values)[0]
        arrays.append(values)
    return pa.table(arrays, names=table.column_names)


def _escaped(text: str) -> str:
    return text.encode("ascii", "backslashreplace").decode().replace("\0", "\\x00")


def _spell(value: object) -> str:
    return value.hex() if isinstance(value, bytes) else str(value)


def _umask() -> int:
    current = os.umask(0)
    os.umask(current)
    return current
