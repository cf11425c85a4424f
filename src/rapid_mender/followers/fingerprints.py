"""What tells the history that was followed from another one with the same numbers: a hash of the change at a position.

A store that was restored from a backup, or a history that was begun anew, goes on with numbers that were there before.
"""

from __future__ import annotations

import hashlib
from datetime import UTC

import pyarrow as pa

from ..changes.past import NUMBER, Past
from ..core.canonical import netstrings
from ..core.existing import Existing
from ..errors import JobError
from ..stores.contract import Condition, Selection

FINGERPRINTED = [NUMBER, "batch_no", "action", "changed", "changed_at", "actor", "application"]
"""The columns of a change that its fingerprint is made of."""


def fingerprint_at(past: Past | None, position: int) -> str | None:
    """The fingerprint of the last change up to a position; None if there is none."""
    return _fingerprint_where(past, Condition(NUMBER, "<=", position)) if past is not None else None


def _fingerprint_where(past: Past, condition: Condition) -> str | None:
    return fingerprint_of(past.session.read(past.kept, Selection([[condition]], NUMBER, 1, columns=FINGERPRINTED)))


def fingerprint_of(changes: Existing) -> str | None:
    """The fingerprint of the last of some changes: its number, and a hash of what else is known of it."""
    if not len(changes.positions):
        return None
    last = changes.values.select(FINGERPRINTED).slice(len(changes.positions) - 1)
    at = last["changed_at"].cast(pa.timestamp("ms", "UTC"), safe=False)[0].as_py()
    row = {
        **last.drop_columns(["changed_at"]).to_pylist()[0],
        "changed_at": at and f"{at.astimezone(UTC):%Y-%m-%dT%H:%M:%S.%f}",
    }
    told = netstrings(row[name] for name in FINGERPRINTED)
    return f"{row[NUMBER]}:{hashlib.sha256(told).hexdigest()[:16]}"


def number_of(fingerprint: str | None) -> int:
    """The number of the change that a fingerprint is of; 0 if there is none."""
    return 0 if fingerprint is None else int(fingerprint.partition(":")[0])


def check_fingerprint(past: Past | None, table: str, fingerprint: str | None) -> None:
    """Raise JobError if the change that a fingerprint is of is another one now, or is not there any more."""
    if fingerprint is None:
        return
    number = number_of(fingerprint)
    if past is not None:
        if _fingerprint_where(past, Condition(NUMBER, "=", number)) == fingerprint:
            return
        if past.begins is not None and past.begins.change >= number:
            return  # it was pruned
    raise JobError(
        f"the history of {table!r} is not the one that was followed up to change {number}: it was restored from a "
        "backup, or begun anew. A table that follows is mended by a sync with --mend (rm.compare, mend=True); for "
        "files take another folder; a program forgets its follower and begins anew"
    )
