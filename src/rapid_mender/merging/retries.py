"""A unit of work, done again when another program wrote the same rows meanwhile."""

from __future__ import annotations

import logging
import random
import time
from collections.abc import Callable
from typing import TypeVar

from ..changes.details import Outdated, bring_up_to_date
from ..errors import StoreError
from ..stores.contract import Conflict, Store

_T = TypeVar("_T")
MOST = 12
"""How often a unit of work is tried again."""
_PATIENT = 3  # tries after which nobody else may write meanwhile, where the store can see to that
_SECONDS, _LONGEST = 0.02, 2.0
_log = logging.getLogger("rapid_mender")


def until_done(store: Store, work: Callable[[bool], _T], again: Callable[[], None]) -> _T:
    """Do a unit of work in a transaction of the store. `work` is told whether nobody else may write meanwhile; where it
    raises Conflict, `again` is called, and then it once more. A store that an earlier version left is brought up to
    date before."""
    alone = False
    for tries in range(MOST + 1):
        try:
            return work(alone)
        except Conflict as error:
            if not store.owns_transactions:
                if isinstance(error, Outdated):
                    raise StoreError(
                        f"{store.where}: the batches there are those of an earlier version; merge once without "
                        "connection=, which brings them up to date"
                    ) from error
                raise
            if tries == MOST:
                raise
            if isinstance(error, Outdated):
                bring_up_to_date(store)
            else:
                _log.info("another program wrote the same rows; tries again")
                alone = _pause(tries)
            again()
    raise AssertionError  # the last try returns or raises


def _pause(tries: int) -> bool:
    """Wait for a random time after so many tries, so that two programs do not collide again.

    Returns whether the next try had better be alone.
    """
    time.sleep(random.uniform(0.5, 1) * min(_SECONDS * 2**tries, _LONGEST))
    return tries >= _PATIENT
