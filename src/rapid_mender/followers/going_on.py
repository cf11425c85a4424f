"""Going on with a sync until somebody stops it."""

from __future__ import annotations

import logging
import re
import time
from collections.abc import Iterator

from ..errors import AlteredError, JobError, StoreError
from ..jobs.sync_job import Sync
from .sync import syncing
from .syncing import Synced

_UNITS = {"ms": 0.001, "s": 1.0, "m": 60.0, "h": 3600.0}
_FIRST, _LONGEST = 1.0, 60.0  # seconds to wait for a store that is lost
_log = logging.getLogger("rapid_mender")


def interval(text: str) -> float:
    """A length of time in seconds, such as 5s, 100ms, 2m or 1h. Raises JobError."""
    match = re.fullmatch(r"\s*([0-9]{1,9}(?:\.[0-9]{1,9})?)\s*(ms|s|m|h)\s*", text)
    if match is None or not float(match[1]):
        raise JobError(f"{text!r} is no length of time; write 5s, 100ms, 2m or 1h")
    return float(match[1]) * _UNITS[match[2]]


def going_on(job: Sync, every: float, force: bool = False) -> Iterator[Synced]:
    """Sync again and again, every so many seconds; gives what each round has done.

    A store that is lost is waited for, longer each time, up to a minute. Raises JobError for what no waiting mends, and
    AlteredError if changes that are to come were altered since they were sealed, unless `force`.
    """
    waits = _FIRST
    while True:
        try:
            with syncing(job, force) as bring:
                while True:
                    began = time.monotonic()
                    done = bring()
                    waits = _FIRST
                    if done.filled or done.changes:
                        _log.info(
                            "%s: %s rows filled, %s changes, up to %s, in %.3f s",
                            job.follower, done.filled, done.changes, done.position, done.seconds,
                        )  # fmt: skip
                    yield done
                    time.sleep(max(every - (time.monotonic() - began), 0.0))
        except AlteredError:
            raise
        except StoreError as error:
            if (interrupt := _interrupt_behind(error)) is not None:
                raise interrupt from None
            _log.warning("%s waits %.0f s, and tries again: %s", job.follower, waits, error)
            time.sleep(waits)
            waits = min(waits * 2, _LONGEST)


def _interrupt_behind(error: BaseException | None) -> KeyboardInterrupt | None:
    """The interrupt during which an error came: what was cancelled fails once more while it is undone."""
    while error is not None and not isinstance(error, KeyboardInterrupt):
        error = error.__context__
    return error
