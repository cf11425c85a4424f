"""Values as people read them: on a terminal, in a notebook."""

from __future__ import annotations

from datetime import datetime
from typing import Any

_MOST = 40
_HIDDEN = (*range(32), *range(0x7F, 0xA0), 0x200E, 0x200F, *range(0x202A, 0x202F), *range(0x2066, 0x206A))
_ESCAPES = {code: chr(code).encode("unicode_escape").decode() for code in (*_HIDDEN, *range(0xD800, 0xE000))}
_IN_LINES = {code: escape for code, escape in _ESCAPES.items() if code != 10}


def visible(text: str, lines: bool = False) -> str:
    """A text with an escape, such as \\x1b, in the place of every character that is none to look at; `lines`: a line
    break may stay."""
    return text.translate(_IN_LINES if lines else _ESCAPES)


def plain(value: Any) -> str:
    """A value as a person would write it."""
    if isinstance(value, datetime):
        spelled = value.replace(tzinfo=None).isoformat(sep=" ", timespec="auto")
        return spelled + ("Z" if value.tzinfo is not None else "")
    if isinstance(value, bytes):
        return value.hex()
    return str(value)


def shown(value: Any) -> str:
    """A value in a cell of a table."""
    if value is None:
        return "null"
    text = plain(value) if not isinstance(value, bool) else str(value).lower()
    return text if len(text) <= _MOST else text[: _MOST - 1] + "…"
