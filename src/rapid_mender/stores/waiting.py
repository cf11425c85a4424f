"""Telling that a merge waits for somebody, and for whom."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress

from ..errors import StoreError

AFTER = 3.0
"""How many seconds a wait may last before it is reported."""
_log = logging.getLogger("rapid_mender.waiting")


def tell(message: str) -> None:
    """Log a warning that something waits; the command line shows it."""
    _log.warning("%s", message)


@contextmanager
def told(look: Callable[[], str | None]) -> Iterator[None]:
    """While the block runs, ask `look` every few seconds, in a thread, whom we wait for; report what is new."""
    over = threading.Event()

    def watch() -> None:
        last: str | None = None
        while not over.wait(AFTER):
            holder = None
            with suppress(StoreError):
                holder = look()
            if holder is not None and holder != last and not over.is_set():
                tell(holder)
            last = holder or last

    thread = threading.Thread(target=watch, name="rmend-waits", daemon=True)
    thread.start()
    try:
        yield
    finally:
        over.set()
        thread.join(0.1)  # where it is asking right now, it ends by itself


def in_words(where: str, holders: Sequence[tuple[str | None, str | None]], merges: bool) -> str:
    """A sentence that says for whom a merge into a table waits. `holders`: of each what it is called, and since when
    it is at work."""
    who = f"another merge into {where}" if merges else f"another program that changes {where}"
    said = [f"{name}{f', since {since}' if since else ''}" for name, since in holders if name]
    listed = "; ".join(said)
    return f"waiting for {who} ({listed})" if said else f"waiting for {who}"
