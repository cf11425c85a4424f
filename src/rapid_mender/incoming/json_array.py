"""A JSON array of objects, or objects one after the other, as lines: one object a line."""

from __future__ import annotations

from typing import Any

import numpy as np

from ..errors import IncomingError

_QUOTE, _SLASH, _COMMA, _LINE = 34, 92, 44, 10
_OPENS, _CLOSES, _BLANK = np.zeros(256, bool), np.zeros(256, bool), np.zeros(256, bool)
_MARK = np.zeros(256, bool)
_MARK[[0xEF, 0xBB, 0xBF]] = True  # the byte order mark of UTF-8
_OPENS[[91, 123]] = _CLOSES[[93, 125]] = _BLANK[[9, 10, 13, 32]] = True


class ArrayLines:
    """A stream of JSON text, read as lines; nothing is parsed but texts and brackets."""

    def __init__(self, stream: Any, name: str) -> None:
        self._stream, self._name = stream, name
        self._rest = b""
        self._begun = self._ended = self._array = self._within = False
        self._depth = 0

    def read(self, size: int) -> bytes:
        """Some more, `size` bytes of the text at most; nothing at its end. Raises IncomingError if it breaks off."""
        while not self._ended:
            block = self._stream.read(size)
            if not block:
                self._ended = True
                if self._within or self._depth:
                    raise IncomingError(
                        "the file ends within an array or an object; it seems to be cut off", self._name
                    )
                return b""
            if lines := self._lines(block):
                return lines
        return b""

    def _lines(self, block: bytes) -> bytes:
        block = self._rest + block
        slashes = len(block) - len(block.rstrip(b"\\"))
        self._rest = block[len(block) - slashes :]  # what they escape is still to come
        data = np.frombuffer(block, np.uint8)[: len(block) - slashes]
        if not self._begun:
            there = np.flatnonzero(~_BLANK[data] & ~_MARK[data])
            if not len(there):
                return b""
            self._begun, self._array = True, bool(data[there[0]] == 91)
            data = data[there[0] :]
        if not len(data):
            return b""
        quotes = (data == _QUOTE) & ~_escaped(data)
        within = (np.cumsum(quotes) + self._within) % 2 == 1
        outside = ~within & ~quotes
        opens, closes = _OPENS[data] & outside, _CLOSES[data] & outside
        depth = self._depth + np.cumsum(opens.astype(np.int64) - closes)
        self._within, self._depth = bool(within[-1]), int(depth[-1])
        out = data.copy()
        out[within & (data == _LINE)] = 11  # no record is to become two; JSON has none within a text
        drop = _BLANK[data] & outside
        if self._array:
            out[outside & (data == _COMMA) & (depth == 1)] = _LINE
            drop |= (opens & (depth == 1)) | (closes & (depth == 0))
            return out[~drop].tobytes()
        ends = np.flatnonzero((closes & (depth == 0))[~drop])
        return np.insert(out[~drop], ends + 1, _LINE).tobytes()


def _escaped(data: np.ndarray) -> np.ndarray:
    """A mask of the bytes before which an odd number of backslashes stands."""
    slash = data == _SLASH
    if not slash.any():
        return slash
    place = np.arange(len(data))
    last = np.maximum.accumulate(np.where(slash, -1, place))  # the last byte up to here that is none
    before = np.concatenate([[-1], last[:-1]])
    return (place - 1 - before) % 2 == 1
