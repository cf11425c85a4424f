"""How long the tests run, and from which seed: `make test` is short and always the same, `make test-long` is neither."""

from __future__ import annotations

import os
import random

TIMES = float(os.environ.get("RMEND_TEST_TIMES", "1"))
"""How many times as many examples and rounds there are as in a short run."""
SEED = int(os.environ.get("RMEND_TEST_SEED", "0"))
LONG = TIMES > 1
PARTS = 8 if LONG else 1
"""In how many items a law comes on each store, so that none is the tail of a run."""


def some(count: float) -> int:
    """How many there are in this run, of what has `count` in a short one."""
    return max(1, round(count * TIMES))


def dice(*of: object) -> random.Random:
    """Random numbers for a test, by the seed of the run."""
    return random.Random(f"{SEED} {of}")
