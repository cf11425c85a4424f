"""For how long calls of a Merger go on with one batch."""

from __future__ import annotations

import re
from datetime import timedelta

_NAMED = {"hourly": timedelta(hours=1), "daily": timedelta(days=1)}
_SPAN = re.compile(r"(?P<count>[1-9]\d{0,4}) (?P<unit>second|minute|hour|day)s?")
WHICH = ("all", "changes", *_NAMED)


def batches_of(given: object) -> object:
    """The option `batches`, checked. Raises ValueError."""
    if given in WHICH or (isinstance(given, str) and _SPAN.fullmatch(given)):
        return given
    raise ValueError(f"must be {', '.join(map(repr, WHICH))} or a span of time such as '15 minutes'")


def span_of(batches: str) -> timedelta | None:
    """For how long a batch stays open; None: each call has one of its own."""
    if match := _SPAN.fullmatch(batches):
        return timedelta(**{f"{match['unit']}s": int(match["count"])})
    return _NAMED.get(batches)
