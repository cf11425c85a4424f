"""Names in messages: several of them, and the one that somebody most likely meant."""

from __future__ import annotations

import difflib
from collections.abc import Iterable


def in_quotes(names: Iterable[str]) -> str:
    """Names for a message: 'a', 'b'."""
    return ", ".join(repr(name) for name in names)


def closest(name: str, names: Iterable[str], cutoff: float = 0.5) -> str | None:
    """The one of `names` that is most like `name`, upper or lower case alike; None if none is."""
    lower = {one.lower(): one for one in names}
    found = difflib.get_close_matches(name.lower(), lower, n=1, cutoff=cutoff)
    return lower[found[0]] if found else None
