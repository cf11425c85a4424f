"""Preview and merge: one batch along its way.

First the batch is read once, from end to end, before the store is touched: keys that come more than once
can only be known then. Then it goes through in chunks, in one transaction: cast, looked up, compared,
decided, written.
"""

from __future__ import annotations

import secrets
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from .core import changes as changes_of
from .core.compare import Patterns, differences
from .core.decide import INSERT, UPDATE, decide_alone, decide_met
from .core.existing import Existing
from .core.hashing import hash_rows
from .core.keys import STANDS, RepeatFinder, among, fold_table, null_keys, one_array, settle_repeats
from .core.records import Records, check_batch_has, check_required, map_columns, misfit, read_columns
from .core.schema import TableInfo
from .errors import JobError, StoreError
from .gather import Gather, Met
from .history import OddCells, Recorder, odd_cells
from .incoming import Chunk, Options, Source, Spool, open_incoming
from .job import Job
from .rejects import check_rejects_path, write_rejects
from .result import Result, decisions_schema
from .stores.base import Session, Store, nearest, open_store

Progress = Callable[[str, int, int | None], None]
"""Called with what is being done ("reading", "merging"), how much of it is done, and how much there is."""

_ROW = "\x00row"  # the column of a spooled table that holds the records' numbers
_CHUNK_BYTES = 64 << 20


def preview(job: Job, incoming: Any = None, *, progress: Progress | None = None) -> Result:
    """Say what `merge` would do with the same job and batch. Writes nothing.

    The result has, besides the counts and decisions, `samples`: some records of each decision beside the
    rows that they meet. Raises as `merge` does.
    """
    return _Run(job, incoming, False, progress).go()


def merge(job: Job, incoming: Any = None, *, progress: Progress | None = None) -> Result:
    """Merge a batch into a table, in one transaction.

    `incoming` is a path (CSV, JSON Lines, Parquet), an Arrow, pandas or polars frame, a list of dicts, or an
    iterator of record batches; without it the job's own is read. A bad record is rejected with a reason and
    never stops the run. Raises JobError if the job does not fit the table or the batch, IncomingError if the
    batch cannot be read, StoreError if the store refuses; then nothing is written.
    """
    return _Run(job, incoming, True, progress).go()


@dataclass
class _Repeats:
    """What becomes of the records whose keys come more than once, by row number."""

    rows: np.ndarray = field(default_factory=lambda: np.empty(0, np.int64))
    fates: np.ndarray = field(default_factory=lambda: np.empty(0, np.int8))
    measures: np.ndarray = field(default_factory=lambda: np.empty(0, np.int64))

    def of(self, rows: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        fate, measure = np.full(len(rows), STANDS, np.int8), rows
        if len(self.rows):
            at = np.minimum(np.searchsorted(self.rows, rows), len(self.rows) - 1)
            hit = self.rows[at] == rows
            fate[hit] = self.fates[at[hit]]
            measure = np.where(hit, self.measures[at], rows)
        return fate, measure


class _Run:
    def __init__(self, job: Job, incoming: Any, write: bool, progress: Progress | None) -> None:
        if incoming is None and job.incoming is None:
            raise JobError("there is nothing to merge; give a batch, or name one in the job as incoming")
        self.job = job
        self.write = write
        self.progress: Progress = progress or (lambda what, done, total: None)
        self.store: Store = open_store(job.store)
        if job.rejects is not None and write:
            check_rejects_path(job.rejects)
        options = job.incoming.options if job.incoming is not None else Options()
        self.source: Source = open_incoming(incoming if incoming is not None else job.incoming.path, options)  # type: ignore[union-attr]
        self.seeds = [secrets.randbits(64) for _ in range(4)]
        self.spool = Spool()
        self.mappings: dict[tuple[str, ...], dict[str, str]] = {}

    def go(self) -> Result:
        started = time.perf_counter()
        try:
            with self.store.begin(write=False) as session:
                self.info = session.describe(self.job.table)
            self.key = self._key(self.info)
            if self.source.columns:
                self._check_columns(self.source.columns)
            with self.store.begin(write=False) as session:  # asks what the store makes of keys; reads no table
                repeats = self._read_all(session)
            self.result = Result(self.info.name, self.store.where, self.key, self.source.unit, self.write)
            self.result._shape = decisions_schema(self.info, self.key)
            self.gather = Gather(self.result, samples=not self.write)
            self.gather.note_broken(self.source.broken)
            if self.spool.rows:
                with self.store.begin(self.write) as session:
                    self._merge_all(session, repeats)
        finally:
            self.spool.close()
        self.result.seconds = time.perf_counter() - started
        if self.write and self.job.rejects is not None and self.result.counts["reject"]:
            write_rejects(self.result.rejects, self.job.rejects)
            self.result.rejects_path = self.job.rejects
        return self.result

    # -- the job against the table and the batch ------------------------------------------------------

    def _key(self, info: TableInfo) -> list[str]:
        key = []
        for name in self.job.key:
            column = info.named(name)
            if column is None:
                raise JobError(
                    f"key: table {info.name!r} has no column {name!r}; {nearest(name, info.names, 'columns')}"
                )
            key.append(column.name)
        if len(set(key)) < len(key):
            raise JobError(f"key: a column is named twice in {self.job.key}")
        return key

    def _check_columns(self, columns: Sequence[str]) -> None:
        self._mapping(tuple(columns))
        check_batch_has(columns, self.job.rename, self.key, self.info)

    def _read(self, chunk: Chunk, only: Sequence[str] | None = None) -> Records:
        """A chunk in the table's terms; `only` some columns. A key column that it lacks is null."""
        mapping = self._mapping(tuple(chunk.raw.column_names))
        wanted = {name: column for name, column in mapping.items() if only is None or column in only}
        records = read_columns(chunk.raw, chunk.rows, wanted, self.info)
        absent = [name for name in self.key if name not in records.values.column_names]
        if absent:
            nulls = {name: pa.nulls(len(chunk.rows), self.info[name].type) for name in absent}
            present = zip(records.values.column_names, records.values.columns, strict=True)
            records.values = pa.table(dict(present) | nulls)
        return records

    def _mapping(self, columns: tuple[str, ...]) -> dict[str, str]:
        if columns not in self.mappings:
            self.mappings[columns] = map_columns(self.info, columns, self.job.rename, self.job.ignore)
        return self.mappings[columns]

    # -- reading the batch, and finding the keys that repeat -------------------------------------------

    def _read_all(self, session: Session) -> _Repeats:
        finder = RepeatFinder()
        for chunk in self.source:
            for start in range(0, len(chunk.rows), 1 << 18):
                part = chunk.slice(start, 1 << 18)
                keys, usable = self._keys(session, part)
                finder.add(hash_rows(fold_table(keys, self.info.pick(self.key)), self.seeds[0])[usable])
            self.spool.put(chunk.raw.append_column(_ROW, pa.array(chunk.rows)), free=self.source.in_memory)
            self.progress("reading", self.source.done, self.source.size)
        if self.mappings and not self.source.columns:
            self._check_columns(list(dict.fromkeys(name for columns in self.mappings for name in columns)))
        repeated = finder.repeated()
        if not len(repeated):
            return _Repeats()
        found: list[tuple[np.ndarray, ...]] = []
        for chunk in self._chunks(1 << 18):
            keys, usable = self._keys(session, chunk)
            folded = fold_table(keys, self.info.pick(self.key))
            first = hash_rows(folded, self.seeds[0])
            hit = np.flatnonzero(usable & among(first, repeated))
            if len(hit):
                some = Chunk(chunk.raw.take(pa.array(hit)), chunk.rows[hit])
                second = hash_rows(folded, self.seeds[1])[hit]
                found.append((some.rows, first[hit], second, self._record_hash(session, some)))
        rows, key_a, key_b, record = (np.concatenate(arrays) for arrays in zip(*found, strict=True))
        fates, measures = settle_repeats(rows, key_a, key_b, record, self.job.duplicates)
        order = np.argsort(rows)
        return _Repeats(rows[order], fates[order], measures[order])

    def _keys(self, session: Session, chunk: Chunk) -> tuple[pa.Table, np.ndarray]:
        """The keys of a chunk in the table's types, and a mask of those that are whole."""
        records = self._read(chunk, self.key)
        keys, refused = session.settle(self.info, records.values.select(self.key))
        usable = ~null_keys(keys)
        for mask in refused.values():
            usable &= ~mask
        return keys, usable

    def _record_hash(self, session: Session, chunk: Chunk) -> np.ndarray:
        """A hash of all that each record says, with its faults; a column that was not sent has its own."""
        records = self._read(chunk)
        values, _ = session.settle(self.info, records.values)
        sent = [name for name in self.info.names if name in values.column_names]
        which = pa.array([" ".join(sent)]).take(pa.array(np.zeros(len(chunk.rows), np.int64)))
        return hash_rows([which, records.faults, *(one_array(values[name]) for name in sent)], self.seeds[2])

    def _chunks(self, most: int) -> Iterator[Chunk]:
        """The batch again: as few chunks as the store and the memory allow."""
        waiting: list[pa.Table] = []
        rows = size = 0

        def gathered() -> Iterator[Chunk]:
            if waiting:
                table = pa.concat_tables(waiting)
                waiting.clear()
                numbers = table[_ROW].to_numpy()
                raw = table.drop_columns([_ROW])
                for start in range(0, len(numbers), most):
                    yield Chunk(raw.slice(start, most), numbers[start : start + most])

        for table in self.spool:
            full = rows + table.num_rows > most or size + table.nbytes > _CHUNK_BYTES
            if waiting and (full or table.schema != waiting[0].schema):
                yield from gathered()
                rows = size = 0
            waiting.append(table)
            rows, size = rows + table.num_rows, size + table.nbytes
        yield from gathered()

    # -- the way of a chunk ---------------------------------------------------------------------------

    def _merge_all(self, session: Session, repeats: _Repeats) -> None:
        if session.describe(self.job.table) != self.info:
            raise StoreError(f"table {self.info.name!r} was altered while the batch was read; run again")
        name = self.job.source.replace("\\", "/").rsplit("/", 1)[-1] if self.job.source else None
        from . import __version__

        recorder = Recorder(session, self.info, name, self.job.history, f"rmend {__version__}")
        done = 0
        for chunk in self._chunks(session.chunk_rows):
            self._merge_chunk(session, recorder, chunk, repeats, done)
            done += len(chunk.rows)
            self.progress("merging", done, self.spool.rows)
        recorder.finish(self.result.counts)
        self.result.batch = recorder.batch

    def _merge_chunk(self, session: Session, recorder: Recorder, chunk: Chunk, repeats: _Repeats, done: int) -> None:
        """Take a chunk through; `done` records went before it."""
        records = self._read(chunk)
        self._check(session, records)
        alone = decide_alone(records, *repeats.of(records.rows), self.source.unit)
        asked = alone.open
        if session.sorts and len(asked) > 1:
            keys = records.values.select(self.key).take(pa.array(asked))
            order = pc.sort_indices(keys, sort_keys=[(name, "ascending") for name in self.key])
            asked = asked[order.to_numpy()]
        at_once = session.rows_at_once(self.info, self.key)
        met: list[Met] = []
        for start in range(0, len(asked), at_once):
            met.append(self._meet(session, recorder, records, asked[start : start + at_once]))
            self.progress("merging", done + start, self.spool.rows)
        self.gather.note(chunk, records, alone, asked, met)

    def _meet(self, session: Session, recorder: Recorder, records: Records, asked: np.ndarray) -> Met:
        """Look the records at the places `asked` up, decide on them, and write what is to be written."""
        whole = len(asked) == len(records.rows) and not session.sorts  # then all of them, in their order
        values = records.values if whole else records.values.take(pa.array(asked))
        existing = session.fetch(self.info, values.select(self.key))
        compared = [name for name in values.column_names if name not in self.key or self.info[name].fold]
        incoming = values.select(compared).take(pa.array(existing.positions))
        changed = differences(existing, incoming, compared)
        patterns = Patterns(changed, len(existing.positions))
        lacking = [c.name for c in self.info.columns if c.required and c.name not in values.column_names]
        decisions, found = decide_met(len(asked), existing.positions, patterns, lacking)
        updated = found[decisions.codes == UPDATE]
        inserted = np.flatnonzero(decisions.codes == INSERT)
        if not self.write:
            self.gather.sample(records.rows[asked], values, decisions, existing, found, changed)
        elif len(updated) or len(inserted):
            recorder.start()
            if len(updated):
                recorder.record(*self._update(session, existing, updated, incoming, changed, patterns))
            if len(inserted):
                stored = session.insert(self.info, values.take(pa.array(inserted)), self.key)
                changes = changes_of.build(self.info, "insert", None, stored.values)
                recorder.record("insert", changes, odd_cells(new=stored))
        for column, count in patterns.counts(updated).items():
            self.result.changed[column] = self.result.changed.get(column, 0) + count
        sets = pa.array([list(columns) for columns in patterns.sets] + [None], pa.list_(pa.string()))
        which = np.full(len(asked), len(patterns.sets), np.int64)
        which[decisions.codes == UPDATE] = patterns.code[updated]
        return Met(decisions, sets.take(pa.array(which)))

    def _check(self, session: Session, records: Records) -> None:
        """The faults that only the store, the table or the key can tell."""
        records.values, refused = session.settle(self.info, records.values)
        for name, mask in refused.items():
            values = one_array(records.values[name]).filter(pa.array(mask))
            records.add_fault(mask, misfit(values, self.info[name], "held exactly by this store"))
        check_required(records, self.info, self.key)
        keys = [one_array(records.values[name]) for name in self.key]
        null = null_keys(records.values.select(self.key)) & records.faults.is_null().to_numpy(zero_copy_only=False)
        if null.any():
            empty = [
                pc.if_else(pc.is_null(column.filter(pa.array(null))), name, pa.scalar(None, pa.string()))
                for name, column in zip(self.key, keys, strict=True)
            ]
            names = pc.binary_join_element_wise(*empty, ", ", null_handling="skip")
            records.add_fault(null, pc.binary_join_element_wise("the key has no value: ", names, ""))

    def _update(
        self,
        session: Session,
        existing: Existing,
        updated: np.ndarray,
        incoming: pa.Table,
        changed: dict[str, np.ndarray],
        patterns: Patterns,
    ) -> tuple[str, pa.Table, OddCells]:
        """Write the columns that changed in any of the updated rows. Returns the changes, to be recorded."""
        old, index = existing.take(updated), pa.array(updated)
        new = {}
        for name, mask in changed.items():
            here = mask[updated]
            if here.any():
                value = one_array(incoming[name]).take(index)
                new[name] = value if here.all() else pc.if_else(pa.array(here), value, one_array(old.values[name]))
        stored = session.update(self.info, old, pa.table(new))
        texts = patterns.texts(changes_of.spell_changed).take(index)
        changes = changes_of.build(self.info, "update", old.values, stored.values, texts)
        return "update", changes, odd_cells(old=old, new=stored)
