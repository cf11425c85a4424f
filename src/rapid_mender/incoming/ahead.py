"""Making the next of several things while the one before is used."""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

_T = TypeVar("_T")


def ahead(items: Iterator[_T]) -> Iterator[_T]:
    """The same items, in order; each is made in a thread while the one before it is used."""
    end = object()
    with ThreadPoolExecutor(1, "rmend-ahead") as pool:
        coming = pool.submit(next, items, end)
        while (one := coming.result()) is not end:
            coming = pool.submit(next, items, end)
            yield one  # type: ignore[misc]
