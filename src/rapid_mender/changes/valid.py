"""Versions that a table keeps itself: those of one thing, and the rows that are valid at an instant."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

import numpy as np
import pyarrow as pa

from ..core.existing import Existing
from ..core.records import known_column, value_of
from ..core.schema import TableInfo
from ..core.versions import instant_of, spans_of
from ..errors import JobError
from ..stores.contract import Condition, Selection, Session, Store
from ..stores.urls import opened
from .as_of import as_it_was, past_life
from .details import newest_details
from .given import key_given, moment


@dataclass(frozen=True)
class Keeping:
    """How a table keeps versions, as the last merge into it noted."""

    key: list[str]
    begin: str
    end: str
    open: str | None
    included: bool
    columns: list[str]
    """Those whose change opens a version."""
    also: list[str]
    """Columns that only say which version a row is."""

    def spans(self, rows: pa.Table) -> tuple[np.ndarray, np.ndarray]:
        """When rows begin and end, closed-open, as instants."""
        never = None if self.open is None else _instant(rows.schema.field(self.end).type, self.open)
        return spans_of(rows[self.begin], rows[self.end], never, self.included)


def keeping_of(session: Session, info: TableInfo) -> Keeping | None:
    """How a table keeps versions; None if no merge noted that it does."""
    told = newest_details(session, info.name, "versions")
    roles = ("from", "to", "column", "also", "key")
    names = {role: [str(one.name) for one in told if one.role == role] for role in roles}
    if not told or not all(name in info for role in names for name in names[role] if role != "also"):
        return None
    if len(names["from"]) != 1 or len(names["to"]) != 1:
        return None
    never = next((one.value for one in told if one.role == "open"), None)
    included = any(one.role == "included" for one in told)
    return Keeping(
        names["key"], names["from"][0], names["to"][0], never, included, names["column"], names["also"]
    )  # fmt: skip


def at(
    store: str | Store,
    table: str,
    when: datetime | date | str,
    *,
    as_of: datetime | date | str | None = None,
    as_known: bool = False,
    force: bool = False,
) -> pa.Table:
    """The rows of a table of versions that are valid at an instant: what was so then, as the table says.

    With `as_of` as the table said at that time: what was believed then of the instant; `as_known` and
    `force` are those of `as_of()`.
    An Arrow table with the table's columns. Raises JobError if the table keeps no versions, or its history does not
    reach back so far; StoreError if it is not there.
    """
    with opened(store) as place, place.begin(write=False) as session:
        info = session.describe(table)
        keeping = keeping_of(session, info)
        if keeping is None:
            raise JobError(f"{info.name!r} keeps no versions: no job with [versions] was merged into it")
        instant = _instant(info[keeping.begin].type, when)
        names, pages = info.names, (page.values for page in session.scan(info, info.names, key=info.names))
        if as_of is not None:
            shape, pages = as_it_was(session, table, when=as_of, as_known=as_known, force=force)  # type: ignore[assignment]
            names = shape.names
        out = [pa.schema([info.schema.field(name) for name in names]).empty_table()]
        for page in pages:
            begin, end = keeping.spans(page)
            out.append(page.filter(pa.array((begin <= instant) & (instant < end))).cast(out[0].schema))
        return pa.concat_tables(out)


@dataclass(frozen=True)
class Life:
    """The versions of one thing, the oldest first."""

    rows: Existing
    keeping: Keeping


def versions_of(session: Session, table: str, key: Mapping[str, Any]) -> Life | None:
    """The versions that a table keeps of one thing; None if it keeps none. Raises JobError for a wrong key."""
    info = session.describe(table)
    keeping = keeping_of(session, info)
    if keeping is None:
        return None
    columns = [(known_column(info, name), value) for name, value in key.items()]
    where = [[Condition(column.name, "=", value_of(column, value).as_py())] for column, value in columns]
    rows = session.read(info, Selection(where))
    begin, _ = keeping.spans(rows.values)
    return Life(rows.take(np.argsort(begin, kind="stable")), keeping)


def life(store: str | Store, table: str, key: Mapping[str, Any], *, force: bool = False) -> pa.Table:
    """The life of one thing. `key` maps columns to values.

    Of a table that keeps versions these, the oldest first, with the table's columns. Of another table the rows that a
    record has had, as its history has them, and the spans in which they stood: the table's columns, then `valid_from`
    and `valid_to` (UTC; null where the history does not say, or the row still stands), and the `change_no` and
    `batch_no` that put the row there; where the table has a column of one of these names, ours begins with `rmend_`.
    Raises AlteredError if one of these batches was altered since it was sealed; with `force` it is taken as it is.
    """
    given = key_given(key)
    with opened(store) as place, place.begin(write=False) as session:
        kept = versions_of(session, table, given)
        return kept.rows.values if kept is not None else past_life(session, table, given, force)


def _instant(kind: pa.DataType, when: Any) -> np.int64:
    """A time that somebody gave as an instant of a type."""
    given = moment("when", when)
    assert given is not None
    return instant_of(given, kind)
