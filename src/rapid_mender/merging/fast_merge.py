"""The fast path of a merge that is kept open: a few plain records into a plain table, without Arrow.

It decides as `decide` does, for jobs that leave it nothing else to do: no rules, no options, nothing but records to
insert, update or skip. Only records of a shape are taken that has gone the whole way without a warning. Whatever else
comes up raises NotFast before anything is committed, and the call goes the whole way.
"""

from __future__ import annotations

import logging
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any, NamedTuple

from .. import __version__
from ..changes.batch_row import actor_now, begun, ended, listed
from ..changes.details import is_outdated, newest_details
from ..changes.form import spell_changed
from ..changes.identity import KnownHistory
from ..changes.past import MOST_CHANGES
from ..core.decisions import DELETE, INSERT, NAMES, NO_ROW_HAS_KEY, UNCHANGED, UPDATE, changed_words
from ..core.own_tables import BATCHES_TABLE, history_name
from ..core.plain_values import NotPlain, kind_of, taker_of
from ..errors import UncertainError
from ..incoming import Source
from ..incoming.open import Dicts
from ..jobs.batch_span import span_of
from ..jobs.job import job_name
from ..jobs.opening import OpenJob
from ..jobs.plan import Plan
from ..stores.contract.fast import FastBatch, FastChange, FastPath, FastTable, Found, NotFast, Values
from .result import Decided, Result, decisions_schema
from .stats import details_of, plain_figures

_log = logging.getLogger("rapid_mender")
_MOST = 100
"""Records that are taken at most: for more the whole way is the faster one."""
_MOST_SHAPES = 64
_ALLOWED = (INSERT, UPDATE, DELETE)


class _Record(NamedTuple):
    """An incoming record in the table's terms; `sent` has values in the order of its shape's columns."""

    key: tuple[Any, ...]
    sent: tuple[Any, ...]


@dataclass(frozen=True)
class _Shape:
    """What records of a shape send."""

    names: tuple[str, ...]
    """The columns, in the order of the table."""
    taking: tuple[Callable[[Any], Any], ...]
    settable: tuple[tuple[int, int, str], ...]
    """Of each column that an update may set its place among those sent, its place in the table, and its name."""
    inserts: bool
    """A record of the shape can be inserted: what it does not send is null."""


@dataclass(frozen=True)
class Taken:
    """The records of a call, as the fast path takes them."""

    path: FastMerge
    shape: _Shape
    records: list[_Record]
    source: Source

    @property
    def keys(self) -> set[tuple[Any, ...]]:
        return {record.key for record in self.records}


class FastMerge:
    """Merges calls of one job over a fast path. `job` is what it is of, `plan` that job bound to its table."""

    def __init__(self, store: str, plan: Plan, path: FastPath, gone: Sequence[str]) -> None:
        """`gone`: the columns of the history that the table has no more."""
        self._store, self._plan, self._path, self._gone = store, plan, path, gone
        info = plan.info
        self._places = {name: place for place, name in enumerate(info.names)}
        self._key = [self._places[name] for name in plan.key]
        self._takers = {column.name: taker_of(column) for column in info.columns}
        self._required = {column.name for column in info.columns if not column.nullable}
        self._shapes: dict[frozenset[str], _Shape] = {}
        self._schema = decisions_schema(info, plan.key)
        self._name, self._actor, self._application = job_name(plan.job), actor_now(), f"rmend {__version__}"

    def close(self) -> None:
        self._path.close()

    @property
    def closed(self) -> bool:
        return self._path.closed

    def learn(self, source: Source, result: Result) -> None:
        """Take in future what was merged the whole way without a warning."""
        if not isinstance(source, Dicts) or result.warnings or result.counts["reject"] or not source.records:
            return
        names = frozenset(source.records[0])
        alike = all(record.keys() == names for record in source.records) and names <= self._places.keys()
        if not alike or names in self._shapes or not names >= set(self._plan.key) or len(self._shapes) >= _MOST_SHAPES:
            return
        info, ordered = self._plan.info, tuple(name for name in self._plan.info.names if name in names)
        left_out = [column for column in info.columns if column.name not in names]
        settable = [name for name in self._plan.updatable(ordered) if name not in self._plan.key]
        self._shapes[names] = _Shape(
            ordered,
            tuple(self._takers[name] for name in ordered),
            tuple((ordered.index(name), self._places[name], name) for name in settable),
            not any(column.has_default or not column.nullable for column in left_out),
        )

    def take(self, source: Source) -> Taken | None:
        """The records of a call, if they may be taken."""
        if not isinstance(source, Dicts) or not source.records or len(source.records) > _MOST:
            return None
        first = source.records[0]
        shape = self._shapes.get(frozenset(first))
        if shape is None or any(record.keys() != first.keys() for record in source.records[1:]):
            return None
        try:
            records = [self._record(shape, record) for record in source.records]
        except NotPlain:
            return None
        if len(records) > 1 and not _of_one_kind(source.records):
            return None
        taken = Taken(self, shape, records, source)
        return taken if len(taken.keys) == len(records) else None

    def _record(self, shape: _Shape, record: dict[str, Any]) -> _Record:
        sent = []
        for name, take in zip(shape.names, shape.taking, strict=True):
            value = record[name]
            if value is not None:
                value = take(value)
            elif name in self._required or name in self._plan.key:
                raise NotPlain
            sent.append(value)
        key = tuple(sent[shape.names.index(name)] for name in self._plan.key)
        return _Record(key, tuple(sent))

    def merge(self, calls: Sequence[Taken], check: Callable[[], None]) -> list[Result | UncertainError]:
        """Merge calls that have no key in common, in one transaction, and give the result of each. Raises NotFast, or
        what `check` raises, which is called before the commit."""
        began, now = time.perf_counter(), datetime.now(UTC)
        try:
            found = self._path.look([record.key for call in calls for record in call.records])
            results, changes = self._decide(calls, found)
            spans = zip(results, changes, strict=True)
            batches = [self._batch(result, some, now, began) for result, some in spans]
            at = datetime.now(UTC)
            written = [batch for batch in batches if batch is not None]
            numbers = iter(self._path.write(written, at, (self._actor, self._application)))
            for result, batch in zip(results, batches, strict=True):
                result.batch = next(numbers) if batch is not None else None
                if result.batch is not None and result.batch <= found.last_batch:
                    raise NotFast  # what counts is behind
            check()
            try:
                self._path.commit()
            except UncertainError as error:
                self._path.close()
                return [_uncertain(error, result) for result in results]
        except Exception:
            self._path.undo()
            raise
        except BaseException:  # nobody knows what comes next over the connection
            self._path.close()
            raise
        took = time.perf_counter() - began
        for result in results:
            result.seconds = took
        _log.info("%d records merged into %s after %.4f s, the fast way", len(found.rows), self._plan.info.name, took)
        return list(results)

    def _decide(self, calls: Sequence[Taken], found: Found) -> tuple[list[Result], list[list[FastChange]]]:
        """The results of calls, and their changes."""
        if found.held:
            raise NotFast
        newest = max(found.last_change, found.newest_change or 0)
        if newest + len(found.rows) >= MOST_CHANGES:
            raise NotFast
        results, changes, rows = list[Result](), list[list[FastChange]](), iter(found.rows)
        for call in calls:
            decided, pending = list[Decided](), list[tuple[str, _Record, FastChange]]()
            for number, record in enumerate(call.records, 1):
                one, change = self._decided(call.shape, number, record, next(rows))
                decided.append(one)
                if change is not None:
                    pending.append((one.decision, record, change))
            sorts = self._path.sorts
            pending.sort(key=lambda one: (one[0] == "insert", one[1].key if sorts else ()))  # as the whole way has them
            changes.append([one._replace(number=newest + at) for at, (_, _, one) in enumerate(pending, 1)])
            newest += len(pending)
            results.append(self._result(call, decided))
        return results, changes

    def _decided(
        self, shape: _Shape, number: int, record: _Record, row: Values | None
    ) -> tuple[Decided, FastChange | None]:
        """What becomes of a record that meets a row, or none."""
        key = dict(zip(self._plan.key, record.key, strict=True))
        if row is None:
            if not shape.inserts:
                raise NotFast
            new = [None] * len(self._places)
            for name, value in zip(shape.names, record.sent, strict=True):
                new[self._places[name]] = value
            change = FastChange("insert", shape.names, None, new, 0, None)
            return Decided(number, "insert", NO_ROW_HAS_KEY, [], key), change
        if tuple(row[place] for place in self._key) != record.key:
            raise NotFast  # equal to the database, in other letters
        new, changed = list(row), []
        for at, place, name in shape.settable:
            if record.sent[at] != row[place]:
                new[place] = record.sent[at]
                changed.append(name)
        if not changed:
            return Decided(number, "skip", UNCHANGED, [], key), None
        change = FastChange("update", tuple(changed), row, new, 0, spell_changed(changed))
        return Decided(number, "update", changed_words(changed), changed, key), change

    def _result(self, call: Taken, decided: list[Decided]) -> Result:
        counts, changed = dict.fromkeys(NAMES, 0), dict[str, int]()
        for one in decided:
            counts[one.decision] += 1
            for name in one.changed:
                changed[name] = changed.get(name, 0) + 1
        return Result(
            self._plan.info.name, self._store, self._plan.key, call.source.unit, True,
            counts=counts, records=len(decided), changed=changed,
            _shape=self._schema, _each=decided,
        )  # fmt: skip

    def _batch(self, result: Result, changes: list[FastChange], now: datetime, began: float) -> FastBatch | None:
        if self._plan.job.batches == "changes" and not changes:
            return None
        took = time.perf_counter() - began
        figures = plain_figures(result.records, result.changed, self._plan.identity, took) | listed("gone", self._gone)
        span = (changes[0].number, changes[-1].number) if changes else (None, None)
        row = begun(self._plan.info.name, self._name, self._actor, "merge", self._application, now)
        return FastBatch(row | ended(result.counts, figures, "done", span), changes)


def _uncertain(error: UncertainError, result: Result) -> UncertainError:
    told = f"{error}; if batch {result.batch} is among the batches, it did" if result.batch is not None else str(error)
    return UncertainError(told, result.batch)


def _of_one_kind(records: Sequence[dict[str, Any]]) -> bool:
    """Whether each column has values of one type: others would be merged one after the other."""
    return all(
        len({type(value) for record in records if (value := record[name]) is not None}) < 2 for name in records[0]
    )


def is_plain(plan: Plan, finds_keys: bool) -> bool:
    """Whether a job leaves nothing to do but to insert, update or skip a row for each record, by a key that no two rows
    share; `finds_keys`: that is found out later."""
    job, info = plan.job, plan.info
    given = (
        job.rules, job.rename, job.derive, job.lookup, job.ignore, job.columns, job.order, job.versions,
        job.update_only, job.scope, job.mark, job.unmark, job.marked, job.archive, job.max_rejects, job.max_deletes,
        job.commit_every, job.seal, job.rejects_path, span_of(job.batches), plan.notations, plan.made, info.triggers,
    )  # fmt: skip
    if any(given) or job.null_key != "reject" or job.missing != "keep" or len(plan.allowed) < len(_ALLOWED):
        return False
    if not (job.history and info.undoes) or any(set(one.columns) - set(plan.key) for one in info.reach):
        return False
    unique = [names for names in (info.primary_key, *info.unique) if set(names) == set(plan.key)]
    unique = [names for names in unique if not any(info[name].nullable for name in names)]
    plain = not any(kind_of(info[name]) in (None, "float", "zoned time") for name in plan.key)
    texts = (info.name, job_name(job) or "", actor_now() or "")
    return bool(unique or finds_keys) and plain and all(text.isascii() for text in texts)


def fast_merge_of(job: OpenJob, known: KnownHistory) -> FastMerge | None:
    """The fast path for a job that was bound to its table, whose history is known; None if there is none."""
    plan, tables = job.plan_of_few, known.tables
    if (
        not job.store.owns_transactions
        or plan is None
        or tables is None
        or tables[0] != plan.info
        or not is_plain(plan, job.store.finds_keys)
    ):
        return None
    store, info, history = job.store, plan.info, tables[1]
    with store.begin(write=False) as session:
        batches = session.find_own(BATCHES_TABLE, owner=info.owner)
        session.describe(job.job.table, trusting=True)
        session.find_own(history_name(info.name), info)
        if batches is None or is_outdated(batches) or known.shape is None:
            return None
        stored = dict(known.stored)
    try:
        path = store.fast_path(FastTable(info, tuple(plan.key), history, stored, batches))
    except NotFast:
        return None
    try:
        with store.begin(write=False) as session:  # what was altered since the path was made, that notices
            now = session.describe(job.job.table, trusting=True)
            kept = session.find_own(history_name(info.name), info)
            same = now == info and now.number == info.number and kept is not None and known.holds(now, kept)
            same = same and session.find_own(BATCHES_TABLE, owner=info.owner) == batches
            same = same and not session.triggers(info)  # those of a capture too
            if not info.identifying:
                noted = [one.said for one in newest_details(session, info.name, "key")]
                same = same and noted == [one.said for one in details_of(plan)]
        if same:
            return FastMerge(store.where, plan, path, known.gone)
    except BaseException:
        path.close()
        raise
    path.close()
    return None
