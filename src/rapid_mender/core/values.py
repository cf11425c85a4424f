"""Python values as arrays: those of one kind together, none taken for another kind."""

from __future__ import annotations

import json
from decimal import Decimal
from enum import Enum
from typing import Any

import pyarrow as pa
import pyarrow.types as pt


def is_missing(value: Any) -> bool:
    """No value: None, or what pandas has for it in columns that are not of floats."""
    return value is None or type(value).__name__ in ("NaTType", "NAType")


def array_of(values: list[Any]) -> pa.Array:
    """Values of one kind as an array; of kinds that Arrow has no place for, as texts."""
    kept = [None if is_missing(value) else value.value if isinstance(value, Enum) else value for value in values]
    if any(isinstance(value, Decimal) for value in kept):  # Arrow would give all of them the digits of the longest
        return pa.array([spelled(v) for v in kept], pa.string())
    try:
        array = pa.array(kept)
    except (pa.ArrowInvalid, pa.ArrowTypeError, pa.ArrowNotImplementedError, OverflowError, TypeError):
        return pa.array([spelled(v) for v in kept], pa.string())
    if pt.is_nested(array.type):
        return pa.array([spelled(v) for v in kept], pa.string())
    return array


def spelled(value: Any) -> str | None:
    if value is None or isinstance(value, str):
        return value
    if isinstance(value, bytes):
        return value.hex()
    if isinstance(value, set | frozenset | tuple):
        value = list(value)
    if isinstance(value, bool | dict | list):
        return json.dumps(value, ensure_ascii=False, default=str)
    return str(value)
