"""Who is next: calls from several threads that take turns, where whoever has the turn may do the work of others too."""

from __future__ import annotations

import threading
import time
from collections import deque
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Generic, Protocol, TypeVar

_MOMENT = 0.0005  # seconds
_SHARE = 0.25
"""Of the time that the last turn took: how long the next waits, at most, for as many calls as that one served."""


class Waiting(Protocol):
    """A call in the line."""

    ready: threading.Event
    """Set when it is served, or has the turn."""

    @property
    def done(self) -> bool: ...


_W = TypeVar("_W", bound=Waiting)


class Turns(Generic[_W]):
    """A line of calls. One has the turn; it may serve others that wait, which never have it then."""

    def __init__(self) -> None:
        self._guard = threading.Lock()
        self._line: deque[_W] = deque()
        self._holder: _W | None = None
        self._served, self._took, self._began = 1, 0.0, 0.0

    @property
    def crowded(self) -> bool:
        """Whether others wait, or did just now."""
        return self._holder is not None or self._served > 1

    @contextmanager
    def turn(self, call: _W) -> Iterator[bool]:
        """Wait for the turn, which ends with the block. Yields False if another has served the call meanwhile."""
        try:
            with self._guard:
                if self._holder is None:
                    self._holder = call
                else:
                    self._line.append(call)
            if self._holder is not call:
                call.ready.wait()
            self._began = time.perf_counter()
            yield not call.done
        finally:
            self._leave(call)

    def gather(self, choose: Callable[[list[_W]], list[_W]]) -> list[_W]:
        """Those of the waiting calls that `choose` wants, for whoever has the turn. If the last turn served several,
        they are given a moment to be here again."""
        until = time.perf_counter() + _SHARE * self._took
        while self._served > 1 and len(self._line) + 1 < self._served and time.perf_counter() < until:
            time.sleep(_MOMENT)
        with self._guard:
            return choose(list(self._line))

    def _leave(self, call: _W) -> None:
        """A call neither waits nor has the turn any more. If it had, those that it served go, and the next has it."""
        with self._guard:
            if call in self._line:
                self._line.remove(call)
            if self._holder is not call:
                return
            served = [one for one in self._line if one.done]
            self._line = deque(one for one in self._line if not one.done)
            self._took, self._served = time.perf_counter() - self._began, len(served) + 1
            self._holder = self._line.popleft() if self._line else None
            following = self._holder
        for one in (*served, following):
            if one is not None:
                one.ready.set()
