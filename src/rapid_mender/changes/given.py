"""What callers give to look into a history: keys, times, numbers."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import suppress
from datetime import UTC, date, datetime
from typing import Any
from zoneinfo import ZoneInfo

from ..errors import JobError


def key_given(key: Any) -> dict[str, Any]:
    """A key as somebody gave it: a value by the name of each of its columns. Raises JobError."""
    if key is None:
        return {}
    if not isinstance(key, Mapping) or not all(isinstance(name, str) for name in key):
        raise JobError('a key is a dict of columns and values, such as {"tag_no": 7}')
    return dict(key)


def moment(name: str, given: Any) -> datetime | None:
    """A time as somebody gave it, in UTC; a text may end with an offset, or the name of a zone. Raises JobError."""
    if isinstance(given, str):
        given = _read(given.strip()) or given
        if isinstance(given, str):
            raise JobError(
                f"{name}: {given!r} is no time; write it as 2026-04-30 or 2026-04-30T14:05:00 (UTC), with an offset as "
                "2026-04-30T14:05+02:00, or with a zone as '2026-04-30 14:05 Europe/Oslo'"
            )
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


def _read(text: str) -> datetime | None:
    """A time in ISO 8601, perhaps with the name of a zone behind it; None if it is none."""
    with suppress(ValueError):
        return datetime.fromisoformat(text)
    time, _, zone = text.rpartition(" ")
    with suppress(ValueError, KeyError, OSError):  # of what is no time, or no zone
        read = datetime.fromisoformat(time.strip())
        return read.replace(tzinfo=ZoneInfo(zone)) if read.tzinfo is None else None
    return None


def whole(name: str, given: Any, least: int = 0) -> None:
    """Raise JobError unless a number that somebody gave is whole."""
    if given is not None and (not isinstance(given, int) or isinstance(given, bool) or not least <= given < 1 << 63):
        raise JobError(f"{name} is a whole number from {least} on, of 64 bits")
