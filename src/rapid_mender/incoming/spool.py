"""A place to keep tables that are read twice: in memory while they are few, else in a temporary file."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterable, Iterator
from contextlib import suppress
from typing import IO, Any

import pyarrow as pa

from ..errors import IncomingError

_IN_MEMORY = 32 << 20


def no_room(error: OSError) -> IncomingError:
    """The error that what was read does not fit into the folder for temporary files."""
    return IncomingError(
        f"the batch does not fit into the folder for temporary files, {tempfile.gettempdir()}: {error}; free some room "
        "there, or set TMPDIR to another folder"
    )


def room_for_a_file() -> IO[bytes]:
    """A temporary file that others may open under its `name`, and that is gone when it is closed; on Linux also when
    the process is killed."""
    try:
        if not os.path.isdir("/proc/self/fd"):
            return tempfile.NamedTemporaryFile(prefix="rmend-")
        file = tempfile.TemporaryFile(prefix="rmend-")  # noqa: SIM115
    except OSError as error:
        raise no_room(error) from error
    return _Named(file, f"/proc/self/fd/{file.fileno()}")  # type: ignore[return-value]


def umask() -> int:
    """The rights that this process gives to no file that it makes; a temporary file has fewer still."""
    current = os.umask(0)
    os.umask(current)
    return current


class _Named:
    """A file under another name."""

    def __init__(self, file: IO[bytes], name: str) -> None:
        self._file, self.name = file, name

    def __getattr__(self, name: str) -> Any:
        return getattr(self._file, name)


class Spool:
    """Tables, kept in the order in which they were put. Each may have a schema of its own."""

    def __init__(self, limit: int = _IN_MEMORY) -> None:
        self._limit = limit
        self._kept: list[pa.Table | int] = []  # a table, or where in the file it begins
        self._bytes = 0
        self._file: IO[bytes] | None = None
        self.rows = 0

    def put(self, table: pa.Table, free: bool = False) -> None:
        """Keep a table; `free`: it is in memory anyway, and so does not count."""
        self.rows += table.num_rows
        if free or self._bytes + table.nbytes <= self._limit:
            self._bytes += 0 if free else table.nbytes
            self._kept.append(table)
            return
        try:
            if self._file is None:
                self._file = tempfile.TemporaryFile(prefix="rmend-")  # noqa: SIM115 - closed by close()
            self._file.seek(0, 2)
            self._kept.append(self._file.tell())
            options = pa.ipc.IpcWriteOptions(compression="lz4", use_threads=False)
            with pa.ipc.new_stream(pa.PythonFile(self._file, "w"), table.schema, options=options) as stream:
                stream.write_table(table)
            self._file.flush()
        except OSError as error:
            raise no_room(error) from error

    def __iter__(self) -> Iterator[pa.Table]:
        for one in self._kept:
            if isinstance(one, int):
                assert self._file is not None
                self._file.flush()
                self._file.seek(one)
                with pa.ipc.open_stream(pa.PythonFile(self._file, "r")) as stream:
                    yield stream.read_all()
            else:
                yield one

    def close(self) -> None:
        if self._file is not None:
            with suppress(OSError):  # what could not be written was told then
                self._file.close()
        self._kept.clear()


def tables_of(spools: Iterable[Spool]) -> Iterator[pa.Table]:
    """The tables that spools keep, one spool after the other."""
    for spool in spools:
        yield from spool
