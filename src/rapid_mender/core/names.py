"""Names in messages: several of them, and the one that somebody most likely meant."""

from __future__ import annotations

import difflib
import hashlib
from collections.abc import Callable, Iterable


def in_quotes(names: Iterable[str]) -> str:
    """Names for a message: 'a', 'b'."""
    return ", ".join(repr(name) for name in names)


def closest(name: str, names: Iterable[str], cutoff: float = 0.5) -> str | None:
    """The name among `names` that is most like `name`, ignoring case; None if none comes close."""
    lower = {one.lower(): one for one in names}
    close = difflib.get_close_matches(name.lower(), lower, n=1, cutoff=cutoff)
    return lower[close[0]] if close else None


def fitted(name: str, fits: Callable[[str], bool], ending: str = "") -> str:
    """A name and its ending; where that is too long for a database, it is cut, and ends in an underscore and eight
    hexadecimal digits of the SHA-256 of the whole of it: so names that are alike at the beginning stay apart."""
    if fits(name + ending):
        return name + ending
    mark = f"_{hashlib.sha256(name.encode()).hexdigest()[:8]}{ending}"
    cut = name
    while cut and not fits(cut + mark):
        cut = cut[:-1]
    return cut + mark


def not_text(value: str, path: bool = False) -> str | None:
    """Why a text cannot be written anywhere; None if it can. `path`: it names a file."""
    if any("\ud800" <= one <= "\udfff" for one in value):
        return "it has half of a character in it (a lone surrogate)"
    return "it has the character of number 0 in it" if path and "\0" in value else None


def near_hint(name: str, names: Iterable[str]) -> str:
    close = closest(name, names)
    return f" (did you mean {close!r}?)" if close else ""
