"""Reading many changes: spans of them side by side, each over a connection of its own.

What a history has up to a change that is there for good stays as it is, so each reader may see another moment.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import ExitStack
from itertools import cycle

from ..changes.past import NUMBER, Past, past_of
from ..core.existing import Existing
from ..errors import JobError, StoreError
from ..stores.contract import Condition, Selection, Store

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
    with ExitStack() as stack:
        try:
            readers = [_reader(stack, store, past, at) for at in range(_READERS)]
        except StoreError:  # no more connections are to be had
            yield from past.changes(past.between(after, until), names)
            return
        waiting: deque[Future[list[Existing]]] = deque()
        low, turns = after, cycle(readers)
        while low < until or waiting:
            while low < until and len(waiting) < _READERS:
                pool, own = next(turns)
                waiting.append(pool.submit(_read, own, low, min(low + _SPAN, until), names))
                low += _SPAN
            pages = waiting.popleft().result()
            yield from pages
            if not pages and low < until:  # numbers may leap
                pool, own = next(turns)
                low = max(low, pool.submit(_next, own, low, until).result() - 1)


def _reader(stack: ExitStack, store: Store, past: Past, number: int) -> tuple[ThreadPoolExecutor, Past]:
    """A thread, and the history as it sees it, until the stack is left."""
    own = past_of(stack.enter_context(store.begin(write=False)), past.info.name)
    if own.begins != past.begins:
        raise JobError(f"the history of {past.info.name!r} was pruned while it was read; run again")
    pool = ThreadPoolExecutor(1, f"rmend-changes-{number}")
    stack.callback(pool.shutdown, cancel_futures=True)
    return pool, own


def _read(past: Past, after: int, until: int, columns: Sequence[str]) -> list[Existing]:
    return list(past.changes(past.between(after, until), columns))


def _next(past: Past, after: int, until: int) -> int:
    """The number of the next change after one; that behind `until` if there is none."""
    wanted = Selection([[Condition(NUMBER, ">", after)]], NUMBER, 1, first=True, columns=[NUMBER])
    found = past.session.read(past.kept, wanted).values[NUMBER]
    return int(found[0].as_py()) if len(found) else until + 1
