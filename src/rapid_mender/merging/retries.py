"""Doing a unit of work again, when another program wrote the same rows meanwhile."""

from __future__ import annotations

import random
import time

MOST = 12
"""How often a unit of work is tried again."""
_PATIENT = 3  # tries after which nobody else may write meanwhile, where the store can see to that
_SECONDS, _LONGEST = 0.02, 2.0


def pause(tries: int) -> bool:
    """Wait for a random time after so many tries, so that two programs do not collide again.

    Returns whether the next try had better be alone.
    """
    time.sleep(random.uniform(0.5, 1) * min(_SECONDS * 2**tries, _LONGEST))
    return tries >= _PATIENT
