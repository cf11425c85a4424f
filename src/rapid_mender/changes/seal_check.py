"""Checking the seals of a table: whether somebody altered its history or its batches, and what no seal covers."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from functools import partial
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.existing import Existing
from .batch_row import ENDED
from .details import batches_between, details_by_batch, details_of, newest_details
from .others import OthersCheck, by_nobody
from .past import MOST_CHANGES, NUMBER, Past
from .seal import MOST_CHECKS, SEALED, Hashing, Seal, as_checks, check_of, hash_of, joined, texts_of
from .unsealed import Unsealed

Wrong = tuple[int | None, int | None, str]
"""What is wrong: the batch, the change, in words."""
_AT_ONCE = 256  # seals that are read at once


def by_batch(
    past: Past, page: Existing, seals: Mapping[int, Seal]
) -> Iterator[tuple[int, np.ndarray, pa.Array | None]]:
    """The changes of a page by the batches that made them: the batch, the numbers of its changes, and the canonical
    form of these if it is sealed."""
    numbers = page.values[NUMBER].to_numpy()
    batches = page.values["batch_no"]
    mine = np.flatnonzero(batches.is_valid().to_numpy())
    batch = pc.fill_null(batches, 0).to_numpy()[mine]
    order = np.argsort(batch, kind="stable")
    edges = np.append(np.flatnonzero(np.append(True, np.diff(batch[order]) != 0)[: len(order)]), len(order))
    forms: dict[tuple[Any, ...], pa.Array] = {}
    for begin, end in zip(edges[:-1].tolist(), edges[1:].tolist(), strict=True):
        places = mine[order[begin:end]]
        one = int(batch[order[begin]])
        texts = None
        if one in seals:
            columns, form = seals[one].columns, seals[one].form
            if (form, *columns) not in forms:
                forms[form, *columns] = texts_of(past, columns, form, page)
            every = forms[form, *columns]
            texts = every if len(places) == len(numbers) else every.take(pa.array(places))
        yield one, numbers[places], texts


class SealCheck:
    """Checks the seals of a table's batches while its changes stream by.

    Of a batch whose changes were pruned, its row and its details are held against its seal.
    """

    def __init__(self, past: Past) -> None:
        self.past = past
        self._gone = past.begins.change if past.begins is not None else 0
        self.runs = {run["batch_no"]: run for run in past.runs(seals=False)}
        sealed = [number for number in past.numbers_of([SEALED]) if number in self.runs]
        self._details = details_by_batch(details_of(past.session, past.info.name)) if sealed else {}
        self.seals: dict[int, Seal] = {}
        """Those of batches whose changes are there."""
        self._links: dict[int, tuple[str | None, str]] = {}
        """Of each sealed batch the hash of the seal before, and its own."""
        self._also, self._wrong = set[int](), dict[int, list[Wrong]]()
        for at in range(0, len(sealed), _AT_ONCE):
            some = sealed[at : at + _AT_ONCE]
            for run in past.runs([SEALED, *batches_between(some[0], some[-1])]):
                self._take(run["batch_no"], Seal.read(run["seal_text"]))
        self._hashing = {number: Hashing(max(seal.every, 1)) for number, seal in self.seals.items()}
        self._others = {
            number: OthersCheck(seal.others, partial(texts_of, past, seal.columns, seal.form))
            for number, seal in self.seals.items()
            if seal.others is not None
            and min([seal.others.after + 1, *(one[0] for one in seal.others.late)]) > self._gone
        }
        self._by_none = self._until_captured()
        self._strays: list[Wrong] = []
        self.unsealed = Unsealed(self.runs, self._links.keys(), self._also)

    def _until_captured(self) -> int:
        """Up to this change each was made by a batch, as the table was not captured."""
        if any(seal.others is not None for seal in self.seals.values()):
            return 0
        if newest_details(self.past.session, self.past.info.name, "captured"):
            return max((self.runs[number]["last_change"] or 0 for number in self._links), default=0)
        return MOST_CHANGES

    def _take(self, batch: int, seal: Seal) -> None:
        """Take up the seal of a batch."""
        self._links[batch] = seal.before, seal.hash
        self._also |= set(map(int, seal.also))
        if not self._is_pruned(self.runs[batch]):
            self.seals[batch] = seal
        elif not self._agrees(batch, seal, seal.digests()):
            self._wrong[batch] = list(self._rows(seal)) or [(batch, None, "the batch's row was altered")]

    def _is_pruned(self, run: Mapping[str, Any]) -> bool:
        return run["first_change"] is not None and run["first_change"] <= self._gone

    def _agrees(self, batch: int, seal: Seal, digests: bytes) -> bool:
        """Whether a seal is that of its batches' rows, and of changes with some checks."""
        also = [self.runs.get(int(number)) for number in seal.also]
        rows = [*(one for one in also if one is not None), self.runs[batch]]
        return None not in also and hash_of(self.past, rows, self._details, seal, digests) == seal.hash

    def _rows(self, seal: Seal) -> Iterator[Wrong]:
        """What is wrong with the batches that a seal covers beside its own."""
        for name, check in seal.also.items():
            run = self.runs.get(int(name))
            if run is None:
                yield int(name), None, "the batch's row was removed"
            elif check_of(run, self._details, seal.form) != check:
                yield int(name), None, "the batch's row was altered"

    @property
    def last(self) -> str | None:
        """The hash at the end of the chain."""
        return self._links[max(self._links)][1] if self._links else None

    def has(self, expected: str) -> bool:
        """Whether a batch has a hash, and it is the last one or others follow it."""
        return any(hashed == expected for _, hashed in self._links.values())

    @property
    def sealed(self) -> int:
        """How many batches are sealed."""
        return len(self._links)

    def not_sealed(self) -> Iterator[Mapping[str, Any]]:
        """The batches whose changes should be there, and are in no seal."""
        return (run for number, run in self.runs.items() if number not in self._links and not self._is_pruned(run))

    # -- changes ----------------------------------------------------------------------------------------

    def add(self, page: Existing) -> None:
        """Take up the next changes."""
        if not self._links or not len(page.positions):
            return
        numbers = page.values[NUMBER].to_numpy()
        if numbers[0] <= self._gone:
            self._strays += [
                (None, one, "a change was added: none has such a number") for one in numbers[numbers < 1].tolist()
            ]
            self.unsealed.left_over(numbers[(numbers > 0) & (numbers <= self._gone)])
            page = page.take(np.flatnonzero(numbers > self._gone))
        for batch, mine, texts in by_batch(self.past, page, self.seals):
            if batch not in self.runs or batch < 1 or self._is_pruned(self.runs[batch]):
                self._strays += [(batch, one, "a change was added: there is no such batch") for one in mine.tolist()]
            elif texts is not None:
                self._hashing[batch].add(mine, texts)
            else:
                self._add_unsealed(batch, mine)
        if page.values["batch_no"].null_count:
            self._add_others(page)

    def _add_unsealed(self, batch: int, numbers: np.ndarray) -> None:
        """Take up changes of a batch that has no seal: they are between its first and its last."""
        run = self.runs[batch]
        if run["status"] in ENDED:
            first, last = run["first_change"] or 0, run["last_change"] or -1
            outside = numbers[(numbers < first) | (numbers > last)].tolist()
            self._strays += [(batch, one, "a change was added: the batch did not make it") for one in outside]

    def _add_others(self, page: Existing) -> None:
        """Take up changes that no batch made."""
        for check in self._others.values():
            check.add(page)
        numbers = page.values[NUMBER].to_numpy()[by_nobody(page)]
        for check in self._others.values():
            numbers = numbers[~check.others.covers(numbers)]
        added = numbers[numbers <= self._by_none].tolist()
        self._strays += [(None, one, "a change was added: no batch made it") for one in added]
        self.unsealed.by_others(numbers[numbers > self._by_none])

    # -- the end ----------------------------------------------------------------------------------------

    def wrong(self) -> Iterator[Wrong]:
        """What somebody altered."""
        yield from self._strays
        for batch, others in self._others.items():
            yield from ((batch, None, what) for what in others.wrong())
        begins = self.past.begins
        if self._links and begins is not None and begins.noted not in self._links.keys() | self._also:
            yield begins.noted, None, "the batch says that it pruned the history, and no seal covers it"
        for batch in sorted(self._details.keys() - self.runs.keys()):
            yield batch, None, "the batch's row was removed, or its details were added"
        before: str | None = None
        for at, batch in enumerate(sorted(self._links)):
            linked, hashed = self._links[batch]
            if linked != before:
                lost = "the seal does not follow that of the batch before"
                yield batch, None, lost if at else "the sealed batches before it were removed"
            before = hashed
            yield from self._wrong.get(batch, ())
            if batch in self.seals:
                yield from self._of_seal(batch, self.seals[batch])

    def _of_seal(self, batch: int, seal: Seal) -> Iterator[Wrong]:
        hashing = self._hashing[batch]
        if self._agrees(batch, seal, hashing.digests()):
            return
        places = list(self._rows(seal))
        places += ((batch, number, what) for number, what in self._places(seal, self.runs[batch], hashing))
        yield from places
        if not places:
            yield batch, None, "the batch's row was altered, or changes that can no longer be told apart"

    def _places(self, seal: Seal, run: Mapping[str, Any], hashing: Hashing) -> Iterator[tuple[int, str]]:
        first, last = run["first_change"] or 1, run["last_change"] or 0
        numbers = joined(hashing.numbers)
        free = sum(end - begin + 1 for begin, end in seal.gaps)
        if not 0 <= last - first + 1 - free <= 2 * len(numbers) + MOST_CHECKS or free > 1 << 30:
            return  # the batch's row, or the seal, is of something else
        missing = np.zeros(last - first + 1, bool)
        for begin, end in seal.gaps:
            missing[max(begin - first, 0) : max(end - first + 1, 0)] = True
        sealed = np.flatnonzero(~missing) + first
        for number in np.setdiff1d(sealed, numbers).tolist():
            yield number, "a change was removed"
        for number in np.setdiff1d(numbers, sealed).tolist():
            yield number, "a change was added"
        was, now = as_checks(seal.digests()), as_checks(hashing.digests())
        if seal.every == 1 and len(was) == len(sealed) and not np.array_equal(numbers, sealed):
            _, mine, theirs = np.intersect1d(numbers, sealed, return_indices=True)
        elif len(was) == len(now) and np.array_equal(numbers, sealed):
            mine = theirs = np.arange(len(was))
        else:
            return
        for at in mine[(now[mine] != was[theirs]).any(1)].tolist():
            begin, end = at * seal.every, min((at + 1) * seal.every, len(numbers)) - 1
            span = f"changes {numbers[begin]} to {numbers[end]}: one of them was altered"
            yield int(numbers[begin]), "the change was altered" if begin == end else span
