"""Archives in an undo: copies that the undone changes made there go, and copies that they took out come back."""

from __future__ import annotations

from typing import Literal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..changes.detail import Detail
from ..changes.details import batches_between, details_of
from ..changes.past import Past
from ..core.compare import differs
from ..core.existing import Existing
from ..core.hashing import hash_rows
from ..core.keys import one_array
from ..core.masks import mask_of
from ..core.names import in_quotes
from ..core.repeats import among
from ..core.schema import TableInfo
from ..errors import JobError

_SEED = 1


class Archives:
    """The archive of the changes that are undone. `old` and `new` are their rows. Raises JobError if there are several.

    Each delete of a batch that archives has made a copy of its old row; each insert of an undo that puts rows back out
    of an archive has taken a copy of its new row out. What is left of both, for each row, is made undone.
    """

    def __init__(self, past: Past, changes: Existing, old: Existing, new: Existing) -> None:
        self._past, self._session, self._changes = past, past.session, changes
        self._old, self._new = old.values, new.values
        self._noted = self._of_batches()
        self._table = self._one()
        self._took, self._put = False, False

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
        name = None if self._table is None else self._table.name
        done: list[tuple[bool, Literal["restored", "archive"]]] = [(self._took, "restored"), (self._put, "archive")]
        return [Detail(what, name=name) for did, what in done if did]

    def settle(self, kept: pa.Table) -> None:
        """Make undone what the changes did to the archive, but for the rows with one of the keys that are `kept`."""
        if self._table is None:
            return
        copied, removed = self._of("archive", "delete"), self._of("restored", "insert")
        rows = pa.concat_tables([self._old.take(pa.array(copied)), self._new.take(pa.array(removed))])
        if not rows.num_rows:
            return
        sign = np.concatenate([np.ones(len(copied), np.int64), -np.ones(len(removed), np.int64)])
        same = hash_rows([*self._past.fold_keys(rows), *(one_array(rows[name]) for name in rows.column_names)], _SEED)
        _, first, which = np.unique(same, return_index=True, return_inverse=True)
        net = np.zeros(len(first), np.int64)
        np.add.at(net, which, sign)
        if kept.num_rows:
            left = np.unique(self._past.hash_keys(kept, _SEED))
            net[among(self._past.hash_keys(rows.take(pa.array(first)).select(self._past.key), _SEED), left)] = 0
        for turn in range(int(np.abs(net).max(initial=0))):
            self._take_out(rows.take(pa.array(first[net > turn])))
            self._put_in(rows.take(pa.array(first[net < -turn])))

    def _of(self, what: str, action: str) -> np.ndarray:
        """The changes of an action in batches that have noted something, by their places."""
        batches = pa.array([one.batch for one in self._noted if one.detail == what], pa.int64())
        mine = pc.is_in(self._changes.values["batch_no"].cast(pa.int64()), batches)
        return np.flatnonzero(mask_of(pc.and_(mine, pc.equal(self._changes.values["action"], action))))

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
            self._took = True
            self._session.delete(self._table, there.take(np.flatnonzero(match)[first])).refusals()

    def _put_in(self, rows: pa.Table) -> None:
        assert self._table is not None
        if not rows.num_rows:
            return
        self._put = True
        some = rows.select([name for name in rows.column_names if name in self._table])
        if refused := self._session.insert(self._table, some, ()).refusals():
            raise JobError(f"the archive {self._table.name!r} does not take a row back: {next(iter(refused.values()))}")
