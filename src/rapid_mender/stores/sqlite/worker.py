"""A SQLite file opened in a process of its own.

Locks on files belong to the process. Two copies of SQLite in one process, such as the driver's and that of Python's
`sqlite3`, do not see each other's locks, and drop them when they close the file. So where anybody else in this process
may have the file open, or open it meanwhile, ours is opened in another process. Tables pass as Arrow streams, over
pipes; the processes are kept for a while and used again.
"""

from __future__ import annotations

import atexit
import json
import os
import select
import signal
import struct
import subprocess
import sys
import threading
import time
from contextlib import suppress
from typing import IO, Any

import pyarrow as pa

from ...errors import StoreError
from ..contract import Refused
from .link import Link, Locked, identity_of_file, refusal

_HEAD = struct.Struct("<qq")
_MOST_IDLE = 2
_IDLE_SECONDS = 300
_START = "import sys; sys.path[:] = sys.argv[1:]; from rapid_mender.stores.sqlite.worker import main; main()"


def _put(stream: IO[bytes], words: Any, table: pa.Table | None = None) -> None:
    header = json.dumps(words).encode()
    body: Any = None
    if table is not None:
        sink = pa.BufferOutputStream()
        with pa.ipc.new_stream(sink, table.schema) as writer:
            writer.write_table(table)
        body = sink.getvalue()
    stream.write(_HEAD.pack(len(header), -1 if body is None else body.size) + header)
    if body is not None:
        stream.write(body)
    stream.flush()


def _take(stream: IO[bytes]) -> tuple[Any, pa.Table | None] | None:
    """The other side's message; None if it has ended."""
    head = stream.read(_HEAD.size)
    if len(head) < _HEAD.size:
        return None
    length, size = _HEAD.unpack(head)
    header = stream.read(length)
    body = stream.read(size) if size >= 0 else None
    if len(header) < length or (body is not None and len(body) < size):
        return None
    return json.loads(header), None if body is None else pa.ipc.open_stream(body).read_all()


class Worker:
    """The other process, seen from here."""

    def __init__(self) -> None:
        if not sys.executable:
            raise StoreError("SQLite needs a process of its own here, and it is not known how to start Python")
        path = [os.path.abspath(part) if part == "" else part for part in sys.path]
        self._process = subprocess.Popen(
            [sys.executable, "-I", "-c", _START, *path],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            start_new_session=True,  # a Ctrl-C is for us to deal with
        )
        self.of = os.getpid()

    @property
    def usable(self) -> bool:
        """Whether it runs, and was started by this process, not by one that this was forked from."""
        return self.of == os.getpid() and self._process.poll() is None

    def ask(self, where: str, words: Any, table: pa.Table | None = None) -> tuple[Any, pa.Table | None]:
        """Ask the process to do something. Raises what it raised, and StoreError if it has ended."""
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        try:
            _put(self._process.stdin, words, table)
            answer = _take(self._process.stdout)
        except (OSError, ValueError):  # the pipe is broken, or closed since it was
            answer = None
        except BaseException:
            self.end()  # nobody knows what it answers next
            raise
        if answer is None:
            self.end()
            raise StoreError(
                f"{where}: the process that worked on it has ended; what was not committed is undone; run again"
            )
        said, reply = answer
        if isinstance(said, dict) and "error" in said:
            kinds: dict[str, Any] = {"Locked": Locked, "StoreError": StoreError}
            raise refusal(where, said["text"]) if said["error"] == "Refused" else kinds[said["error"]](said["text"])
        return said, reply

    def end(self) -> None:
        """Stop it at once."""
        if self.of == os.getpid():
            self._process.kill()
            self._process.wait()
        for stream in (self._process.stdin, self._process.stdout):
            with suppress(OSError):
                stream.close()  # type: ignore[union-attr]


_idle: list[Worker] = []
_lock = threading.Lock()


def _hire() -> Worker:
    with _lock:
        while _idle:
            worker = _idle.pop()
            if worker.usable:
                return worker
            worker.end()
    return Worker()


def _dismiss(worker: Worker) -> None:
    with _lock:
        if worker.usable and len(_idle) < _MOST_IDLE:
            _idle.append(worker)
            return
    worker.end()


@atexit.register
def _dismiss_all() -> None:
    while _idle:
        _idle.pop().end()


class RemoteLink(Link):
    """A connection to a SQLite file in a process of its own."""

    @property
    def may_close(self) -> bool:
        return self._process == os.getpid()

    def _connect(self, writable: bool, patience: int, cache_kib: int) -> None:
        self._file, self._process = identity_of_file(self.path), os.getpid()
        self._worker = _hire()
        try:
            self._worker.ask(self.path, ["open", self.path, writable, patience, cache_kib])
        except BaseException:
            self._leave()
            raise

    def rest(self) -> bool:
        return True  # it holds no file of this process

    def go_on(self) -> None:
        """It holds no file of this process."""

    def _leave(self) -> None:
        worker, self._worker = self._worker, None  # type: ignore[assignment]
        if worker is not None:
            _dismiss(worker)

    def close(self) -> None:
        if self._worker is None:
            return
        try:
            if self._worker.usable:
                self._worker.ask(self.path, ["close"])
        finally:
            self._leave()

    def run(self, sql: str, bound: pa.Table | None = None) -> None:
        if bound is None or bound.num_rows:
            self._worker.ask(self.path, ["run", sql], bound)

    def run_each(self, sql: str, bound: pa.Table, one_change: bool) -> dict[int, str]:
        said, _ = self._worker.ask(self.path, ["run_each", sql, one_change], bound)
        return {int(row): refusal(self.path, reason).reason for row, reason in said}

    def query(self, sql: str, bound: pa.Table | None = None, about: int = 0) -> pa.Table:
        table = self._worker.ask(self.path, ["query", sql, about], bound)[1]
        assert table is not None
        return table

    def look_up_few(self, sql: str, bound: pa.Table) -> pa.Table:
        table = self._worker.ask(self.path, ["look_up_few", sql], bound)[1]
        assert table is not None
        return table


def _do(link: Link | None, words: list[Any], table: pa.Table | None) -> tuple[Link | None, Any, pa.Table | None]:
    """What is done in the other process; the link that is then open, and the answer."""
    what, *said = words
    if what == "open":
        path, writable, patience, cache = said
        return Link(path, writable, patience, cache), None, None
    if link is None:
        return None, None, None
    if what == "run":
        link.run(said[0], table)
    elif what == "run_each":
        assert table is not None
        return link, list(link.run_each(said[0], table, said[1]).items()), None
    elif what == "query":
        return link, None, link.query(said[0], table, said[1])
    elif what == "look_up_few":
        assert table is not None
        return link, None, link.look_up_few(said[0], table)
    elif what == "close":
        link.close()
        return None, None, None
    return link, None, None


def _watch(parent: int) -> None:
    """End when the process that this one works for ends, even if another still holds the pipe."""
    while os.getppid() == parent:
        time.sleep(1)
    os._exit(0)


def main() -> None:
    """Serve the process that started this one, until it ends or asks for nothing more."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    threading.Thread(target=_watch, args=(os.getppid(),), daemon=True, name="rmend-watch").start()
    source, sink = os.fdopen(os.dup(0), "rb"), os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)  # what anybody prints is no answer
    link: Link | None = None
    while link is not None or select.select([source], [], [], _IDLE_SECONDS)[0]:
        asked = _take(source)
        if asked is None:
            return
        try:
            link, said, table = _do(link, *asked)
            _put(sink, said, table)
        except Refused as error:
            _put(sink, {"error": "Refused", "text": error.reason})
        except StoreError as error:
            _put(sink, {"error": "Locked" if isinstance(error, Locked) else "StoreError", "text": str(error)})
        except Exception as error:
            _put(sink, {"error": "StoreError", "text": f"{type(error).__name__}: {error}"})
