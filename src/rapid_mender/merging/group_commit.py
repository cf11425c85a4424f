"""Group commit: calls that wait for the same table are merged in one transaction, each as a batch of its own.

The records of the calls are numbered one after the other and go the way of one batch. A record's fate depends on
itself, its key's other records and its row; so where no key comes twice, it is that of a merge of its own. What else
might come between two calls (a key that both have, a limit, a refusal because of other rows) raises NotTogether: the
transaction is undone, and each call is merged alone.
"""

from __future__ import annotations

import threading
import time
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import partial
from itertools import chain
from typing import Any

import numpy as np
import pyarrow as pa

from ..changes.group_recorder import GroupRecorder, NotTogether, Summary
from ..changes.recorder import Recorder
from ..core.decisions import NAMES
from ..core.rules import Fired
from ..errors import UncertainError
from ..incoming import Chunk, Source, Spool, tables_of
from ..incoming.open import FEW, Frame
from ..jobs.opening import Opened, OpenJob
from ..jobs.options import RejectsTable
from ..jobs.plan import Plan
from ..stores.contract import Session
from .batch import Batch
from .company import Company
from .fast_merge import Taken
from .gather import Gather
from .rejects import keep_rejects
from .result import Result
from .run import Run
from .stats import details_of, figures_of
from .tally import Tally

MOST = FEW
"""Records that are merged together at most."""


class Withdrawn(Exception):
    """A caller does not want it any more, and nothing was committed."""


@dataclass(eq=False)
class Call:
    """What one caller wants merged, and what became of it."""

    source: Source
    withdrawn: threading.Event = field(default_factory=threading.Event)
    """The caller does not want it any more."""
    ready: threading.Event = field(default_factory=threading.Event)
    """It is merged, or has the turn."""
    chunk: Chunk | None = None
    """Its records, if they can be merged together with others."""
    keys: frozenset[Any] = frozenset()
    """Their keys, as far as these show before the records are read in the table's terms."""
    taken: Taken | None = None
    """Its records, if they may go the fast way."""
    result: Result | None = None
    error: BaseException | None = None

    @property
    def done(self) -> bool:
        return self.result is not None or self.error is not None

    def look(self, key: Sequence[str]) -> None:
        """Read the records, if they are few and of one form; then others may be merged with them."""
        if not self.source.few:
            return
        chunks = list(self.source)
        if len(chunks) == 1 and not self.source.broken:
            self.chunk, raw = chunks[0], chunks[0].raw
            if set(key) <= set(raw.column_names):
                self.keys = frozenset(map(repr, raw.select(list(key)).to_pylist()))

    def goes_with(self, other: Call) -> bool:
        """Whether the records of both have the same columns."""
        mine, theirs = self.chunk, other.chunk
        if mine is None or theirs is None or self.source.ragged != other.source.ragged:
            return False
        return bool(mine.raw.schema.equals(theirs.raw.schema))

    def check(self) -> None:
        """Raise Withdrawn if the caller does not want it any more."""
        if self.withdrawn.is_set():
            raise Withdrawn


class _Together(Frame):
    """The records of several calls."""

    @property
    def schema(self) -> pa.Schema:
        return None if self.ragged else super().schema


def may_group(plan: Plan) -> bool:
    """Whether calls of a job may be merged together: nothing that it wants is about a batch as a whole, or needs more
    than one change for a record."""
    job, info = plan.job, plan.info
    whole = job.missing != "keep" or job.commit_every is not None or job.max_rejects or job.max_deletes
    more = plan.spans is not None or plan.archive is not None or plan.has_functions or job.null_key != "reject"
    return bool(job.history and info.undoes and not (whole or more or info.triggers or job.seal))


def merge_together(job: OpenJob, calls: Sequence[Call], company: Company) -> None:
    """Merge calls in one transaction, and give each its result. Raises NotTogether if that cannot be; then, as after
    any other error, none of them is merged."""
    chunks = [call.chunk for call in calls if call.chunk is not None]
    ends = np.cumsum([len(chunk.rows) for chunk in chunks])
    table = pa.concat_tables([chunk.raw for chunk in chunks])
    source = _Together(calls[0].source.name, ragged=calls[0].source.ragged, table=table)
    began = time.perf_counter()
    with job.taking(source, True) as door:
        run = _GroupRun(door, began, company, ends)
        try:
            run.go()
        except UncertainError as error:
            for call, number in zip(calls, run.numbers, strict=True):
                call.error = UncertainError(str(error))
                call.error.batch, call.error.wrote = number, True
                if number is not None:
                    call.error.args = (f"{error}; {run.how_to_tell(number)}",)
            return
    for call, result in zip(calls, run.results, strict=True):
        result.seconds = time.perf_counter() - began
        call.result = result


class _GroupGather(Gather):
    """Keeps which rule decided on which record, too."""

    def note_fired(self, fired: Fired, rows: np.ndarray) -> None:
        super().note_fired(fired, rows)
        if fired.decided:
            ruled = np.flatnonzero(fired.of)
            self.ruled = list(zip(rows[ruled].tolist(), fired.of[ruled].tolist(), strict=True))

    ruled: Sequence[tuple[int, int]] = ()


class _GroupRun(Run):
    """One merge of the records of several calls."""

    def __init__(self, door: Opened, began: float, company: Company, ends: np.ndarray) -> None:
        super().__init__(door, True, began, company)
        self.ends = ends
        self.results: list[Result] = []
        self.numbers: list[int | None] = [None] * len(ends)
        self._gathering: _GroupGather | None = None
        if not may_group(self.plan):
            raise NotTogether

    def _gather(self, tally: Tally) -> Gather:
        self._gathering = _GroupGather(tally, self.plan, self.source, False, self.shape)
        return self._gathering

    def _read_all(self, spool: Spool, session: Session) -> Batch:
        batch = super()._read_all(spool, session)
        if len(batch.repeats.rows) or self.source.broken:
            raise NotTogether
        return batch

    def _recorder(self, session: Session) -> Recorder:
        if self.open_batch is not None:
            return super()._recorder(session)
        return self._new_recorder(session, partial(GroupRecorder, ends=self.ends))

    def _again(self) -> None:
        raise NotTogether

    def _tell_uncertain(self, error: UncertainError, recorder: Recorder) -> None:
        """Each call is told of its own batch."""

    def _stopped(self, error: BaseException) -> None:
        """Each call is merged alone then, and leaves what it leaves."""

    def _complete(self, session: Session, recorder: Recorder) -> None:
        tally = self.unit
        if tally.deferred or tally.warnings or tally.fired.failed:
            raise NotTogether
        parts = self._parts(tally)
        said = {}
        for at, part in enumerate(parts):
            counts = {name: part.counts[name] for name in NAMES}
            number = None
            if self._is_kept(counts):
                number = recorder.number_of(at) if isinstance(recorder, GroupRecorder) else recorder.start()
                took = time.perf_counter() - self.started
                said[at] = Summary(counts, figures_of(part, self.plan.identity, self.retries, took))
            self.numbers[at] = number
            result = self._result(part)
            result.batch = number
            if counts["reject"] and isinstance(self.job.rejects, RejectsTable):
                keep_rejects(session, result, self.job.rejects.table, self.plan.info.owner)
                result.rejects_path = f"table {self.job.rejects.table}"
            self.results.append(result)
        if isinstance(recorder, GroupRecorder):
            recorder.finish_each(said, details_of(self.plan))
        elif said:
            self._finish(recorder, self._counts())

    def _parts(self, tally: Tally) -> list[Tally]:
        """What became of the records of each call."""
        decided = pa.concat_tables(table.cast(self.shape) for table in tables_of(tally.decisions)).sort_by("row")
        rejects = [table.sort_by("rmend_row") for table in tables_of(tally.rejects)]
        rules = dict(self._gathering.ruled) if self._gathering is not None else {}
        parts, begin = [], 0
        for end in self.ends.tolist():
            part = Tally(records=end - begin)
            mine = _renumbered(decided, "row", begin, end)
            names, changed = mine["decision"].to_pylist(), mine["changed"].to_pylist()
            part.counts.update(names)
            part.changed.update(chain.from_iterable(columns for columns in changed if columns))
            part.keep_decisions(mine)
            if part.counts["reject"]:
                why = zip(names, mine["reason"].to_pylist(), strict=True)
                part.reasons.update(reason for name, reason in why if name == "reject")
                for table in rejects:
                    part.keep_rejects(_renumbered(table, "rmend_row", begin, end))
            decided_by = Counter(rules[row] for row in range(begin + 1, end + 1) if row in rules)
            part.fired.decided.update(decided_by)
            parts.append(part)
            begin = end
        return parts


def _renumbered(table: pa.Table, column: str, begin: int, end: int) -> pa.Table:
    """The rows of a call, numbered from 1."""
    numbers = table[column].to_numpy()
    first, last = np.searchsorted(numbers, [begin, end], "right").tolist()
    place = table.schema.get_field_index(column)
    return table.slice(first, last - first).set_column(place, table.schema.field(place), [numbers[first:last] - begin])
