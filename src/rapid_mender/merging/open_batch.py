"""A batch that stays open for a while: several calls of a Merger go on with it."""

from __future__ import annotations

import copy
import time
from datetime import timedelta

from ..changes.recorder import Recorder
from ..core.own_tables import BATCHES_TABLE
from ..core.schema import TableInfo
from ..stores.contract import Condition, Selection, Session
from .tally import Tally


class OpenBatch:
    """The batch with which calls go on, until it has been open for a `span` of time.

    Only while nobody else has written a batch of its table since (an undo of it is one), and it is not sealed.
    """

    def __init__(self, span: timedelta) -> None:
        self._seconds = span.total_seconds()
        self._began = 0.0
        self._recorder: Recorder | None = None
        self._tally, self._retries = Tally(), 0

    def resumed(self, session: Session, info: TableInfo) -> Recorder | None:
        """The recorder of the batch, in another transaction; None if a new one is to begin."""
        kept = self._recorder
        if kept is None or kept.info != info or time.monotonic() - self._began >= self._seconds:
            return None
        batches = session.find_own(BATCHES_TABLE, owner=info.owner)
        if batches is None or "seal" not in batches:
            return None
        since = [[Condition("table_name", "=", info.name)], [Condition("batch_no", ">=", kept.batch)]]
        found = session.read(batches, Selection(since, "batch_no", 2, columns=["batch_no", "seal"])).values.to_pylist()
        if [(one["batch_no"], one["seal"]) for one in found] != [(kept.batch, None)]:
            return None
        recorder = copy.copy(kept)
        recorder.resume(session)
        return recorder if recorder.knows_history else None

    def with_others(self, recorder: Recorder, tally: Tally, retries: int) -> tuple[Tally, int]:
        """What a call has gathered, and what the calls before it have, which the batch has from them."""
        if self._recorder is None or recorder.batch != self._recorder.batch:
            return tally, retries
        return self._tally.plus(tally), self._retries + retries

    def keep(self, recorder: Recorder, tally: Tally, retries: int) -> None:
        """Go on with the batch of a recorder, which has committed what was gathered."""
        if recorder.batch is None:
            return
        tally, retries = self.with_others(recorder, tally, retries)
        if self._recorder is None or recorder.batch != self._recorder.batch:
            self._began = time.monotonic()
        kept = Tally().plus(tally)
        kept.decisions, kept.rejects, kept.samples = [], [], []
        self._recorder, self._tally, self._retries = recorder, kept, retries
