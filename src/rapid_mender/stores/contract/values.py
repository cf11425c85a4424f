"""Values as a store holds them."""

from __future__ import annotations

from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from ...core.keys import fold_table, one_array
from ...core.schema import TableInfo

Normalised = tuple[pa.Table, dict[str, Any]]
"""Values as a store holds them, and by column a mask of those that it cannot hold."""


def kept(normalised: Normalised) -> pa.Table:
    """Normalised values, null where the store cannot hold them."""
    values, refused = normalised
    for name, mask in refused.items():
        column = one_array(values[name])
        place = values.column_names.index(name)
        values = values.set_column(place, name, pc.if_else(pa.array(mask), pa.scalar(None, column.type), column))
    return values


class Values:
    """What a store makes of values."""

    def normalise(self, info: TableInfo, values: pa.Table) -> Normalised:
        """What the store would make of `values`, and per column a mask of those that it cannot hold."""
        return values, {}

    def fold(self, info: TableInfo, keys: pa.Table) -> list[pa.Array]:
        """The keys in a form in which two are the same exactly where the database calls them equal."""
        return fold_table(keys, info.pick(keys.column_names))
