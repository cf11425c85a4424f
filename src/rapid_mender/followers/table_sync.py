"""A sync into a table: filling it, following from there, holding it against the source."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, contextmanager, suppress
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..changes.detail import Detail
from ..changes.guard import any_sealed, guard_after
from ..changes.netting import netted
from ..changes.own import rows_of
from ..changes.past import NUMBER, together
from ..core.existing import Existing
from ..core.names import in_quotes
from ..core.own_tables import REFUSED, SYNCED
from ..core.schema import TableInfo, copied
from ..errors import JobError, StoreError
from ..incoming import Spool
from ..incoming.ahead import ahead
from ..jobs.job import Job
from ..jobs.sync_job import Sync
from ..merging.merge import merge_beside
from ..merging.retries import until_done
from ..stores.contract import Store
from .fingerprints import fingerprint_at, fingerprint_of
from .load import Loaded, Loader, can_load
from .moving import Moving, check_other
from .one_by_one import take_one_by_one
from .origins import Way, origin, origins_of, token_of, ways_to
from .positions import made, now, put_row, taken, writing
from .receiving import Receiving
from .refused import first_of, keys_of, records_of
from .sending import Sending
from .shaping import shape_for, without_key
from .syncing import Synced, Syncing, altered_under_capture, filled_up, known_of
from .tail import Tail, View
from .two_way import Rivals, Rule, began_as_copy, overwritten_since, rule_of, way_back

PLACE = ("position", "batch_no", "filled", "keyless", "fingerprint", "filled_to")


class TableSyncing(Syncing):
    """A sync into a table."""

    def __init__(
        self, job: Sync, source: Store, target: Store, tail: Tail, force: bool = False, retry: bool = False
    ) -> None:
        """`retry`: the rows that the target did not take are tried again."""
        super().__init__(job, source, tail, f"{job.to_table} in {target.where}", force)
        self.target, self.retry = target, retry
        if retry and not self._row_by_row:
            raise JobError("only rows that follow one by one are tried again: not those of a log, or of versions")
        self.done = self._nothing_done()
        self.same = {"follower": job.follower}
        self.at: dict[str, Any] | None = None
        """Where the sync is, as far as this process knows."""
        self._has_rejects = False
        """The target has not taken some rows."""
        self._made = False
        """This process made the target, and has not filled it yet."""

    def _nothing_done(self) -> Synced:
        job = self.job
        return Synced(job.follower, self.source.where, job.table, self.target.where, job.to_table)

    def go(self) -> Synced:
        """Let all changes take effect that are there, and with `retry` the rows that the target did not take before."""
        began = time.perf_counter()
        self.done, self.end = self._nothing_done(), None
        at = self.at or until_done(self.target, lambda _: self._begin(), lambda: None)
        self.at = None  # after an error it is read anew
        if self.job.new_columns == "add":
            self._add_columns(at)
        if not at["filled"]:
            at = self._fill(at)
        while (next_at := self._step(at)) is not None:
            at = next_at
        if self.retry:
            self._try_again(at)
        if self._has_rejects or self.done.counts["reject"]:
            self._look_at_rejects()
        self.done.position, self.done.seconds = at["position"], time.perf_counter() - began
        self.note(at | {"rejected": self.done.rejected}, self.done.held_by)
        self.at = at
        return self.done

    def _look_at_rejects(self) -> None:
        """Tell which rows the target has not taken."""
        with self.target.begin(write=False) as session:
            self.done.rejected = sum(row["rejected"] or 0 for row in rows_of(session, SYNCED, **self.same))
            self.done.refused = first_of(session, self.job.follower) if self.done.rejected else []
        self._has_rejects = self.done.rejected > 0

    # -- the beginning ----------------------------------------------------------------------------------

    def _begin(self) -> dict[str, Any]:
        """Where the sync is."""
        check_other(self.job, self.source, self.target)
        rows = self.rows_of_sync()
        about = {"source": self.source.where, "source_table": self.job.table, "table_name": self.job.to_table}
        if rows and any(rows[0][name] != value for name, value in about.items() if name != "source"):
            raise JobError(
                f"there is a follower {self.job.follower!r} in {self.target.where} already, of table "
                f"{rows[0]['source_table']!r} into {rows[0]['table_name']!r}; take another name"
            )
        self._has_rejects = any(row["rejected"] for row in rows)
        return {name: rows[0][name] for name in PLACE} if rows else self._start(about)

    def rows_of_sync(self) -> list[dict[str, Any]]:
        """The row of the sync in the target, if it has one. Makes our table, or brings it up to date."""
        made(self.target, SYNCED)
        with suppress(StoreError):  # who may not make it: then refused rows are only counted
            made(self.target, REFUSED)
        with self.target.begin(write=False) as session:
            return rows_of(session, SYNCED, **self.same)

    def _start(self, about: dict[str, str]) -> dict[str, Any]:
        """Note where the sync begins, in both stores; make the target if it is not there."""
        with self.tail.look(0, 0, whole=False) as view:
            self.check_name(view)
            send = self.sending(view)
            log = self.job.keep == "changes"
            at: dict[str, Any] = {"position": 0 if log else view.until, "batch_no": 0 if log else view.batch}
            at |= {"filled": log, "keyless": False, "filled_to": None}
            at["fingerprint"] = None if log else fingerprint_at(view.past, view.until)
            if not log and self._is_copy(view, send):
                at |= {"position": 0, "batch_no": 0, "filled": True, "fingerprint": None}
        if log:
            with self.tail.look(0, 0):
                pass  # raises if the history does not begin at the beginning
        with self.target.begin(write=False) as session:
            there = session.find(self.job.to_table)
        if there is not None:
            self._fitted(send, there).job(there)
        self.note(at, self.done.held_by)
        with writing(self.target, SYNCED) as session:
            if rows_of(session, SYNCED, **self.same):
                raise taken(self.job.follower)
            if there is None:
                shape = shape_for(send, session)
                if not log and not self.job.key and session.keys_later:
                    shape, at["keyless"] = without_key(shape), True
                session.create(shape)
                self._made = True
            put_row(session, SYNCED, self.same, about | at | {"moved_at": now(), "conflict": self.job.conflict})
        return at

    def _fitted(self, send: Sending, target: TableInfo) -> Sending:
        """What is sent into a target. Raises JobError if that lacks columns, unless these are to be ignored."""
        if not (lacking := send.lacking(target)):
            return send
        if self.job.new_columns == "ignore":
            return send.without(lacking)
        to = in_quotes(self.job.rename.get(name, name) for name in lacking)
        raise JobError(
            f"{self.job.to_table!r} in {self.target.where} has no column {to}, into which {in_quotes(lacking)} of "
            f'{send.info.name!r} would go: new_columns = "add" adds such columns there, "ignore" leaves them out. If '
            "it has another name there, say so in [rename]"
        )

    def _add_columns(self, at: dict[str, Any]) -> None:
        """Add the columns to the target that it lacks. They are empty in the rows that are there."""
        with self.tail.look(at["position"], at["batch_no"], fingerprint=at["fingerprint"]) as view:
            send = self.sending(view)
        with self.target.begin(write=False) as session:
            lacking = send.lacking(session.describe(self.job.to_table))
        if lacking:
            columns = copied(send.info.pick(lacking), self.job.rename)
            with self.target.begin(write=True) as session:
                name = session.describe(self.job.to_table).name
                session.add_columns(name, [replace(column, nullable=True) for column in columns])

    # -- filling ----------------------------------------------------------------------------------------

    def _fill(self, at: dict[str, Any]) -> dict[str, Any]:
        """Copy the rows as they are. What was there already, from a fill that was interrupted, is not written again;
        what has changed since the position is followed afterwards, from there."""
        with self._rows() as (send, job, came, pages, last):

            def moving(page: pa.Table | None = None) -> Moving:
                return self.moving(at, at, came, page, send.key)

            loads = self._made and can_load(job)
            for page in self._loading(pages, send, job, moving) if loads else pages:
                at = self.with_key(at, job.key)
                result = merge_beside(job, page, moving(page))
                self.done.filled += result.counts["insert"] + result.counts["update"] + result.counts["skip"]
                self.done.add(result)
        self._made = False
        at = self.with_key(at, job.key)
        full = at | {"filled": True, "filled_to": last}
        with self.target.begin(write=True) as session:
            put_row(session, SYNCED, self.same, full | {"moved_at": now()}, at)
        return full

    def _loading(
        self, pages: Iterator[pa.Table], send: Sending, job: Job, moving: Callable[[], Moving]
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

    def with_key(self, at: dict[str, Any], key: Sequence[str]) -> dict[str, Any]:
        """Give the target its key, if it was made without one to be filled faster. Returns where the sync is."""
        if not at["keyless"]:
            return at
        keyed = at | {"keyless": False}
        with self.target.begin(write=True) as session:
            put_row(session, SYNCED, self.same, keyed, at)
            session.add_key(session.describe(self.job.to_table), key)
        return keyed

    @contextmanager
    def _rows(self) -> Iterator[tuple[Sending, Job, list[Detail], Iterator[pa.Table], int]]:
        """What is sent of the rows of the source at one moment, and the job that merges it, where they come from, the
        rows, some at a time, and the last change before."""
        with self.tail.look(0, 0, whole=False, rows=True) as view:
            with self.receiving(replace(self.sending(view), catching_up=True)) as receiving:
                send, job = receiving.send, receiving.send.job(receiving.info)
            last = view.session.last(view.past.kept.name, NUMBER) if view.past is not None else 0
            came = self._origin(view, fingerprint_at(view.past, view.until))
            pages = (send.of_rows(page) for page in view.session.scan(view.info, send.needed, key=send.key))
            if self.source.reads_beside_writes or self.source.where != self.target.where:
                yield send, job, came, ahead(pages), last
                return
            spool = Spool()
            for page in pages:
                spool.put(page)
        with closing(spool):
            yield send, job, came, iter(spool), last

    # -- following --------------------------------------------------------------------------------------

    def _step(self, at: dict[str, Any]) -> dict[str, Any] | None:
        """Let the next changes take effect; None if there are none."""
        with (
            self.tail.look(at["position"], at["batch_no"], fingerprint=at["fingerprint"]) as view,
            self.receiving(self.sending(view)) as receiving,  # tells what is wrong also if nothing is to be sent
        ):
            self.done.held_by = view.held_by
            if self.is_over(view, at["position"]):
                return None
            send, until = known_of(view, receiving.send, at["position"])
            if at["position"] < (at["filled_to"] or 0):
                send, until = replace(send, catching_up=True), min(until, at["filled_to"])
            receiving = replace(receiving, send=replace(send, rule=self._rule(view, receiving)))
            pages, way = self._next(view, receiving, at["position"], until)
            if not pages or view.past is None:
                return None
            last, fingerprint = int(pages[-1].values[NUMBER][-1].as_py()), fingerprint_of(pages[-1])
            guard = guard_after(view.past, at["position"], last, not self.force)
            for page in pages:
                guard.add(page)
            self.done.notes = altered_under_capture(view)
            count = sum(len(page.positions) for page in pages)
            came = [*way.origins, *self._origin(view, fingerprint)]
            records = self._records(view, receiving, pages, way)
            guard.check(last)
        after = at | {"position": last, "fingerprint": fingerprint}
        send = receiving.send
        moving = self.moving(at, after | {"conflict": self.job.conflict}, came, records, send.key)
        if records is not None and records.num_rows:
            result = merge_beside(send.job(receiving.info), records, moving)
            self.done.add(result)
            if result.counts["reject"] and self._row_by_row and send.is_plain:
                take_one_by_one(self, result, moving)
            self.done.outdone += result.rules.get(1, 0) if send.rule is not None else 0  # see `Sending.job`
        else:
            with self.target.begin(write=True) as session:
                moving.end(session)
        self.done.changes += count
        return after

    def _next(self, view: View, receiving: Receiving, position: int, until: int) -> tuple[list[Existing], Way]:
        """The next changes that have come the same way, and that way."""
        send = receiving.send
        pages: list[Existing] = []
        way: Way | None = None
        count, columns = 0, None
        sealed = view.past is not None and not self.force and any_sealed(view.past, position)
        if self.job.keep == "rows" and view.past is not None and not sealed:  # of a log, and of a seal, all is wanted
            columns = send.read_of(view.past)
        for page in view.changes(position, until, columns):
            page = _cut(page, self.job.commit_every - count)
            batches, at = np.unique(pc.fill_null(page.values["batch_no"], 0).to_numpy(), return_inverse=True)
            found = origins_of(view.session, view.info.name, int(batches[0]), int(batches[-1]))
            ways = ways_to(receiving.session, self.job.to_table, found) if found else {}
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

    @contextmanager
    def receiving(self, send: Sending) -> Iterator[Receiving]:
        """The target, and what is sent into it. Raises JobError as `_fitted` does."""
        with self.target.begin(write=False) as session:
            target = session.describe(self.job.to_table)
            yield Receiving(session, target, self._fitted(send, target))

    def _records(self, view: View, receiving: Receiving, pages: list[Existing], way: Way) -> pa.Table | None:
        """What is sent of changes. Of those that began at the target what is there no more, as a sync has overwritten
        it: the target may be a copy of the table where they began, or was filled, or mended."""
        assert view.past is not None
        send = receiving.send
        known = self._row_by_row and receiving.is_keyed
        if way.ours and not (known and (self.job.history or send.rule is None)):
            return None
        returns = way.ours and self.job.history
        if self.job.keep == "changes":
            return send.of_changes(view.past, together(pages))
        apart = None if send.compares else send.apart
        net = netted(view.past, pages, send.needed, apart, same=send.rule is not None)
        rivals = Rivals(view, receiving, send.rule) if send.rule is not None and not returns else None
        only = partial(overwritten_since, receiving, after=way.number) if returns else None
        records = send.of_net(net, receiving, rivals, only)
        return filled_up(view, send, records) if self.done.notes else records

    def _rule(self, view: View, receiving: Receiving) -> Rule | None:
        """Which side's change counts, if the target is followed by the source."""
        if view.past is None or not self._row_by_row:
            return None
        back = way_back(view, receiving, self.target.where)
        return None if back is None else rule_of(self.job.conflict, back["conflict"], back["follower"])

    def _is_copy(self, view: View, send: Sending) -> bool:
        """Whether the table that is followed was filled from the target."""
        with self.target.begin(write=False) as session:
            info = session.find(self.job.to_table)
            if info is None:
                return False
            receiving, where = Receiving(session, info, send), self.target.where
            return began_as_copy(view, receiving, where, way_back(view, receiving, where) is not None)

    # -- moving -----------------------------------------------------------------------------------------

    @property
    def _row_by_row(self) -> bool:
        """Each row follows for itself: not in a log, nor the versions in force of a thing."""
        return self.job.keep == "rows" and self.job.versions == "all"

    def _origin(self, view: View, fingerprint: str | None) -> list[Detail]:
        """That changes come from the table that is followed, up to the one of a fingerprint; nothing if it has no
        history."""
        token = token_of(view.session, view.info.name)
        return [] if token is None else [origin(token, self.source.where, fingerprint)]

    def moving(
        self,
        before: dict[str, Any],
        after: dict[str, Any],
        came: Sequence[Detail],
        records: pa.Table | None = None,
        key: Sequence[str] = (),
    ) -> Moving:
        """Moves the sync from one place to another, with records, which have the key of the source."""
        newest = {one.name: one for one in came}  # of one that they came by twice
        tried = records.select([*key]) if records is not None and self._row_by_row else None
        return Moving(f"sync {self.job.follower}", list(newest.values()), self.same, before, after, tried)

    def _try_again(self, at: dict[str, Any]) -> None:
        """Send the rows that the target did not take once more, as they are now."""
        with self.target.begin(write=False) as session:
            refused = rows_of(session, REFUSED, **self.same)
        if not refused:
            return
        with (
            self.tail.look(at["position"], at["batch_no"], rows=True, fingerprint=at["fingerprint"]) as view,
            self.receiving(replace(self.sending(view), catching_up=True)) as receiving,
        ):
            key = receiving.send.key
            keys = keys_of(refused, view.info, key)
            if not keys.num_rows:
                return
            records, job = records_of(receiving.send, view.session, keys), receiving.send.job(receiving.info)
        self.done.add(merge_beside(job, records, self.moving(at, at, [], records, key)))


def _cut(page: Existing, count: int) -> Existing:
    return page if len(page.positions) <= count else page.take(np.arange(count))
