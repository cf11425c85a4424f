"""Previewing records whose keys come more than once: a merge would find what it wrote for those before, so these rows
are kept beside the table, in memory."""

from __future__ import annotations

import secrets
from dataclasses import replace
from datetime import datetime
from typing import Any

import numpy as np
import pyarrow as pa

from ..changes.recorder import Recorder
from ..core.hashing import hash_rows
from ..core.repeats import among
from ..jobs.plan import Plan
from ..stores.contract import Session
from ..stores.memory import MemorySession
from .decide import DecidedSlice
from .write_versions import VersionWriter


class Shadow:
    """The rows of keys that come more than once, as a merge would have left them by now."""

    def __init__(self, plan: Plan, now: datetime) -> None:
        loose = [replace(column, has_default=False, nullable=True, generated=False) for column in plan.info.columns]
        self.info = info = replace(plan.info, columns=tuple(loose))
        self.session = MemorySession({info.name: info.schema.empty_table()}, {info.name: info})
        recorder = _Unrecorded(self.session, info, None, False)
        self._writer = VersionWriter(self.session, replace(plan, info=info), recorder, now)
        self._seed, self._known = secrets.randbits(64), np.empty(0, np.uint64)

    def fill(self, session: Session, keys: pa.Table) -> None:
        """Take up the rows of some keys, if they are not known yet."""
        hashes = hash_rows(session.fold(self.info, keys), self._seed)
        new = np.flatnonzero(~among(hashes, self._known))
        if len(new):
            rows = session.fetch(self.info, keys.take(pa.array(new))).values
            table = self.session.data[self.info.name]
            self.session.data[self.info.name] = pa.concat_tables([table, rows.cast(table.schema)])
            self._known = np.unique(np.concatenate([self._known, hashes]))

    def write(self, decided: DecidedSlice, rows: np.ndarray) -> None:
        self._writer.write(decided, rows)


class _Unrecorded(Recorder):
    """What is written beside the table has no history."""

    def await_changes(self, records: np.ndarray | None = None) -> None:
        pass

    def record(self, *changes: Any, **more: Any) -> None:
        pass
