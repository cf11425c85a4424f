"""What callers give to look into a history: keys, times, numbers."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, date, datetime
from typing import Any

from ..errors import JobError


def key_given(key: Any) -> dict[str, Any]:
    """A key as somebody gave it: a value by the name of each of its columns. Raises JobError."""
    if key is None:
        return {}
    if not isinstance(key, Mapping) or not all(isinstance(name, str) for name in key):
        raise JobError('a key is a dict of columns and values, such as {"tag_no": 7}')
    return dict(key)


def moment(name: str, given: Any) -> datetime | None:
    """A time as somebody gave it, in UTC. Raises JobError."""
    if isinstance(given, str):
        try:
            given = datetime.fromisoformat(given.strip())
        except ValueError:
            raise JobError(f"{name}: {given!r} is no time; write it as 2026-04-30 or 2026-04-30T14:05:00") from None
    if isinstance(given, date) and not isinstance(given, datetime):
        given = datetime(given.year, given.month, given.day)
    if given is None:
        return None
    if not isinstance(given, datetime):
        raise JobError(f"{name} is a datetime, a date or a text, not {type(given).__name__}")
    try:
        return given.replace(tzinfo=given.tzinfo or UTC).astimezone(UTC)
    except OverflowError:
        raise JobError(f"{name}: {given} is no time that can be told in UTC") from None


def whole(name: str, given: Any, least: int = 0) -> None:
    """Raise JobError unless a number that somebody gave is whole."""
    if given is not None and (not isinstance(given, int) or isinstance(given, bool) or not least <= given < 1 << 63):
        raise JobError(f"{name} is a whole number from {least} on, of 64 bits")
