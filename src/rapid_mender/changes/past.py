"""The past of a table, as its history has it: which changes there were, and the rows before and after them."""

from __future__ import annotations

import secrets
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from functools import cached_property
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.cast import cast
from ..core.compare import unlike
from ..core.existing import Existing, concatenated
from ..core.hashing import hash_rows
from ..core.json_text import read_json
from ..core.keys import one_array
from ..core.masks import mask_of
from ..core.own_tables import BATCHES, BATCHES_TABLE, history_name, is_history, stored_names
from ..core.records import known_column, value_of
from ..core.repeats import among
from ..core.schema import Column, TableInfo
from ..core.slots import Slots, slots_of
from ..errors import JobError, StoreError
from ..stores.contract import Condition, Selection, Session, Where
from .details import details_of, newest_details
from .holes import Hole, holes_of
from .identity import Identity, identity_of, named_before
from .own import check_rows

NUMBER = "change_no"
MOST_CHANGES = 1 << 62
"""No change has a number as high as this."""
_BUT_SEALS = [column.name for column in BATCHES.columns if column.name != "seal"]


@dataclass(frozen=True)
class Beginning:
    """Where a pruned history begins: after a change that was made at a time."""

    change: int
    time: datetime
    batch: int | None
    """The last batch whose changes were removed, if there was one."""
    noted: int
    """The batch that removed them."""

    @property
    def words(self) -> str:
        return f"{self.time:%Y-%m-%d %H:%M:%S} UTC"


@dataclass(frozen=True)
class Past:
    """A table and its history, within a session."""

    session: Session
    info: TableInfo
    kept: TableInfo
    """The history."""
    names: Mapping[str, str]
    """old_X and new_X, and what they are called in the history."""
    identity: Identity

    @cached_property
    def key(self) -> list[str]:
        """The columns that tell the table's rows apart: its primary key, a unique constraint, or the key of a merge.
        Raises JobError if there is none."""
        if self.info.identifying:
            return list(self.info.identifying)
        key = [one.name for one in newest_details(self.session, self.info.name, "key") if one.name is not None]
        if key and all(name in self.info for name in key):
            return key
        raise JobError(f"table {self.info.name!r} has no primary key, so its rows cannot be told apart; give it one")

    def check_key(self, number: int) -> None:
        """Raise JobError if the history does not have the key in every change from that number on."""
        self.check_recorded(self.key)
        if lacking := [name for name in self.key if self.began.get(name, 0) > number]:
            since = max(self.began[name] for name in lacking)
            raise JobError(
                f"the key of {self.info.name!r} has {lacking[0]!r}, which {self.kept.name} has from change {since} on; "
                "before that its rows cannot be told apart. What is before can be pruned"
            )

    def check_recorded(self, names: Iterable[str]) -> None:
        """Raise JobError if one of some columns is not in the history."""
        for name in names:
            if any(self.names[f"{side}_{name}"] not in self.kept for side in ("old", "new")):
                stored = set(self.names.values())
                gone = [one[4:] for one in self.kept.names if one.startswith("old_") and one not in stored]
                was = f"{gone[0]!r}" if len(gone) == 1 else f"one of {', '.join(map(repr, gone))}"
                mend = f"; if it was {was} and got another name, rename the two columns there alike" if gone else ""
                raise JobError(f"column {name!r} of {self.info.name!r} is not in {self.kept.name}{mend}")

    def runs(self, where: Where = (), limit: int | None = None, seals: bool = True) -> list[dict[str, Any]]:
        """The rows of `rmend_batches` about the table, oldest first, for which conditions hold; the last `limit`.
        Without `seals` these are not read."""
        here = [[Condition("table_name", "=", self.info.name)], *where]
        return runs_of(self.session, here, limit, None if seals else _BUT_SEALS)

    def numbers_of(self, where: Where, limit: int | None = None) -> list[int]:
        """The numbers of the table's batches for which conditions hold, ascending; the last `limit`."""
        here = [[Condition("table_name", "=", self.info.name)], *where]
        kept = self.session.find_own(BATCHES_TABLE)
        if kept is None or any(one.column not in kept for group in where for one in group):
            return []
        found = self.session.read(kept, Selection(here, "batch_no", limit, columns=["batch_no"]))
        numbers: list[int] = found.values["batch_no"].to_pylist()
        return numbers

    @property
    def columns(self) -> list[str]:
        """The columns that the table and its history both have."""
        return [name for name in self.info.names if self.names[f"old_{name}"] in self.kept]

    @property
    def is_complete(self) -> bool:
        """Whether the history has all columns of the table."""
        return len(self.columns) == len(self.info.columns)

    @cached_property
    def began(self) -> dict[str, int]:
        """The columns that the table got when it had its history already, and the first change that knows of each."""
        details = details_of(self.session, self.info.name, "began")
        began = {one.name: one.change_no for one in details if one.change_no is not None}
        if self.identity.unnoted:
            newest = self.session.last(self.kept.name, NUMBER)
            began |= {self.identity.pair(name): newest + 1 for name in self.identity.unnoted}
        return {name: began[self.identity.pair(name)] for name in self.info.names if self.identity.pair(name) in began}

    def known_since(self, number: int) -> list[str]:
        """The columns whose values the history knows of every change from that number on."""
        return [name for name in self.columns if self.began.get(name, 0) <= number]

    @cached_property
    def begins(self) -> Beginning | None:
        """Where the history begins, if it was pruned."""
        return beginning_of(self.session, self.info.name)

    @cached_property
    def holes(self) -> list[Hole]:
        """The spans of which the history knows nothing."""
        return holes_of(self.session, self.info.name)

    @property
    def replaced_words(self) -> str:
        """That another table has taken the name, which no batch has noted yet."""
        return f"the table that is named {self.info.name!r} now is another one than that whose changes were recorded"

    def changes(self, where: Where = (), columns: Sequence[str] | None = None) -> Iterator[Existing]:
        """The changes for which the conditions hold, in order, some at a time; `columns`: only these of theirs."""
        return self.session.pages(self.kept, Selection(where, NUMBER, columns=columns))

    def between(self, after: int, until: int) -> Where:
        """The conditions for the changes after one, up to another."""
        return [[Condition(NUMBER, ">", after)], [Condition(NUMBER, "<=", until)]]

    def stored(self, columns: Sequence[str], sides: Sequence[str] = ("old", "new")) -> list[str]:
        """What the old and new values of some columns are called in the history."""
        return [self.names[f"{side}_{name}"] for side in sides for name in columns]

    def last_batches(self, keys: pa.Table, columns: Sequence[str | None], after: int) -> list[int | None]:
        """For each of some keys the batch of the last change after a position that set one of `columns` in its row
        (None: any): 0 if nobody merged that one, None if there is none."""
        seed = secrets.randbits(64)
        sought = self.hash_keys(keys, seed)
        order = np.unique(sought)
        last = {name: np.full(len(order), -1, np.int64) for name in dict.fromkeys(columns)}
        named = [name for name in last if name is not None]
        wanted = [NUMBER, "batch_no", "action", *self.stored(list(dict.fromkeys([*self.key, *named])))]
        for page in self.changes([[Condition(NUMBER, ">", after)]], wanted):
            batch = pc.fill_null(page.values["batch_no"], 0).to_numpy()
            old, new = (self.rows(page, side, list(dict.fromkeys([*self.key, *named]))) for side in ("old", "new"))
            keyed = [self.hash_keys(rows.values.select(self.key), seed) for rows in (old, new)]
            whole = pc.not_equal(page.values["action"], "update").to_numpy()
            for name, found in last.items():
                sets = np.ones(len(batch), bool) if name is None else whole | unlike(new, old, name)
                for hashed in keyed:
                    hit = np.flatnonzero(among(hashed, order) & sets)
                    found[np.searchsorted(order, hashed[hit])] = batch[hit]
        places = np.searchsorted(order, sought).tolist()
        batches = [int(last[name][place]) for name, place in zip(columns, places, strict=True)]
        return [None if batch < 0 else batch for batch in batches]

    def of_run(self, run: Mapping[str, Any]) -> Where:
        """The conditions for the changes of a batch."""
        bounds = [[Condition(NUMBER, ">=", run["first_change"])], [Condition(NUMBER, "<=", run["last_change"])]]
        return [*bounds, [Condition("batch_no", "=", run["batch_no"])]]

    def nothing(self) -> Existing:
        """No changes."""
        return self.session.read(self.kept, Selection([[Condition(NUMBER, "<", 0)]], NUMBER))

    def hash_keys(self, rows: pa.Table, seed: int) -> np.ndarray:
        """A 64-bit hash of the key of each row."""
        return hash_rows(self.fold_keys(rows), seed)

    def fold_keys(self, rows: pa.Table) -> list[pa.Array]:
        """The keys of rows, in a form in which two are the same exactly where the database calls them equal."""
        return self.session.fold(self.info, rows.select(self.key))

    def sought(self, key: Mapping[str, Any]) -> dict[str, pa.Scalar]:
        """The values of a key, in the types of their columns. Raises JobError for a wrong one."""
        columns = {known_column(self.info, name).name: value for name, value in key.items()}
        return {name: value_of(self.info[name], value) for name, value in columns.items()}

    def of_key(self, key: Mapping[str, Any], where: Where = (), limit: int | None = None) -> Existing:
        """The changes of rows that have a key, before or after; the last `limit`. Raises JobError for a wrong key."""
        found = []
        for side in ("old", "new"):
            same = []
            for name, value in self.sought(key).items():
                self.check_recorded([name])
                same.append([Condition(self.names[f"{side}_{name}"], "=", value.as_py())])
            found.append(self.session.read(self.kept, Selection([*same, *where], NUMBER, limit)))
        both = together(found)
        _, first = np.unique(both.values[NUMBER].to_numpy(), return_index=True)
        return both.take(first if limit is None else first[-limit:])

    def rows(self, changes: Existing, side: str, columns: Sequence[str]) -> Existing:
        """The old or the new rows of changes, in the types of the table. Raises JobError if a type has changed so
        that a value has no place in it."""
        arrays, verbatim = [], {}
        for name in columns:
            column, stored = self.info[name], self.names[f"{side}_{name}"]
            values, bad = cast(*_as_kept(one_array(changes.values[stored]), column))
            if bad is not None and bad.any():
                at = changes.values[NUMBER][int(np.flatnonzero(bad)[0])].as_py()
                raise JobError(
                    f"{self.info.name}.{name} has changed its type since: it cannot hold what it held at change {at}"
                )
            arrays.append(values)
            if stored in changes.verbatim:
                verbatim[name] = changes.verbatim[stored]
        return Existing(changes.positions, pa.table(arrays, names=list(columns)), pa.table({}), verbatim)

    def slots(self, changes: Existing) -> Slots:
        """The slots that changes touch."""
        actions = one_array(changes.values["action"])
        takes, puts = (mask_of(pc.not_equal(actions, one)) for one in ("insert", "delete"))
        old, new = (self.session.fold(self.info, self.rows(changes, side, self.key).values) for side in ("old", "new"))
        return slots_of(takes, puts, old, new, (secrets.randbits(64), secrets.randbits(64)))


def _as_kept(values: pa.Array, column: Column) -> tuple[pa.Array, Column]:
    """Values of a history, and the column in whose type they are wanted: as long as they were, since a database need
    not hold itself to a length, or may have another since; and with every digit that a database gives a real which
    becomes a double."""
    if pa.types.is_float32(values.type) and pa.types.is_float64(column.type):
        values = values.cast(pa.float64())
    return values, replace(column, length=None) if column.length is not None else column


def past_of(session: Session, name: str, table: TableInfo | None = None, hold: bool = False) -> Past:
    """The past of a table. Raises StoreError if the table is not there, or has no history.

    `hold`: the table's own rows are read too, and have to fit what its history says.
    """
    past = past_if_any(session, name, table)
    if past is None:
        raise StoreError(f"table {name!r} has no history: {_without(session, table or session.describe(name))}")
    if hold:
        session.hold(past.info)
    return past


def _without(session: Session, info: TableInfo) -> str:
    """Why a table has no history."""
    if before := named_before(session, info):
        return renamed_words(info.name, *before)
    return "nothing was merged into it with history on"


def renamed_words(table: str, before: str, batch: int) -> str:
    """What became of the history of a table that was renamed."""
    return (
        f"{table!r} was named {before!r} when batch {batch} ran, and its changes until then are in "
        f"{history_name(before)}; rename it back to go on with that history"
    )


def past_if_any(session: Session, name: str, table: TableInfo | None = None) -> Past | None:
    """The past of a table; None if it has no history. Raises StoreError if the table is not there."""
    info = table or session.describe(name)
    name = history_name(info.name)
    kept = session.find_own(name, info)
    if kept is None:
        return None
    if not is_history(kept):
        raise StoreError(f"table {name!r} is not a history that Rapid Mender keeps")
    identity = identity_of(session, info)
    return Past(session, info, kept, stored_names(info, session.fits, identity.names), identity)


def beginning_of(session: Session, table: str) -> Beginning | None:
    """Where the history of a table begins, if it was pruned."""
    for one in newest_details(session, table, "pruned"):
        assert one.change_no is not None  # both are looked at when it is read
        assert one.at_time is not None
        return Beginning(one.change_no, one.at_time, one.of_batch, one.batch)
    return None


def runs_of(
    session: Session, where: Where = (), limit: int | None = None, columns: Sequence[str] | None = None
) -> list[dict[str, Any]]:
    """The rows of `rmend_batches` for which conditions hold, oldest first; the last `limit`. `columns`: only these.

    What is JSON in them is read; as it is kept it is under `figures_text`, `undoes_text` and `seal_text`.
    """
    kept = session.find_own(BATCHES_TABLE)
    if kept is None or any(one.column not in kept for group in where for one in group):
        return []
    wanted = None if columns is None else [name for name in columns if name in kept]
    rows: list[dict[str, Any]] = session.read(
        kept, Selection(where, "batch_no", limit, columns=wanted)
    ).values.to_pylist()
    for row in rows:
        for column in BATCHES.columns:
            row.setdefault(column.name)
    check_rows(session, BATCHES, rows)
    for row in rows:
        _check_span(session, row)
        for name in ("started_at", "finished_at"):
            row[name] = None if row[name] is None else in_utc(row[name])
        for name, none in (("figures", {}), ("undoes", []), ("seal", {})):
            row[f"{name}_text"] = row[name]
            row[name] = read_json(row[name], none)
    return rows


def in_utc(at: datetime) -> datetime:
    """A time of our own tables; MariaDB's have no zone."""
    return at.replace(tzinfo=UTC) if at.tzinfo is None else at


def changes_made(run: Mapping[str, Any]) -> int:
    """How many changes a batch made, as its row says."""
    return sum(run[name] or 0 for name in ("inserted", "updated", "deleted"))


def _check_span(session: Session, run: Mapping[str, Any]) -> None:
    """Raise StoreError if a batch's row cannot be true of its changes."""
    first, last = run["first_change"], run["last_change"]
    if first is None and last is None:
        return
    if first is None or last is None or not 0 < first <= last < MOST_CHANGES:
        raise StoreError(
            f"{session.where}: row {run['batch_no']} of {BATCHES_TABLE} has changes {first} to {last}, so somebody has "
            "altered it; put it back"
        )


def together(pages: Sequence[Existing]) -> Existing:
    """Pages of rows as one, without their locators."""
    if len(pages) == 1:
        return pages[0]
    bare = [Existing(page.positions, page.values, pa.table({}), page.verbatim) for page in pages]
    joined = concatenated(bare)
    return Existing(np.arange(len(joined.positions)), joined.values, pa.table({}), joined.verbatim)
