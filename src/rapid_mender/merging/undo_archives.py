"""Archives in an undo: copies that the undone changes made there go, and copies that they took out come back."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..changes.detail import Detail
from ..changes.details import batches_between, details_of
from ..changes.past import MOST_CHANGES, Past
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
        self._noted = self._of_batches()
        self._table = self._one()
        self._wrote = False

    def _of_batches(self) -> list[Detail]:
        """What the batches of the changes have noted of archives."""
        batches = pc.unique(self._changes.values["batch_no"]).drop_null().to_pylist()
        if not batches:
            return []
        within = batches_between(min(batches), max(batches))
        noted = details_of(self._session, self._past.info.name, "archive", "restored", where=within)
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
        tables, signs = [self._old.slice(0, 0)], [np.empty(0, np.int64)]
        todo: list[tuple[int, int, np.ndarray | None]] = [(batch, 1, None) for batch in {x.batch for x in self._noted}]
        since = MOST_CHANGES
        while todo:
            batch, sign, keys = todo.pop()
            (run,) = self._past.runs([[Condition("batch_no", "=", batch)]], seals=False)
            noted = details_of(self._session, self._past.info.name, where=batches_between(batch, batch))
            undone = [one.of_batch for one in noted if one.detail == "restored" and one.of_batch is not None]
            if undone and not self._pruned(undone):
                if any(one.detail == "left" for one in noted):
                    changed = [self._of(run, side, None) for side in ("old", "new")]
                    keys = np.unique(self._hashed(pa.concat_tables(changed)))
                todo += [(one, -sign, keys) for one in undone]
                continue
            for one in noted:
                if one.detail in ("archive", "restored") and self._table is not None and one.name == self._table.name:
                    deleted = one.detail == "archive"
                    rows = self._of(run, "old", "delete") if deleted else self._of(run, "new", "insert")
                    if keys is not None:
                        rows = rows.filter(pa.array(among(self._hashed(rows), keys)))
                    since = min(since, run["first_change"] or since)
                    tables.append(rows)
                    signs.append(np.full(rows.num_rows, sign if deleted else -sign, np.int64))
        known = [name for name in self._old.column_names if self._past.began.get(name, 0) <= since]
        return pa.concat_tables(tables).select(known), np.concatenate(signs)

    def _pruned(self, batches: list[int]) -> bool:
        """Whether the changes of one of some batches are gone: then the undo's own tell which copies it moved."""
        begins = self._past.begins
        if begins is None:
            return False
        gone = [[Condition("first_change", "<=", begins.change)]]
        return bool(self._past.numbers_of([*gone, [Condition("batch_no", "=", one) for one in batches]]))

    def _hashed(self, rows: pa.Table) -> np.ndarray:
        return self._past.hash_keys(rows.select(self._past.key), _SEED)

    def _of(self, run: Mapping[str, Any], side: str, action: str | None) -> pa.Table:
        """The old or new rows of a batch's changes; `action`: only of those."""
        every, columns = self._changes.values["batch_no"], self._old.column_names
        places = np.flatnonzero(mask_of(pc.fill_null(pc.equal(every, run["batch_no"]), False)))
        pages = [self._changes.take(places)] if len(places) else self._past.changes(self._past.of_run(run))
        tables = [self._old.slice(0, 0)]
        for page in pages:
            none = {"old": "insert", "new": "delete"}[side]
            actions = page.values["action"]
            mask = pc.not_equal(actions, none) if action is None else pc.equal(actions, action)
            mine = page.take(np.flatnonzero(mask_of(mask)))
            tables.append(self._past.rows(mine, side, columns).values)
        return pa.concat_tables(tables)

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
