"""Files as they are when they are unpacked: gzip, Zstandard, and zip archives of one file."""

from __future__ import annotations

import gzip
import zipfile
import zlib
from typing import IO, Any

import pyarrow as pa

from ..errors import IncomingError

DAMAGED = (OSError, EOFError, zlib.error, zipfile.BadZipFile, pa.ArrowException)
"""What reading a damaged file may raise."""
_ENDINGS = (".gz", ".zst", ".zip")


def is_packed(path: str) -> bool:
    return path.lower().endswith(_ENDINGS)


def without_ending(path: str) -> str:
    """A path without the ending that says how the file is packed."""
    return path[: path.rindex(".")] if is_packed(path) else path


def inner_name(path: str) -> str:
    """The name of what is in a file, in small letters: its own without the ending that says how it is packed. Raises
    IncomingError for a zip archive that is damaged, or has not just one file."""
    if not path.lower().endswith(".zip"):
        return without_ending(path).lower()
    with open(path, "rb") as file:
        return _only(path, file)[1].lower()


def unpacked(path: str, file: IO[bytes]) -> Any:
    """A stream of what is in an open file, by the ending of its path."""
    name = path.lower()
    if name.endswith(".gz"):
        return gzip.GzipFile(fileobj=file)
    if name.endswith(".zst"):
        return pa.CompressedInputStream(pa.PythonFile(file, "r"), "zstd")
    if name.endswith(".zip"):
        archive, only = _only(path, file)
        return archive.open(only)
    return file


def _only(path: str, file: IO[bytes]) -> tuple[zipfile.ZipFile, str]:
    """A zip archive, and the name of the one file in it."""
    try:
        archive = zipfile.ZipFile(file)
    except DAMAGED as error:
        raise IncomingError(f"the archive cannot be read: {error}", path) from error
    names = [one.filename for one in archive.infolist() if not one.is_dir()]
    if len(names) != 1:
        raise IncomingError(
            f"the archive has {len(names):,} files, and one is read; unpack it, and give the file", path
        )
    return archive, names[0]
