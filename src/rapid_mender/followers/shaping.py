"""The table that is made for a sync, where the target has none."""

from __future__ import annotations

from dataclasses import replace

from ..core.own_tables import FIXED
from ..core.schema import TableInfo, copied
from ..errors import JobError
from ..stores.contract import Session
from .sending import Sending


def shape_for(send: Sending, session: Session) -> TableInfo:
    """The table that is made for what is sent. Raises JobError if the store cannot make it."""
    sync = send.sync
    columns = copied(send.info.pick(send.columns), sync.rename)
    key = tuple(sync.key or (sync.rename.get(name, name) for name in send.identity))
    if sync.keep == "changes":
        columns, key = (*FIXED, *(replace(column, nullable=True) for column in columns)), ("change_no",)
    shape = TableInfo(sync.to_table, columns, key)
    if why := session.cannot_make(shape):
        raise JobError(f"table {shape.name!r} cannot be made in {session.where}: {why}")
    return shape


def without_key(shape: TableInfo) -> TableInfo:
    """A table as it is made to be filled: it gets its key when it is full."""
    columns = (replace(one, nullable=one.nullable and one.name not in shape.primary_key) for one in shape.columns)
    return replace(shape, columns=tuple(columns), primary_key=())
