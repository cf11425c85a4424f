"""Writing in the background, in order, while the caller goes on."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any, Generic, TypeVar

from ..errors import StoreError

_T = TypeVar("_T")
_L = TypeVar("_L")
_AGAIN = 0.1
_AHEAD = 8  # pieces of work that may wait


class Background(Generic[_L]):
    """Does work with one connection in a thread, in order, while the caller goes on.

    An error comes to light at the next `later` or `drained`; what was queued behind it is not run.
    """

    def __init__(self, link: _L) -> None:
        self.link = link
        self._thread: ThreadPoolExecutor | None = None
        self._waiting: deque[Future[Any]] = deque()
        self._failed: BaseException | None = None

    def later(self, work: Callable[[_L], _T], little: bool = False) -> Future[_T]:
        """Do something with the link soon; what is little work and need not wait, at once in the caller's thread.

        Waits only when too much is queued.
        """
        while len(self._waiting) >= _AHEAD or (self._waiting and self._waiting[0].done()):
            self._waiting.popleft().result()
        if (little or getattr(self.link, "in_caller", False)) and not self._waiting:
            done: Future[_T] = Future()
            done.set_result(self._one(work))
            return done
        self._thread = self._thread or ThreadPoolExecutor(1, "rmend-writer")
        done = self._thread.submit(self._one, work)
        self._waiting.append(done)
        return done

    @property
    def at_rest(self) -> bool:
        """Whether nothing is queued."""
        return not self._waiting

    def drained(self) -> _L:
        """The link, when all that was queued is done."""
        while self._waiting:
            self._waiting.popleft().result()
        return self.link

    def close(self, cancel: Callable[[], None] | None = None) -> None:
        """Let the running work end, and drop the rest. `cancel` makes an end of work that need not be done."""
        self._failed = self._failed or StoreError("the run has ended")
        while cancel is not None and self._waiting:
            try:
                self._waiting[0].exception(timeout=_AGAIN)
                self._waiting.popleft()
            except TimeoutError:  # what was to be cancelled may not have begun when it was
                cancel()
        if self._thread is not None:
            self._thread.shutdown(wait=True, cancel_futures=True)

    def _one(self, work: Callable[[_L], _T]) -> _T:
        if self._failed is not None:
            raise self._failed
        try:
            return work(self.link)
        except BaseException as error:
            self._failed = error
            raise
