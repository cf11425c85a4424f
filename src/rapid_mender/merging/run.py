"""Preview and merge: one batch along its way.

First the batch is read once, from end to end, before the store is touched: keys that come more than once
can only be known then. Then it goes through in chunks, in one transaction: cast, looked up, compared,
decided, written.
"""

from __future__ import annotations

import logging
import time
from collections.abc import Iterator
from contextlib import contextmanager, nullcontext, suppress
from datetime import UTC, datetime
from typing import Any

import numpy as np
import pyarrow as pa

from ..changes.recorder import Recorder
from ..core.decisions import DELETE, NAMES, SKIP
from ..core.keys import null_keys
from ..core.rules import Fired
from ..errors import Error, LimitError, StoreError
from ..incoming import Chunk
from ..jobs.hazards import missing_grants
from ..jobs.job import Job, RejectsTable
from ..jobs.opening import Opened, opened_job
from ..stores.contract import Conflict, Forbidden, Session, Unreachable
from .batch import Batch, Progress
from .chunk import ChunkWay
from .gather import Gather
from .groups import Groups
from .limits import Limits
from .missing import Leaving, in_scope
from .rejects import RejectsFile, keep_rejects
from .result import Result, decisions_schema
from .retries import MOST, pause, remember
from .write import Writer


def preview(job: Job, incoming: Any = None, *, by: str | None = None, progress: Progress | None = None) -> Result:
    """Say what `merge` would do with the same job and batch. Writes nothing.

    With `by`, a column or an SQL expression over the table's columns, `result.groups` counts by group.

    The result has, besides the counts and decisions, `samples`: some records of each decision beside the
    rows that they meet. What only the database can refuse (a foreign key, a check) is not known beforehand.
    Raises as `merge` does; a limit that a merge would stop at is a warning.
    """
    return _taken(job, incoming, False, progress, by)


def merge(job: Job, incoming: Any = None, *, by: str | None = None, progress: Progress | None = None) -> Result:
    """Merge a batch into a table, in one transaction, or in one for every `commit_every` records.

    With `by`, a column or an SQL expression over the table's columns, `result.groups` counts by group.

    `incoming` is a path (CSV, JSON Lines, Parquet), an Arrow, pandas or polars frame, a list of dicts, or an
    iterator of record batches; without it the job's own is read. A bad record is rejected with a reason and
    never stops the run. Raises JobError if the job does not fit the table or the batch, IncomingError if the
    batch cannot be read, StoreError if the store refuses, LimitError past max_rejects or max_deletes; then
    nothing is written, but for what was committed before with `commit_every`.
    """
    return _taken(job, incoming, True, progress, by)


def _taken(job: Job, incoming: Any, write: bool, progress: Progress | None, by: str | None) -> Result:
    began = time.perf_counter()
    with opened_job(job, incoming, write) as door:
        return Run(door, write, began, progress, by).go()


_log = logging.getLogger("rapid_mender")
_SLOW = 5.0  # seconds


class Run:
    """One preview or merge."""

    def __init__(self, door: Opened, write: bool, began: float, progress: Progress | None, by: str | None) -> None:
        """`began`: when the call did, by `time.perf_counter`."""
        self.job, self.store, self.source, self.plan = door.job, door.store, door.source, door.plan
        self.write, self.started = write, began
        self.guest = progress is not None
        self.progress: Progress = progress or (lambda what, done, total: None)
        self.rejects_file: RejectsFile | None = None
        if write and (where := self.job.rejects_path) is not None:
            self.rejects_file = RejectsFile(where.path, where.formulas == "neutral")
        self.now = datetime.now(UTC)
        self.recorder: Recorder | None = None
        self.committed: dict[str, int] | None = None
        self.number: int | None = None
        info, key = self.plan.info, self.plan.key
        self.limits = Limits(self.plan, write)
        self.groups = Groups(self.plan, by, self.now) if by is not None else None
        self.batch = Batch(self.plan, self.source, self.now, self.progress)
        self.result = Result(info.name, self.store.where, key, self.source.unit, write, by=by)
        self.result.warnings = self.plan.warnings
        self.result._shape = decisions_schema(info, [*key, *self.plan.made])
        self.gather = Gather(self.result, self.plan, self.source, samples=not write)
        self.fired = Fired()
        self.way = ChunkWay(self.plan, self.batch, self.gather, self.groups, self.fired, self.now, self.progress)

    def go(self) -> Result:
        """Take the batch all its way."""
        verb, info = "merge" if self.write else "preview", self.plan.info
        _log.info("%s of %s into %s in %s begins", verb, self.source.name, info.name, self.store.where)
        try:
            with self._step("reading"), self.store.begin(write=False, guests=self.source.only_once) as session:
                # asks what the store makes of keys; reads no table
                self.batch.read_all(session, remember=self.job.missing == "delete")
            self.gather.note_broken(self.source.broken)
            if self.groups is not None:
                self.groups.count_broken(len(self.source.broken))
            self._walk()
        except BaseException as error:
            after = time.perf_counter() - self.started
            _log.warning("%s into %s stopped after %.2f s: %s", verb, info.name, after, type(error).__name__)
            self._stopped(error)
            raise
        finally:
            self.batch.close()
        self.gather.warn_of_kept()
        self.result.stops = self.limits.stops
        self.result.rules = dict(sorted(self.fired.decided.items()))
        for number, count in sorted(self.fired.failed.items()):
            what = "division by zero, overflow, or a text of another form"
            self.plan.warn(f"rule {number} could not be computed for {count:,} records ({what}); it counted as unknown")
        if self.groups is not None:
            self.result.groups = self.groups.table()
        self.result.seconds = time.perf_counter() - self.started
        self._publish_rejects()
        counts = ", ".join(f"{name} {count}" for name, count in self.result.counts.items())
        _log.info(
            "%s into %s ended after %.2f s: %s records, %s; batch %s, %s retries",
            verb, info.name, self.result.seconds, self.result.records, counts, self.result.batch, self.result.retries,
        )  # fmt: skip
        return self.result

    @contextmanager
    def _step(self, name: str) -> Iterator[None]:
        """Log how long a step takes: as information if it is slow, else for debugging only."""
        began = time.perf_counter()
        yield
        took = time.perf_counter() - began
        _log.log(logging.INFO if took > _SLOW else logging.DEBUG, "%s took %.3f s", name, took)

    def _prepare_rejects(self) -> None:
        """Write the file of rejects, before anything is committed of which it could be told no more."""
        if self.rejects_file is not None and self.result.counts["reject"]:
            self.rejects_file.prepare(self.result)
            self.result.rejects_path = self.rejects_file.path

    def _publish_rejects(self) -> None:
        if self.rejects_file is None or not self.rejects_file.waits:
            return
        self.result.rejects_path, aside = self.rejects_file.publish()
        if self.result.rejects_path != self.rejects_file.path:
            self.plan.warn(
                f"the rejects could not be put in {self.rejects_file.path}; they are in {self.result.rejects_path}"
            )
        if aside is not None:
            self.plan.warn(f"the rejects of an earlier run, which were in {self.rejects_file.path}, are now in {aside}")

    def _stopped(self, error: BaseException) -> None:
        """See to what remains of a run that was stopped: its rejects, and its row in the batches."""
        past_limit = isinstance(error, LimitError)
        if past_limit:
            self._prepare_rejects()
            self._publish_rejects()
        elif self.rejects_file is not None:
            self.rejects_file.drop()
        if not self.write:
            return
        partly = self.committed is not None or not self.plan.info.undoes
        if isinstance(error, Forbidden):
            self._tell_all(error)
        if isinstance(error, Error):
            error.wrote = error.wrote or partly
        if not partly and not (isinstance(error, Error) and not isinstance(error, Unreachable)):
            return  # somebody interrupts, or nothing can be noted: that is to be the end at once
        keeps = past_limit and isinstance(self.job.rejects, RejectsTable) and self.result.counts["reject"]
        with nullcontext() if keeps else suppress(Error):
            self._note_stop(str(error), bool(keeps))

    def _tell_all(self, error: Forbidden) -> None:
        """Say in an error about a right that is lacking which others are."""
        with suppress(Error), self.store.begin(write=False) as session:
            grants = missing_grants(session, self.plan)
            if len(grants) > 1:
                error.args = (f"{error}; all that this user lacks: {'; '.join(grants)}",)

    def _note_stop(self, why: str, keeps_rejects: bool) -> None:
        """Put into the batches that a run was stopped, and its rejects into their table."""
        counts = dict.fromkeys(NAMES, 0) if self.plan.info.undoes else self.result.counts
        counts = dict(self.committed or counts)
        with self.store.begin(True) as session:
            if session.find(self.job.table) is None:
                return
            if self.committed is not None and self.recorder is not None:
                self.recorder.resume(session)
            else:
                self.recorder = self._recorder(session)
            self.result.batch = self.recorder.start()
            if keeps_rejects and isinstance(self.job.rejects, RejectsTable):
                keep_rejects(session, self.result, self.job.rejects.table, self.plan.info.owner)
                counts["reject"] = self.result.counts["reject"]
            self.recorder.finish(counts, self._figures() | {"stopped": why}, "stopped")

    def _figures(self) -> dict[str, Any]:
        """The run's own figures, as they are kept with its batch."""
        result = self.result
        return {
            "records": result.records, "missing": result.missing, "changed": result.changed,
            "rules": {str(number): count for number, count in sorted(self.fired.decided.items())},
            "retries": result.retries, "seconds": round(time.perf_counter() - self.started, 3),
        }  # fmt: skip

    # -- units of work --------------------------------------------------------------------------------

    def _walk(self) -> None:
        """Take the batch through, in one transaction or in several."""
        guests = self.plan.has_functions or self.guest
        done, last, tries, retries, alone = 0, False, 0, 0, False
        chunks: Iterator[tuple[Chunk, bool]] | None = None
        while not last:
            back = remember(self.result, self.gather, self.fired, self.groups, self.plan, self.recorder)
            try:
                with (
                    self._step(f"the transaction after {done} records"),
                    self.store.begin(self.write, self.plan.info, alone, guests) as session,
                ):
                    if session.describe(self.job.table) != self.plan.info:
                        raise StoreError(
                            f"table {self.plan.info.name!r} was altered while the batch was read; run again"
                        )
                    chunks = chunks or self._chunks(session.chunk_rows, self.job.commit_every, done)
                    if self.recorder is None:
                        self.recorder = self._recorder(session)
                        if self.groups is not None:
                            self.groups.look_before(session)
                        if self.limits.counts_rows:
                            self.limits.rows = in_scope(session, self.plan, self.now)
                    else:
                        self.recorder.resume(session)
                    last, now_done = self._unit(session, chunks, done)
            except BaseException as error:
                if self.recorder is not None:
                    self.number = self.recorder.to_keep
                if not isinstance(error, Conflict) or tries >= MOST:
                    raise
                _log.info("another program wrote the same rows; tries again")
                alone = pause(tries)
                self.recorder, chunks, last = back(), None, False
                tries, retries = tries + 1, retries + 1
                self.result.retries = retries
                continue
            done, tries, alone = now_done, 0, False
            if self.write:
                self.committed = dict(self.result.counts)
        assert self.recorder is not None
        if self.recorder.unrecorded:
            self.plan.warn(
                f"{self.recorder.unrecorded:,} rows that nobody sent were changed by triggers of "
                f"{self.plan.info.name}; the history does not have these changes, and so does not replay"
            )

    def _recorder(self, session: Session) -> Recorder:
        name = self.job.source.replace("\\", "/").rsplit("/", 1)[-1] if self.job.source else None
        from .. import __version__

        return Recorder(session, self.plan.info, name, self.job.history, f"rmend {__version__}", self.number)

    def _chunks(self, at_once: int, most: int | None, done: int) -> Iterator[tuple[Chunk, bool]]:
        """The chunks of the batch, each with whether a transaction is to end with it; but not what is `done`."""
        if most is None:
            for chunk in self._in_turn(at_once):
                yield chunk, False
            return
        filled = 0
        for chunk in self._in_turn(min(at_once, most)):
            start = min(done, len(chunk.rows))
            done -= start
            while start < len(chunk.rows):
                part = chunk.slice(start, most - filled)
                start, filled = start + len(part.rows), filled + len(part.rows)
                yield part, filled == most
                filled %= most

    def _in_turn(self, most: int) -> Iterator[Chunk]:
        """The chunks; records without a key last, so that no key that is made for them is one that is still to come."""
        if self.job.null_key == "reject":
            yield from self.batch.chunks(most)
            return
        for keyed in (True, False):
            for chunk in self.batch.chunks(most):
                mask = null_keys(self.batch.read(chunk, self.plan.key).values.select(self.plan.key)) != keyed
                if mask.any():
                    yield Chunk(chunk.raw.filter(pa.array(mask)), chunk.rows[mask])

    def _unit(self, session: Session, chunks: Iterator[tuple[Chunk, bool]], done: int) -> tuple[bool, int]:
        """One transaction's work. Returns whether it was the last, and how many records are done."""
        assert self.recorder is not None
        writer = Writer(session, self.plan, self.recorder, self.now)
        for chunk, ends in chunks:
            self.way.merge(session, writer if self.write else None, chunk, done)
            done += len(chunk.rows)
            self.progress("merging", done, self.batch.rows)
            self.limits.check(self.result.counts, self.result.records, at_end=False)
            if ends and done < self.batch.rows:
                if self.write:
                    self.recorder.finish(self.result.counts, self._figures(), "running")
                return False, done
        if self.job.missing == "delete":
            self._delete_missing(session, writer)
        self._try_again(session, writer, done)
        self.limits.check(self.result.counts, self.result.records, at_end=True)
        if self.groups is not None and self.write:
            self.groups.look_after(session)
        if not self.write:
            return True, done
        self.result.batch = self.recorder.start()
        if isinstance(self.job.rejects, RejectsTable) and self.result.counts["reject"]:
            keep_rejects(session, self.result, self.job.rejects.table, self.plan.info.owner)
            self.result.rejects_path = f"table {self.job.rejects.table}"
        self.recorder.finish(self.result.counts, self._figures())
        self._prepare_rejects()
        return True, done

    def _try_again(self, session: Session, writer: Writer, done: int) -> None:
        """Take the records through that were refused for the sake of other rows, as long as some of them land."""
        last = False
        while waiting := self.gather.deferred:
            self.gather.deferred = []
            for chunk in waiting:
                self.way.merge(session, writer if self.write else None, chunk, done, "last time" if last else "again")
            last = sum(len(one.rows) for one in self.gather.deferred) == sum(len(one.rows) for one in waiting)

    def _delete_missing(self, session: Session, writer: Writer) -> None:
        """Delete the rows of the table that did not come. A batch without a record is no copy of anything."""
        if not self.batch.rows:
            self.plan.warn("the batch has no records that can be read, so it is no full copy: no row was deleted")
            return
        if self.batch.keyless:
            self.plan.warn(
                f"{self.batch.keyless:,} records have no key that can be read, so no row can be said to be missing: "
                "none was deleted"
            )
            return
        leaving = Leaving(session, self.plan, self.batch, self.now)
        if "delete" not in self.job.allow:
            if leaving.count:
                self.plan.warn(
                    f"{leaving.count:,} rows did not come; they were kept, since the job does not allow a delete"
                )
            return
        self.limits.check_deletes(self.result.counts["delete"] + leaving.count)
        for rows in leaving:
            refused: dict[int, str] = {}
            if self.write:
                writer.recorder.await_changes()
                for written in writer.delete(rows):
                    refused |= written.refusals()
            elif self.groups is not None:
                self.groups.foresee_deleted(rows)
            if self.groups is not None:
                codes = np.full(rows.values.num_rows, DELETE)
                codes[list(refused)] = SKIP
                self.groups.count(self.groups.of_records(rows.values), codes)
            self.gather.note_missing(rows, refused)
