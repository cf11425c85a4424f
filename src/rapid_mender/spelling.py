"""Values as people read them: on a terminal, in a notebook."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import datetime
from typing import Any

_MOST = 40
_DIRECTIONS = (0x061C, 0x200E, 0x200F, *range(0x202A, 0x202F), *range(0x2066, 0x206A))
_HIDDEN = (*range(32), *range(0x7F, 0xA0), 0x2028, 0x2029, 0xFEFF, *_DIRECTIONS)
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


# -- what a terminal and a notebook say in the same words -------------------------------------------

TRUTHS = {True: "true", False: "false", None: "unknown"}


def together(values: Iterable[Any]) -> str:
    """Values side by side, such as those of a key."""
    return " · ".join(map(shown, values))


def record(values: Mapping[str, Any]) -> str:
    """A record as it came."""
    return " · ".join(f"{name} = {shown(value)}" for name, value in values.items())


def changed_columns(changed: Mapping[str, int], verb: str) -> str:
    """How often each column changed; the most often changed first."""
    listed = ", ".join(f"{name} {count:,}" for name, count in sorted(changed.items(), key=lambda pair: -pair[1]))
    return f"Columns that {verb}: {listed}"


def deciding_rules(rules: Mapping[int, int]) -> str:
    """How often each rule decided."""
    return "Decided by rules: " + ", ".join(f"{count:,} by rule {number}" for number, count in rules.items())


def sentence(text: str) -> str:
    return f"{text[0].upper()}{text[1:]}."
