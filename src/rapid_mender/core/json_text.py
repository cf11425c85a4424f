"""Values as JSON: times as in RFC 3339, and a float that JSON has no word for as a text."""

from __future__ import annotations

import json
import math
from datetime import datetime
from decimal import Decimal
from typing import Any, TypeVar

from ..spelling import plain

_T = TypeVar("_T")


def as_json(document: Any) -> str:
    """A document as JSON, over several lines."""
    return _one_line(json.dumps(_words(document), ensure_ascii=False, indent=2, default=_stamp))


def _words(value: Any) -> Any:
    if isinstance(value, dict):
        return {str(name): _words(one) for name, one in value.items()}
    if isinstance(value, list | tuple):
        return [_words(one) for one in value]
    return str(value) if isinstance(value, float) and not math.isfinite(value) else value


def _stamp(value: Any) -> str:
    return plain(value).replace(" ", "T", 1) if isinstance(value, datetime) else plain(value)


def read_json(text: str | None, none: _T) -> _T:
    """What a JSON text says, if that is of the kind of `none`; else `none`: somebody may have altered it."""
    try:
        value = json.loads(text or "null")
    except ValueError:
        return none
    return value if isinstance(value, type(none)) else none


def says_same(one: str, other: str) -> bool:
    """Whether two texts say the same as JSON. Numbers are the same if they are equal and have as many decimals."""
    try:
        return bool(_facts(one) == _facts(other))
    except (ValueError, RecursionError, ArithmeticError):
        return False


def _facts(text: str) -> Any:
    return json.loads(text, parse_int=_number, parse_float=_number)


def _number(text: str) -> tuple[str, Decimal, int]:
    number = Decimal(text)
    exponent = number.as_tuple().exponent
    return "number", number, max(0, -exponent) if isinstance(exponent, int) else 0


def line_of(row: dict[str, Any]) -> str:
    """A row as one line of JSON."""
    return _one_line(json.dumps(_words(row), ensure_ascii=False, default=_stamp))


def _one_line(text: str) -> str:
    """With escapes for what some readers take for the end of a line."""
    return text.replace("\u2028", "\\u2028").replace("\u2029", "\\u2029").replace("\x85", "\\u0085")
