"""Seals: a hash over each batch and its changes, chained to the batch before, so that nobody changes the past unseen.

The canonical form is written down in docs/history.md, so that somebody else can check it.
"""

from __future__ import annotations

import hashlib
import json
import zlib
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa

from ..core.canonical import canonical_rows, netstrings
from ..core.existing import Existing
from ..core.expressions.types import family
from ..core.own_tables import FIXED
from .past import NUMBER, Past

_OF_THE_RUN = (
    "batch_no", "table_name", "job", "actor", "application", "started_at", "finished_at", "inserted", "updated",
    "deleted", "skipped", "rejected", "first_change", "last_change", "status", "unrecorded", "figures", "undoes",
)  # fmt: skip
_MOST_CHECKS = 20_000


@dataclass
class _Hashing:
    """The changes of one batch on their way into its seal."""

    digest: Any = field(default_factory=hashlib.sha256)
    numbers: list[np.ndarray] = field(default_factory=list)
    checks: list[np.ndarray] = field(default_factory=list)

    count: int = 0

    def add(self, numbers: np.ndarray, texts: pa.Array) -> None:
        data = pa.concat_arrays([texts.cast(pa.large_binary())])
        offsets = np.frombuffer(data.buffers()[1], np.int64)[data.offset : data.offset + len(data) + 1]
        every = memoryview(data.buffers()[2] or b"")
        self.digest.update(every[offsets[0] : offsets[-1]])
        self.numbers.append(numbers)
        self.count += len(numbers)
        if self.count <= _MOST_CHECKS:
            spans = zip(offsets[:-1].tolist(), offsets[1:].tolist(), strict=True)
            self.checks.append(np.array([zlib.crc32(every[begin:end]) for begin, end in spans], np.uint32))
        else:
            self.checks = []


def seal_of(past: Past, run: Mapping[str, Any], before: str | None) -> str:
    """The seal of a batch: JSON with the `hash`, that of the batch `before`, the `columns`, and what finds the place of
    a later change."""
    columns = [name[4:] for name in past.names if name.startswith("old_") and past.names[name] in past.kept]
    hashing = _Hashing()
    bounds = past.of_run(run)
    for page in past.changes(bounds):
        hashing.add(page.values[NUMBER].to_numpy(), _texts(past, page, columns))
    numbers = _joined(hashing.numbers)
    return json.dumps({
        "hash": _hash(past, run, before, columns, hashing), "before": before, "columns": columns,
        "gaps": _gaps(numbers, run), "checks": _spelled(_joined(hashing.checks)),
    })  # fmt: skip


def _hash(past: Past, run: Mapping[str, Any], before: str | None, columns: Sequence[str], hashing: _Hashing) -> str:
    head = netstrings(["rmend seal 1", before])
    values = {**run, "figures": run["figures_text"], "undoes": run["undoes_text"]}
    row = netstrings(_plain(values[name]) for name in _OF_THE_RUN)
    kinds = {column.name: family(column.type) for column in past.kept.columns}
    shape = netstrings(one for name in columns for one in (name, kinds[past.names[f"old_{name}"]]))
    return hashlib.sha256(head + row + shape + hashing.digest.digest()).hexdigest()


def _plain(value: Any) -> Any:
    return value.strftime("%Y-%m-%dT%H:%M:%S.%f")[:-3] + "Z" if hasattr(value, "strftime") else value


def _texts(past: Past, page: Existing, columns: Sequence[str]) -> pa.Array:
    """The canonical form of changes: our own columns, then old and new of each of the table's."""
    own = [column.name for column in FIXED if column.name in page.values.column_names]
    values = page.values.select(own)
    at = own.index("changed_at")
    values = values.set_column(at, "changed_at", values["changed_at"].cast(pa.timestamp("ms", "UTC")))
    names = [past.names[f"{side}_{name}"] for name in columns for side in ("old", "new")]
    for name in names:
        values = values.append_column(name, page.values[name])
    return canonical_rows(Existing(page.positions, values, page.locators, page.verbatim))


def _joined(arrays: Sequence[np.ndarray]) -> np.ndarray:
    return np.concatenate(arrays) if arrays else np.empty(0, np.int64)


def _gaps(numbers: np.ndarray, run: Mapping[str, Any]) -> list[list[int]]:
    """The spans between a batch's first and last number that no change of it has."""
    first, last = run["first_change"], run["last_change"]
    edges = np.concatenate([[first - 1], numbers, [last + 1]])
    wide = np.flatnonzero(np.diff(edges) > 1)
    return [[int(edges[at]) + 1, int(edges[at + 1]) - 1] for at in wide]


def _spelled(checks: np.ndarray) -> str | None:
    """Eight hexadecimal digits for each change, if these are not too many: they find which one was altered."""
    return "".join(f"{one:08x}" for one in checks.tolist()) or None


# -- checking -----------------------------------------------------------------------------------------


class SealCheck:
    """Checks the seals of a table's batches while its changes stream by."""

    def __init__(self, past: Past) -> None:
        self.past = past
        begins = past.begins
        self._gone = gone = begins["change"] if begins else 0
        self.runs = {run["batch_no"]: run for run in past.runs() if (run["first_change"] or 0) > gone}
        self._before = begins["seal"] if begins else None
        self.seals = {number: run["seal"] for number, run in self.runs.items() if run["seal_text"]}
        self._hashing = {number: _Hashing() for number in self.seals}
        self._strays: list[tuple[int, int]] = []
        self._columns = {number: seal.get("columns", []) for number, seal in self.seals.items()}

    @property
    def last(self) -> str | None:
        """The hash at the end of the chain."""
        return next((str(self.seals[n].get("hash")) for n in sorted(self.seals, reverse=True)), None)

    def has(self, expected: str) -> bool:
        """Whether a batch has a hash, and it is the last one or others follow it."""
        return any(seal.get("hash") == expected for seal in self.seals.values())

    @property
    def sealed(self) -> int:
        return len(self.seals)

    def add(self, page: Existing) -> None:
        """Take up the next changes."""
        if not self.seals:
            return
        batches = page.values["batch_no"].to_numpy(zero_copy_only=False)
        numbers = page.values[NUMBER].to_numpy()
        for batch in np.unique(batches[~np.isnan(batches.astype(float))]).tolist():
            places = np.flatnonzero((batches == batch) & (numbers > self._gone))
            run = self.runs.get(int(batch))
            if run is None:
                self._strays += [(int(number), int(batch)) for number in numbers[places].tolist()]
            elif int(batch) in self.seals:
                some = page.take(places)
                known = [n for n in self._columns[int(batch)] if self.past.names.get(f"old_{n}") in self.past.kept]
                self._hashing[int(batch)].add(numbers[places], _texts(self.past, some, known))

    def wrong(self) -> Iterator[tuple[int | None, int | None, str]]:
        """What is wrong: the batch, the change, in words."""
        for number, batch in self._strays:
            yield batch, number, "a change was added: there is no such batch"
        before = self._before
        for batch in sorted(self.seals):
            seal, run, hashing = self.seals[batch], self.runs[batch], self._hashing[batch]
            if before is not None and seal.get("before") != before:
                yield batch, None, "the seal does not follow that of the batch before"
            before = seal.get("hash")
            made = _hash(self.past, run, seal.get("before"), self._columns[batch], hashing)
            if made == before:
                continue
            places = list(self._places(seal, run, hashing))
            yield from ((batch, number, what) for number, what in places)
            if not places:
                yield batch, None, "the batch's row was altered, or changes that can no longer be told apart"

    def _places(self, seal: Mapping[str, Any], run: Mapping[str, Any], hashing: _Hashing) -> Iterator[tuple[int, str]]:
        first, last = run["first_change"], run["last_change"]
        numbers, checks = _joined(hashing.numbers), _joined(hashing.checks)
        missing = np.zeros(last - first + 1, bool)
        for begin, end in seal.get("gaps") or ():
            missing[begin - first : end - first + 1] = True
        sealed = np.flatnonzero(~missing) + first
        for number in np.setdiff1d(sealed, numbers).tolist():
            yield number, "a change was removed"
        for number in np.setdiff1d(numbers, sealed).tolist():
            yield number, "a change was added"
        spelled = seal.get("checks")
        if not spelled or len(spelled) != 8 * len(sealed):
            return
        was = dict(zip(sealed.tolist(), (spelled[at : at + 8] for at in range(0, len(spelled), 8)), strict=True))
        if len(numbers) != len(checks):
            return
        for number, check in zip(numbers.tolist(), checks.tolist(), strict=True):
            if number in was and was[number] != f"{check:08x}":
                yield number, "the change was altered"
