"""What no seal of a table covers: it is named, so that nobody takes it for sealed."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from itertools import groupby
from typing import Any

import numpy as np

from .past import changes_made


class Unsealed:
    """The batches and changes of a table that are in none of its seals."""

    def __init__(self, runs: Mapping[int, Mapping[str, Any]], sealed: Collection[int], also: Collection[int]) -> None:
        """`sealed`: the batches that have a seal; `also`: those whose rows are covered by the seal of another."""
        self._runs, self._sealed, self._also = runs, sealed, also
        self._first, self._last = min(sealed, default=0), max(sealed, default=0)
        self._others, self._left = _Numbers(), _Numbers()

    def by_others(self, numbers: np.ndarray) -> None:
        """Take up changes that no batch made, and that no seal covers."""
        self._others.add(numbers)

    def left_over(self, numbers: np.ndarray) -> None:
        """Take up changes from before the beginning of the history."""
        self._left.add(numbers)

    def words(self) -> list[str]:
        """What is in no seal, in words; nothing if the table has no seals."""
        return list(self._words()) if self._sealed else []

    def _words(self) -> Iterator[str]:
        for why, some in groupby(sorted(self._runs), self._why):
            if why:
                numbers = list(some)
                count = sum(changes_made(self._runs[number]) for number in numbers)
                one = len(numbers) == 1
                what = f"batch {numbers[0]}" if one else f"batches {numbers[0]} to {numbers[-1]}"
                yield f"{what} ({_counted(count)}), {why[0] if one else why[1]}"
        if self._others.count:
            yield f"{self._others.words}, which no batch made"
        if self._left.count:
            yield f"{self._left.words}, which a prune has left that was cut; prune again"

    def _why(self, number: int) -> tuple[str, str] | None:
        """Why a batch is in no seal, in words for one and for several; None if it is in one."""
        run = self._runs[number]
        if number in self._sealed or (number in self._also and not changes_made(run)):
            return None
        if run["status"] == "killed":
            return "which was killed", "which were killed"
        if run["status"] == "running":
            return "which was killed, or still runs", "which were killed, or still run"
        if number < self._first:
            return _same("from before the first seal")
        return _same("from after the last seal" if number > self._last else "merged without a seal")


class _Numbers:
    """Some numbers of changes: how many, and from where to where."""

    def __init__(self) -> None:
        self.count, self._first, self._last = 0, 0, 0

    def add(self, numbers: np.ndarray) -> None:
        if len(numbers):
            first, last = int(numbers.min()), int(numbers.max())
            self._first = min(self._first, first) if self.count else first
            self._last = max(self._last, last) if self.count else last
            self.count += len(numbers)

    @property
    def words(self) -> str:
        whole = self.count > self._last - self._first
        return f"{'changes' if whole else f'{_counted(self.count)} among'} {self._first} to {self._last}"


def _same(words: str) -> tuple[str, str]:
    return words, words


def _counted(count: int) -> str:
    return "no changes" if not count else "1 change" if count == 1 else f"{count:,} changes"
