"""Moving the position of a sync together with what it changes; and whether it goes back to where it comes from."""

from __future__ import annotations

import os
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

from ..changes.detail import Detail
from ..core.own_tables import SYNCED, Kind
from ..stores.contract import Session, Store
from .positions import check_row, now, put_row, rows_of


@dataclass
class Moving:
    """Moves the position of a sync, within the transaction in which changes take effect."""

    name: str
    details: Sequence[Detail]
    same: dict[str, Any]
    before: dict[str, Any]
    after: dict[str, Any]
    kind: Kind = "sync"

    def begin(self, session: Session) -> None:
        """Whoever comes too late finds that out before the work, not after it."""
        check_row(session, SYNCED, self.same, self.before)

    def end(self, session: Session, rejected: int = 0) -> None:
        after = self.after | {"moved_at": now()}
        if rejected:
            (row,) = rows_of(session, SYNCED, **self.same)
            after["rejected"] = (row["rejected"] or 0) + rejected
        put_row(session, SYNCED, self.same, after, self.before)


def is_one_store(one: Store, other: Store) -> bool:
    """Whether two stores are the same one, also by a link to its file."""
    if one is other or one.where == other.where:
        return True
    with suppress(OSError):
        return os.path.samefile(one.where, other.where)
    return False
