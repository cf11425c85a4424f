"""What is to be undone: batches, or the changes that somebody picks."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..changes.details import details_of
from ..changes.given import moment
from ..changes.holes import noted_holes
from ..changes.past import NUMBER, Past, beginning_of, changes_made, runs_of
from ..core.existing import Existing
from ..errors import JobError
from ..stores.contract import Condition, Selection, Session, Where


@dataclass(frozen=True)
class Scope:
    """What is undone: batches, newest first; or the changes for which conditions hold."""

    numbers: list[int]
    where: Where | None = None
    first: int = 0
    """The first of these changes."""
    said: str = ""
    figures: dict[str, Any] = field(default_factory=dict)

    @property
    def words(self) -> str:
        if self.where is not None:
            return self.said
        numbers = self.numbers
        return f"batches {numbers[-1]} to {numbers[0]}" if len(numbers) > 1 else f"batch {numbers[0]}"


def picked_of(past: Past, picked: dict[str, Any]) -> Scope:
    """The changes that somebody picks: since or until a time, by an actor, by an application."""
    where: list[list[Condition]] = []
    words = []
    for name, op in (("since", ">="), ("until", "<=")):
        if (at := moment(name, picked.get(name))) is not None:
            where.append([Condition("changed_at", op, at)])  # type: ignore[arg-type]
            words.append(f"{name} {at:%Y-%m-%d %H:%M:%S} UTC")
    for name in ("actor", "application"):
        if name in picked:
            where.append([Condition(name, "=", picked[name])])
            words.append(f"by {picked[name]}")
    _check_known(past, picked, ", ".join(words))
    first = past.session.read(past.kept, Selection(where, NUMBER, 1, True, [NUMBER])).values[NUMBER].to_pylist()
    last = past.session.read(past.kept, Selection(where, NUMBER, 1, columns=[NUMBER])).values[NUMBER].to_pylist()
    bounds = [[Condition(NUMBER, ">=", first[0])], [Condition(NUMBER, "<=", last[0])]] if first else []
    figures = {"undoes_changes": {name: str(value) for name, value in picked.items()}}
    return Scope([], [*where, *bounds], first[0] if first else 0, f"what was done {', '.join(words)}", figures)


def _check_known(past: Past, picked: dict[str, Any], words: str) -> None:
    """Raise JobError if the history lacks some of the changes that are picked: they were pruned, or not recorded."""
    since, until = (moment(name, picked.get(name)) for name in ("since", "until"))
    begins = beginning_of(past.session, past.info.name)
    if begins is not None and (since is None or since <= begins.time):
        raise JobError(
            f"what was done {words} cannot all be undone: changes up to {begins.words} were pruned; give a time after "
            "that as since"
        )
    holes = [one for one in noted_holes(past.session, past.info.name) if one.why in ("unrecorded", "pause")]
    runs = past.runs([[Condition("batch_no", "=", one.batch) for one in holes]]) if holes else []
    of = {run["batch_no"]: run for run in runs}
    for hole in holes:
        run = of.get(hole.batch)
        if run is None or (until is not None and run["started_at"] > until):
            continue
        ended = run["finished_at"] if hole.why == "unrecorded" else None  # a pause that was not mended has no end here
        if since is not None and ended is not None and ended < since:
            continue
        same = all(run[name] == picked[name] for name in ("actor", "application") if name in picked)
        if hole.why == "pause" or same:
            raise JobError(f"what was done {words} cannot all be undone: {hole.words(past.info.name)}")


def batches_of(session: Session, number: int, since: bool, table: str | None) -> tuple[str, list[int], bool]:
    """The table of a batch; the batches to undo, newest first; whether they changed anything. Raises JobError."""
    found = runs_of(session, [[Condition("batch_no", "=", number)]])
    if not found:
        last = runs_of(session, limit=1)
        has = f"the last one is {last[0]['batch_no']}" if last else "it has none"
        raise JobError(f"there is no batch {number} in {session.where}; {has}")
    name = found[0]["table_name"]
    if table is not None and table.lower() != name.lower():
        raise JobError(f"batch {number} is one of table {name!r}, not of {table!r}")
    here = [Condition("table_name", "=", name)]
    after = [here, [Condition("batch_no", ">=", number)]]
    if since:
        later = runs_of(session, after)
    elif (
        by := _undone_by(number, runs_of(session, [*after, [Condition("undoes", "is not null")]]))
    ) and not details_of(session, name, "left", where=[[Condition("batch_no", "=", by)]]):
        raise JobError(f"batch {number} is undone already, by batch {by}; to redo it, undo batch {by}")
    else:
        later = found
    begins = beginning_of(session, name)
    for one in later:
        if begins is not None and one["first_change"] is not None and one["first_change"] <= begins.change:
            raise JobError(
                f"batch {one['batch_no']} cannot be undone: its changes were pruned; the history begins on "
                f"{begins.words}"
            )
        if changes_made(one) and one["first_change"] is None:
            raise JobError(
                f"batch {one['batch_no']} cannot be undone: its history was switched off, so nobody knows what "
                "the rows were before"
            )
    changed = any(one["first_change"] is not None for one in later)
    return name, [one["batch_no"] for one in reversed(later)], changed


def _undone_by(number: int, later: Sequence[dict[str, Any]]) -> int | None:
    """The newest batch by which a batch is undone, if none has undone that one; `later`: the undos from it on."""
    by: dict[int, int] = {}
    for one in reversed(later):
        if one["batch_no"] not in by:
            by = dict.fromkeys(one["undoes"], one["batch_no"]) | by
    return by.get(number)


def others_between(past: Past, changes: Existing) -> tuple[np.ndarray, int]:
    """The keys of rows that changes touched which are not undone, in between those that are; and the seed of their
    hashes."""
    numbers = changes.values[NUMBER].to_numpy()
    seed = secrets.randbits(64)
    if not len(numbers):
        return np.empty(0, np.uint64), seed
    names = [NUMBER, *past.stored(past.key)]
    keys, places = [], []
    for page in past.changes(past.between(int(numbers[0]) - 1, int(numbers[-1])), names):
        for side in ("old", "new"):
            keys.append(past.hash_keys(past.rows(page, side, past.key).values, seed))
            places.append(page.values[NUMBER].to_numpy())
    key, number = np.concatenate(keys), np.concatenate(places)
    mine = np.isin(number, numbers)
    every, at = np.unique(key, return_inverse=True)
    first, last = np.full(len(every), np.iinfo(np.int64).max), np.full(len(every), -1)
    np.minimum.at(first, at[mine], number[mine])
    np.maximum.at(last, at[mine], number[mine])
    others = ~mine & (number > first[at]) & (number < last[at])
    return np.unique(key[others]), seed
