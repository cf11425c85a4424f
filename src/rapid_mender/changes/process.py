"""Which process merges a batch: so that others can tell later whether a batch that has not ended still runs, or its
process was killed."""

from __future__ import annotations

import os
import socket
from collections.abc import Sequence
from pathlib import Path

import pyarrow as pa

from ..core.own_tables import BATCHES
from ..stores.contract import Condition, Session
from .detail import Detail
from .details import details_named

_PROC = Path("/proc")
_MACHINE = Path("/etc/machine-id")


def process_detail() -> Detail:
    """This process: `name` is its machine, `number` its id, `value` when that machine and the process were started, as
    far as the system tells."""
    pid = os.getpid()
    return Detail("process", name=_machine(), number=pid, value=" ".join((_boot(), _namespace(), _started(pid) or "-")))


def has_ended(process: Detail) -> bool:
    """Whether a process is certainly not there any more. Of one on another machine, or in another container, nobody
    here can tell."""
    boot, namespace, started = (process.value or "").split(" ")
    if process.number is None or process.name != _machine() or os.name != "posix":
        return False
    if boot != _boot():
        return _text(_MACHINE) is not None  # this machine was started anew
    return namespace == _namespace() and (not _is_there(process.number) or (_started(process.number) or "-") != started)


def killed_among(session: Session, batches: Sequence[int]) -> set[int]:
    """Those of some batches that have not ended whose process has."""
    if not batches:
        return set()
    told = details_named(session, "process", [[Condition("batch_no", "=", number) for number in batches]])
    return {one.detail.batch for one in told if has_ended(one.detail)}


def note_killed(session: Session, batches: Sequence[int]) -> None:
    """Note of those batches that were killed that they were. A table of batches of an earlier version does not take
    that word; there nothing is noted."""
    for number in sorted(killed_among(session, batches)):
        row = session.fetch(BATCHES, pa.table({"batch_no": [number]}), fresh=True)
        session.update(BATCHES, row, pa.table({"status": ["killed"]}))


def _machine() -> str:
    return f"{socket.gethostname()} {_text(_MACHINE) or ''}".strip()


def _boot() -> str:
    """Which start of the machine this is."""
    return _text(_PROC / "sys/kernel/random/boot_id") or "-"


def _namespace() -> str:
    """Where process ids are counted: each container has its own."""
    try:
        return os.readlink(_PROC / "self/ns/pid")
    except OSError:
        return "-"


def _started(pid: int) -> str | None:
    """When a process was started; None if that is not told."""
    stat = _text(_PROC / str(pid) / "stat")
    return stat.rpartition(")")[2].split()[19] if stat is not None else None


def _is_there(pid: int) -> bool:
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except OSError:
        return True  # somebody else's
    stat = _text(_PROC / str(pid) / "stat")
    return stat is None or stat.rpartition(")")[2].split()[0] not in ("Z", "X")  # a zombie has ended


def _text(path: Path) -> str | None:
    try:
        return path.read_text(encoding="utf-8", errors="replace").strip() or None
    except OSError:
        return None
