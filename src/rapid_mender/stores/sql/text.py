"""Names and texts as SQL writes them."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

import pyarrow as pa

from ...core.cast import as_text
from ...core.schema import TableInfo


def name_sql(name: str) -> str:
    """A name."""
    return '"' + name.replace('"', '""') + '"'


def text_sql(value: str) -> str:
    """A text, in a database that gives the backslash no meaning."""
    return "'" + value.replace("'", "''") + "'"


def noted(
    table: str,
    quoted: Callable[[str], str],
    row: Mapping[str, str | None],
    shape: TableInfo,
    number: int | None,
    moment: str,
) -> str:
    """Insert a row of texts, with the time as `changed_at`; or set them in the row of a number."""
    values = {name: "NULL" if text is None else text_sql(text) for name, text in row.items()} | {"changed_at": moment}
    if number is None:
        return f"INSERT INTO {table} ({', '.join(map(quoted, values))}) VALUES ({', '.join(values.values())})"
    sets = ", ".join(f"{quoted(name)} = {value}" for name, value in values.items())
    return f"UPDATE {table} SET {sets} WHERE {quoted(shape.primary_key[0])} = {number}"


def literals(columns: Sequence[pa.Array], hexadecimal: str) -> list[tuple[str, ...]]:
    """A few rows as SQL writes their values; `hexadecimal` is a template for bytes."""
    spelled = [_spelled(values, hexadecimal) for values in columns]
    return [tuple("NULL" if v is None else v for v in row) for row in zip(*spelled, strict=True)]


def _spelled(values: pa.Array, hexadecimal: str) -> list[str | None]:
    if values.null_count == len(values):
        return [None] * len(values)
    if pa.types.is_binary(values.type):
        return [None if v is None else hexadecimal.format(v.hex()) for v in values.to_pylist()]
    if pa.types.is_integer(values.type) or pa.types.is_float64(values.type):  # for a few, sooner than Arrow's way
        return [None if v is None else f"'{v!r}'" for v in values.to_pylist()]
    return [None if v is None else text_sql(v) for v in as_text(values)[0].to_pylist()]
