"""Names and texts as SQL writes them."""

from __future__ import annotations

from collections.abc import Sequence

import pyarrow as pa

from ..core.cast import as_text


def name_sql(name: str) -> str:
    """A name."""
    return '"' + name.replace('"', '""') + '"'


def text_sql(value: str) -> str:
    """A text, in a database that gives the backslash no meaning."""
    return "'" + value.replace("'", "''") + "'"


def literals(columns: Sequence[pa.Array], hexadecimal: str) -> list[tuple[str, ...]]:
    """A few rows as SQL writes their values; `hexadecimal` is a template for bytes."""
    spelled = []
    for values in columns:
        if pa.types.is_binary(values.type):
            spelled.append([None if v is None else hexadecimal.format(v.hex()) for v in values.to_pylist()])
        else:
            spelled.append([None if v is None else text_sql(v) for v in as_text(values)[0].to_pylist()])
    return [tuple("NULL" if v is None else v for v in row) for row in zip(*spelled, strict=True)]
