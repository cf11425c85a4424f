"""The first pass over a batch, from end to end: which keys come more than once can only be known after it."""

from __future__ import annotations

import secrets
from collections.abc import Iterable

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.hashing import hash_rows
from ..core.keys import one_array
from ..core.records import REJECT_TEXT
from ..core.repeats import STANDS, RepeatFinder, among, resolve_repeats
from ..core.versions import ALWAYS, instants
from ..incoming import Chunk, Source, Spool
from ..incoming.rejected import restored
from ..jobs.layouts import Shape, shape_of
from ..stores.contract import Session
from .batch import NUMBERS, Batch, Progress, Repeats, chunks_of
from .read import Reader

_PART = 1 << 18


def read_all(session: Session, reader: Reader, source: Source, spool: Spool, progress: Progress) -> Batch:
    """Read a source to its end into `spool`, and find what becomes of keys that repeat."""
    plan, names = reader.plan, reader.names
    finder, came, keyless, shape = RepeatFinder(), list[np.ndarray](), 0, Shape()
    seed = secrets.randbits(64)
    chunks: Iterable[Chunk] = restored(source)
    single = False
    if source.few:
        chunks = list(chunks)
        single = plan.job.missing != "delete" and sum(len(chunk.rows) for chunk in chunks) == 1  # nothing repeats
    for chunk in chunks:
        shape = shape_of(chunk.raw.schema)
        for name, kind in shape:
            if name != REJECT_TEXT:
                names.setdefault(name, kind)
        reader.lookups.prepare(session, chunk)
        for start in range(0, 0 if single else len(chunk.rows), _PART):
            keys, usable = reader.keys(session, chunk.slice(start, _PART))
            hashes = hash_rows(session.fold(plan.info, keys), seed)[usable]
            finder.add(hashes)
            if plan.job.missing == "delete":
                came.append(hashes)
                keyless += int((~usable).sum())
        spool.put(chunk.raw.append_column(NUMBERS, pa.array(chunk.rows)), free=source.in_memory)
        progress("reading", source.done, source.size)
    if names and source.schema is None:
        reader.layouts.check_batch(list(names), shape)
    repeated = finder.repeated()
    repeats = _resolve(session, reader, spool, repeated, seed) if len(repeated) else Repeats()
    every = np.unique(np.concatenate(came)) if came else np.empty(0, np.uint64)
    return Batch(spool, repeats, keyless + len(source.broken), every, seed)


def _resolve(session: Session, reader: Reader, spool: Spool, repeated: np.ndarray, seed: int) -> Repeats:
    """What becomes of the records whose keys have one of the `repeated` hashes, made with `seed`."""
    plan, second_seed, record_seed = reader.plan, secrets.randbits(64), secrets.randbits(64)
    parts: list[tuple[np.ndarray, ...]] = []
    ages: list[pa.Array] = []
    for chunk in chunks_of(spool, _PART):
        keys, usable = reader.keys(session, chunk)
        folded = session.fold(plan.info, keys)
        first = hash_rows(folded, seed)
        hit = np.flatnonzero(usable & among(first, repeated))
        if len(hit):
            some = Chunk(chunk.raw.take(pa.array(hit)), chunk.rows[hit])
            second = hash_rows(folded, second_seed)[hit]
            record, age, *version = _record_hashes(session, reader, some, record_seed)
            parts.append((some.rows, first[hit], second, record, *version))
            ages.append(age)
    rows, key_a, key_b, record, date, says, sent = (np.concatenate(arrays) for arrays in zip(*parts, strict=True))
    age = None
    if plan.order is not None:
        every = pa.concat_arrays(ages)
        age = np.zeros(len(every), np.int64)  # what has no date is older than all
        dated = every.is_valid().to_numpy(zero_copy_only=False)
        age[dated] = pc.rank(every.drop_null(), tiebreaker="dense").to_numpy().astype(np.int64)
    by_row = np.argsort(rows)
    if plan.spans is None:
        fates, measures = resolve_repeats(rows, key_a, key_b, record, plan.job.duplicates, age)
        return Repeats(rows[by_row], fates[by_row], measures[by_row])
    # of one key several records may stand, if each has a date of its own
    key_c, key_d = (hash_rows([pa.array(one), pa.array(date)], second_seed) for one in (key_a, key_b))
    fates, measures = resolve_repeats(rows, key_c, key_d, record, plan.job.duplicates, None)
    says = says[:, :0] if plan.spans.options.join else says  # where joined ones begin cannot be told any more
    turns, moot = _turns(key_a, key_b, date, fates, says, sent)
    return Repeats(rows[by_row], fates[by_row], measures[by_row], turns[by_row], moot[by_row])


def _turns(
    key_a: np.ndarray, key_b: np.ndarray, date: np.ndarray, fates: np.ndarray, says: np.ndarray, sent: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """How many of the records that stand for a key and a date come before each of its key, by their dates; and a mask
    of those after which the next one opens no version, and says all that they say of what is not versioned."""
    turns, moot = np.zeros(len(date), np.int64), np.zeros(len(date), bool)
    stands = np.flatnonzero(fates == STANDS)
    order = stands[np.lexsort((date[stands], key_b[stands], key_a[stands]))]
    if not len(order):
        return turns, moot
    begins = np.append(True, (np.diff(key_a[order]) != 0) | (np.diff(key_b[order]) != 0))
    place = np.arange(len(order))
    first = np.maximum.accumulate(np.where(begins, place, 0))
    turns[order] = place - first
    says, sent, goes_on = says[order], sent[order], ~begins[1:]
    for one in says.T:  # what is not sent is as the record before has it
        told = np.maximum.accumulate(np.where((one != 0) | begins, place, 0))
        now = one[told]
        goes_on = goes_on & ((now[1:] == now[:-1]) | (one[1:] == 0))
    moot[order[:-1]] = goes_on & np.all(~sent[:-1] | sent[1:], axis=1)
    return turns, moot


def _record_hashes(
    session: Session, reader: Reader, chunk: Chunk, seed: int
) -> tuple[np.ndarray, pa.Array, np.ndarray, np.ndarray, np.ndarray]:
    """A hash of all that each record says, faults too (a column that was not sent has its own); its age; its date, as
    an instant, 0 where a plan has no versions; for each versioned column, and for what goes nowhere, a hash of what it
    says, 0 if it does not; and a mask of the others that it sends."""
    plan, records = reader.plan, reader.read(chunk)
    values, _ = session.normalise(plan.info, records.values)
    sent = [name for name in plan.info.names if name in values.column_names]
    others = sorted(records.extras)
    which = pa.repeat("\x00".join([*sent, *sorted({*others} & {*chunk.raw.column_names})]), len(chunk.rows))
    said = [*(one_array(values[name]) for name in sent), *(records.extras[name] for name in others)]
    hashed = hash_rows([which, records.faults, *said], seed)
    versioned = plan.spans.versioned if plan.spans is not None else ()
    count = len(chunk.rows)
    none = np.zeros(count, np.uint64)
    date = np.zeros(count, np.int64)
    if plan.spans is not None:
        date = instants(records.values[plan.spans.begin], ALWAYS)
    each = [hash_rows([one_array(values[name])], seed) | np.uint64(1) if name in sent else none for name in versioned]
    dated = plan.spans.options.effective if plan.spans is not None else None
    beside = [records.extras[name] for name in others if name != dated]  # rules may decide by it
    if each:
        each.append(hash_rows(beside, seed) | np.uint64(1) if beside else none)
    says = np.stack(each, axis=1) if each else np.empty((count, 0), np.uint64)
    has = np.array([name in sent for name in plan.info.names if name not in versioned], bool)
    sends = np.broadcast_to(has, (count, len(has))) if versioned else np.empty((count, 0), bool)
    if plan.order is None:
        return hashed, pa.nulls(0), date, says, sends
    kind = plan.info[plan.order].type
    age = one_array(values[plan.order]) if plan.order in sent else pa.nulls(count, kind)
    return hashed, age, date, says, sends
