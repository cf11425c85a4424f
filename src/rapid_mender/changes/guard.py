"""Changes that are read are held against the seals of their batches, so that nobody goes on with altered ones unaware.

Only the changes that are read are looked at, and those that share a check with them; not what others changed, nor the
batches before and after: `SealCheck` looks at all of it.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import replace
from itertools import pairwise
from typing import Any

import numpy as np
import pyarrow as pa

from ..core.existing import Existing
from ..errors import AlteredError
from ..stores.contract import Condition, Where
from .details import batches_between
from .past import MOST_CHANGES, NUMBER, Past
from .seal import SEALED, Details, Seal, as_checks, details_of_runs, hash_of, hashed, text_of
from .seal_check import by_batch

_NAMED = 5


class Guard:
    """Holds changes against seals in a thread of its own, while they are used; then `check` says what was altered."""

    def __init__(self, past: Past, where: Where, after: int | None = None, wanted: bool = True) -> None:
        """The batches that are looked at are those for which the conditions hold. `after`: all their changes after that
        one will be added; else some of them. Unless it is `wanted`, nothing is looked at."""
        self.past = past
        self._after = after
        self._any = wanted and any_sealed(past, 0)
        runs = {run["batch_no"]: run for run in past.runs([*where, SEALED])} if self._any else {}
        self._seals = {number: Seal.read(run["seal_text"]) for number, run in runs.items()}
        also = self._runs_of([int(number) for seal in self._seals.values() for number in seal.also])
        details = details_of_runs(past, [*runs.values(), *also.values()])
        self._batches = {
            number: _Batch(past, runs[number], seal, also, details) for number, seal in self._seals.items()
        }
        self._chain = self._before(after) | self._seals if after is not None and runs else {}
        self._chain |= self._between(self._chain)
        self._seen = set[int]()
        self._pool = ThreadPoolExecutor(1, "rmend-guard")
        self._adding: list[Future[None]] = []

    def _before(self, position: int) -> dict[int, Seal]:
        """The last seal before a position."""
        last = self.past.runs([[Condition("last_change", "<=", position)], SEALED], limit=1)
        return {run["batch_no"]: Seal.read(run["seal_text"]) for run in last}

    def _between(self, chain: Mapping[int, Seal]) -> dict[int, Seal]:
        """The seals of prunes, which made no changes, between some others."""
        prunes = self._runs_of(chain, [SEALED, [Condition("kind", "=", "prune")]])
        return {number: Seal.read(run["seal_text"]) for number, run in prunes.items()}

    def _runs_of(self, numbers: Iterable[int], also: Where = ()) -> dict[int, dict[str, Any]]:
        if not (numbers := sorted(numbers)):
            return {}
        between = batches_between(numbers[0], numbers[-1])
        return {run["batch_no"]: run for run in self.past.runs([*between, *also])}

    def read(self, where: Where, wanted: Sequence[str]) -> list[Existing]:
        """Read some columns of the changes for which conditions hold, and take these up; a seal is over all columns."""
        columns = None if self._batches else list(dict.fromkeys([*wanted, "batch_no"])) if self._any else wanted
        pages = []
        for page in self.past.changes(where, columns):
            self.add(page)
            pages.append(replace(page, values=page.values.select(wanted)))
        return pages

    def add(self, page: Existing) -> None:
        """Take up some changes, with all their columns, in order."""
        if self._any and len(page.positions):
            self._adding.append(self._pool.submit(self._add, page))

    def _add(self, page: Existing) -> None:
        for number, numbers, texts in by_batch(self.past, page, self._seals):
            if texts is None:
                self._seen.add(number)
            else:
                self._batches[number].add(numbers, texts)

    def check(self, until: int = MOST_CHANGES) -> None:
        """Raise AlteredError if a batch was altered since it was sealed, as far as its changes were added. `until`: if
        all were to be, up to that one."""
        for adding in self._adding:
            adding.result()
        self._pool.shutdown()
        lacking = [batch.lacking() for batch in self._batches.values()]
        numbers = np.sort(np.concatenate([np.empty(0, np.int64), *lacking]))
        if len(numbers):
            self._add(self.past.session.fetch(self.past.kept, pa.table({NUMBER: numbers})))
        broken = {number for number, batch in self._batches.items() if batch.is_broken(self._after, until)}
        broken |= {b for a, b in pairwise(sorted(self._chain)) if self._chain[b].before != self._chain[a].hash}
        broken |= self._seen & self._runs_of(self._seen, [SEALED]).keys()  # their rows do not speak of these changes
        if broken:
            some = ", ".join(map(str, sorted(broken)[:_NAMED])) + (", …" if len(broken) > _NAMED else "")
            several = len(broken) > 1
            raise AlteredError(
                f"{'batches' if several else 'batch'} {some} of {self.past.info.name!r} {'were' if several else 'was'} "
                f"altered since {'they were' if several else 'it was'} sealed; rmend verify shows what was altered, "
                f"and --force (force=True) uses {'them' if several else 'it'} all the same",
                sorted(broken),
            )


class _Batch:
    """A sealed batch, and those of its changes that are read."""

    def __init__(
        self, past: Past, run: Mapping[str, Any], seal: Seal, runs: Mapping[int, Mapping[str, Any]], details: Details
    ) -> None:
        also = [runs.get(int(number)) for number in seal.also]
        digests = seal.digests()
        self._checks, self._every = as_checks(digests), max(seal.every, 1)
        whole = [one for one in also if one is not None]
        self._broken = len(whole) < len(also) or seal.hash != hash_of(past, [*whole, run], details, seal, digests)
        first, last = run["first_change"] or 1, run["last_change"] or 0
        edges = [[first, first - 1], *seal.gaps, [last + 1, last]]
        begins, ends = [end + 1 for _, end in edges[:-1]], [begin - 1 for begin, _ in edges[1:]]
        self._begins, self._ends = np.array(begins, np.int64), np.array(ends, np.int64)
        """The spans of numbers that its changes have."""
        lengths = self._ends - self._begins + 1
        self._places = np.cumsum(lengths) - lengths
        self._count = int(lengths.sum())
        self._broken |= bool((lengths < 0).any()) or len(self._checks) != -(-self._count // self._every)
        self._read = 0
        self._at, self._texts = np.empty(0, np.int64), pa.array([], pa.large_string())
        """Changes whose check is shared by some that were not read yet."""

    def add(self, numbers: np.ndarray, texts: pa.Array) -> None:
        """Look at changes, in order."""
        if self._broken:
            return
        span = np.searchsorted(self._begins, numbers, side="right") - 1
        if (span < 0).any() or (numbers > self._ends[span]).any():
            self._broken = True  # one was added
            return
        self._read += len(numbers)
        at = self._places[span] + numbers - self._begins[span]
        if len(self._at):
            at, texts = np.concatenate([self._at, at]), pa.concat_arrays([self._texts, texts.cast(pa.large_string())])
            if (np.diff(at) < 0).any():
                order = np.argsort(at, kind="stable")
                at, texts = at[order], texts.take(pa.array(order))
        checks, begins = np.unique(at // self._every, return_index=True)
        ends = np.append(begins[1:], len(at))
        whole = ends - begins == np.minimum(self._every, self._count - checks * self._every)
        found = b"".join(one.digest() for one in hashed(*text_of(texts), begins[whole], ends[whole]))
        self._broken |= not np.array_equal(as_checks(found), self._checks[checks[whole]])
        left = np.flatnonzero(np.repeat(~whole, ends - begins))
        self._at, self._texts = at[left], texts.take(pa.array(left)).cast(pa.large_string())

    def lacking(self) -> np.ndarray:
        """The numbers of the changes that are to be read yet."""
        checks = np.unique(self._at // self._every)
        at = (checks[:, None] * self._every + np.arange(self._every)).ravel()
        at = np.setdiff1d(at[at < self._count], self._at)
        self._read -= len(at)  # they are not among those that were to be added
        span = np.searchsorted(self._places, at, side="right") - 1
        return np.asarray(self._begins[span] + at - self._places[span])

    def is_broken(self, after: int | None, until: int) -> bool:
        """Whether something of it was altered. `after`: all changes after that one, up to another, were to be read."""
        if self._broken or len(self._at):
            return True
        if after is None:
            return False
        begins, ends = np.maximum(self._begins, after + 1), np.minimum(self._ends, until)
        return self._read != int(np.maximum(ends - begins + 1, 0).sum())


def guard_after(past: Past, position: int, until: int = MOST_CHANGES, wanted: bool = True) -> Guard:
    """A guard of all changes after a position, up to another."""
    where = [[Condition("last_change", ">", position)], [Condition("first_change", "<=", until)]]
    return Guard(past, where, position, wanted)


def any_sealed(past: Past, after: int) -> bool:
    """Whether a batch with changes after a position is sealed."""
    return bool(past.numbers_of([[Condition("last_change", ">", after)], SEALED], 1))
