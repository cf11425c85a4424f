"""Reading many changes: spans of them side by side, each over a connection of its own.

What a history has up to a change that is there for good stays as it is, so each reader may see another moment.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import ExitStack

from ..changes.past import NUMBER, Past, past_of
from ..core.existing import Existing
from ..errors import JobError
from ..stores.contract import Condition, Store

_SPAN = 1 << 17
_READERS = 2


def are_many(after: int, until: int) -> bool:
    """Whether so many changes are read faster side by side."""
    return until - after > _READERS * _SPAN


def read_side_by_side(
    store: Store, past: Past, after: int, until: int, columns: Sequence[str] | None
) -> Iterator[Existing]:
    """The changes after one up to another, in order, some at a time, as `past` sees them. Raises JobError if changes
    were pruned meanwhile."""
    names = list(past.kept.names if columns is None else columns)
    spans = [(low, min(low + _SPAN, until)) for low in range(after, until, _SPAN)]
    with ExitStack() as stack:
        readers = []
        for at in range(_READERS):
            own = past_of(stack.enter_context(store.begin(write=False)), past.info.name)
            if own.begins != past.begins:
                raise JobError(f"the history of {past.info.name!r} was pruned while it was read; run again")
            pool = ThreadPoolExecutor(1, f"rmend-changes-{at}")
            stack.callback(pool.shutdown, cancel_futures=True)
            readers.append((pool, own))
        waiting: deque[Future[list[Existing]]] = deque()
        for turn, span in enumerate(spans):
            if len(waiting) == _READERS:
                yield from waiting.popleft().result()
            pool, own = readers[turn % _READERS]
            waiting.append(pool.submit(_read, own, span, names))
        while waiting:
            yield from waiting.popleft().result()


def _read(past: Past, span: tuple[int, int], columns: Sequence[str]) -> list[Existing]:
    bounds = [[Condition(NUMBER, ">", span[0])], [Condition(NUMBER, "<=", span[1])]]
    return list(past.changes(bounds, columns))
