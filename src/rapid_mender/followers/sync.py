"""Syncing: a table that follows another, each change taking effect exactly once."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, contextmanager
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..changes.detail import Detail
from ..changes.guard import any_sealed, guard_after
from ..changes.netting import netted
from ..changes.past import NUMBER, together
from ..core.existing import Existing
from ..core.own_tables import FIXED, SYNCED, Kind
from ..core.schema import TableInfo, copied
from ..errors import JobError
from ..incoming import Spool
from ..incoming.ahead import ahead
from ..jobs.job import Job
from ..jobs.sync_job import Sync
from ..merging.merge import merge_beside, preview
from ..stores.contract import Session, Store
from ..stores.urls import opened
from .compare import Compared, find_differences
from .files import FolderSyncing
from .fingerprints import FINGERPRINTED, fingerprint_at, fingerprint_of
from .load import Loaded, Loader, can_load
from .origins import Way, origin, origins_of, token_of, ways_to
from .positions import check_row, is_ready, make_ready, now, put_row, rows_of
from .sending import Sending
from .syncing import Synced, Syncing, known_of
from .tail import Tail, View


def sync(
    store: Sync | str | Store,
    table: str | None = None,
    to_store: str | Store | None = None,
    to_table: str | None = None,
    *,
    follower: str | None = None,
    force: bool = False,
    **options: Any,
) -> Synced:
    """Bring a table that follows another up to date: `to_table` of `to_store` follows `table` of `store`.

    The first time it is filled from the table as it is; then the changes since are made net and merged. Each takes
    effect exactly once, whatever crashes: the position is kept in the target, and moves in the same transaction. All
    options are those of `Sync`, which may be given in their place. A target that is not there is made.

    Raises JobError for a wrong option, or if changes that are to come were pruned or never kept; StoreError if a store
    refuses; AlteredError if changes that are to come were altered since they were sealed, unless `force`; LimitError
    past max_rejects or max_deletes: then the position stays.
    """
    named = {"table": table, "to_store": to_store, "to_table": to_table, "follower": follower} | options
    given = {name: value for name, value in named.items() if value is not None}
    if isinstance(store, Sync) and given:
        raise JobError(f"a Sync says all itself; leave out {', '.join(given)}")
    job = store if isinstance(store, Sync) else Sync(store=store, **given)
    with syncing(job, force) as run:
        return run()


def compare(job: Sync, mend: bool = False) -> Compared:
    """Hold the table that follows against the one that is followed, as they are now: which rows are missing, extra, or
    differ in what is sent. With `mend` these are merged, and following goes on from there: that is what to do when the
    history was pruned, or not kept, so that the place is lost.

    Both tables are read once, and once more if they differ. Otherwise nothing is written. Raises JobError if files
    follow, or a log; StoreError if a table is not there.
    """
    if job.to_store is None:
        raise JobError("files cannot be compared with a table")
    with opened(job.store) as source, closing(Tail(source, job.table)) as tail, opened(job.to_store) as target:
        return TableSyncing(job, source, target, tail).compare(mend)


@contextmanager
def syncing(job: Sync, force: bool = False) -> Iterator[Callable[[], Synced]]:
    """A function that brings the target up to date, each time that it is called; what is opened stays open. `force`: as
    for `sync`."""
    with opened(job.store) as source, closing(Tail(source, job.table)) as tail:
        if job.to_folder is not None:
            yield FolderSyncing(job, job.to_folder, source, tail, force).go
            return
        assert job.to_store is not None
        with opened(job.to_store) as target:
            yield TableSyncing(job, source, target, tail, force).go


_PLACE = ("position", "batch_no", "filled", "keyless", "fingerprint")


def _without_key(shape: TableInfo) -> TableInfo:
    """A table as it is made to be filled: it gets its key when it is full."""
    columns = (replace(one, nullable=one.nullable and one.name not in shape.primary_key) for one in shape.columns)
    return replace(shape, columns=tuple(columns), primary_key=())


@dataclass
class _Moving:
    """Moves the position of a sync, within the transaction in which changes take effect."""

    name: str
    details: Sequence[Detail]
    same: dict[str, Any]
    before: dict[str, Any]
    after: dict[str, Any]
    kind: Kind = "sync"

    def begin(self, session: Session) -> None:
        """Whoever comes too late finds that out before the work, not after it."""
        check_row(session, SYNCED, self.same, self.before)

    def end(self, session: Session) -> None:
        put_row(session, SYNCED, self.same, self.after | {"moved_at": now()}, self.before)


class TableSyncing(Syncing):
    """A sync into a table."""

    def __init__(self, job: Sync, source: Store, target: Store, tail: Tail, force: bool = False) -> None:
        super().__init__(job, source, tail, f"{job.to_table} in {target.where}", force)
        self.target = target
        self.done = self._nothing_done()
        self.same = {"follower": job.follower}
        self.at: dict[str, Any] | None = None
        """Where the sync is, as far as this process knows."""
        self._made = False
        """This process made the target, and has not filled it yet."""

    def _nothing_done(self) -> Synced:
        job = self.job
        return Synced(job.follower, self.source.where, job.table, self.target.where, job.to_table)

    def go(self) -> Synced:
        """Let all changes take effect that are there."""
        began = time.perf_counter()
        self.done, self.end = self._nothing_done(), None
        at, self.at = self.at or self._begin(), None  # after an error it is read anew
        if not at["filled"]:
            at = self._fill(at)
        while (next_at := self._step(at)) is not None:
            at = next_at
        self.done.position, self.done.seconds = at["position"], time.perf_counter() - began
        self.note(at, self.done.held_by)
        self.at = at
        return self.done

    # -- the beginning ----------------------------------------------------------------------------------

    def _begin(self) -> dict[str, Any]:
        """Where the sync is."""
        if (self.source.where, self.job.table) == (self.target.where, self.job.to_table):
            raise JobError(f"table {self.job.table!r} cannot follow itself; name another table in to_table")
        rows = self._rows_of_sync()
        about = {"source": self.source.where, "source_table": self.job.table, "table_name": self.job.to_table}
        if rows and any(rows[0][name] != value for name, value in about.items() if name != "source"):
            raise JobError(
                f"there is a follower {self.job.follower!r} in {self.target.where} already, of table "
                f"{rows[0]['source_table']!r} into {rows[0]['table_name']!r}; take another name"
            )
        return {name: rows[0][name] for name in _PLACE} if rows else self._start(about)

    def _rows_of_sync(self) -> list[dict[str, Any]]:
        """The row of the sync in the target, if it has one. Makes our table, or brings it up to date."""
        with self.target.begin(write=False) as session:
            rows, ready = rows_of(session, SYNCED, **self.same), is_ready(session, SYNCED)
        if not ready:
            with self.target.begin(write=True) as session:
                make_ready(session, SYNCED)
        return rows

    def _start(self, about: dict[str, str]) -> dict[str, Any]:
        """Note where the sync begins, in both stores; make the target if it is not there."""
        with self.tail.look(0, 0, whole=False) as view:
            self.check_name(view)
            send = self.sending(view)
            log = self.job.keep == "changes"
            at: dict[str, Any] = {"position": 0 if log else view.until, "batch_no": 0 if log else view.batch}
            at |= {
                "filled": log,
                "keyless": False,
                "fingerprint": None if log else fingerprint_at(view.past, view.until),
            }
        if log:
            with self.tail.look(0, 0):
                pass  # raises if the history does not begin at the beginning
        self.note(at, self.done.held_by)
        with self.target.begin(write=False) as session:
            there = session.find(self.job.to_table)
        if there is not None:
            send.job(there)
        with self.target.begin(write=True) as session:
            if there is None:
                shape = self._shape(send, session)
                if not log and not self.job.key and session.keys_later:
                    shape, at["keyless"] = _without_key(shape), True
                session.create(shape)
                self._made = True
            put_row(session, SYNCED, self.same, about | at | {"moved_at": now()}, {} if there is None else None)
        return at

    def _shape(self, send: Sending, session: Session) -> TableInfo:
        """The table that is made for what is sent."""
        columns = copied(send.info.pick(send.columns), self.job.rename)
        key = tuple(self.job.key or (self.job.rename.get(name, name) for name in send.identity))
        if self.job.keep == "changes":
            columns, key = (*FIXED, *(replace(column, nullable=True) for column in columns)), ("change_no",)
        shape = TableInfo(self.job.to_table, columns, key)
        if why := session.cannot_make(shape):
            raise JobError(f"table {shape.name!r} cannot be made in {session.where}: {why}")
        return shape

    # -- filling ----------------------------------------------------------------------------------------

    def _fill(self, at: dict[str, Any]) -> dict[str, Any]:
        """Copy the rows as they are. What was there already, from a fill that was interrupted, is not written again;
        what has changed since the position is followed afterwards, from there."""
        with self._rows() as (send, came, pages):
            job = self._job(send, filling=True)

            def moving() -> _Moving:
                return self._moving(at, at, came)

            loads = self._made and can_load(job)
            for page in self._loading(pages, send, job, moving) if loads else pages:
                at = self._with_key(at, job.key)
                result = merge_beside(job, page, moving())
                self.done.filled += result.counts["insert"] + result.counts["update"] + result.counts["skip"]
                self.done.add(result)
        self._made = False
        at = self._with_key(at, job.key)
        full = at | {"filled": True}
        with self.target.begin(write=True) as session:
            put_row(session, SYNCED, self.same, full | {"moved_at": now()}, at)
        return full

    def _loading(
        self, pages: Iterator[pa.Table], send: Sending, job: Job, moving: Callable[[], _Moving]
    ) -> Iterator[pa.Table]:
        """Load the pages of a fill. Gives those that are to be merged instead."""
        loader = Loader(self.target, send, job)
        loaded = Loaded()
        while not loaded.ended:
            loaded = loader.load(pages, moving())
            if loaded.batch is not None:
                self.done.filled += loaded.count
                self.done.counts["insert"] += loaded.count
                self.done.batches.append(loaded.batch)
            yield from loaded.left

    def _with_key(self, at: dict[str, Any], key: Sequence[str]) -> dict[str, Any]:
        """Give the target its key, if it was made without one to be filled faster. Returns where the sync is."""
        if not at["keyless"]:
            return at
        keyed = at | {"keyless": False}
        with self.target.begin(write=True) as session:
            put_row(session, SYNCED, self.same, keyed, at)
            session.add_key(session.describe(self.job.to_table), key)
        return keyed

    @contextmanager
    def _rows(self) -> Iterator[tuple[Sending, list[Detail], Iterator[pa.Table]]]:
        """The rows of the source at one moment, some at a time, and where they come from."""
        with self.tail.look(0, 0, whole=False, rows=True) as view:
            send = self.sending(view)
            token = token_of(view.session, view.info.name)
            came = [] if token is None else [origin(token, fingerprint_at(view.past, view.until))]
            pages = (send.of_rows(page) for page in view.session.scan(view.info, send.needed, key=send.key))
            if self.source.reads_beside_writes or self.source.where != self.target.where:
                yield send, came, ahead(pages)
                return
            spool = Spool()
            for page in pages:
                spool.put(page)
        with closing(spool):
            yield send, came, iter(spool)

    # -- following --------------------------------------------------------------------------------------

    def _step(self, at: dict[str, Any]) -> dict[str, Any] | None:
        """Let the next changes take effect; None if there are none."""
        with self.tail.look(at["position"], at["batch_no"], fingerprint=at["fingerprint"]) as view:
            self.done.held_by = view.held_by
            send = self.sending(view)  # tells what is wrong with the job also if nothing is to be sent
            if self.is_over(view, at["position"]):
                return None
            send, until = known_of(view, send, at["position"])
            pages, way = self._next(view, at["position"], until, send)
            if not pages or view.past is None:
                return None
            last, fingerprint = int(pages[-1].values[NUMBER][-1].as_py()), fingerprint_of(pages[-1])
            guard = guard_after(view.past, at["position"], last, not self.force)
            for page in pages:
                guard.add(page)
            count = sum(len(page.positions) for page in pages)
            token = token_of(view.session, view.info.name)
            records = None
            if not way.ours:
                if self.job.keep == "changes":
                    records = send.of_changes(view.past, together(pages))
                else:
                    records = send.of_net(netted(view.past, pages, send.needed, whole=send.compares))
            guard.check(last)
        after = at | {"position": last, "fingerprint": fingerprint}
        moving = self._moving(at, after, [*way.origins, *([origin(token, fingerprint)] if token is not None else [])])
        if records is not None and records.num_rows:
            self.done.add(merge_beside(self._job(send), records, moving))
        else:
            with self.target.begin(write=True) as session:
                moving.end(session)
        self.done.changes += count
        return after

    def _next(self, view: View, position: int, until: int, send: Sending) -> tuple[list[Existing], Way]:
        """The next changes that have come the same way, and that way."""
        pages: list[Existing] = []
        way: Way | None = None
        count, columns = 0, None
        sealed = view.past is not None and not self.force and any_sealed(view.past, position)
        if self.job.keep == "rows" and view.past is not None and not sealed:  # of a log, and of a seal, all is wanted
            columns = list(FINGERPRINTED)
            columns += view.past.stored(send.needed if send.compares else send.key, ["old"])
            columns += view.past.stored(send.needed, ["new"])
        for page in view.changes(position, until, columns):
            page = _cut(page, self.job.commit_every - count)
            batches, at = np.unique(pc.fill_null(page.values["batch_no"], 0).to_numpy(), return_inverse=True)
            ways = self._ways(view, int(batches[0]), int(batches[-1]))
            way = ways.get(int(batches[at[0]]), Way()) if way is None else way
            others = np.flatnonzero(np.array([not ways.get(one, Way()).is_like(way) for one in batches.tolist()])[at])
            whole, page = not len(others), _cut(page, int(others[0]) if len(others) else len(at))
            if len(page.positions):
                pages.append(page)
                way = way._replace(origins=ways.get(int(batches[at[len(page.positions) - 1]]), way).origins)
            count += len(page.positions)
            if not whole or count >= self.job.commit_every:
                break
        return pages, way or Way()

    def _ways(self, view: View, first: int, last: int) -> dict[int, Way]:
        if not (found := origins_of(view.session, view.info.name, first, last)):
            return {}
        with self.target.begin(write=False) as session:
            return ways_to(session, self.job.to_table, found)

    def _job(self, send: Sending, filling: bool = False) -> Job:
        with self.target.begin(write=False) as session:
            target = session.describe(self.job.to_table)
        return send.job(target, filling)

    # -- comparing --------------------------------------------------------------------------------------

    def compare(self, mend: bool) -> Compared:
        """Hold the target against the source, row by row; with `mend`, merge what differs, and go on from there."""
        began = time.perf_counter()
        if self.job.keep == "changes":
            raise JobError("a log is no copy of a table, so it cannot be compared with one")
        with self.target.begin(write=False) as session:
            session.describe(self.job.to_table)
        rows = self._rows_of_sync()
        if mend and not rows:
            raise JobError(f"{self.job.follower!r} has not begun to follow: sync first")
        with closing(Spool()) as puts, closing(Spool()) as extra:
            with self.tail.look(0, 0, whole=False, rows=True) as view, self.target.begin(write=False) as session:
                send = self.sending(view)
                target = session.describe(self.job.to_table)
                jobs = send.job(target, filling=True), send.job_of_extra(target)
                compared = find_differences(view, send, session, target, jobs[0].key, puts, extra)
                compared.follower, compared.to_store = self.job.follower, self.target.where
                compared.behind = max(view.until - rows[0]["position"], 0) if rows else 0
                at = {
                    "position": view.until, "batch_no": view.batch, "filled": True, "keyless": False,
                    "fingerprint": fingerprint_at(view.past, view.until),
                }  # fmt: skip
            before = {name: rows[0][name] for name in _PLACE} if rows else {}
            if mend:
                before = self._with_key(before, jobs[0].key)
            for job, spool in zip(jobs, (puts, extra), strict=True):
                if spool.rows and mend:
                    compared.add(merge_beside(job, iter(spool), self._moving(before, before, [])))
                elif spool.rows:
                    compared.add(preview(job, iter(spool)))
        if mend:
            with self.target.begin(write=True) as session:
                put_row(session, SYNCED, self.same, at | {"moved_at": now()}, before)
            self.note(at, [])
        compared.mended, compared.seconds = mend, time.perf_counter() - began
        return compared

    def _moving(self, before: dict[str, Any], after: dict[str, Any], came: Sequence[Detail]) -> _Moving:
        newest = {one.name: one for one in came}  # of one that they came by twice
        return _Moving(f"sync {self.job.follower}", list(newest.values()), self.same, before, after)


def _cut(page: Existing, count: int) -> Existing:
    return page if len(page.positions) <= count else page.take(np.arange(count))
