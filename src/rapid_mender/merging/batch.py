"""The records of a batch that was read once, to be taken through in chunks, as often as it needs."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

import numpy as np
import pyarrow as pa

from ..core.hashing import hash_rows
from ..core.keys import null_keys
from ..core.repeats import STANDS, among
from ..core.schema import TableInfo
from ..incoming import Chunk, Spool
from ..stores.contract import Session
from .read import Reader

Progress = Callable[[str, int, int | None], None]
"""Called with what is being done ("reading", "merging"), how much of it is done, and how much there is."""

NUMBERS = "\x00row"
"""The column of a spooled table that holds the records' numbers."""
_CHUNK_BYTES = 64 << 20


@dataclass
class Repeats:
    """What becomes of the records whose keys come more than once, by row number."""

    rows: np.ndarray = field(default_factory=lambda: np.empty(0, np.int64))
    fates: np.ndarray = field(default_factory=lambda: np.empty(0, np.int8))
    measures: np.ndarray = field(default_factory=lambda: np.empty(0, np.int64))
    turns: np.ndarray = field(default_factory=lambda: np.empty(0, np.int64))
    """How many records of its key stand before a record, by their dates; empty if all stand alone."""
    moot: np.ndarray = field(default_factory=lambda: np.empty(0, bool))
    """Whether the next record of its key says the same of what is versioned: then that one counts for the rest."""

    def turns_of(self, rows: np.ndarray) -> np.ndarray:
        """How many records of its key stand before each of `rows`."""
        return self._known(self.turns, rows)

    def moot_of(self, rows: np.ndarray) -> np.ndarray:
        """A mask of the `rows` after which the next of their key says the same of what is versioned."""
        return self._known(self.moot, rows)

    def _known(self, what: np.ndarray, rows: np.ndarray) -> np.ndarray:
        known = np.zeros(len(rows), what.dtype)
        if len(what):
            at = np.minimum(np.searchsorted(self.rows, rows), len(self.rows) - 1)
            hit = self.rows[at] == rows
            known[hit] = what[at[hit]]
        return known

    def of(self, rows: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """The fate of each of `rows`, and the row against which it was measured."""
        fate, measure = np.full(len(rows), STANDS, np.int8), rows
        if len(self.rows):
            at = np.minimum(np.searchsorted(self.rows, rows), len(self.rows) - 1)
            hit = self.rows[at] == rows
            fate[hit] = self.fates[at[hit]]
            measure = np.where(hit, self.measures[at], rows)
        return fate, measure


def chunks_of(spool: Spool, most: int) -> Iterator[Chunk]:
    """Records that are spooled, in order: as few chunks as `most` records and the memory allow."""
    waiting: list[pa.Table] = []
    rows = size = 0

    def gathered() -> Iterator[Chunk]:
        if waiting:
            table = pa.concat_tables(waiting)
            waiting.clear()
            numbers = table[NUMBERS].to_numpy()
            raw = table.drop_columns([NUMBERS])
            for start in range(0, len(numbers), most):
                yield Chunk(raw.slice(start, most), numbers[start : start + most])

    for table in spool:
        full = rows + table.num_rows > most or size + table.nbytes > _CHUNK_BYTES
        if waiting and (full or table.schema != waiting[0].schema):
            yield from gathered()
            rows = size = 0
        waiting.append(table)
        rows, size = rows + table.num_rows, size + table.nbytes
    yield from gathered()


@dataclass(frozen=True)
class Batch:
    """The records, as the first pass over them left them."""

    spool: Spool
    repeats: Repeats
    keyless: int
    """How many records have no key that can be read."""
    came: np.ndarray
    """The hashes of the keys that came, sorted; empty if nobody asks for them."""
    seed: int
    """That of these hashes."""

    @property
    def rows(self) -> int:
        """How many records there are."""
        return self.spool.rows

    def has(self, session: Session, info: TableInfo, keys: pa.Table) -> np.ndarray:
        """A mask of the `keys` that came with the batch."""
        return among(hash_rows(session.fold(info, keys), self.seed), self.came)

    def chunks(self, most: int) -> Iterator[Chunk]:
        """The records, in order, `most` at once."""
        return chunks_of(self.spool, most)

    def keyless_last(self, reader: Reader, most: int) -> Iterator[Chunk]:
        """The records, those without a key last, so that no key that is made for one is a key that is still to come."""
        for keyed in (True, False):
            for chunk in self.chunks(most):
                mask = null_keys(reader.read(chunk, reader.plan.key).values.select(reader.plan.key)) != keyed
                if mask.any():
                    yield Chunk(chunk.raw.filter(pa.array(mask)), chunk.rows[mask])

    def in_turn(self, most: int) -> Iterator[Chunk]:
        """The records, of each key the oldest first, no key twice in a chunk; those of keys that come more than once
        are in chunks of their own."""
        waiting, turn = self.spool, 0
        while True:
            left = Spool()
            for chunk in chunks_of(waiting, most):
                turns, shared = self.repeats.turns_of(chunk.rows), among(chunk.rows, self.repeats.rows)
                then = turns > turn
                if then.any():
                    numbered = chunk.raw.append_column(NUMBERS, pa.array(chunk.rows))
                    left.put(numbered.filter(pa.array(then)))
                for again in (False, True):
                    if (now := (turns == turn) & (shared == again)).any():
                        yield Chunk(chunk.raw.filter(pa.array(now)), chunk.rows[now], again)
            if waiting is not self.spool:
                waiting.close()
            if not left.rows:
                return
            waiting, turn = left, turn + 1

    def parts(self, reader: Reader, at_once: int, done: int) -> Iterator[tuple[Chunk, bool]]:
        """Chunks of at most `at_once` records, each with whether a transaction ends with it; not what is `done`."""
        most = reader.plan.job.commit_every
        size = at_once if most is None else min(at_once, most)
        chunks = self.chunks(size) if reader.plan.job.null_key == "reject" else self.keyless_last(reader, size)
        chunks = self.in_turn(size) if self.repeats.turns.any() else chunks
        filled = 0
        for chunk in chunks:
            start = min(done, len(chunk.rows))
            done -= start
            while start < len(chunk.rows):
                part = chunk if most is None else chunk.slice(start, most - filled)
                start += len(part.rows)
                if most is None:
                    yield part, False
                    continue
                filled += len(part.rows)
                yield part, filled == most
                filled %= most
