"""A folder that others may write to as well, beside a sync that has more rights than they.

Whatever they put there, nothing outside of the folder is written or read: everything is done beside a handle of the
folder, by plain names, and no link is followed. What is new is created, not opened.
"""

from __future__ import annotations

import json
import os
import re
import stat
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from types import TracebackType
from typing import Any, BinaryIO

from ..core.json_text import read_json
from ..core.names import not_text
from ..errors import JobError, StoreError

_STATE, _LOCK = ".rmend.json", ".rmend.lock"
_PART = re.compile(r"\d{12,19}-\d{12,19}(-first)?\.(events\.jsonl|parquet)")
_MOST = 1 << 63
_STATE_BYTES = 1 << 16
_SAFELY = getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_CLOEXEC", 0)


class Folder:
    """A folder, held open. Raises StoreError where something in it cannot be written, or is not what it should be."""

    def __init__(self, path: str) -> None:
        if why := not_text(path, path=True):
            raise JobError(f"{path!r} is no path: {why}")
        self.path = path
        with self._in_words():
            os.makedirs(path, exist_ok=True)
            self._handle = os.open(path, os.O_RDONLY) if os.open in os.supports_dir_fd else None

    def __enter__(self) -> Folder:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, at: TracebackType | None) -> None:
        if self._handle is not None:
            os.close(self._handle)

    # -- state ------------------------------------------------------------------------------------------

    def state(self) -> dict[str, Any] | None:
        """How far the files have come; None if nobody has begun. Raises JobError if it cannot be understood."""
        with self._in_words():
            try:
                with self._open(_STATE, os.O_RDONLY) as file:
                    text = file.read(_STATE_BYTES + 1)
            except FileNotFoundError:
                return None
        try:
            said: dict[str, Any] = read_json(text[:_STATE_BYTES].decode(), {})
        except (UnicodeDecodeError, RecursionError):
            said = {}
        at = said.get("then") if "next" in said else said
        if not isinstance(at, dict) or not all(_is_number(at.get(name)) for name in ("position", "batch_no")):
            raise JobError(f"{self.path}/{_STATE} does not say how far the files have come; take another folder")
        if "next" in said and not (isinstance(said["next"], str) and _PART.fullmatch(said["next"])):
            raise JobError(f"{self.path}/{_STATE} names a file that is none of its parts; take another folder")
        return said

    def check_new(self) -> None:
        """Raise JobError if there are parts, but nothing says how far they have come: others would overlap them."""
        with self._in_words():
            parts = sorted(name for name in os.listdir(self._listed) if _PART.fullmatch(name))
        if parts:
            raise JobError(
                f"{self.path} has parts ({parts[0]}), and no {_STATE}, which says how far they have come: put that "
                "back, or take another folder"
            )

    def keep(self, state: Mapping[str, Any]) -> None:
        """Put down how far the files have come, at once."""
        with self._in_words(), self._created(f"{_STATE}.new") as file:
            file.write(json.dumps(state).encode())
            file.flush()
            os.fsync(file.fileno())
        self._rename(f"{_STATE}.new", _STATE)

    # -- parts ------------------------------------------------------------------------------------------

    @contextmanager
    def writing(self, name: str) -> Iterator[BinaryIO]:
        """A part that is to be written, under a hidden name."""
        with self._in_words(), self._created(f".{name}") as file:
            yield file

    def show(self, name: str) -> str:
        """Give a part that was written its name, if it has it not yet. Returns its path."""
        with suppress(FileNotFoundError):
            self._rename(f".{name}", name)
        return os.path.join(self.path, name)

    def clear(self) -> None:
        """Remove parts that were not finished."""
        with self._in_words():
            for name in os.listdir(self._listed):
                if name.startswith(".") and _PART.fullmatch(name[1:]):
                    self._remove(name)

    # -- alone ------------------------------------------------------------------------------------------

    @contextmanager
    def alone(self) -> Iterator[None]:
        """Keep other processes from writing parts of the same folder. Raises JobError if one does."""
        try:
            import fcntl
        except ImportError:  # not on Windows
            yield
            return
        with self._in_words():
            file = self._open(_LOCK, os.O_RDWR | os.O_CREAT)
        with file:
            try:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError:
                raise JobError(f"another process writes files into {self.path}; let one at a time do that") from None
            yield

    # -- within the folder ------------------------------------------------------------------------------

    def _open(self, name: str, flags: int) -> BinaryIO:
        """Open a plain file, and nothing else."""
        opened = os.open(self._at(name), flags | _SAFELY, 0o666, dir_fd=self._handle)
        if not stat.S_ISREG(os.fstat(opened).st_mode):
            os.close(opened)
            raise StoreError(f"{self.path}/{name} is not a plain file; remove it, and run again")
        return os.fdopen(opened, "r+b" if flags & os.O_RDWR else "wb" if flags & os.O_WRONLY else "rb")

    def _created(self, name: str) -> BinaryIO:
        """Make a file, in place of whatever has its name."""
        self._remove(name)
        return self._open(name, os.O_WRONLY | os.O_CREAT | os.O_EXCL)

    def _remove(self, name: str) -> None:
        with suppress(FileNotFoundError):
            os.remove(self._at(name), dir_fd=self._handle)

    def _rename(self, name: str, to: str) -> None:
        with self._in_words(keeps=FileNotFoundError):
            os.replace(self._at(name), self._at(to), src_dir_fd=self._handle, dst_dir_fd=self._handle)

    @property
    def _listed(self) -> str | int:
        return self.path if self._handle is None else self._handle

    def _at(self, name: str) -> str:
        return name if self._handle is not None else os.path.join(self.path, name)

    @contextmanager
    def _in_words(self, keeps: type[OSError] | tuple[()] = ()) -> Iterator[None]:
        try:
            yield
        except keeps:
            raise
        except OSError as error:
            at = f"{self.path}/{error.filename}" if isinstance(error.filename, str) else self.path
            raise StoreError(f"{at} cannot be written: {error.strerror or error}; mend that, and run again") from error


def _is_number(value: Any) -> bool:
    return type(value) is int and 0 <= value < _MOST
