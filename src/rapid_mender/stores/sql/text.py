"""Names and texts as SQL writes them."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

import pyarrow as pa

from ...core.cast import as_text


def name_sql(name: str) -> str:
    """A name."""
    return '"' + name.replace('"', '""') + '"'


def text_sql(value: str) -> str:
    """A text, in a database that gives the backslash no meaning."""
    return "'" + value.replace("'", "''") + "'"


def refers_to_nothing(table: str, columns: Sequence[tuple[str, str]], equal: str = "=") -> str:
    """Whether the row OLD of a trigger refers to a row of a table that is not there. `columns`: its own, and those of
    the other table."""
    there = " AND ".join(f"p.{name_sql(theirs)} {equal} OLD.{name_sql(own)}" for own, theirs in columns)
    some = " AND ".join(f"OLD.{name_sql(own)} IS NOT NULL" for own, _ in columns)
    return f"({some} AND NOT EXISTS (SELECT 1 FROM {table} AS p WHERE {there}))"


def noted(table: str, number: int | None, key: str, values: Mapping[str, str]) -> str:
    """Insert a row; or set columns in the row of a number, or delete that. `key` is the column and the sign after it,
    `values` are SQL by the names as SQL writes them."""
    if number is None:
        return f"INSERT INTO {table} ({', '.join(values)}) VALUES ({', '.join(values.values())})"
    if not values:
        return f"DELETE FROM {table} WHERE {key} {number}"
    return f"UPDATE {table} SET {', '.join(f'{n} = {value}' for n, value in values.items())} WHERE {key} {number}"


def texts_sql(
    row: Mapping[str, str | None], stamped: Sequence[str], moment: str, quoted: Callable[[str], str]
) -> dict[str, str]:
    """Texts as SQL writes them, and the time in the columns `stamped`."""
    texts = {quoted(name): "NULL" if text is None else text_sql(text) for name, text in row.items()}
    return texts | {quoted(name): moment for name in stamped}


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
