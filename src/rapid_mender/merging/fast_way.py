"""Whether, and how long, calls of one job go the fast way."""

from __future__ import annotations

import logging
from collections.abc import Callable, Sequence

from ..changes.identity import KnownHistory
from ..errors import UncertainError
from ..incoming import Source
from ..jobs.opening import OpenJob
from ..stores.contract.fast import NotFast, TableChanged
from .fast_merge import FastMerge, Taken, fast_merge_of
from .result import Result

_log = logging.getLogger("rapid_mender")
_FIRST_LOOK = 2
"""After so many calls it is seen whether there is a fast way; then after twice as many, and so on."""
_MISSES = 8
"""After so many calls in a row that could not go the fast way only each so many tries to."""


class FastWay:
    """The fast way of one job, once there is one. One call at a time goes it."""

    def __init__(self) -> None:
        self._merge: FastMerge | None = None
        self._misses, self._merged, self._next_look = 0, 0, _FIRST_LOOK

    def take(self, source: Source) -> Taken | None:
        """The records of a call, if they may go the fast way. May be called from any thread."""
        merge = self._merge
        return merge.take(source) if merge is not None else None

    def tries(self, taken: Taken | None) -> bool:
        """Whether a call is to go the fast way."""
        if taken is None or taken.path is not self._merge:
            return False
        if self._misses >= _MISSES:
            self._misses += 1
        return self._misses < _MISSES or not self._misses % _MISSES

    def merge(self, calls: Sequence[Taken], check: Callable[[], None]) -> list[Result | UncertainError]:
        """The outcomes of calls, as `FastMerge.merge` gives them; none if they have to go the whole way."""
        merge = self._merge
        assert merge is not None
        try:
            outcomes = merge.merge(calls, check)
        except NotFast as why:
            _log.info("not the fast way: %s", why or type(why).__name__)
            self._misses += 1
            if isinstance(why, TableChanged):
                merge.close()
            return []
        finally:
            if merge.closed:
                self.close()
        self._misses = 0
        return outcomes

    def learn(self, job: OpenJob, known: KnownHistory, source: Source, result: Result) -> None:
        """Note that a call has gone the whole way, and see whether calls like it may go the fast one."""
        self._merged += 1
        if self._merge is None and self._merged >= self._next_look and known.tables is not None:
            self._next_look = 2 * self._merged
            try:
                self._merge = fast_merge_of(job, known)
            except Exception as error:  # what the call did stands
                _log.warning("no fast way was found: %s", error or type(error).__name__)
        if self._merge is not None:
            self._merge.learn(source, result)

    def close(self) -> None:
        """Close what is open; another fast way is sought then."""
        if self._merge is not None:
            self._merge.close()
        self._merge, self._misses, self._merged, self._next_look = None, 0, 0, _FIRST_LOOK
