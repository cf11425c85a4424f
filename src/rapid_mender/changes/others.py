"""Changes that no batch made, in the seals of the batches that come after them.

A program may commit a change with a lower number after a batch was sealed. So a seal says which numbers were missing,
and the next ones take up what has come since.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa

from ..core.existing import Existing
from .details import newest_details
from .past import NUMBER, Past

Texts = Callable[[Existing], pa.Array]
"""The canonical form of changes."""
_SEALS = 16
"""For so many seals a missing number may still come."""
_NUMBERS = 1 << 20
"""As many missing numbers may still come."""
_AT_ONCE = 1 << 16
_Spans = list[list[int]]


@dataclass(frozen=True)
class Others:
    """What a seal covers of the changes that no batch made: those after one number until another, but not those of the
    `open` spans, which were missing; and those of the `late` spans, which an earlier seal missed."""

    after: int
    until: int
    hash: str
    count: int
    open: _Spans
    """The first and last number of each, and how many seals ago it was missed first."""
    late: _Spans

    @classmethod
    def read(cls, kept: Mapping[str, Any]) -> Others:
        """As it is kept. Raises TypeError or ValueError if somebody altered it to something else."""
        others = cls(**kept)
        numbers = [
            others.after,
            others.until,
            others.count,
            *(one for span in others.open + others.late for one in span),
        ]
        if not all(type(one) is int and 0 <= one < 1 << 62 for one in numbers) or not isinstance(others.hash, str):
            raise ValueError("not the form of a seal")
        if any(len(span) != 3 for span in others.open) or any(len(span) != 2 for span in others.late):
            raise ValueError("not the form of a seal")
        return others

    def covers(self, numbers: np.ndarray) -> np.ndarray:
        """A mask of the numbers that are covered."""
        here = (numbers > self.after) & (numbers <= self.until) & ~_within(numbers, self.open)
        return here | _within(numbers, self.late)


def others_of(past: Past, before: Others | None, texts: Texts) -> Others | None:
    """What the next seal covers of them; None if the table was never captured. `before`: what the last one did."""
    if before is None and not newest_details(past.session, past.info.name, "captured"):
        return None
    begins = past.begins
    after = before.until if before is not None else begins.change if begins is not None else 0
    until = past.session.last(past.kept.name, NUMBER)
    there, loose = [np.array([after], np.int64)], list[np.ndarray]()
    for page in past.changes(past.between(after, until), [NUMBER, "batch_no"]):
        numbers = page.values[NUMBER].to_numpy()
        there.append(numbers)
        loose.append(numbers[by_nobody(page)])
    missing = [[*span, 0] for span in gaps(np.append(np.concatenate(there), until + 1))]
    waiting = [[first, last, ago + 1] for first, last, ago in before.open if ago < _SEALS] if before is not None else []
    came = _come(past, waiting)
    late = came.values[NUMBER].to_numpy()[by_nobody(came)] if came is not None else np.empty(0, np.int64)
    if came is not None:
        waiting = _without(waiting, came.values[NUMBER].to_numpy())
    digest, count = hashlib.sha256(), 0
    covered = np.concatenate([np.sort(late), *loose])
    for start in range(0, len(covered), _AT_ONCE):
        some = pa.table({NUMBER: pa.array(covered[start : start + _AT_ONCE])})
        rows = past.session.fetch(past.kept, some)
        count += _hashed(digest, texts(rows))
    return Others(after, max(until, after), digest.hexdigest(), count, _newest([*waiting, *missing]), _spans(late))


class OthersCheck:
    """Checks what a seal covers while changes stream by."""

    def __init__(self, others: Others, texts: Texts) -> None:
        self.others, self._texts = others, texts
        self._digest, self._count = hashlib.sha256(), 0

    def add(self, page: Existing) -> None:
        """Take up the next changes."""
        mine = np.flatnonzero(by_nobody(page) & self.others.covers(page.values[NUMBER].to_numpy()))
        if len(mine):
            self._count += _hashed(self._digest, self._texts(page.take(mine)))

    def wrong(self) -> Iterator[str]:
        others = self.others
        if (self._count, self._digest.hexdigest()) == (others.count, others.hash):
            return
        what = "altered" if self._count == others.count else "added" if self._count > others.count else "removed"
        yield f"of the changes that others made, {others.after + 1} to {others.until}, some were {what}"


def by_nobody(page: Existing) -> np.ndarray:
    """A mask of the changes that no batch made."""
    return np.asarray(page.values["batch_no"].is_null().to_numpy(), bool)


def _hashed(digest: Any, texts: pa.Array) -> int:
    data = pa.concat_arrays([texts.cast(pa.large_binary())])
    digest.update(b"".join(data.to_pylist()))
    return len(data)


def _come(past: Past, waiting: _Spans) -> Existing | None:
    """The changes whose numbers were missing, and are there now."""
    if not waiting:
        return None
    sought = np.concatenate([np.arange(first, last + 1) for first, last, _ in waiting])
    return past.session.fetch(past.kept, pa.table({NUMBER: pa.array(sought)}))


def _without(spans: _Spans, numbers: np.ndarray) -> _Spans:
    """What is left of spans without some numbers."""
    left = []
    for first, last, ago in spans:
        inside = numbers[(numbers >= first) & (numbers <= last)]
        edges = np.concatenate([[first - 1], np.sort(inside), [last + 1]])
        left += [[*span, ago] for span in gaps(edges)]
    return left


def gaps(numbers: np.ndarray) -> _Spans:
    """The spans between numbers."""
    wide = np.flatnonzero(np.diff(numbers) > 1)
    return [[int(numbers[at]) + 1, int(numbers[at + 1]) - 1] for at in wide]


def _spans(numbers: np.ndarray) -> _Spans:
    """Numbers as spans."""
    if not len(numbers):
        return []
    numbers = np.sort(numbers)
    ends = np.append(np.flatnonzero(np.diff(numbers) > 1), len(numbers) - 1)
    starts = np.append(0, ends[:-1] + 1)
    return [[int(numbers[a]), int(numbers[b])] for a, b in zip(starts, ends, strict=True)]


def _newest(spans: _Spans) -> _Spans:
    """The newest spans, as many as are kept."""
    spans = sorted(spans)
    room, kept = _NUMBERS, list[list[int]]()
    for first, last, ago in reversed(spans):
        if last - first + 1 > room:
            break
        kept.append([first, last, ago])
        room -= last - first + 1
    return kept[::-1]


def _within(numbers: np.ndarray, spans: Sequence[Sequence[int]]) -> np.ndarray:
    """A mask of the numbers that are in one of some spans, which are in order."""
    if not spans:
        return np.zeros(len(numbers), bool)
    first = np.array([span[0] for span in spans])
    last = np.array([span[1] for span in spans])
    at = np.searchsorted(first, numbers, side="right") - 1
    return (at >= 0) & (numbers <= last[np.maximum(at, 0)])
