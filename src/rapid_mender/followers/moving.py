"""Moving the position of a sync together with what it changes; and whether it goes back to where it comes from."""

from __future__ import annotations

import os
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

import pyarrow as pa

from ..changes.detail import Detail
from ..changes.own import own, rows_of
from ..core.own_tables import REFUSED, SYNCED, Kind
from ..errors import JobError
from ..jobs.sync_job import Sync
from ..stores.contract import Session, Store
from .positions import check_row, now, put_row
from .refused import note_refused


@dataclass
class Moving:
    """Moves the position of a sync, within the transaction in which changes take effect."""

    name: str
    details: Sequence[Detail]
    same: dict[str, Any]
    before: dict[str, Any]
    after: dict[str, Any]
    tried: pa.Table | None = None
    """The keys of the rows that are merged, in the table that is followed; None where it is not noted which of them are
    refused."""
    kind: Kind = "sync"

    def begin(self, session: Session) -> None:
        """Whoever comes too late finds that out before the work, not after it."""
        check_row(session, SYNCED, self.same, self.before)

    def end(self, session: Session, rejects: pa.Table | None = None) -> None:
        after = self.after | {"moved_at": now()}
        waited = sum(row["rejected"] or 0 for row in rows_of(session, SYNCED, **self.same))
        if waited or rejects is not None:
            after["rejected"] = self._rejected(session, waited, rejects)
        put_row(session, SYNCED, self.same, after, self.before)

    def _rejected(self, session: Session, waited: int, rejects: pa.Table | None) -> int:
        """How many rows are refused by now, if `waited` were before."""
        if self.tried is not None and own(session, REFUSED) is not None:
            return note_refused(session, self.same["follower"], self.tried, rejects)
        return waited + (rejects.num_rows if rejects is not None else 0)


def check_other(job: Sync, source: Store, target: Store) -> None:
    """Raise JobError if the table that follows is the one that is followed, however the two are named."""
    if not _is_one_store(source, target):
        return
    with source.begin(write=False) as session:
        one, other = (session.find(name) for name in (job.table, job.to_table))
    if one is None or other is None:
        return
    if one.name == other.name or (one.number is not None and one.number == other.number):
        raise JobError(f"table {job.table!r} cannot follow itself; name another table in to_table")


def _is_one_store(one: Store, other: Store) -> bool:
    """Whether two stores are the same one, also by a link to its file."""
    if one is other or one.where == other.where:
        return True
    with suppress(OSError):
        return os.path.samefile(one.where, other.where)
    return False
