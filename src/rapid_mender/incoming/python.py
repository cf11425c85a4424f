"""Records that are Python objects, as dicts: dataclasses, pydantic models, named tuples, mappings."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from ..errors import IncomingError

_AT_ONCE = 1 << 16


def as_record(value: Any) -> dict[str, Any] | None:
    """An object as a dict of all its fields; None if it is no record."""
    if isinstance(value, dict):
        return value
    if isinstance(value, Mapping):
        return dict(value)
    if isinstance(value, type):
        return None
    if dataclasses.is_dataclass(value):
        return {field.name: getattr(value, field.name) for field in dataclasses.fields(value)}
    if isinstance(value, tuple) and hasattr(value, "_asdict"):
        return dict(value._asdict())
    if hasattr(type(value), "model_fields") and hasattr(value, "__iter__"):  # pydantic
        return dict(value)
    if hasattr(type(value), "__attrs_attrs__"):
        return {field.name: getattr(value, field.name) for field in type(value).__attrs_attrs__}
    if hasattr(value, "keys") and hasattr(value, "__getitem__") and not hasattr(value, "columns"):  # as of a database
        return {name: value[name] for name in value.keys()}  # noqa: SIM118
    return None


def as_records(values: Iterable[Any], first: int = 1) -> list[dict[str, Any]]:
    """Objects as dicts. Raises IncomingError, naming the place, counted from `first`, if one is no record."""
    records = []
    for number, value in enumerate(values, first):
        record = as_record(value)
        if record is None:
            kind = type(value).__name__
            raise IncomingError(
                f"record {number} is {kind}; a record is a dict or an object with fields", place=f"record {number}"
            )
        records.append(record)
    return records


def gathered(values: Iterator[Any]) -> Iterator[Any]:
    """What an iterator gives, with single records that follow each other put together into lists."""
    waiting: list[dict[str, Any]] = []
    for value in values:
        record = as_record(value)
        if record is not None:
            waiting.append(record)
        if waiting and (record is None or len(waiting) >= _AT_ONCE):
            yield waiting
            waiting = []
        if record is None:
            yield value
    if waiting:
        yield waiting
