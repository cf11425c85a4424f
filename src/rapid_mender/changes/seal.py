"""Seals: a hash over each batch and its changes, chained to the batch before, so that nobody changes the past unseen.

The canonical form is written down in docs/history.md, so that somebody else can check it.
"""

from __future__ import annotations

import base64
import hashlib
import json
import zlib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass, field, replace
from functools import partial
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.canonical import canonical_rows, netstrings
from ..core.existing import Existing
from ..core.expressions.types import family
from ..core.json_text import read_json
from ..core.names import fitted
from ..core.own_tables import FIXED
from ..stores.contract import Condition
from .detail import Detail
from .details import STANDING, batches_between, details_by_batch, details_of
from .earlier import details_in
from .others import Others, OthersCheck, gaps, others_of
from .past import NUMBER, Past

_OF_THE_RUN = (
    "batch_no", "table_name", "job", "actor", "application", "started_at", "finished_at", "inserted", "updated",
    "deleted", "skipped", "rejected", "first_change", "last_change", "status", "unrecorded", "figures", "undoes",
)  # fmt: skip
_FORM = 3
_MOST_CHECKS = 8192
SEALED = [Condition("seal", "is not null")]
"""Holds for batches that are sealed."""
CHECK = 16
"""The bytes of a check."""


@dataclass(frozen=True)
class Seal:
    """What is kept of the seal of a batch."""

    hash: str
    before: str | None = None
    """The hash of the seal before."""
    columns: list[str] = field(default_factory=list)
    """The pairs of columns that are hashed: the names that stand in theirs."""
    also: dict[str, str] = field(default_factory=dict)
    """The batches since the seal before that have none of their own, and the CRC-32 of the row of each."""
    gaps: list[list[int]] = field(default_factory=list)
    """The spans of numbers that no change of the batch has."""
    checks: str | None = None
    """The BLAKE2b (RFC 7693) of each `every` changes, in Base64: they tell of some changes alone whether they were
    altered. The hash is over them."""
    every: int = 1
    others: Others | None = None
    """What is covered of the changes that no batch made; None if the table was never captured."""
    form: int = 2
    """How what is hashed is written; up to form 2 the details of batches were among their figures."""

    @classmethod
    def read(cls, text: str) -> Seal:
        """A seal as it is kept; one without a hash if somebody altered it to something else."""
        try:
            told = read_json(text, dict[str, Any]())
            others = told.get("others")
            seal = cls(**told | {"others": None if others is None else Others.read(others)})
            texts = [seal.hash, *seal.columns, *seal.also.values()]
            edges = [edge for begin, end in seal.gaps for edge in (begin, end)]
            numbers = [*map(int, seal.also), *edges, seal.every, seal.form]
            whole = all(type(one) is int and 0 < one < 1 << 62 for one in numbers)
            if not whole or not all(isinstance(one, str) for one in texts):
                return cls("")
            if len(seal.digests()) % CHECK:
                return cls("")
        except (TypeError, ValueError, AttributeError):
            return cls("")
        return seal

    def digests(self) -> bytes:
        """The checks, one after the other."""
        return base64.b64decode(self.checks or "", validate=True)


class _Hashing:
    """The changes of one batch on their way into its seal."""

    def __init__(self, every: int) -> None:
        """`every` so many changes have a check together."""
        self.every = every
        self.numbers: list[np.ndarray] = []
        self._checks: list[Any] = []
        self._count = 0

    def add(self, numbers: np.ndarray, texts: pa.Array) -> None:
        starts = np.arange(-self._count % self.every, len(numbers), self.every)
        text, offsets = text_of(texts)
        if self._count % self.every:  # the page begins amid several that have a check together
            self._checks[-1].update(text[offsets[0] : offsets[starts[0] if len(starts) else -1]])
        self._checks += hashed(text, offsets, starts, np.append(starts[1:], len(numbers)))
        self.numbers.append(numbers)
        self._count += len(numbers)

    def digests(self) -> bytes:
        """The checks, one after the other."""
        return b"".join(one.digest() for one in self._checks)


def text_of(texts: pa.Array) -> tuple[memoryview, np.ndarray]:
    """The bytes of texts, and where each begins and the last one ends."""
    data = pa.concat_arrays([texts.cast(pa.large_binary())])
    offsets = np.frombuffer(data.buffers()[1], np.int64)[data.offset : data.offset + len(data) + 1]
    return memoryview(data.buffers()[2] or b""), offsets


def hashed(text: memoryview, offsets: np.ndarray, starts: np.ndarray, ends: np.ndarray) -> list[Any]:
    """What makes the check of each of some spans of texts."""
    if not len(starts):
        return []
    spans = zip(offsets[starts].tolist(), offsets[ends].tolist(), strict=True)
    return [hashlib.blake2b(text[begin:end], digest_size=CHECK) for begin, end in spans]


def as_checks(digests: bytes) -> np.ndarray:
    """Checks as two 64-bit words each."""
    return np.frombuffer(digests, np.uint64).reshape(-1, CHECK // 8)


def seal_of(past: Past, run: Mapping[str, Any]) -> str:
    """The seal of a batch, as it is to be kept."""
    columns = [past.identity.pair(name) for name in past.columns]
    number = [Condition("batch_no", "<", run["batch_no"])]
    last = past.runs([number, SEALED], limit=1)
    since = past.runs([number, [Condition("batch_no", ">", last[0]["batch_no"] if last else 0)]])
    ended = [one for one in since if one["finished_at"] is not None] if last else []
    details = details_of_runs(past, [*ended, run])
    prior = Seal.read(last[0]["seal_text"]) if last else None
    before = prior.hash if prior is not None else None
    hashing = _Hashing(max(1, -(-_changes_of(run) // _MOST_CHECKS)))
    if run["first_change"] is not None:
        for page in past.changes(past.of_run(run)):
            hashing.add(page.values[NUMBER].to_numpy(), texts_of(past, columns, page))
    digests = hashing.digests()
    seal = Seal(
        "", before, columns, {str(one["batch_no"]): _check(one, details, _FORM) for one in ended},
        _gaps(_joined(hashing.numbers), run), base64.b64encode(digests).decode() or None, hashing.every,
        others_of(past, prior.others if prior is not None else None, partial(texts_of, past, columns)), _FORM,
    )  # fmt: skip
    kept = asdict(replace(seal, hash=hash_of(past, [*ended, run], details, seal, digests)))
    return json.dumps({name: value for name, value in kept.items() if name != "others" or value is not None})


def is_sealed(text: str | None) -> bool:
    """Whether a batch's seal says that it has one."""
    return bool(Seal.read(text or "").hash)


def _changes_of(run: Mapping[str, Any]) -> int:
    return sum(run[name] or 0 for name in ("inserted", "updated", "deleted"))


Details = Mapping[int, Sequence[Detail]]
"""The details of batches."""


def details_of_runs(past: Past, runs: Iterable[Mapping[str, Any]]) -> Details:
    """The details of some batches of a table."""
    numbers = sorted(run["batch_no"] for run in runs)
    if not numbers:
        return {}
    where = batches_between(numbers[0], numbers[-1])
    return details_by_batch(details_of(past.session, past.info.name, where=where))


def _row_of(run: Mapping[str, Any], details: Details, form: int) -> bytes:
    values = {**run, "figures": run["figures_text"], "undoes": run["undoes_text"]}
    mine = details.get(run["batch_no"], ())
    if form >= _FORM:
        said = sorted(netstrings(map(_plain, one.said)) for one in mine)
        row = netstrings(_plain(values[name]) for name in (*_OF_THE_RUN, "kind"))
        return row + netstrings([len(said)]) + b"".join(said)
    row = netstrings(_plain(values[name]) for name in _OF_THE_RUN)
    if run["kind"] is None:
        return row
    # the figures that are hashed say which details there were, when others were written out of them
    lacking = {one.said for one in details_in("", values)} ^ {one.said for one in mine}
    return row + (b"altered" if any(name not in STANDING for name, *_ in lacking) else b"")


def _check(run: Mapping[str, Any], details: Details, form: int) -> str:
    return f"{zlib.crc32(_row_of(run, details, form)):08x}"


def hash_of(past: Past, runs: Sequence[Mapping[str, Any]], details: Details, seal: Seal, digests: bytes) -> str:
    """The hash of a seal, from the rows of its batches, their details, and the checks of the changes."""
    head = netstrings([f"rmend seal {seal.form}", seal.before, *_of_others(seal.others)])
    kinds = {column.name: family(column.type) for column in past.kept.columns}
    names = [(name, _stored(past, "old", name)) for name in seal.columns]
    shape = netstrings(one for name, stored in names if stored in kinds for one in (name, kinds[stored]))
    rows = b"".join(_row_of(run, details, seal.form) for run in runs)
    return hashlib.sha256(head + rows + shape + digests).hexdigest()


def _of_others(others: Others | None) -> list[Any]:
    if others is None:
        return []
    spans = (",".join("-".join(map(str, span)) for span in each) for each in (others.open, others.late))
    return [others.after, others.until, others.count, others.hash, *spans]


def _plain(value: Any) -> Any:
    return value.strftime("%Y-%m-%dT%H:%M:%S.%f")[:-3] + "Z" if hasattr(value, "strftime") else value


def texts_of(past: Past, columns: Sequence[str], page: Existing) -> pa.Array:
    """The canonical form of changes: our own columns, then old and new of each of the table's `columns` that the
    history still has."""
    own = [column.name for column in FIXED if column.name in page.values.column_names]
    values = page.values.select(own)
    at = own.index("changed_at")
    values = values.set_column(at, "changed_at", values["changed_at"].cast(pa.timestamp("ms", "UTC")))
    known = [name for name in columns if _stored(past, "old", name) in past.kept]
    for name in (_stored(past, side, name) for name in known for side in ("old", "new")):
        values = values.append_column(name, page.values[name])
    return canonical_rows(Existing(page.positions, values, page.locators, page.verbatim))


def _stored(past: Past, side: str, column: str) -> str:
    """What the history calls the old or new values of a pair, also of a column that the table has no more."""
    return fitted(f"{side}_{column}", lambda name: name in past.kept)


def _joined(arrays: Sequence[np.ndarray]) -> np.ndarray:
    return np.concatenate(arrays) if arrays else np.empty(0, np.int64)


def _gaps(numbers: np.ndarray, run: Mapping[str, Any]) -> list[list[int]]:
    """The spans between a batch's first and last number that no change of it has."""
    first, last = run["first_change"], run["last_change"]
    return gaps(np.concatenate([[first - 1], numbers, [last + 1]]))


# -- checking -----------------------------------------------------------------------------------------


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
    edges = np.append(np.flatnonzero(np.diff(batch[order], prepend=-1)), len(order))
    forms: dict[tuple[str, ...], pa.Array] = {}
    for begin, end in zip(edges[:-1].tolist(), edges[1:].tolist(), strict=True):
        places = mine[order[begin:end]]
        one = int(batch[order[begin]])
        texts = None
        if one in seals:
            columns = tuple(seals[one].columns)
            if columns not in forms:
                forms[columns] = texts_of(past, columns, page)
            whole = len(places) == len(numbers)
            texts = forms[columns] if whole else forms[columns].take(pa.array(places))
        yield one, numbers[places], texts


class SealCheck:
    """Checks the seals of a table's batches while its changes stream by."""

    def __init__(self, past: Past) -> None:
        self.past = past
        begins = past.begins
        self._gone = gone = begins.change if begins is not None else 0
        self._every = {run["batch_no"]: run for run in past.runs()}
        self._details = details_by_batch(details_of(past.session, past.info.name))
        after = begins.batch or 0 if begins is not None else 0
        self.runs = {
            number: run
            for number, run in self._every.items()
            if (number > after if run["first_change"] is None else run["first_change"] > gone)
        }
        self._before = begins.seal if begins is not None else None
        self.seals = {number: Seal.read(run["seal_text"]) for number, run in self.runs.items() if run["seal_text"]}
        self._hashing = {number: _Hashing(max(seal.every, 1)) for number, seal in self.seals.items()}
        self._others = {
            number: OthersCheck(seal.others, partial(texts_of, past, seal.columns))
            for number, seal in self.seals.items()
            if seal.others is not None and min([seal.others.after + 1, *(one[0] for one in seal.others.late)]) > gone
        }
        self._strays: list[tuple[int, int]] = []

    @property
    def last(self) -> str | None:
        """The hash at the end of the chain."""
        return next((self.seals[number].hash for number in sorted(self.seals, reverse=True)), None)

    def has(self, expected: str) -> bool:
        """Whether a batch has a hash, and it is the last one or others follow it."""
        return any(seal.hash == expected for seal in self.seals.values())

    @property
    def sealed(self) -> int:
        return len(self.seals)

    def add(self, page: Existing) -> None:
        """Take up the next changes."""
        if not self.seals:
            return
        there = page.values[NUMBER].to_numpy()
        left = page if not len(there) or there[0] > self._gone else page.take(np.flatnonzero(there > self._gone))
        for batch, numbers, texts in by_batch(self.past, left, self.seals):
            if batch not in self.runs:
                self._strays += [(number, batch) for number in numbers.tolist()]
            elif texts is not None:
                self._hashing[batch].add(numbers, texts)
        if page.values["batch_no"].null_count:
            for one in self._others.values():
                one.add(page)

    def wrong(self) -> Iterator[tuple[int | None, int | None, str]]:
        """What is wrong: the batch, the change, in words."""
        for number, batch in self._strays:
            yield batch, number, "a change was added: there is no such batch"
        for batch, check in self._others.items():
            yield from ((batch, None, what) for what in check.wrong())
        before = self._before
        for place, batch in enumerate(sorted(self.seals)):
            seal, run, hashing = self.seals[batch], self.runs[batch], self._hashing[batch]
            if before is not None and seal.before != before:
                yield batch, None, "the seal does not follow that of the batch before"
            elif not place and seal.before is not None and self.past.begins is None:
                yield batch, None, "the sealed batches before it were removed"
            before = seal.hash
            others = {number: self._every.get(int(number)) for number in seal.also}
            found = hash_of(self.past, [*filter(None, others.values()), run], self._details, seal, hashing.digests())
            if found == before and None not in others.values():
                continue
            places: list[tuple[int | None, int | None, str]] = []
            for name, other in others.items():
                if other is None:
                    places.append((int(name), None, "the batch's row was removed"))
                elif _check(other, self._details, seal.form) != seal.also[name]:
                    places.append((int(name), None, "the batch's row was altered"))
            places += ((batch, number, what) for number, what in self._places(seal, run, hashing))
            yield from places
            if not places:
                yield batch, None, "the batch's row was altered, or changes that can no longer be told apart"

    def _places(self, seal: Seal, run: Mapping[str, Any], hashing: _Hashing) -> Iterator[tuple[int, str]]:
        first, last = run["first_change"] or 1, run["last_change"] or 0
        numbers = _joined(hashing.numbers)
        free = sum(end - begin + 1 for begin, end in seal.gaps)
        if not 0 <= last - first + 1 - free <= 2 * len(numbers) + _MOST_CHECKS or free > 1 << 30:
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
