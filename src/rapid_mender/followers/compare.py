"""Comparing a table with the one that follows it, when nobody trusts the history.

The rows of both are hashed into blocks, by their keys. Where the hashes of a block agree, so do the rows; the others
are read again, and what is in them goes to the engine, which decides what differs as a merge would.
"""

from __future__ import annotations

import secrets
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.hashing import hash_rows
from ..core.keys import one_array
from ..core.repeats import among
from ..core.schema import TableInfo
from ..incoming import Spool
from ..incoming.ahead import ahead
from ..merging.result import Result
from ..stores.contract import Session
from .receiving import Receiving
from .tail import View

_BLOCKS = 1 << 16
_MOST = 10_000
_WORDS = {"insert": "missing", "update": "different", "delete": "extra", "reject": "refused"}
_Hashed = tuple[np.ndarray, np.ndarray, np.ndarray, pa.Table]
"""Hashes of the keys of rows, the blocks that these fall into, hashes of the rows, and the rows."""


@dataclass
class Compared:
    """What came of comparing a table with the one that follows it.

    `rows` of the source are sent, and `to_rows` are in the target. So many are `missing` in the target, `extra`, or
    `different`; `refused` are those which the target could not take. `differences` has a line for each, 10,000 at most:
    what, the columns that differ, the reason, the key. `behind` is how many changes the target has still to follow.
    """

    table: str
    to_table: str
    follower: str = ""
    to_store: str = ""
    rows: int = 0
    to_rows: int = 0
    behind: int = 0
    missing: int = 0
    extra: int = 0
    different: int = 0
    refused: int = 0
    mended: bool = False
    seconds: float = 0.0
    differences: pa.Table = field(default_factory=lambda: pa.table({}))

    @property
    def alike(self) -> bool:
        """Whether nothing differs."""
        return not (self.missing or self.extra or self.different or self.refused)

    def add(self, result: Result) -> None:
        """Count what a merge did, or would do, about rows that differ."""
        for decision, word in _WORDS.items():
            setattr(self, word, getattr(self, word) + result.counts[decision])
        lines = result.decisions
        lines = lines.filter(pc.is_in(lines["decision"], pa.array(list(_WORDS)))).drop_columns(["row"])
        room = max(_MOST - self.differences.num_rows, 0)
        words = pa.array([_WORDS[one] for one in lines["decision"].slice(0, room).to_pylist()], pa.string())
        lines = lines.slice(0, room).set_column(0, "what", words)
        self.differences = lines if not self.differences.num_columns else pa.concat_tables([self.differences, lines])


def find_differences(view: View, receiving: Receiving, puts: Spool, extra: Spool) -> Compared:
    """Put what may differ where it is asked for: the rows of the source, and those that only the target has."""
    session, target, send, key = receiving.session, receiving.info, receiving.send, receiving.key
    compared = Compared(view.info.name, target.name)
    seed = secrets.randbits(64)
    sent = {name: to for name, to in receiving.columns.items() if to in key or not target[to].generated}
    own = list(dict.fromkeys([*receiving.sources, *sent.values()]))

    def ours() -> Iterator[_Hashed]:
        for page in view.session.scan(view.info, send.needed, key=send.key):
            records = send.of_rows(page)
            yield *_hashes(session, target, receiving.stored(records.select([*sent])), key, own, seed), records

    def theirs() -> Iterator[_Hashed]:
        for page in session.scan(target, own, key=key):
            yield *_hashes(session, target, page.values, key, own, seed), page.values

    def passed() -> np.ndarray:
        """Hashes of the keys of rows that are not sent as they are now: one that was sent before may stay."""
        found = [np.empty(0, np.uint64)]
        for page in view.session.scan(view.info, send.needed, key=send.key) if send.when is not None else ():
            wanted = np.zeros(len(page.positions), bool)
            wanted[send.wanted_rows(page)] = True
            rows = send.cells(page.take(np.flatnonzero(~wanted)))
            found.append(hash_rows(receiving.folded(rows), seed))
        return np.concatenate(found)

    mine, compared.rows = _sums(ahead(ours()))
    other, compared.to_rows = _sums(theirs())
    odd = mine != other
    # what is derived is known when it is merged, and which rows are marked as deleted
    odd |= bool(send.sync.derive) or send.sync.delete == "mark"
    if odd.any():
        here = [np.empty(0, np.uint64)]
        for keys, blocks, _, records in ours():
            mask = odd[blocks]
            here.append(keys[mask])
            if mask.any():
                puts.put(records.filter(pa.array(mask)))
        known = np.unique(np.concatenate([*here, passed()]))
        for keys, blocks, _, page in theirs():
            mask = odd[blocks]
            mask[mask] = ~among(keys[mask], known)
            if mask.any():
                some = page.select(key).filter(pa.array(mask))
                gone: dict[str, Any] = {receiving.sources[name]: some[name] for name in key}
                extra.put(pa.table(gone | {send.flags.gone: pa.repeat(True, some.num_rows)}))
    return compared


def _sums(pages: Iterator[_Hashed]) -> tuple[np.ndarray, int]:
    """The sum of the hashes of the rows in each block, and how many rows there are."""
    sums, count = np.zeros(_BLOCKS, np.uint64), 0
    for keys, blocks, hashes, _ in pages:
        np.add.at(sums, blocks, hashes)
        count += len(keys)
    return sums, count


def _hashes(
    session: Session, target: TableInfo, rows: pa.Table, key: Sequence[str], columns: Sequence[str], seed: int
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """For each row a hash of its key, as the target holds keys equal, the block of that, and a hash of all that is
    compared."""
    keys = hash_rows(session.fold(target, rows.select(list(key))), seed)
    blocks = (keys % np.uint64(_BLOCKS)).astype(np.int64)
    return keys, blocks, hash_rows([one_array(rows[name]) for name in columns], seed ^ 0x5DEECE66D)
