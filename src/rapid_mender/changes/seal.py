"""Seals: a hash over each batch and its changes, chained to the batch before, so that nobody changes the past unseen.

The canonical form is written down in docs/history.md, so that somebody else can check it.
"""

from __future__ import annotations

import base64
import hashlib
import json
import zlib
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import asdict, dataclass, field, replace
from functools import partial
from typing import Any

import numpy as np
import pyarrow as pa

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
from .others import Others, gaps, others_of
from .past import NUMBER, Past, changes_made

_OF_THE_RUN = (
    "batch_no", "table_name", "job", "actor", "application", "started_at", "finished_at", "inserted", "updated",
    "deleted", "skipped", "rejected", "first_change", "last_change", "status", "unrecorded", "figures", "undoes",
)  # fmt: skip
_FORM = 4
_KINDS = 3  # the form from which on a batch's kind and details are hashed
MOST_CHECKS = 8192
"""As many checks of changes a seal has at most."""
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
    """How what is hashed is written. Up to form 2 the details of batches were among their figures, and up to form 3 a
    number in a column of 32-bit floats had other digits than as a 64-bit one."""

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


class Hashing:
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
    noted = past.begins.noted if past.begins is not None else None
    ended = [one for one in since if one["finished_at"] is not None and (last or one["batch_no"] == noted)]
    details = details_of_runs(past, [*ended, run])
    prior = Seal.read(last[0]["seal_text"]) if last else None
    before = prior.hash if prior is not None else None
    hashing = Hashing(max(1, -(-changes_made(run) // MOST_CHECKS)))
    if run["first_change"] is not None:
        for page in past.changes(past.of_run(run)):
            hashing.add(page.values[NUMBER].to_numpy(), texts_of(past, columns, _FORM, page))
    digests = hashing.digests()
    seal = Seal(
        "", before, columns, {str(one["batch_no"]): check_of(one, details, _FORM) for one in ended},
        _gaps(joined(hashing.numbers), run), base64.b64encode(digests).decode() or None, hashing.every,
        others_of(past, prior.others if prior is not None else None, partial(texts_of, past, columns, _FORM)), _FORM,
    )  # fmt: skip
    kept = asdict(replace(seal, hash=hash_of(past, [*ended, run], details, seal, digests)))
    return json.dumps({name: value for name, value in kept.items() if name != "others" or value is not None})


def is_sealed(text: str | None) -> bool:
    """Whether a batch's seal says that it has one."""
    return bool(Seal.read(text or "").hash)


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
    if form >= _KINDS:
        said = sorted(netstrings(map(_plain, one.said)) for one in mine)
        row = netstrings(_plain(values[name]) for name in (*_OF_THE_RUN, "kind"))
        return row + netstrings([len(said)]) + b"".join(said)
    row = netstrings(_plain(values[name]) for name in _OF_THE_RUN)
    if run["kind"] is None:
        return row
    # the figures that are hashed say which details there were, when others were written out of them
    lacking = {one.said for one in details_in("", values)} ^ {one.said for one in mine}
    return row + (b"altered" if any(name not in STANDING for name, *_ in lacking) else b"")


def check_of(run: Mapping[str, Any], details: Details, form: int) -> str:
    """The check of a batch's row and details, where the seal of another batch covers it."""
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


def texts_of(past: Past, columns: Sequence[str], form: int, page: Existing) -> pa.Array:
    """The canonical form of changes: our own columns, then old and new of each of the table's `columns` that the
    history still has. `form`: that of the seal."""
    own = [column.name for column in FIXED if column.name in page.values.column_names]
    values = page.values.select(own)
    at = own.index("changed_at")
    values = values.set_column(at, "changed_at", values["changed_at"].cast(pa.timestamp("ms", "UTC")))
    known = [name for name in columns if _stored(past, "old", name) in past.kept]
    for name in (_stored(past, side, name) for name in known for side in ("old", "new")):
        stored = page.values[name]
        wide = form > _KINDS and pa.types.is_float32(stored.type)  # the column may be widened later
        values = values.append_column(name, stored.cast(pa.float64()) if wide else stored)
    return canonical_rows(Existing(page.positions, values, page.locators, page.verbatim))


def _stored(past: Past, side: str, column: str) -> str:
    """What the history calls the old or new values of a pair, also of a column that the table has no more."""
    return fitted(f"{side}_{column}", lambda name: name in past.kept)


def joined(arrays: Sequence[np.ndarray]) -> np.ndarray:
    """Arrays of numbers as one."""
    return np.concatenate(arrays) if arrays else np.empty(0, np.int64)


def _gaps(numbers: np.ndarray, run: Mapping[str, Any]) -> list[list[int]]:
    """The spans between a batch's first and last number that no change of it has."""
    first, last = run["first_change"], run["last_change"]
    if first is None or last is None:
        return []
    return gaps(np.concatenate([[first - 1], numbers, [last + 1]]))
