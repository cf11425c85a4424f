"""Who follows the tables of a store, how far behind, and held up by whom."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

import pyarrow as pa

from ..changes.own import remove_rows, rows_of
from ..changes.past import NUMBER, past_if_any
from ..core.own_tables import FOLLOWERS
from ..errors import JobError
from ..stores.contract import Condition, Selection, Session, Store
from ..stores.urls import opened

_STAMP = pa.timestamp("ms", "UTC")
_SHAPE = pa.schema(
    [
        ("follower", pa.string()), ("table_name", pa.string()), ("goes_to", pa.string()), ("position", pa.int64()),
        ("behind", pa.int64()), ("seconds_behind", pa.float64()), ("moved_at", _STAMP), ("seen_at", _STAMP),
        ("held_by", pa.string()), ("rejected", pa.int64()),
    ]
)  # fmt: skip


def followers_of(store: str | Store) -> pa.Table:
    """The followers of the tables of a store, by name, as an Arrow table.

    `follower`; `table_name`, which it follows; `goes_to`, for a sync; `position`, the last change that it is done with;
    how many changes it is `behind`, and for how many seconds; when it `moved_at` last and was `seen_at`; `held_by`, who
    may still commit changes before those that it waits with; `rejected`, how many changes the target of a sync did not
    take since it was filled, or mended last.
    """
    with opened(store) as place, place.begin(write=False) as session:
        rows = sorted(rows_of(session, FOLLOWERS), key=lambda row: (row["follower"], row["table_name"]))
        for row in rows:
            row["behind"], row["seconds_behind"] = _behind(session, row)
        return pa.Table.from_pylist([{name: row[name] for name in _SHAPE.names} for row in rows], _SHAPE)


def _behind(session: Session, row: dict[str, Any]) -> tuple[int | None, float | None]:
    """How many changes there are after a follower's position, and the age of the first in seconds; None if nobody can
    say, as the table is gone."""
    info = session.find(row["table_name"])
    if info is None:
        return None, None
    past = past_if_any(session, info.name, info)
    if past is None:
        return 0, None
    after = [[Condition(NUMBER, ">", row["position"])]]
    first = session.read(past.kept, Selection(after, NUMBER, 1, first=True, columns=[NUMBER, "changed_at"])).values
    if not first.num_rows:
        return 0, None
    since = first["changed_at"].cast(_STAMP)[0].as_py()
    age = None if since is None else max((datetime.now(UTC) - since).total_seconds(), 0.0)  # somebody emptied it
    return session.count(past.kept, after), age


def forget(store: str | Store, follower: str) -> None:
    """Forget a follower: pruning waits for it no longer, and one of its name begins anew.

    A table that follows by a sync keeps its own position, in its own store, and goes on when it is synced again. Raises
    JobError if nobody follows under the name.
    """
    with opened(store) as place, place.begin(write=True) as session:
        if not remove_rows(session, FOLLOWERS, follower=follower):
            names = sorted({row["follower"] for row in rows_of(session, FOLLOWERS)})
            known = f"known are {', '.join(map(repr, names))}" if names else "nobody follows a table there"
            raise JobError(f"there is no follower {follower!r} in {place.where}; {known}")
