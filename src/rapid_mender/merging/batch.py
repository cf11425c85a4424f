"""Reading a batch: once from end to end, to find the keys that repeat, and then again in chunks for the merge."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.cast import plain
from ..core.expressions.scope import Name
from ..core.hashing import hash_rows
from ..core.keys import null_keys, one_array
from ..core.masks import mask_of
from ..core.records import REJECT_TEXT, Records, check_required, derive, misfit, read_columns
from ..core.repeats import STANDS, RepeatFinder, among, resolve_repeats
from ..incoming import Chunk, Source, Spool
from ..incoming.rejected import restored
from ..jobs.layouts import Layout, Layouts, Shape, shape_of
from ..jobs.plan import Plan
from ..stores.contract import Session, kept

Progress = Callable[[str, int, int | None], None]
"""Called with what is being done ("reading", "merging"), how much of it is done, and how much there is."""

_ROW = "\x00row"  # the column of a spooled table that holds the records' numbers
_CHUNK_BYTES = 64 << 20
_PART = 1 << 18


@dataclass
class Repeats:
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


class Batch:
    """The records of a source, in the terms of a plan."""

    def __init__(self, plan: Plan, layouts: Layouts, source: Source, now: datetime, progress: Progress) -> None:
        self.plan, self.layouts, self.source, self.now, self.progress = plan, layouts, source, now, progress
        self.repeats = Repeats()
        self.keyless = 0
        """How many records have no key that can be read."""
        self._seeds = [secrets.randbits(64) for _ in range(4)]
        self._spool = Spool()
        self._came: list[np.ndarray] = []
        self._shape: Shape = ()
        self._names: dict[str, pa.DataType] = {}
        """Every column that a record of the batch has, with the type in which it came first."""

    @property
    def rows(self) -> int:
        return self._spool.rows

    def close(self) -> None:
        self._spool.close()

    # -- a chunk in the table's terms -------------------------------------------------------------------

    def layout(self, chunk: Chunk) -> Layout:
        return self.layouts.of(shape_of(chunk.raw.schema))

    def read(self, chunk: Chunk, only: Sequence[str] | None = None) -> Records:
        """A chunk in the table's terms; `only` some columns. A key column that it lacks is null."""
        layout, info = self.layout(chunk), self.plan.info
        derived, needed = layout.derived, None if only is None else set(only)
        if needed is not None:
            for name in reversed(derived):  # each stands after those that it reads
                if name in needed:
                    needed |= {used for _, used in derived[name].uses}
            derived = {name: one for name, one in derived.items() if name in needed}
        wanted = {n: c for n, c in layout.mapping.items() if needed is None or c in needed}
        records = read_columns(chunk.raw, chunk.rows, wanted, info)
        seen = {name: column for name, column in layout.seen.items() if needed is None or column in needed}
        self._put_extras(records, chunk, layout, seen)
        if derived:
            derive(records, derived, self._incoming(records, layout), self.now, info)
        if layout.misfit is not None:
            records.add_fault(np.ones(len(chunk.rows), bool), layout.misfit)
        absent = [name for name in self.plan.key if name not in records.values.column_names]
        if absent:
            nulls = {name: pa.nulls(len(chunk.rows), info[name].type) for name in absent}
            present = zip(records.values.column_names, records.values.columns, strict=True)
            records.values = pa.table(dict(present) | nulls)
        return records

    def _put_extras(self, records: Records, chunk: Chunk, layout: Layout, seen: dict[str, str]) -> None:
        """Put what goes nowhere, and may be read, into `records.extras`: as it came, or as the column of its name."""
        there, reads, extras = set(chunk.raw.column_names), layout.reads(), layout.extras
        if self.plan.has_functions:  # which see every column of the batch, whatever the record sends
            extras = {n: kind for n, kind in self._names.items() if self.plan.info.named(n) is None} | extras
        for name, kind in extras.items():
            if self.plan.has_functions or name in reads:
                records.extras[name] = plain(chunk.raw[name]) if name in there else pa.nulls(len(chunk.rows), kind)
        if seen:
            aside = read_columns(chunk.raw, chunk.rows, seen, self.plan.info)
            records.add_fault(mask_of(aside.faults.is_valid()), aside.faults.drop_null())
            records.extras |= {name: one_array(aside.values[name]) for name in aside.values.column_names}

    def _incoming(self, records: Records, layout: Layout) -> dict[Name, pa.Array]:
        """What derived columns may read: the records' values, and null for what did not come."""
        nulls = {name: pa.nulls(len(records.rows), kind) for name, kind in layout.types.items()}
        values = {("incoming", n): one_array(records.values[n]) for n in records.values.column_names}
        return nulls | {("incoming", name): column for name, column in records.extras.items()} | values

    def check(self, session: Session, records: Records) -> None:
        """Note the faults that only the store, the table or the key can tell."""
        plan = self.plan
        came = records.values
        records.values, refused = session.normalise(plan.info, came)
        for name, mask in refused.items():
            values = one_array(came[name]).filter(pa.array(mask))
            column = plan.info[name]
            why: str | None = "held exactly by this store"
            if pa.types.is_binary(values.type):
                why = "so short that this store has room for it"
            if pa.types.is_string(values.type):
                own = column.normalises or column.labels or column.members
                why = None if own else "a text that this store has letters and room for"
            records.add_fault(mask, misfit(values, plan.info[name], why))
        sent = records.values.column_names
        check_required(records, plan.info, [n for n in sent if n not in plan.key and plan.columns[n].strict_null])
        null = null_keys(records.values.select(self._must_come())) & records.faults.is_null().to_numpy(
            zero_copy_only=False
        )
        if null.any():
            empty = [
                pc.if_else(
                    pc.is_null(one_array(records.values[name]).filter(pa.array(null))),
                    name,
                    pa.scalar(None, pa.string()),
                )
                for name in self._must_come()
            ]
            names = pc.binary_join_element_wise(*empty, ", ", null_handling="skip")
            records.add_fault(null, pc.binary_join_element_wise("the key has no value: ", names, ""))

    def _must_come(self) -> list[str]:
        """The key columns that the database cannot make."""
        plan = self.plan
        makes = plan.job.null_key == "generate"
        return [name for name in plan.key if not (makes and plan.info[name].has_default)]

    # -- from end to end --------------------------------------------------------------------------------

    def read_all(self, session: Session, remember: bool) -> None:
        """Read the batch, and find what becomes of keys that repeat. `remember` which keys came."""
        finder = RepeatFinder()
        for chunk in restored(self.source):
            self._shape = shape_of(chunk.raw.schema)
            self._names = {n: kind for n, kind in self._shape if n != REJECT_TEXT} | self._names
            for start in range(0, len(chunk.rows), _PART):
                part = chunk.slice(start, _PART)
                keys, usable = self.keys(session, part)
                hashes = hash_rows(session.fold(self.plan.info, keys), self._seeds[0])[usable]
                finder.add(hashes)
                if remember:
                    self._came.append(hashes)
                    self.keyless += int((~usable).sum())
            self._spool.put(chunk.raw.append_column(_ROW, pa.array(chunk.rows)), free=self.source.in_memory)
            self.progress("reading", self.source.done, self.source.size)
        if self._names and self.source.schema is None:
            self.layouts.check_batch(list(self._names), self._shape)
        self.keyless += len(self.source.broken)
        repeated = finder.repeated()
        if not len(repeated):
            return
        self._resolve_repeats(session, repeated)

    def _resolve_repeats(self, session: Session, repeated: np.ndarray) -> None:
        """Decide what becomes of the records whose keys have one of the `repeated` hashes."""
        order = self.plan.order
        found: list[tuple[np.ndarray, ...]] = []
        ages: list[pa.Array] = []
        for chunk in self.chunks(_PART):
            keys, usable = self.keys(session, chunk)
            folded = session.fold(self.plan.info, keys)
            first = hash_rows(folded, self._seeds[0])
            hit = np.flatnonzero(usable & among(first, repeated))
            if len(hit):
                some = Chunk(chunk.raw.take(pa.array(hit)), chunk.rows[hit])
                second = hash_rows(folded, self._seeds[1])[hit]
                record, age = self._record_hash(session, some, order)
                found.append((some.rows, first[hit], second, record))
                ages.append(age)
        rows, key_a, key_b, record = (np.concatenate(arrays) for arrays in zip(*found, strict=True))
        age = None
        if order is not None:
            every = pa.concat_arrays(ages)
            age = np.zeros(len(every), np.int64)  # what has no date is older than all
            dated = every.is_valid().to_numpy(zero_copy_only=False)
            age[dated] = pc.rank(every.drop_null(), tiebreaker="dense").to_numpy().astype(np.int64)
        fates, measures = resolve_repeats(rows, key_a, key_b, record, self.plan.job.duplicates, age)
        by_row = np.argsort(rows)
        self.repeats = Repeats(rows[by_row], fates[by_row], measures[by_row])

    def keys(self, session: Session, chunk: Chunk) -> tuple[pa.Table, np.ndarray]:
        """The keys of a chunk in the table's types, and a mask of those that are whole."""
        records = self.read(chunk, self.plan.key)
        keys = kept(session.normalise(self.plan.info, records.values.select(self.plan.key)))
        return keys, ~null_keys(keys)

    def _record_hash(self, session: Session, chunk: Chunk, order: str | None) -> tuple[np.ndarray, pa.Array]:
        """A hash of all that each record says, faults too (a column that was not sent has its own), and its age."""
        records = self.read(chunk)
        values, _ = session.normalise(self.plan.info, records.values)
        sent = [name for name in self.plan.info.names if name in values.column_names]
        others = sorted(records.extras)
        which = pa.repeat("\x00".join([*sent, *sorted({*others} & {*chunk.raw.column_names})]), len(chunk.rows))
        said = [*(one_array(values[name]) for name in sent), *(records.extras[name] for name in others)]
        hashed = hash_rows([which, records.faults, *said], self._seeds[2])
        if order is None:
            return hashed, pa.nulls(0)
        kind = self.plan.info[order].type
        return hashed, one_array(values[order]) if order in sent else pa.nulls(len(chunk.rows), kind)

    def came(self, session: Session) -> Callable[[pa.Table], np.ndarray]:
        """A function that tells for a table of keys which of them came with the batch."""
        if len(self._came) > 1:  # kept: a unit of work may be done again, and asks once more
            self._came = [np.unique(np.concatenate(self._came))]
        every = np.unique(self._came[0]) if self._came else np.empty(0, np.uint64)
        return lambda keys: among(hash_rows(session.fold(self.plan.info, keys), self._seeds[0]), every)

    def chunks(self, most: int) -> Iterator[Chunk]:
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

        for table in self._spool:
            full = rows + table.num_rows > most or size + table.nbytes > _CHUNK_BYTES
            if waiting and (full or table.schema != waiting[0].schema):
                yield from gathered()
                rows = size = 0
            waiting.append(table)
            rows, size = rows + table.num_rows, size + table.nbytes
        yield from gathered()
