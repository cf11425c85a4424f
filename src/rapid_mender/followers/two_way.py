"""Two tables that follow each other: which change of a row counts where both sides have made one.

A change that was made when the other side's last change of the row had come already counts: whoever made it saw that.
Changes that neither side had from the other are in conflict. Both sides come to the same answer, in whatever order they
follow: each sees what the other had when it made its change by the syncs that are noted in the other's history.
"""

from __future__ import annotations

import secrets
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..changes.details import batches_between, details_by_batch, details_of, last_details
from ..changes.netting import Netted
from ..changes.own import rows_of
from ..changes.past import NUMBER, Past, past_if_any
from ..core.existing import Existing
from ..core.hashing import hash_rows
from ..core.own_tables import SYNCED
from ..core.repeats import among
from ..errors import JobError
from ..stores.contract import Condition
from .origins import is_of_table, origins_of, token_of, ways_to
from .receiving import Receiving
from .tail import View

Rule = Literal["later", "overwrite", "skip", "reject"]
_OTHER: dict[str, tuple[Rule, ...]] = {
    "later": ("later",), "overwrite": ("skip", "reject"), "skip": ("overwrite",), "reject": ("overwrite",),
}  # fmt: skip
"""By the rule of one side those that the other may have."""


def rule_of(given: str | None, other: str | None, follower: str) -> Rule:
    """The rule of a sync whose target is followed back: as it is given, or as the other one has it. Raises JobError if
    both sides would win, or neither."""
    rule: Rule = given or _OTHER[other or "later"][0]  # type: ignore[assignment]
    if other is not None and other not in _OTHER[rule]:
        raise JobError(
            f'conflict = "{rule}": {follower!r}, by which the other table follows this one, has "{other}", so the two '
            'would not become equal. Give "overwrite" to the sync of the side that wins and "skip" to the other, or '
            'give both "later"'
        )
    return rule


def way_back(view: View, receiving: Receiving, where: str) -> dict[str, Any] | None:
    """The row of the sync by which the table that is followed follows the other one; None if there is none. `where`:
    what the target calls itself."""
    for row in rows_of(view.session, SYNCED, table_name=view.info.name):
        same = row["source_table"] == receiving.info.name
        if same and (row["source"] == where or is_of_table(receiving.session, receiving.info.name, row["fingerprint"])):
            return row
    return None


def began_as_copy(view: View, receiving: Receiving, where: str, follows: bool) -> bool:
    """Whether the history of the table that is followed has all its rows, and the first came from the target: then what
    its own people did can be followed from the beginning, and the target need not be filled. Not so if the target is a
    copy of the table where they came from: it has another name (`where`) and is not followed itself (`follows`)."""
    past = view.past
    if past is None or past.begins is not None or past.holes:
        return False
    first = past.runs([[Condition("last_change", ">=", 1)]])[:1]
    if not first:
        return False
    number = int(first[0]["batch_no"])
    found = origins_of(view.session, view.info.name, number, number)
    ways = ways_to(receiving.session, receiving.info.name, found).values()
    if not any(way.ours and (follows or way.where in (None, where)) for way in ways):
        return False
    rows = 0
    for page in past.changes((), [NUMBER, "action"]):
        actions = page.values["action"]
        rows += pc.sum(pc.equal(actions, "insert")).as_py() - pc.sum(pc.equal(actions, "delete")).as_py()
    lost = rows and not receiving.session.count(receiving.info)  # then it is to be filled again
    return bool(rows == view.session.count(view.info) and not lost)


@dataclass(frozen=True)
class Rivals:
    """The changes of both sides, as a step of a sync sees them."""

    view: View
    receiving: Receiving
    rule: Rule

    def outdone(self, netted: Netted, keys: pa.Table, last: np.ndarray) -> np.ndarray:
        """A mask of records that are not to be written, as another change of their row counts. `keys`: those of their
        rows, in the source; `last`: the last change of each, by its place among those that were made net."""
        changes, theirs = netted.changes.values, past_if_any(self.receiving.session, self.receiving.info.name)
        if theirs is None or not len(last):
            return np.zeros(len(last), bool)
        numbers = changes[NUMBER].to_numpy()[last]
        came = self._came(int(pc.min(pc.fill_null(changes["batch_no"], 0)).as_py()))
        outdone = self._overtaken(netted.past, keys, numbers, came)
        if self.rule == "overwrite":
            return outdone
        order = np.argsort([one.last for one in came], kind="stable")
        ends = np.array([came[at].last for at in order], np.int64)
        known = np.maximum.accumulate(np.array([0, *(came[at].number for at in order)], np.int64))
        seen = known[np.searchsorted(ends, numbers, side="left")]
        number, time = self._newest(theirs, keys, int(seen.min()))
        rivals = number > seen
        if self.rule == "later":
            mine, names = _times(changes)[last], self._names(theirs)
            rivals &= (time > mine) | ((time == mine) & (names[1] > names[0]))
        return outdone | rivals

    def _names(self, theirs: Past) -> tuple[tuple[str, str], tuple[str, str]]:
        """What tells the two tables apart, the same in both directions: it decides between changes of one moment."""
        sides = (self.view.session, self.view.info), (theirs.session, theirs.info)
        mine, other = ((token_of(session, info.name) or "", session.where) for session, info in sides)
        return mine, other

    def _came(self, batch: int) -> list[_Came]:
        """The batches of the source that brought changes of the target: those from one on, and the newest before."""
        session, table = self.view.session, self.view.info.name
        token = token_of(self.receiving.session, self.receiving.info.name)
        if token is None:
            return []
        named = [Condition("name", "=", token)]
        before = last_details(session, table, "origin", [named, [Condition("batch_no", "<", batch)]])
        found = details_of(session, table, "origin", where=[named, [Condition("batch_no", ">=", batch)]])
        by = details_by_batch([*before, *found])
        ways = ways_to(self.receiving.session, self.receiving.info.name, by)
        ours = [at for at, way in ways.items() if way.ours]
        assert self.view.past is not None
        here = [[Condition("batch_no", "=", at) for at in sorted(ours)]]
        runs = self.view.past.runs(here, seals=False) if ours else []
        came, last = [], 0
        for run in runs:
            last = max(last, run["last_change"] or 0)
            came.append(_Came(run["batch_no"], last, ways[run["batch_no"]].number))
        return came

    def _overtaken(self, past: Past, keys: pa.Table, numbers: np.ndarray, came: Sequence[_Came]) -> np.ndarray:
        """A mask of the records whose row was changed by the target later."""
        after = int(numbers.min())
        batches = np.array([one.batch for one in came if one.last > after], np.int64)
        if not len(batches):
            return np.zeros(len(numbers), bool)
        newest = _Newest(hash_rows(past.fold_keys(keys.select(past.key)), 0))
        for page in self.view.changes(after, None, [NUMBER, "batch_no", *past.stored(past.key)]):
            theirs = np.isin(pc.fill_null(page.values["batch_no"], 0).to_numpy(), batches)
            for side in ("old", "new"):
                keyed = past.rows(page, side, past.key).values
                newest.add(page, hash_rows(past.fold_keys(keyed), 0), theirs)
        return newest.number > numbers

    def _newest(self, theirs: Past, keys: pa.Table, after: int) -> tuple[np.ndarray, np.ndarray]:
        """The number and the time of the last change of each row that the target made itself, after one."""
        seed = secrets.randbits(64)
        newest = _Newest(hash_rows(self.receiving.folded(keys), seed))
        for page, hashes in _hashed(theirs, self.receiving.key, after, seed):
            batches = pc.fill_null(page.values["batch_no"], 0).to_numpy()
            found = origins_of(theirs.session, theirs.info.name, int(batches.min()), int(batches.max()))
            ways = ways_to(self.view.session, self.view.info.name, found)
            own = ~np.isin(batches, [at for at, way in ways.items() if way.ours])
            for keyed in hashes:
                newest.add(page, keyed, own)
        return newest.number, newest.time


def overwritten_since(receiving: Receiving, keys: pa.Table, after: int) -> np.ndarray:
    """A mask of rows whose last change in the target, after one of its own, was brought by a sync: what the target had
    made of them is gone there. `keys`: those of the rows, in the source."""
    theirs = past_if_any(receiving.session, receiving.info.name)
    if theirs is None or not keys.num_rows:
        return np.zeros(keys.num_rows, bool)
    seed = secrets.randbits(64)
    rows = hash_rows(receiving.folded(keys), seed)
    own, brought = _Newest(rows), _Newest(rows)
    for page, hashes in _hashed(theirs, receiving.key, after, seed):
        batches = pc.fill_null(page.values["batch_no"], 0).to_numpy()
        syncs = theirs.numbers_of([[Condition("kind", "=", "sync")], *batches_between(batches.min(), batches.max())])
        by_sync = np.isin(batches, syncs)
        for keyed in hashes:
            own.add(page, keyed, ~by_sync)
            brought.add(page, keyed, by_sync)
    return brought.number > own.number


def _hashed(past: Past, key: list[str], after: int, seed: int) -> Iterator[tuple[Existing, list[np.ndarray]]]:
    """The changes of a table after one, some at a time, each with the hashes of its old key and of its new one."""
    wanted = [NUMBER, "batch_no", "changed_at", *past.stored(key)]
    for page in past.changes([[Condition(NUMBER, ">", after)]], wanted):
        keyed = [past.rows(page, side, key).values.select(key) for side in ("old", "new")]
        yield page, [hash_rows(past.session.fold(past.info, rows), seed) for rows in keyed]


@dataclass(frozen=True)
class _Came:
    """A batch that brought changes of the other side: the last change up to its end, and up to which of the other's."""

    batch: int
    last: int
    number: int


class _Newest:
    """The number and the time of the last change of each of some keys, by their hashes."""

    def __init__(self, keys: np.ndarray) -> None:
        self._order, self._index = np.unique(keys, return_inverse=True)
        self._number, self._time = np.zeros(len(self._order), np.int64), np.zeros(len(self._order), np.int64)

    def add(self, page: Existing, keys: np.ndarray, wanted: np.ndarray) -> None:
        """Take up changes that come after those before."""
        hit = np.flatnonzero(among(keys, self._order) & wanted)
        at, numbers = np.searchsorted(self._order, keys[hit]), page.values[NUMBER].to_numpy()[hit]
        newer = numbers >= self._number[at]
        self._number[at[newer]] = numbers[newer]
        if "changed_at" in page.values.column_names:
            self._time[at[newer]] = _times(page.values)[hit][newer]

    @property
    def number(self) -> np.ndarray:
        return self._number[self._index]

    @property
    def time(self) -> np.ndarray:
        return self._time[self._index]


def _times(changes: pa.Table) -> np.ndarray:
    """When changes were made, in milliseconds, as every store keeps them."""
    return changes["changed_at"].cast(pa.timestamp("ms", "UTC"), safe=False).cast(pa.int64()).to_numpy()
