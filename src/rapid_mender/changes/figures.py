"""What other code reads of a run's figures, and of what kind each is: somebody may have altered them."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import datetime
from typing import Any

Kind = Callable[[Any], bool]


def wrong_figure(figures: Mapping[str, Any]) -> str | None:
    """The name of a figure that is of another kind than a run writes it; None if all are as they should be."""
    return next((name for name, right in _KINDS.items() if name in figures and not right(figures[name])), None)


def _number(value: Any) -> bool:
    return type(value) is int and 0 <= value < 1 << 62


def _text(value: Any) -> bool:
    return isinstance(value, str)


def _or_none(kind: Kind) -> Kind:
    return lambda value: value is None or kind(value)


def _list_of(kind: Kind) -> Kind:
    return lambda value: isinstance(value, list) and all(map(kind, value))


def _time(value: Any) -> bool:
    try:
        return datetime.fromisoformat(value).tzinfo is not None
    except (TypeError, ValueError):
        return False


def _began(value: Any) -> bool:
    """The columns with which a history began later: of a batch; or of a capture, with the first change of each."""
    return _list_of(_text)(value) or (isinstance(value, dict) and all(map(_number, value.values())))


def _pruned(value: Any) -> bool:
    wanted: dict[str, Kind] = {
        "change": _number, "batch": _or_none(_number), "time": _time, "seal": _or_none(_text), "changes": _number
    }  # fmt: skip
    return isinstance(value, dict) and all(kind(value.get(name)) for name, kind in wanted.items())


_KINDS: dict[str, Kind] = {
    "key": _list_of(_text),
    "began": _began,
    "gone": _list_of(_text),
    "pruned": _pruned,
    "history": lambda value: isinstance(value, bool),
    "after": _or_none(_number),
    "rows": _or_none(_number),
    "mends": _list_of(_number),
    "came_from": _list_of(_text),
    "capture": _text,
    "room": lambda value: _list_of(_number)(value) and len(value) == 2,
    "archive": _text,
    "unarchive": _text,
}
