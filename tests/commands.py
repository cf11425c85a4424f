"""Runs of `rmend` in processes of their own.

They are forked from a process that has read the modules: a second of CPU is paid once a worker, and not once a run.
"""

from __future__ import annotations

import atexit
import ctypes
import json
import multiprocessing
import os
import signal
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import lru_cache
from multiprocessing.context import ForkServerContext
from pathlib import Path
from typing import Any

ROOT = Path(__file__).parent.parent
_MOST_SECONDS = 120.0
_ON_THE_PARENTS_DEATH = 1  # as Linux says it


def _end_with_the_server() -> None:
    """A run that is killed leaves nothing that goes on: what it began ends with the process from which it was forked."""
    if sys.platform == "linux":
        ctypes.CDLL(None).prctl(_ON_THE_PARENTS_DEATH, signal.SIGKILL)


def _main(words: list[str], folder: str, files: list[str], env: dict[str, str]) -> None:
    """What a forked process does: all that `python -m rapid_mender` does once its modules are there."""
    _end_with_the_server()
    modes = (os.O_RDONLY, os.O_WRONLY | os.O_CREAT | os.O_APPEND, os.O_WRONLY | os.O_CREAT | os.O_APPEND)
    for number, (path, mode) in enumerate(zip(files, modes, strict=True)):
        opened = os.open(path, mode, 0o666)
        os.dup2(opened, number)
        os.close(opened)
    encoding = env.get("PYTHONIOENCODING")
    sys.stdin, sys.stdout = os.fdopen(0, encoding=encoding), os.fdopen(1, "w", encoding=encoding, closefd=False)
    sys.stderr = os.fdopen(2, "w", buffering=1, encoding=encoding, errors="backslashreplace", closefd=False)
    os.chdir(folder)
    os.environ.clear()
    os.environ.update(env)
    tempfile.tempdir = None
    sys.argv = ["rmend", *words]
    signal.signal(signal.SIGINT, signal.default_int_handler)
    from rapid_mender.__main__ import main

    try:
        main()
    finally:
        atexit._run_exitfuncs()
        try:
            sys.stdout.flush()
        except OSError:
            os._exit(120)  # as the interpreter does


@lru_cache
def _server() -> ForkServerContext:
    context = multiprocessing.get_context("forkserver")
    multiprocessing.current_process()._config["tempdir"] = tempfile.mkdtemp()  # type: ignore[attr-defined]  # it ends with the run
    context.set_forkserver_preload(["tests.preloaded"])
    return context


def _start(target: Any, *args: Any) -> Any:
    """A process, forked from the server of them, which finds our modules wherever this process is now."""
    path = os.environ.get("PYTHONPATH")
    os.environ["PYTHONPATH"] = os.pathsep.join([str(ROOT), *([path] if path else [])])
    try:
        process = _server().Process(target=target, args=args, daemon=True)
        process.start()
    finally:
        os.environ.pop("PYTHONPATH")
        if path is not None:
            os.environ["PYTHONPATH"] = path
    return process


@dataclass
class Ran:
    code: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        return json.loads(self.out)


@dataclass
class Running:
    """An `rmend` that runs: `rmend WORDS` in a folder. `stdout` may be a device; else what it says is in `out`, `err`."""

    words: tuple[Any, ...]
    folder: Path = ROOT
    stdin: str | Path = os.devnull
    stdout: str | Path | None = None
    env: dict[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self._said = [tempfile.NamedTemporaryFile("r", prefix="rmend-said-", encoding="utf-8") for _ in range(2)]  # noqa: SIM115
        files = [str(self.stdin), str(self.stdout or self._said[0].name), self._said[1].name]
        self._process = _start(_main, [str(word) for word in self.words], str(self.folder), files, dict(os.environ) | self.env)
        self.pid: int = self._process.pid

    @property
    def out(self) -> str:
        return Path(self._said[0].name).read_text(encoding="utf-8")

    @property
    def err(self) -> str:
        return Path(self._said[1].name).read_text(encoding="utf-8")

    def poll(self) -> int | None:
        return self._process.exitcode

    def send_signal(self, number: int) -> None:
        if self._process.is_alive():
            os.kill(self.pid, number)

    def kill(self) -> None:
        self.send_signal(signal.SIGKILL)

    def until(self, done: Callable[[Running], bool], seconds: float = 60) -> None:
        """Wait for what it has said, or for something else."""
        end = time.monotonic() + seconds
        while not done(self):
            assert time.monotonic() < end, self.err
            time.sleep(0.02)

    def wait(self, timeout: float = _MOST_SECONDS) -> Ran:
        """What it said, and its exit code; a run that ended in a traceback fails the test."""
        self._process.join(timeout)
        code = self._process.exitcode
        if code is None:
            self.kill()
            raise TimeoutError(f"rmend {' '.join(map(str, self.words))} still runs after {timeout} s; so far: {self.err}")
        ran = Ran(code, self.out, self.err)
        for file in self._said:
            file.close()
        assert "Traceback" not in ran.err, ran.err
        return ran


def _other(target: Callable[..., None], *args: Any) -> None:
    _end_with_the_server()
    target(*args)


def forked(target: Callable[..., None], *args: Any) -> Callable[[], None]:
    """Run a function of the tests in a process of its own. The function that is returned waits for its end."""
    process = _start(_other, target, *args)

    def end() -> None:
        process.join(_MOST_SECONDS)
        assert process.exitcode == 0, f"{target.__name__}{args} ended with {process.exitcode}"

    return end
