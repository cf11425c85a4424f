"""The existing rows that a store found for a set of keys."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from .cast import as_text, plain
from .hashing import hash_rows


@dataclass
class Verbatim:
    """The cells of one column that the store holds in another form than the column's own.

    Some stores keep what they were given: a word in a column of numbers, a date spelled otherwise.
    `raw` is opaque to all but the store: its own form of each verbatim cell, from which it can write the cell
    again just as it was.
    """

    mask: np.ndarray
    """Which rows have one."""
    unreadable: np.ndarray
    """Which rows have no value of the column's type at all. They differ from every value."""
    raw: pa.Table
    """One row for each verbatim cell, in the order of `mask`."""
    text: pa.Array
    """The verbatim cells as text, to show them."""

    def take(self, positions: np.ndarray) -> Verbatim:
        mask = self.mask[positions]
        place = np.cumsum(self.mask) - 1
        within = pa.array(place[positions[mask]])
        return Verbatim(mask, self.unreadable[positions], self.raw.take(within), self.text.take(within))


@dataclass
class Existing:
    """Rows of a table, in the types of its columns.

    `positions` says for each row which of the asked keys it answers to, ascending; `locators` is how the
    store finds the rows again, opaque to all but the store.
    """

    positions: np.ndarray
    values: pa.Table
    locators: pa.Table
    verbatim: dict[str, Verbatim] = field(default_factory=dict)

    def shown(self, row: int) -> dict[str, Any]:
        """A row as it is shown to people: verbatim cells as the text that they are."""
        return {name: self.shown_cell(name, row) for name in self.values.column_names}

    def shown_cell(self, column: str, row: int) -> Any:
        """One cell of it."""
        cells = self.verbatim.get(column)
        if cells is not None and cells.mask[row]:
            return cells.text[int(cells.mask[:row].sum())].as_py()
        return self.values[column][row].as_py()

    def odd_cells(self) -> dict[str, dict[int, str]]:
        """By column the cells that have no value of its type, as texts, by their rows."""
        odd = {name: np.flatnonzero(cells.unreadable) for name, cells in self.verbatim.items()}
        return {
            name: {int(at): str(self.shown_cell(name, int(at))) for at in rows}
            for name, rows in odd.items()
            if len(rows)
        }

    def whole_values(self, but: Collection[str] = ()) -> pa.Table:
        """The values; those of a column in which cells have no value of its type as texts, so that none is lost. `but`:
        not of these columns."""
        values = self.values
        for name, cells in self.verbatim.items():
            if cells.unreadable.any() and name not in but:
                texts = self.texts(name, np.arange(len(self.positions)))
                values = values.set_column(values.column_names.index(name), name, texts)
        return values

    def texts(self, column: str, rows: np.ndarray) -> pa.Array:
        """Some cells of a column as texts."""
        cells = self.verbatim.get(column)
        texts = as_text(plain(self.values[column]).take(pa.array(rows)))[0]
        if cells is None:
            return texts
        shown = [self.shown_cell(column, row) if cells.mask[row] else None for row in rows.tolist()]
        return pc.coalesce(pa.array(shown, pa.string()), texts)

    def hashes(self, columns: Sequence[str], seed: int) -> np.ndarray:
        """A 64-bit hash of some columns of each row, also of cells for which their type has no value."""
        hashed = hash_rows([plain(self.values[name]) for name in columns], seed)
        for place, name in enumerate(columns, 1):
            if name in self.verbatim:
                cells = self.verbatim[name]
                hashed[cells.mask] ^= hash_rows([plain(cells.text)], seed + place)
        return hashed

    def take(self, rows: np.ndarray) -> Existing:
        index = pa.array(rows)
        verbatim = {name: cells.take(rows) for name, cells in self.verbatim.items()}
        return Existing(
            self.positions[rows],
            self.values.take(index),
            self.locators.take(index),
            {name: cells for name, cells in verbatim.items() if cells.mask.any()},
        )


def concatenated(parts: Sequence[Existing]) -> Existing:
    """Rows of one table together."""
    values = pa.concat_tables([part.values for part in parts])
    starts = np.cumsum([0, *(len(part.positions) for part in parts)])
    count = int(starts[-1])
    verbatim: dict[str, Verbatim] = {}
    for name in {name for part in parts for name in part.verbatim}:
        mask, unreadable, raw, text = np.zeros(count, bool), np.zeros(count, bool), [], []
        for part, start in zip(parts, starts, strict=False):
            if name in part.verbatim:
                cells = part.verbatim[name]
                mask[start : start + len(part.positions)] = cells.mask
                unreadable[start : start + len(part.positions)] = cells.unreadable
                raw.append(cells.raw)
                text.append(cells.text)
        verbatim[name] = Verbatim(mask, unreadable, pa.concat_tables(raw), pa.concat_arrays(text))
    locators = pa.concat_tables([part.locators for part in parts])
    return Existing(np.concatenate([part.positions for part in parts]), values, locators, verbatim)
