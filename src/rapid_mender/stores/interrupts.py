"""Ctrl-C, or a SIGTERM with a handler, while a driver waits in C code: Python runs a handler only after that."""

from __future__ import annotations

import os
import signal
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress

_SIGNALS = (signal.SIGINT, signal.SIGTERM)
_AGAIN = 0.2  # seconds: what is to be cancelled may not have begun


@contextmanager
def cancelled_by_interrupt(cancel: Callable[[], None]) -> Iterator[None]:
    """Call `cancel` as soon as SIGINT or SIGTERM comes within the block, in a thread; what Python's own handler raises
    follows by itself.

    Nothing is done in other threads than the main one, which alone gets signals.
    """
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    source, sink = os.pipe()
    os.set_blocking(sink, False)
    before = signal.set_wakeup_fd(sink, warn_on_full_buffer=False)
    over = threading.Event()

    def watch() -> None:
        while got := os.read(source, 1):
            if before != -1:
                with suppress(OSError):
                    os.write(before, got)
            while got[0] in _SIGNALS and not over.is_set():
                with suppress(Exception):
                    cancel()
                over.wait(_AGAIN)

    thread = threading.Thread(target=watch, name="rmend-interrupts", daemon=True)
    thread.start()
    try:
        yield
    finally:
        over.set()
        signal.set_wakeup_fd(before)
        os.close(sink)
        thread.join()
        os.close(source)
