"""Ends a run of the tests when whoever began it is there no more: its servers are stopped, its folder is removed.

A program of its own: `python keeper.py FOLDER`, which waits until its standard input is closed.
"""

from __future__ import annotations

import os
import shutil
import signal
import sys
import time
from contextlib import suppress
from pathlib import Path

_PIDS = {"pid": signal.SIGKILL, "data/postmaster.pid": signal.SIGQUIT}
"""Where servers write their number, and what stops them at once; PostgreSQL's other processes have to hear of it."""
_WAIT = 10.0


def _stop(file: Path, how: signal.Signals) -> None:
    with suppress(OSError, ValueError, IndexError):
        number = int(file.read_text().split()[0])
        os.kill(number, how)
        end = time.monotonic() + _WAIT
        while time.monotonic() < end:
            os.kill(number, 0)
            time.sleep(0.05)
        os.kill(number, signal.SIGKILL)


def main(folder: Path) -> None:
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, signal.SIG_IGN)
    sys.stdin.read()
    for path in folder.iterdir():
        for name, how in _PIDS.items():
            _stop(path / name, how)
    shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    main(Path(sys.argv[1]))
