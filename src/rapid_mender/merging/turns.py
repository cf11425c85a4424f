"""Who is next: calls from several threads that take turns, where whoever has the turn may do the work of others too."""

from __future__ import annotations

import threading
import time
from collections import deque
from collections.abc import Callable
from typing import Generic, Protocol, TypeVar

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
        self._busy = False
        self._served, self._took, self._began = 1, 0.0, 0.0

    @property
    def crowded(self) -> bool:
        """Whether others wait, or did just now."""
        return self._busy or self._served > 1

    def take(self, call: _W) -> bool:
        """Wait for the turn. Returns whether the call has it; else another has served the call."""
        with self._guard:
            waits, self._busy = self._busy, True
            if waits:
                self._line.append(call)
        if waits:
            try:
                call.ready.wait()
            except BaseException:
                self._leave(call)
                raise
        if call.done:
            return False
        self._began = time.perf_counter()
        return True

    def _leave(self, call: _W) -> None:
        """A call does not wait any more."""
        with self._guard:
            waits = call in self._line
            if waits:
                self._line.remove(call)
        if not waits and call.ready.is_set() and not call.done:
            self.pass_on([])

    def gather(self, choose: Callable[[list[_W]], list[_W]]) -> list[_W]:
        """Take those of the waiting calls out of the line that `choose` wants, for whoever has the turn. If the last
        turn served several, they are given a moment to be here again."""
        until = time.perf_counter() + _SHARE * self._took
        while self._served > 1 and len(self._line) + 1 < self._served and time.perf_counter() < until:
            time.sleep(0.0005)
        with self._guard:
            chosen = choose(list(self._line))
            for one in chosen:
                self._line.remove(one)
        return chosen

    def pass_on(self, served: list[_W], back: list[_W] | None = None) -> None:
        """End the turn; `served` are the others whose calls are done, `back` those that were gathered and are not."""
        self._took = time.perf_counter() - self._began
        with self._guard:
            self._line.extendleft(reversed(back or []))
            self._served = len(served) + 1
            following = self._line.popleft() if self._line else None
            self._busy = following is not None
        for one in served:
            one.ready.set()
        if following is not None:
            following.ready.set()
