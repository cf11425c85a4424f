"""Archives in an undo: rows that are put back leave them, and rows that an undo had put back go there again."""

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
from ..core.keys import one_array
from ..core.masks import mask_of
from ..core.names import in_quotes
from ..core.schema import TableInfo
from ..core.slots import Slots
from ..errors import JobError


class Archives:
    """The archives of the changes that are undone. Raises JobError if these are several."""

    def __init__(self, past: Past, changes: Existing) -> None:
        self._past, self._session, self._changes = past, past.session, changes
        self._noted = self._of_batches()
        self.out_of = self._one("archive")
        """Where the rows are that the changes moved there."""
        self.into = self._one("restored")
        """Where the rows came from that the changes, which undid others, put back."""

    def _of_batches(self) -> list[Detail]:
        """What the batches of the changes have noted of archives."""
        batches = pc.unique(self._changes.values["batch_no"]).drop_null().to_pylist()
        if not batches:
            return []
        within = batches_between(min(batches), max(batches))
        noted = details_of(self._session, self._past.info.name, "archive", "restored", where=within)
        return [one for one in noted if one.batch in batches]

    def _one(self, what: Literal["archive", "restored"]) -> TableInfo | None:
        names = {str(one.name) for one in self._noted if one.detail == what}
        if len(names) > 1:
            raise JobError(f"the batches have put rows into several archives, {in_quotes(names)}; undo them one by one")
        return self._session.describe(names.pop()) if names else None

    @property
    def details(self) -> list[Detail]:
        """What the undo itself is to note."""
        details = [Detail("restored", name=self.out_of.name)] if self.out_of is not None else []
        return details + ([Detail("archive", name=self.into.name)] if self.into is not None else [])

    def took_back(self, slots: Slots) -> np.ndarray:
        """A mask of the slots whose row the first of their changes took out of an archive."""
        batches = [one.batch for one in self._noted if one.detail == "restored"]
        first = self._changes.values["batch_no"].take(pa.array(slots.first))
        return mask_of(pc.fill_null(pc.is_in(first, pa.array(batches, first.type)), False))

    def take_out(self, rows: pa.Table) -> None:
        """Take rows out of the archive, where they stand there as they were."""
        if self.out_of is None or not rows.num_rows:
            return
        there = self._session.fetch(self.out_of, rows.select(self._past.key), fresh=True)
        match = np.ones(len(there.positions), bool)
        for name in (name for name in rows.column_names if name in self.out_of):
            match &= ~differs(one_array(there.values[name]), one_array(rows[name].take(pa.array(there.positions))))
        _, first = np.unique(there.positions[match], return_index=True)  # of copies that are alike, one
        if len(first):
            self._session.delete(self.out_of, there.take(np.flatnonzero(match)[first])).refusals()
