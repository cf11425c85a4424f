"""Scanning a CSV block: where its records begin and end, and which of them break the rules, by passes over its bytes.

The rules are those of RFC 4180: a quote opens a value only at its beginning, a quote within is doubled, and behind the
one that closes comes a delimiter or the end of the line. What breaks them is one record where that can be told: when
the quote that is out of place and the one before it are on one line. Else nobody knows where records begin.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

_RETURN, _LINE = 13, 10
_IS_QUOTE, _IS_LINE, _IS_DELIMITER = 1, 2, 4


class Untold(Exception):
    """Where records begin after some place in the block cannot be told."""

    def __init__(self, start: int, why: str) -> None:
        self.start, self.why = start, why
        super().__init__(why)


@dataclass
class Scanned:
    """The records of a block, up to the end of the last whole one."""

    starts: np.ndarray
    """Where each begins."""
    ends: np.ndarray
    """Where each ends, behind its line break."""
    lines: np.ndarray
    """How many line breaks stand before each, in the block."""
    values: np.ndarray
    """How many values each has; 0 for a line that is empty or holds nothing but delimiters."""
    whole: int
    """Where the last whole record ends."""
    broken: dict[int, str] = field(default_factory=dict)
    """By the number of a record: which rule it breaks."""


def whole_records(block: bytes, delimiter: int, quote: int, last: bool) -> tuple[int, int] | None:
    """Where the last whole record of a block ends, and how many line breaks come before that. None if a quote is out
    of place, a line holds no value, or knowing it would not help. Several times as fast as `scan`."""
    if b"\r" in block and block.count(b"\r") != block.count(b"\r\n") + (block.endswith(b"\r") and not last):
        return None
    data = np.frombuffer(block, np.uint8)
    breaks = np.flatnonzero(data == _LINE)
    if block.startswith((b"\n", b"\r")) or (len(breaks) and np.diff(breaks).min(initial=9) == 1):
        return None
    if (b"\r" in block and b"\n\r" in block) or _any_without_values(data, breaks, delimiter):
        return None
    if quote not in block:
        return (len(block) if last else int(breaks[-1]) + 1 if len(breaks) else 0), len(breaks)
    quotes = np.flatnonzero(data == quote)
    if last and len(quotes) % 2:
        return None
    opening, closing = quotes[::2], quotes[1::2]
    before = data[opening[1 if opening[0] == 0 else 0 :] - 1]
    if not ((before == delimiter) | (before == _LINE) | (before == quote)).all():
        return None
    if len(closing) and closing[-1] + 1 == len(data):
        closing = closing[:-1]
    behind = data[closing + 1]
    if not ((behind == delimiter) | (behind == _LINE) | (behind == quote) | (behind == _RETURN)).all():
        return None
    if last:
        return len(block), len(breaks)
    for at in range(len(breaks) - 1, max(len(breaks) - 100, -1), -1):
        if not np.searchsorted(quotes, breaks[at]) % 2:
            return int(breaks[at]) + 1, at + 1
    return None


def scan(block: bytes, delimiter: int, quote: int, last: bool) -> Scanned:
    """Find the records of a block that begins with one. `last`: it is the last block. Raises Untold."""
    data = np.frombuffer(block, np.uint8)
    marks = np.zeros(256, np.uint8)
    marks[[quote, _LINE, delimiter]] = _IS_QUOTE, _IS_LINE, _IS_DELIMITER
    kinds = marks[data]
    places = np.flatnonzero(kinds)
    kind = kinds[places]
    spans: list[tuple[int, int, str]] = []
    breaks = outside = places[kind == _IS_LINE]
    if quote in block:
        quotes = kind == _IS_QUOTE
        spans = _misplaced(data, data == quote, delimiter, quote, last)
        for start, end, _ in spans:
            quotes[np.searchsorted(places, start) : np.searchsorted(places, end)] = False
        within = (np.cumsum(quotes, dtype=np.uint8) & 1).astype(bool)
        free = ~within & (kind != _IS_QUOTE)
        places, kind = places[free], kind[free]
        outside = places[kind == _IS_LINE]
    at = np.flatnonzero(kind == _IS_LINE)
    values = np.diff(at, prepend=-1)  # between two ends of records are the delimiters of one
    ends = outside + 1
    if last and len(data) and (not len(ends) or ends[-1] < len(data)):
        values = np.append(values, len(kind) - (int(at[-1]) + 1 if len(at) else 0) + 1)
        ends = np.append(ends, len(data))
    starts = np.concatenate([[0], ends[:-1]]).astype(np.int64) if len(ends) else np.empty(0, np.int64)
    bare = ends - starts - (data[ends - 1] == _LINE)
    values[(bare == 0) | ((bare == 1) & (data[starts] == _RETURN))] = 0
    values[_only_delimiters(data, starts, ends, delimiter)] = 0
    lines = np.arange(len(starts)) if len(breaks) == len(outside) else np.searchsorted(breaks, starts)
    scanned = Scanned(starts, ends, lines, values, int(ends[-1]) if len(ends) else 0)
    for start, _, why in spans:
        scanned.broken[int(np.searchsorted(ends, start, side="right"))] = why
    if b"\r" in block:
        returns = np.flatnonzero(data[: scanned.whole] == _RETURN)
        returns = returns[returns + 1 < len(data)]
        alone = returns[data[returns + 1] != _LINE]
        if spans or quote in block:
            quoted = data == quote
            for start, end, _ in spans:
                quoted[start:end] = False
            alone = alone[(np.searchsorted(np.flatnonzero(quoted), alone) & 1) == 0]
        for number in np.unique(np.searchsorted(ends, alone, side="right")).tolist():
            scanned.broken.setdefault(number, "a carriage return stands alone, outside of quotes")
    return scanned


def _any_without_values(data: np.ndarray, breaks: np.ndarray, delimiter: int) -> bool:
    """Whether a line, counted without regard to quotes, holds nothing but delimiters."""
    starts = np.concatenate([[0], breaks + 1])
    ends = np.append(breaks, len(data))
    return len(_only_delimiters(data, starts[starts < len(data)], ends[starts < len(data)], delimiter)) > 0


def _only_delimiters(data: np.ndarray, starts: np.ndarray, ends: np.ndarray, delimiter: int) -> np.ndarray:
    """The numbers of the lines that hold nothing but delimiters, of those that start and end there."""
    lines = np.flatnonzero(data[starts] == delimiter)
    if not len(lines):
        return lines
    at, last = starts[lines] + 1, ends[lines] - 1
    last = last - (data[last] == _LINE)
    last = last - (data[last] == _RETURN)
    found = []
    while len(lines):  # one byte of each line after the other: most have a value soon
        over = at > last
        found.append(lines[over])
        goes_on = ~over & (data[np.minimum(at, last)] == delimiter)
        lines, at, last = lines[goes_on], at[goes_on] + 1, last[goes_on]
    return np.concatenate(found)


def _misplaced(
    data: np.ndarray, quoted: np.ndarray, delimiter: int, quote: int, last: bool
) -> list[tuple[int, int, str]]:
    """Where quotes are out of place: from the first of them in its record to the end of its line, and why."""
    places = np.flatnonzero(quoted)
    before = np.where(places > 0, data[np.maximum(places - 1, 0)], _LINE)
    at_end = places + 1 >= len(data)
    behind = np.where(at_end, _LINE if last else 0, data[np.minimum(places + 1, len(data) - 1)])
    unknown = at_end & (not last)  # the block ends here; then its record is not whole
    opens = (before == delimiter) | (before == _LINE) | (before == quote)
    closes = (behind == delimiter) | (behind == _LINE) | (behind == _RETURN) | (behind == quote) | unknown
    even = np.arange(len(places)) % 2 == 0
    wrong = [np.flatnonzero(np.where(even, ~opens, ~closes)), np.flatnonzero(np.where(even, ~closes, ~opens))]
    doubled = np.diff(places, prepend=-2) == 1  # the second of a pair within a value opens none
    opening = [np.maximum.accumulate(np.where(side & ~doubled, np.arange(len(places)), 0)) for side in (even, ~even)]
    breaks: np.ndarray | None = None
    spans = []
    first = 0  # the quotes before this are done with; it opens a value
    while True:
        candidates = wrong[first % 2]
        at = int(np.searchsorted(candidates, first))
        if at == len(candidates):
            break
        bad = int(candidates[at])
        if breaks is None:
            breaks = np.flatnonzero(data == _LINE)
        place, closing = int(places[bad]), (bad - first) % 2 == 1
        opened = int(places[opening[first % 2][bad - 1]]) if closing else place
        line = int(np.searchsorted(breaks, opened))
        if closing and line < len(breaks) and breaks[line] < place:
            raise Untold(opened, "a quote is opened there, and characters stand behind the one that closes it")
        if line == len(breaks) and not last:
            break  # its record is not whole
        end = int(breaks[line]) if line < len(breaks) else len(data)
        why = "characters stand behind a closing quote" if closing else "a quote stands within a value without quotes"
        spans.append((opened, end, why))  # the quotes of its record before that one are in their places
        first = int(np.searchsorted(places, end))
    if last and (len(places) - first) % 2:
        start = int(places[opening[first % 2][-1]])
        raise Untold(start, "a quote is opened there and never closed")
    return spans
