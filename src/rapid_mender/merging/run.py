"""Preview and merge: one batch along its way.

First the batch is read once, from end to end, before the store is touched: keys that come more than once
can only be known then. Then it goes through in chunks, in one transaction: cast, looked up, compared,
decided, written.
"""

from __future__ import annotations

import copy
import logging
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import closing, contextmanager, nullcontext, suppress
from dataclasses import replace
from datetime import UTC, datetime

from ..changes.batch_row import Status
from ..changes.details import bring_up_to_date
from ..changes.process import process_detail
from ..changes.recorder import Recorder
from ..core.decisions import NAMES
from ..core.own_tables import Kind
from ..errors import Error, LimitError, StoreError, UncertainError
from ..incoming import Chunk, Spool
from ..jobs.hazards import missing_grants
from ..jobs.job import job_name
from ..jobs.opening import Opened
from ..jobs.options import RejectsTable
from ..stores.contract import Forbidden, Session, Unreachable
from .batch import Batch, Progress
from .chunk import Attempt, ChunkWay, Unit
from .company import Company
from .first_pass import read_all
from .foresee import Foreseer
from .gather import Gather
from .groups import Groups
from .limits import Limits
from .missing import delete_missing, in_scope
from .read import Reader
from .rejects import RejectsFile, keep_rejects
from .result import Result, decisions_schema
from .retries import until_done
from .shadow import Shadow
from .stats import details_of, figures_of, warn_at_end
from .tally import Tally
from .write_versions import writer_for


class TableAltered(StoreError):
    """The table is not as it was when the job was bound to it."""


_log = logging.getLogger("rapid_mender")
_SLOW = 5.0  # seconds


class Run:
    """One preview or merge."""

    def __init__(self, door: Opened, write: bool, began: float, company: Company) -> None:
        """`began`: when the call did, by `time.perf_counter`."""
        self.door, self.beside, self.before_commit = door, company.beside, company.before_commit
        by, progress, self.known, self.open_batch = company.by, company.progress, company.known, company.open_batch
        self.job, self.store, self.source, self.plan = door.job, door.store, door.source, door.plan
        self.problems = door.problems
        self.write, self.started = write, began
        self.guest = progress is not None
        self.progress: Progress = progress or (lambda what, done, total: None)
        self.rejects_file: RejectsFile | None = None
        if write and (where := self.job.rejects_path) is not None:
            self.rejects_file = RejectsFile(where.path, where.formulas == "neutral")
        self.now = datetime.now(UTC)
        self.recorder: Recorder | None = None
        self.number: int | None = None
        self.rejects_path: str | None = None
        self.done, self.unit, self.commits, self.retries = Tally(), Tally(), 0, 0
        info, key = self.plan.info, self.plan.key
        self.shape = decisions_schema(info, [*key, *self.plan.made])
        self.limits = Limits(self.plan, write)
        self.groups = Groups(self.plan, by, self.now) if by is not None else None
        self.reader = Reader(self.plan, door.layouts, self.now)
        self.shadow = Shadow(self.plan, self.now) if self.plan.spans is not None and not write else None

    def go(self) -> Result:
        """Take the batch all the way to a result."""
        verb, info = "merge" if self.write else "preview", self.plan.info
        _log.info("%s of %s into %s in %s begins", verb, self.source.name, info.name, self.store.where)
        try:
            with closing(Spool()) as spool:
                self._take(spool)
        except BaseException as error:
            after = time.perf_counter() - self.started
            _log.warning("%s into %s stopped after %.2f s: %s", verb, info.name, after, type(error).__name__)
            self._stopped(error)
            raise
        warn_at_end(self.done, self.plan.info.name, self.limits.stops.values(), self.recorder)
        self._publish_rejects()
        result = self._result(self.done)
        counts = ", ".join(f"{name} {count}" for name, count in result.counts.items())
        _log.info(
            "%s into %s ended after %.2f s: %s records, %s; batch %s, %s retries",
            verb, info.name, result.seconds, result.records, counts, result.batch, result.retries,
        )  # fmt: skip
        return result

    def _read_all(self, spool: Spool, session: Session) -> Batch:
        """The first pass over the batch, which asks what the store makes of its keys, and reads no table."""
        with self._step("reading"), self.done.timed("first pass"):
            batch = read_all(session, self.reader, self.source, spool, self.progress)
        self._gather(self.done).note_broken(self.source.broken)
        if self.groups is not None:
            self.groups.count_broken(self.done.groups, len(self.source.broken))
        return batch

    def _gather(self, tally: Tally) -> Gather:
        return Gather(tally, self.plan, self.source, not self.write, self.shape)

    @property
    def whole(self) -> Tally:
        """The tally of what was committed and of the unit of work so far."""
        return self.done.plus(self.unit)

    def _counts(self) -> dict[str, int]:
        return {name: self.done.counts[name] + self.unit.counts[name] for name in NAMES}

    def _result(self, tally: Tally) -> Result:
        """The result of a run with this tally."""
        info, groups = self.plan.info, self.groups
        return Result(
            info.name, self.store.where, self.plan.key, self.source.unit, self.write,
            counts={name: tally.counts[name] for name in NAMES},
            records=tally.records,
            missing=tally.missing,
            rules=dict(sorted(tally.fired.decided.items())),
            warnings=list(dict.fromkeys([*self.problems.warnings, *tally.warnings])),
            by=groups.by if groups is not None else None,
            groups=groups.table(tally.groups) if groups is not None else None,
            changed=dict(tally.changed),
            batch=self.recorder.batch if self.recorder is not None and self.write else None,
            rejects_path=self.rejects_path,
            stops="; ".join(self.limits.stops.values()) or None,
            retries=self.retries,
            seconds=time.perf_counter() - self.started,
            samples=tally.samples,
            _decisions=tally.decisions,
            _rejects=tally.rejects,
            _shape=self.shape,
            _made=list(self.plan.made),
        )  # fmt: skip

    @contextmanager
    def _step(self, name: str) -> Iterator[None]:
        """Log how long a step takes: as information if it is slow, otherwise for debugging."""
        began = time.perf_counter()
        yield
        took = time.perf_counter() - began
        _log.log(logging.INFO if took > _SLOW else logging.DEBUG, "%s took %.3f s", name, took)

    def _prepare_rejects(self, result: Result) -> None:
        """Write the file of rejects, before anything is committed: after that it could be too late."""
        if self.rejects_file is not None and result.counts["reject"]:
            self.rejects_file.prepare(result)
            self.rejects_path = self.rejects_file.path

    def _publish_rejects(self) -> None:
        if self.rejects_file is None or not self.rejects_file.waits:
            return
        meant = self.rejects_file.path
        self.rejects_path, aside = self.rejects_file.publish()
        if self.rejects_path != meant:
            self.done.warn(f"the rejects could not be put in {meant}; they are in {self.rejects_path}")
        if aside is not None:
            self.done.warn(f"the rejects of an earlier run, which were in {meant}, are now in {aside}")

    def _stopped(self, error: BaseException) -> None:
        """See to what a stopped run leaves: its rejects, and its row in the batches."""
        result, past_limit = self._result(self.whole), isinstance(error, LimitError)
        if past_limit:
            self._prepare_rejects(result)
            self._publish_rejects()
        elif self.rejects_file is not None:
            self.rejects_file.drop()
        if not self.write or isinstance(error, UncertainError) or not self.store.owns_transactions:
            return
        if isinstance(error, TableAltered) and self.door.again:
            return
        partly = self.commits > 0 or not self.plan.info.undoes
        if isinstance(error, Forbidden):
            self._tell_all(error)
        if isinstance(error, Error):
            error.wrote = error.wrote or partly
        if not partly and not (isinstance(error, Error) and not isinstance(error, Unreachable)):
            return  # somebody interrupts, or nothing can be noted: that is to be the end at once
        keeps = past_limit and isinstance(self.job.rejects, RejectsTable) and result.counts["reject"]
        with nullcontext() if keeps else suppress(Error):
            self._note_stop(result, str(error), bool(keeps))

    def _tell_all(self, error: Forbidden) -> None:
        """Add to an error about a missing right all the others that are missing."""
        with suppress(Error), self.store.begin(write=False) as session:
            grants = missing_grants(session, self.plan)
            if len(grants) > 1:
                error.args = (f"{error}; all that this user lacks: {'; '.join(grants)}",)

    def _note_stop(self, result: Result, why: str, keeps_rejects: bool) -> None:
        """Note in the batches that the run was stopped, and put its rejects into their table."""
        counts = result.counts if not self.plan.info.undoes else dict.fromkeys(NAMES, 0)
        if self.commits:
            counts = {name: self.done.counts[name] for name in NAMES}
        bring_up_to_date(self.store)
        with self.store.begin(True) as session:
            if session.find(self.job.table) is None:
                return
            self.open_batch = None  # what failed is no part of it
            recorder = self._recorder(session)
            result.batch = recorder.start()
            if keeps_rejects and isinstance(self.job.rejects, RejectsTable):
                keep_rejects(session, result, self.job.rejects.table, self.plan.info.owner)
                counts["reject"] = result.counts["reject"]
            self._finish(recorder, counts, "stopped", why)

    def _finish(
        self, recorder: Recorder, counts: dict[str, int], status: Status = "done", why: str | None = None
    ) -> None:
        """Complete the batch's row; `why` it was stopped, if it was."""
        whole, retries = self.whole, self.retries
        if self.open_batch is not None and status == "done":
            whole, retries = self.open_batch.with_others(recorder, whole, retries)
            counts = {name: whole.counts[name] for name in NAMES}
        figures = figures_of(whole, self.plan.identity, retries, time.perf_counter() - self.started)
        details = [*details_of(self.plan), *([process_detail()] if status == "running" else [])]
        details += self.beside.details if self.beside is not None else ()
        recorder.finish(counts, figures | ({} if why is None else {"stopped": why}), status, details)

    # -- units of work --------------------------------------------------------------------------------

    def _way(self, spool: Spool, session: Session) -> ChunkWay:
        """What the chunks of the batch go through, once it is read."""
        batch = self._read_all(spool, session)
        return ChunkWay(self.plan, self.reader, batch, self.source.unit, self.groups, self.now, self.progress)

    def _take(self, spool: Spool) -> None:
        """Take the batch through, in one transaction or in several."""
        guests = self.plan.has_functions or self.guest
        at, last = 0, False
        way: ChunkWay | None = None
        chunks: Iterator[tuple[Chunk, bool]] | None = None
        if not self.source.few:
            with self.door.first_session() as session:
                way = self._way(spool, session)

        def unit(alone: bool) -> tuple[bool, int, Recorder]:
            nonlocal chunks, way
            recorder: Recorder | None = None
            try:
                with (
                    self._step(f"the transaction after {at} records"),
                    self.store.begin(self.write, self.plan.info, alone, guests) as session,
                ):
                    if session.describe(self.job.table) != self.plan.info:
                        raise TableAltered(
                            f"table {self.plan.info.name!r} was altered while the batch was read; run again"
                        )
                    if self.write:
                        session.take_turn(self.plan.info)
                    way = way or self._way(spool, session)
                    chunks = chunks or way.batch.parts(self.reader, session.chunk_rows, at)
                    if self.beside is not None:
                        self.beside.begin(session)
                    if not at:
                        self._look_before(session)
                    recorder = self._recorder(session)
                    ends, done = self._unit(way, session, recorder, chunks, at)
                    if self.beside is not None and ends:
                        self.beside.end(session, self.whole.rejected())
                    if self.before_commit is not None:
                        self.before_commit()
                    return ends, done, recorder
            except BaseException as error:
                chunks = None
                if recorder is not None:
                    self.number = recorder.to_keep
                if isinstance(error, UncertainError) and recorder is not None:
                    self._tell_uncertain(error, recorder)
                raise

        while not last:
            last, at, recorder = until_done(self.store, unit, self._again)
            if last:
                self.done.deferred.clear()
            self.recorder, self.commits = recorder, self.commits + self.write
            done, self.unit = self.unit, Tally()
            self.done.add(done)
        if self.open_batch is not None:
            self.open_batch.keep(recorder, self.done, self.retries)

    def _tell_uncertain(self, error: UncertainError, recorder: Recorder) -> None:
        """Add to an error how to find out whether the commit took effect."""
        if recorder.batch is not None:
            error.batch = recorder.batch
            error.args = (f"{error}; {self.how_to_tell(recorder.batch)}",)

    def how_to_tell(self, batch: int) -> str:
        """How to find out whether a commit took effect, in words."""
        if self.open_batch is None:
            return f"if batch {batch} is among the batches, it did"
        return f"if the changes are in the history, under batch {batch}, it did"

    def _again(self) -> None:
        """Forget what a unit of work has gathered that was undone."""
        self.unit, self.rejects_path, self.retries = Tally(), None, self.retries + 1
        if self.rejects_file is not None:
            self.rejects_file.drop()

    def _look_before(self, session: Session) -> None:
        """Count what is in the table before anything is written."""
        if self.groups is not None:
            self.groups.look_before(session)
        if self.limits.counts_rows:
            self.limits.rows = in_scope(session, self.plan, self.now)

    def _recorder(self, session: Session) -> Recorder:
        """The recorder for a unit of work; after a commit it goes on with the same batch."""
        if self.commits and self.recorder is not None:
            recorder = copy.copy(self.recorder)
            recorder.resume(session)
            return recorder
        resumed = self.open_batch.resumed(session, self.plan.info) if self.open_batch is not None else None
        return resumed or self._new_recorder(session)

    def _new_recorder(self, session: Session, make: Callable[..., Recorder] = Recorder) -> Recorder:
        """The recorder of a new batch."""
        name = self.beside.name if self.beside is not None else job_name(self.job)
        kind: Kind = self.beside.kind if self.beside is not None else "merge"
        return make(
            session,
            self.plan.info,
            name,
            self.job.history,
            self.number,
            kind=kind,
            seals=self.job.seal,
            known=self.known,
        )

    def _unit(
        self, way: ChunkWay, session: Session, recorder: Recorder, chunks: Iterator[tuple[Chunk, bool]], at: int
    ) -> tuple[bool, int]:
        """One transaction's work. Returns whether it was the last, and how many records are done."""
        gather = self._gather(self.unit)
        writer = (
            writer_for(session, self.plan, recorder, self.now)
            if self.write
            else Foreseer(gather, self.groups, self.shadow)
        )
        unit = Unit(session, writer, gather)
        for chunk, ends in chunks:
            way.merge(unit, chunk, at)
            at += len(chunk.rows)
            self.progress("merging", at, way.batch.rows)
            self.limits.check(self._counts(), self.done.records + self.unit.records, at_end=False)
            if ends and at < way.batch.rows:
                if self.write:
                    self._finish(recorder, self._counts(), "running")
                return False, at
        if self.job.missing == "delete":
            delete_missing(unit, self.plan, way.batch, self.groups, self.now, self._check_deletes)
        self._try_again(way, unit, at)
        self.limits.check(self._counts(), self.done.records + self.unit.records, at_end=True)
        if self.write:
            if self.groups is not None:
                self.groups.look_after(session)
            self._complete(session, recorder)
        return True, at

    def _is_kept(self, counts: Mapping[str, int]) -> bool:
        """Whether a batch of such counts gets its row."""
        return self.job.batches != "changes" or any(counts[name] for name in NAMES if name != "skip")

    def _complete(self, session: Session, recorder: Recorder) -> None:
        """Complete the batch once everything else is written."""
        whole, counts = self.whole, self._counts()
        if not self.commits and not self._is_kept(counts):
            return
        batch = recorder.start()
        result = replace(self._result(whole), batch=batch) if whole.counts["reject"] else None
        if result is not None and isinstance(self.job.rejects, RejectsTable):
            keep_rejects(session, result, self.job.rejects.table, self.plan.info.owner)
            self.rejects_path = f"table {self.job.rejects.table}"
        self._finish(recorder, self._counts())
        if result is not None:
            self._prepare_rejects(result)

    def _check_deletes(self, more: int) -> None:
        """Raise LimitError if so many more rows may not be deleted."""
        self.limits.check_deletes(self._counts()["delete"] + more)

    def _try_again(self, way: ChunkWay, unit: Unit, at: int) -> None:
        """Try again the records that were refused because of other rows, for as long as some of them land."""
        last, tally = False, unit.gather.tally
        waiting = [*self.done.deferred, *tally.deferred]
        while waiting:
            tally.deferred = []
            for chunk in waiting:
                way.merge(unit, chunk, at, Attempt.LAST if last else Attempt.AGAIN)
            last = sum(len(one.rows) for one in tally.deferred) == sum(len(one.rows) for one in waiting)
            waiting = tally.deferred
