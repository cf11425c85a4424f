"""What the fast paths of databases share."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ...core.plain_values import Kind, kind_of
from ..contract.fast import FastChange, FastTable, NotFast
from .link import Described


def plain_kind(table: Described, name: str, declared: tuple[str, ...]) -> Kind:
    """The kind of a column whose type is `declared` with one of these beginnings. Raises NotFast if it is not plain."""
    column = table.info[name]
    kind = kind_of(column)
    if kind is None or not (column.declared or "").startswith(declared):
        raise NotFast
    return kind


def change_sql(
    at: str, table: FastTable, change: FastChange, name_sql: Callable[[str], str], literal: Callable[[Any], str]
) -> str:
    """The statement that inserts a row, or updates it by its key; `at` is the table, in SQL."""
    values = [literal(change.new[table.places[name]]) for name in change.columns]
    names = [name_sql(name) for name in change.columns]
    if change.old is None:
        return f"INSERT INTO {at} ({', '.join(names)}) VALUES ({', '.join(values)})"
    sets = ", ".join(f"{name} = {value}" for name, value in zip(names, values, strict=True))
    key = (f"{name_sql(name)} = {literal(change.old[table.places[name]])}" for name in table.key)
    return f"UPDATE {at} SET {sets} WHERE {' AND '.join(key)}"
