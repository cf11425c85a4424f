"""Who else runs in this process, and might open a file that we have open."""

from __future__ import annotations

import threading

ours = False
"""The whole process is Rapid Mender's: nobody else in it opens a store."""


def others_run() -> bool:
    """Whether this process has threads that may open a file at any moment."""
    here = threading.current_thread()
    return not ours and any(one is not here and not one.name.startswith("rmend-") for one in threading.enumerate())
