"""Moving the position of a sync together with what it changes; and whether it goes back to where it comes from."""

from __future__ import annotations

import os
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

import pyarrow as pa

from ..changes.detail import Detail
from ..changes.own import own
from ..core.own_tables import REFUSED, SYNCED, Kind
from ..stores.contract import Session, Store
from .positions import check_row, now, put_row, rows_of
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


def is_one_store(one: Store, other: Store) -> bool:
    """Whether two stores are the same one, also by a link to its file."""
    if one is other or one.where == other.where:
        return True
    with suppress(OSError):
        return os.path.samefile(one.where, other.where)
    return False
