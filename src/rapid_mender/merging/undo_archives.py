"""Archives in an undo: copies that the undone changes made there go, and copies that they took out come back."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..changes.detail import Detail
from ..changes.details import batches_between, details_of
from ..changes.past import MOST_CHANGES, NUMBER, Past
from ..core.compare import differs
from ..core.existing import Existing
from ..core.hashing import hash_rows
from ..core.keys import one_array
from ..core.masks import mask_of
from ..core.names import in_quotes
from ..core.repeats import among
from ..core.schema import TableInfo
from ..errors import JobError
from ..stores.contract import Condition

_SEED = 1


class Archives:
    """The archive of the changes that are undone. `old` are their old rows. Raises JobError if there are several.

    Each delete of a merge that archives has made a copy of its old row. An undo has moved the same copies the other
    way as the batches that it undid, but for those of rows which it left. What is left of all, for each row, is made
    undone.
    """

    def __init__(self, past: Past, changes: Existing, old: Existing) -> None:
        self._past, self._session, self._changes = past, past.session, changes
        self._old = old.values
        self._scope = set(pc.unique(changes.values["batch_no"]).drop_null().to_pylist())
        self._noted = [one for one in self._notes(self._scope) if one.detail != "left"]
        self._table = self._one()
        self._wrote = False

    def _notes(self, batches: set[int]) -> list[Detail]:
        """What some batches have noted of archives, and of rows that they left."""
        if not batches:
            return []
        within = batches_between(min(batches), max(batches))
        noted = details_of(self._session, self._past.info.name, "archive", "restored", "left", where=within)
        return [one for one in noted if one.batch in batches]

    def _one(self) -> TableInfo | None:
        names = {str(one.name) for one in self._noted}
        if len(names) > 1:
            raise JobError(f"the batches have put rows into several archives, {in_quotes(names)}; undo them one by one")
        return self._session.describe(names.pop()) if names else None

    @property
    def details(self) -> list[Detail]:
        """What the undo itself is to note."""
        if self._table is None or not self._wrote:
            return []
        return [
            Detail("restored", name=self._table.name, of_batch=one) for one in sorted({x.batch for x in self._noted})
        ]

    def settle(self, kept: pa.Table) -> None:
        """Make undone what the changes did to the archive, but for the rows with one of the keys that are `kept`."""
        if self._table is None:
            return
        rows, sign = self._moved()
        if not rows.num_rows:
            return
        same = hash_rows([*self._past.fold_keys(rows), *(one_array(rows[name]) for name in rows.column_names)], _SEED)
        _, first, which = np.unique(same, return_index=True, return_inverse=True)
        net = np.zeros(len(first), np.int64)
        np.add.at(net, which, sign)
        if kept.num_rows:
            left = np.unique(self._hashed(kept))
            net[among(self._hashed(rows.take(pa.array(first))), left)] = 0
        for turn in range(int(np.abs(net).max(initial=0))):
            self._take_out(rows.take(pa.array(first[net > turn])))
            self._put_in(rows.take(pa.array(first[net < -turn])))

    def _moved(self) -> tuple[pa.Table, np.ndarray]:
        """The rows whose copies the changes put into the archive (1), or took out (-1)."""
        assert self._table is not None
        tables, signs, since = [self._old.slice(0, 0)], [np.empty(0, np.int64)], MOST_CHANGES
        groups: list[tuple[int, np.ndarray | None, set[int]]] = [(1, None, {one.batch for one in self._noted})]
        while groups:
            sign, keys, batches = groups.pop()
            noted = self._notes(batches)
            undos = self._undone_by(noted)
            left = {one.batch for one in noted if one.detail == "left"}
            groups += [(-sign, self._keys_of(undo) if undo in left else keys, undone) for undo, undone in undos.items()]
            for what, side, action, way in (("archive", "old", "delete", 1), ("restored", "new", "insert", -1)):
                mine = {one.batch for one in noted if one.detail == what and one.name == self._table.name}
                rows, first = self._of(mine - undos.keys(), side, action)
                if keys is not None:
                    rows = rows.filter(pa.array(among(self._hashed(rows), keys)))
                since = min(since, first)
                tables.append(rows)
                signs.append(np.full(rows.num_rows, sign * way, np.int64))
        known = [name for name in self._old.column_names if self._past.began.get(name, 0) <= since]
        return pa.concat_tables(tables).select(known), np.concatenate(signs)

    def _undone_by(self, noted: list[Detail]) -> dict[int, set[int]]:
        """By undo the batches whose copies it moved back, where their changes are there."""
        undos: dict[int, set[int]] = {}
        for one in noted:
            if one.detail == "restored" and one.of_batch is not None:
                undos.setdefault(one.batch, set()).add(one.of_batch)
        return {undo: undone for undo, undone in undos.items() if not self._pruned(undone)}

    def _pruned(self, batches: set[int]) -> bool:
        """Whether the changes of one of some batches are gone: then the undo's own tell which copies it moved."""
        begins = self._past.begins
        if begins is None:
            return False
        gone = [[Condition("first_change", "<=", begins.change)]]
        return bool(self._past.numbers_of([*gone, [Condition("batch_no", "=", one) for one in batches]]))

    def _hashed(self, rows: pa.Table) -> np.ndarray:
        return self._past.hash_keys(rows.select(self._past.key), _SEED)

    def _keys_of(self, batch: int) -> np.ndarray:
        """Hashes of the keys of the rows that a batch changed."""
        return np.unique(self._hashed(pa.concat_tables([self._of({batch}, side, None)[0] for side in ("old", "new")])))

    def _of(self, batches: set[int], side: str, action: str | None) -> tuple[pa.Table, int]:
        """The old or new rows of the changes of some batches, and the first of these; `action`: only of those."""
        tables, first = [self._old.slice(0, 0)], MOST_CHANGES
        for page in self._changes_of(batches):
            none = {"old": "insert", "new": "delete"}[side]
            actions = page.values["action"]
            mask = pc.not_equal(actions, none) if action is None else pc.equal(actions, action)
            mask = pc.and_(mask, pc.is_in(page.values["batch_no"].cast(pa.int64()), pa.array(batches, pa.int64())))
            mine = page.take(np.flatnonzero(mask_of(mask)))
            if len(mine.positions):
                first = min(first, pc.min(mine.values[NUMBER]).as_py())
                tables.append(self._past.rows(mine, side, self._old.column_names).values)
        return pa.concat_tables(tables), first

    def _changes_of(self, batches: set[int]) -> Iterator[Existing]:
        """Changes among which are those of some batches."""
        if batches & self._scope:
            yield self._changes
        if others := batches - self._scope:
            runs = self._past.runs([[Condition("batch_no", "=", one) for one in sorted(others)]], seals=False)
            spans = [(run["first_change"], run["last_change"]) for run in runs if run["first_change"] is not None]
            if spans:
                after, until = min(first for first, _ in spans) - 1, max(last for _, last in spans)
                of = [Condition("batch_no", "=", one) for one in sorted(others)]
                yield from self._past.changes([*self._past.between(after, until), of])

    def _take_out(self, rows: pa.Table) -> None:
        """Delete one copy of each of some rows from the archive, where it stands there as it was."""
        assert self._table is not None
        if not rows.num_rows:
            return
        names = [name for name in rows.column_names if name in self._table]
        there = self._session.fetch(
            self._table, rows.select(self._past.key), fresh=True, by=[n for n in names if n not in self._past.key]
        )
        match = np.ones(len(there.positions), bool)
        for name in names:
            match &= ~differs(one_array(there.values[name]), one_array(rows[name].take(pa.array(there.positions))))
        _, first = np.unique(there.positions[match], return_index=True)
        if len(first):
            self._wrote = True
            self._session.delete(self._table, there.take(np.flatnonzero(match)[first])).refusals()

    def _put_in(self, rows: pa.Table) -> None:
        assert self._table is not None
        if not rows.num_rows:
            return
        self._wrote = True
        some = rows.select([name for name in rows.column_names if name in self._table])
        if refused := self._session.insert(self._table, some, self._table.primary_key).refusals():
            raise JobError(f"the archive {self._table.name!r} does not take a row back: {next(iter(refused.values()))}")
