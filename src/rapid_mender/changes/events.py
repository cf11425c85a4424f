"""Changes as events, in the form of CloudEvents 1.0: one JSON object for each change."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from socket import gethostname
from types import MappingProxyType
from typing import Any, NamedTuple
from urllib.parse import quote, urlsplit

import pyarrow as pa

from ..core.json_text import line_of
from ..spelling import plain

_HERE = (None, "localhost", "127.0.0.1", "::1")


OddCells = Mapping[str, Mapping[int, str]]
"""By column the cells that have no value of its type, by their rows."""


class Page(NamedTuple):
    """Some changes, as a history has them."""

    table: pa.Table
    odd: OddCells = MappingProxyType({})


def documents_of(changes: pa.Table, odd: OddCells = MappingProxyType({})) -> Iterator[dict[str, Any]]:
    """Changes one by one, as a history has them: the old and the new values in an object each, None where there is no
    row."""
    for at, row in enumerate(changes.to_pylist()):
        row |= {name: cells[at] for name, cells in odd.items() if at in cells}
        one = {name: value for name, value in row.items() if not name.startswith(("old_", "new_"))}
        one["changed"] = json.loads(row["changed"]) if row["changed"] else None
        for side, none in (("old", "insert"), ("new", "delete")):
            values = {name[4:]: value for name, value in row.items() if name.startswith(f"{side}_")}
            one[side] = None if row["action"] == none else values
        yield one


def _source(where: str, table: str) -> str:
    """A URI reference that tells a table from those of other stores, on other machines too."""
    host = urlsplit(where).hostname if "://" in where else None
    machine = f"//{quote(gethostname(), safe='')}" if host in _HERE else ""
    return f"{machine}/rmend/{quote(where, safe='')}/{quote(table, safe='')}"


def event_lines(pages: Iterable[Page], where: str, table: str, key: Sequence[str]) -> Iterator[str]:
    """A line of JSON for each change. `where` is the store's name, `key` the columns that tell the rows apart.

    `id` is the change's number, which with `source` (the store and the table; and this machine, if the store is on it)
    tells an event from every other; `subject` is the key, `type` is rmend.insert, rmend.update or rmend.delete; `data`
    has old, new and changed, and who did it and why.
    """
    source = _source(where, table)
    for page in pages:
        for one in documents_of(page.table, page.odd):
            row = one["new"] or one["old"]
            alike = {name.lower(): name for name in row}
            values = ((name, row[name if name in row else alike[name.lower()]]) for name in key)
            subject = "&".join(f"{quote(name, safe='')}={quote(plain(value), safe='')}" for name, value in values)
            data = {name: one[name] for name in ("changed", "old", "new", "batch_no", "actor", "application", "reason")}
            number = str(one["change_no"] or f"0/{subject}")  # a row that is no change has no number
            yield line_of({
                "specversion": "1.0", "id": number, "source": source, "type": f"rmend.{one['action']}",
                "subject": subject, "time": one["changed_at"], "datacontenttype": "application/json", "data": data,
            })  # fmt: skip
