"""What rules may look at: the records, the rows that they find, and what differs."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
import pyarrow as pa

from .expressions.scope import Name
from .keys import one_array
from .row_numbers import as_indices, is_row


@dataclass
class RuleInputs(Mapping[Name, pa.Array]):
    """The names of a rule over looked-up records: each column is made when it is first asked for."""

    incoming: pa.Table
    raw: Mapping[str, pa.Array]
    existing: pa.Table
    matched_row: np.ndarray
    """For each record the place of the row that it meets, or -1."""
    changed: Mapping[str, np.ndarray]
    compared: np.ndarray
    """A mask of the rows in which a compared column differs."""
    stale: np.ndarray
    """A mask of the rows that are newer than the record that meets them."""
    types: Mapping[Name, pa.DataType] = field(default_factory=dict)
    _made: dict[Name, pa.Array] = field(default_factory=dict)

    def __getitem__(self, name: Name) -> pa.Array:
        if name not in self._made:
            self._made[name] = self._make(*name)
        return self._made[name]

    def __iter__(self) -> Iterator[Name]:
        return iter(self._made)

    def __len__(self) -> int:
        return len(self._made)

    def _make(self, side: str, name: str) -> pa.Array:
        if side == "incoming":
            if name in self.incoming.column_names:
                return one_array(self.incoming[name])
            if name in self.raw:
                return self.raw[name]
            return pa.nulls(len(self.matched_row), self.types.get(("incoming", name), pa.null()))
        if side == "existing":
            return one_array(self.existing[name]).take(self._index)
        matched = is_row(self.matched_row)
        if name == "matched":
            return pa.array(matched)
        mask = self.changed.get(name) if side else self.stale if name == "stale" else self.compared
        out = np.zeros(len(self.matched_row), bool)
        if mask is not None:
            out[matched] = mask[self.matched_row[matched]]
        return pa.array(out)

    @cached_property
    def _index(self) -> pa.Array:
        return as_indices(self.matched_row)

    def tables(self) -> tuple[pa.Table, pa.Table]:
        """Both sides as tables, for a rule that is a function."""
        sent, columns = set(self.incoming.column_names), {}
        for name, kind in zip(self.existing.column_names, self.existing.schema.types, strict=True):
            columns[name] = self.incoming[name] if name in sent else pa.nulls(len(self.matched_row), kind)
        columns |= {name: values for name, values in self.raw.items() if name not in columns}
        return pa.table(columns), self.existing.take(self._index)


class _Some(Mapping[Name, pa.Array]):
    def __init__(self, every: Mapping[Name, pa.Array], rows: pa.Array) -> None:
        self._every, self._rows = every, rows

    def __getitem__(self, name: Name) -> pa.Array:
        return self._every[name].take(self._rows)

    def __iter__(self) -> Iterator[Name]:
        return iter(self._every)

    def __len__(self) -> int:
        return len(self._every)
