"""Writing rows together with their history."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..changes import form as changes_of
from ..changes.recorder import Recorder, verbatim_cells
from ..core.compare import Patterns, differs
from ..core.existing import Existing
from ..core.keys import one_array
from ..core.schema import TableInfo
from ..stores.contract import Session, Written, refused_too


@dataclass(frozen=True)
class Setting:
    """What is to be set in some rows: `values` has a value for each row, `changed` masks by column the rows in which
    that differs from what is there, and `patterns` has the same by row."""

    values: pa.Table
    changed: dict[str, np.ndarray]
    patterns: Patterns


def setting_of(rows: Existing, values: dict[str, pa.Array]) -> Setting:
    """What is to be set in rows, so that they have some values."""
    changed = {name: differs(one_array(rows.values[name]), value) for name, value in values.items()}
    return Setting(pa.table(values), changed, Patterns(changed, len(rows.positions)))


class RowWriter:
    """Changes rows of a table within a transaction, and records that. `key`: the columns that tell the rows apart.

    What the store refuses is known later: see `Written.refusals`. `why` has the reasons for the history, a text or
    null for each row; None where all are null. `records`: which record by number each row is about, where the recorder
    is to know.
    """

    def __init__(self, session: Session, recorder: Recorder, info: TableInfo, key: Sequence[str]) -> None:
        self.session, self.recorder, self.info, self.key = session, recorder, info, key

    def update(
        self,
        old: Existing,
        setting: Setting,
        rows: np.ndarray,
        why: pa.Array | None,
        *,
        records: np.ndarray | None = None,
    ) -> Written:
        """Set in the rows `old`, which are at `rows` in `setting`, the columns that change in any of them."""
        index, new = pa.array(rows), {}
        for name, mask in setting.changed.items():
            here = mask[rows]
            if here.any():
                value = one_array(setting.values[name]).take(index)
                new[name] = value if here.all() else pc.if_else(pa.array(here), value, one_array(old.values[name]))
        written = self.session.update(self.info, old, pa.table(new), self.key)
        texts = setting.patterns.texts(changes_of.spell_changed).take(index)
        if written.rows is not None:
            old, texts, why = old.take(written.rows), *_taken((texts, why), written.rows)
            records = None if records is None else records[written.rows]
            as_it_was = _as_it_was(old, written.stored)
            if as_it_was.any():  # by the will of a trigger
                refused = refused_too(written.refusals, written.rows[as_it_was])
                landed = np.flatnonzero(~as_it_was)
                written = Written(written.stored.take(landed), written.rows[landed], refused)
                old, texts, why = old.take(landed), *_taken((texts, why), landed)
                records = None if records is None else records[landed]
        changes = changes_of.build(self.info, "update", old.values, written.stored.values, texts, why)
        cells = verbatim_cells(old=old, new=written.stored)
        self.recorder.record("update", changes, cells, [written], records=records)
        return written

    def insert(self, values: pa.Table, why: pa.Array | None, *, records: np.ndarray | None = None) -> Written:
        """Insert rows; what `values` lacks the database fills."""
        written = self.session.insert(self.info, values, self.key)
        if written.rows is not None:
            (why,) = _taken((why,), written.rows)
            records = None if records is None else records[written.rows]
        changes = changes_of.build(self.info, "insert", None, written.stored.values, reason=why)
        self.recorder.record("insert", changes, verbatim_cells(new=written.stored), [written], records=records)
        return written

    def delete(
        self,
        rows: Existing,
        why: pa.Array | None,
        archive: TableInfo | None = None,
        *,
        records: np.ndarray | None = None,
    ) -> Written:
        """Delete rows, or move them to the `archive`. Returns what came of it."""
        gone = self.session.delete(self.info, rows) if archive is None else self.session.move(self.info, rows, archive)
        changes = changes_of.build(self.info, "delete", rows.values, None, reason=why)
        self.recorder.record("delete", changes, verbatim_cells(old=rows), [gone], records=records)
        return gone


def together(existing: Existing, setting: Setting, rows: np.ndarray) -> list[np.ndarray]:
    """The places in `rows` of those that can be updated by one statement, which sets a column in all of its rows.

    A verbatim cell could not be set to what it is, so a row with one goes only with rows in which the same columns
    change.
    """
    apart = np.zeros(len(rows), bool)
    for name, cells in existing.verbatim.items():
        if name in setting.changed:
            apart |= cells.mask[rows] & ~setting.changed[name][rows]
    groups = [np.flatnonzero(~apart)]
    codes = setting.patterns.code[rows]
    groups += [np.flatnonzero(apart & (codes == code)) for code in np.unique(codes[apart])]
    return [places for places in groups if len(places)]


def _taken(arrays: Sequence[pa.Array | None], rows: np.ndarray) -> list[Any]:
    return [None if one is None else one.take(pa.array(rows)) for one in arrays]


def _as_it_was(old: Existing, stored: Existing) -> np.ndarray:
    """A mask of the rows that an update left as they were."""
    names = old.values.column_names
    mask = ~np.any([differs(one_array(old.values[n]), one_array(stored.values[n])) for n in names], axis=0)
    for cells in (*old.verbatim.values(), *stored.verbatim.values()):
        mask &= ~cells.mask
    return mask
