"""The shape of the tables that Rapid Mender makes: the history of a table, the batches of a store and their details,
its followers and captures."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import Literal, get_args

import pyarrow as pa

from .names import fitted
from .schema import Column, TableInfo

BATCHES_TABLE = "rmend_batches"
NEWEST_BATCHES = 8
"""So many of a table's newest batches are looked at for whether they are sealed: some may still run, or were killed."""
_MOMENT = pa.timestamp("ms", "UTC")
_LONGEST_NAME = 130
"""Letters of a table's name with its schema: more than any database has room for."""
Kind = Literal[
    "merge", "undo", "sync", "prune", "capture start", "capture stop", "capture pause", "capture resume",
    "capture refresh", "capture mend",
]  # fmt: skip
"""What a batch was."""

BATCHES = TableInfo(
    BATCHES_TABLE,
    (
        Column("batch_no", pa.int64(), nullable=False, has_default=True),
        Column("table_name", pa.string(), nullable=False, length=_LONGEST_NAME),
        Column("job", pa.string()),
        Column("actor", pa.string()),
        Column("application", pa.string()),
        Column("started_at", _MOMENT, nullable=False),
        Column("finished_at", _MOMENT),
        *(Column(name, pa.int64()) for name in ("inserted", "updated", "deleted", "skipped", "rejected")),
        Column("first_change", pa.int64()),
        Column("last_change", pa.int64()),
        Column("status", pa.string(), nullable=False, one_of=("running", "done", "stopped", "killed")),
        Column("unrecorded", pa.int64()),
        Column("figures", pa.string()),
        Column("undoes", pa.string()),
        Column("seal", pa.string()),
        Column("kind", pa.string(), one_of=get_args(Kind)),
    ),
    ("batch_no",),
    indexes=(("rmend_batches_newest", ("table_name", "last_change")),),
)

DETAILS_TABLE = "rmend_details"
DETAILS = TableInfo(
    DETAILS_TABLE,
    (
        Column("table_name", pa.string(), nullable=False, length=_LONGEST_NAME),
        Column("detail", pa.string(), nullable=False, length=20),
        Column("batch_no", pa.int64(), nullable=False),
        Column("item", pa.int64(), nullable=False),
        Column("role", pa.string()),
        Column("name", pa.string()),
        Column("change_no", pa.int64()),
        Column("of_batch", pa.int64()),
        Column("row_count", pa.int64()),
        Column("at_time", _MOMENT),
        Column("value", pa.string()),
        Column("number", pa.int64()),
    ),
    ("table_name", "detail", "batch_no", "item"),
)
"""What else is to be known of batches, for whoever reads histories; see `changes.details`."""

FOLLOWERS_TABLE = "rmend_followers"
FOLLOWERS = TableInfo(
    FOLLOWERS_TABLE,
    (
        Column("follower_no", pa.int64(), nullable=False, has_default=True),
        Column("follower", pa.string(), nullable=False),
        Column("table_name", pa.string(), nullable=False),
        Column("goes_to", pa.string()),
        Column("position", pa.int64(), nullable=False),
        Column("batch_no", pa.int64(), nullable=False),
        Column("moved_at", _MOMENT),
        Column("seen_at", _MOMENT),
        Column("held_by", pa.string()),
        Column("fingerprint", pa.string()),
        Column("rejected", pa.int64()),
    ),
    ("follower_no",),
)
"""Who follows a table of the store, and how far it has come."""

CAPTURES_TABLE = "rmend_captures"
CAPTURES = TableInfo(
    CAPTURES_TABLE,
    (
        Column("capture_no", pa.int64(), nullable=False, has_default=True),
        Column("table_name", pa.string(), nullable=False),
        Column("token", pa.string(), nullable=False),
        Column("secret", pa.string(), nullable=False),
        Column("state", pa.string(), nullable=False, one_of=("on", "paused")),
        Column("position", pa.int64(), nullable=False),
        Column("options", pa.string(), nullable=False),
        Column("known", pa.string(), nullable=False),
        Column("since", _MOMENT, nullable=False),
        Column("changed_at", _MOMENT, nullable=False),
    ),
    ("capture_no",),
)
"""Which tables of the store are captured, how, and what is known of their columns."""

SYNCED_TABLE = "rmend_synced"
SYNCED = TableInfo(
    SYNCED_TABLE,
    (
        Column("sync_no", pa.int64(), nullable=False, has_default=True),
        Column("follower", pa.string(), nullable=False),
        Column("source", pa.string(), nullable=False),
        Column("source_table", pa.string(), nullable=False),
        Column("table_name", pa.string(), nullable=False),
        Column("position", pa.int64(), nullable=False),
        Column("batch_no", pa.int64(), nullable=False),
        Column("filled", pa.bool_(), nullable=False),
        Column("keyless", pa.bool_(), nullable=False),
        Column("moved_at", _MOMENT),
        Column("fingerprint", pa.string()),
        Column("filled_to", pa.int64()),
        Column("conflict", pa.string()),
        Column("rejected", pa.int64()),
    ),
    ("sync_no",),
)
"""Which tables of the store follow others, and how far each has come; kept beside them, so that both are written in one
transaction."""

REFUSED = TableInfo(
    "rmend_refused",
    (
        Column("refused_no", pa.int64(), nullable=False, has_default=True),
        Column("follower", pa.string(), nullable=False),
        Column("source_key", pa.string(), nullable=False),
        Column("reason", pa.string()),
        Column("tried_at", _MOMENT, nullable=False),
    ),
    ("refused_no",),
)
"""The rows that tables which follow did not take; kept beside them. `source_key`: the values of the key in the table
that is followed, as a JSON list of texts."""

FIXED = (
    Column("change_no", pa.int64(), nullable=False),
    Column("batch_no", pa.int64()),
    Column("action", pa.string(), nullable=False, one_of=("insert", "update", "delete")),
    Column("changed", pa.string()),
    Column("changed_at", _MOMENT, nullable=False),
    Column("actor", pa.string()),
    Column("application", pa.string()),
    Column("reason", pa.string()),
)
_SINCE_LATER = {"reason"}  # histories that earlier versions made do not have it


def history_name(table: str) -> str:
    return f"{table}_history"


def stored_names(
    info: TableInfo, fits: Callable[[str], bool], pairs: Mapping[str, str] | None = None
) -> dict[str, str]:
    """What the columns old_X and new_X of a history are called in a store that has room for names that fit. `pairs`: by
    column another name that stands in its own."""
    pairs = pairs or {}
    sides = [(side, column.name) for column in info.columns for side in ("old", "new")]
    return {f"{side}_{name}": fitted(f"{side}_{pairs.get(name, name)}", fits) for side, name in sides}


def history_info(info: TableInfo, fits: Callable[[str], bool], pairs: Mapping[str, str] | None = None) -> TableInfo:
    """The shape of a table's history in a store that has room for names that fit; `pairs` as for `stored_names`."""
    names = stored_names(info, fits, pairs)
    sides = [
        replace(
            column,
            name=names[f"{side}_{column.name}"],
            nullable=True,
            has_default=False,
            generated=False,
            length=None,
        )
        for column in info.columns
        for side in ("old", "new")
    ]
    return TableInfo(history_name(info.name), (*FIXED, *sides), ("change_no",))


def is_history(info: TableInfo) -> bool:
    return all(column.name in info for column in FIXED if column.name not in _SINCE_LATER)
