"""How long the tests run, and from which seed: `make test` is short and always the same, `make test-long` is neither."""

from __future__ import annotations

import os
import random
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

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


def by_hand(play: Callable[[Path, int], None], rounds: int, seed: int) -> None:
    """Play lives from a seed on, each in a folder of its own, and end the program with how many failed."""
    failed = 0
    for number in range(seed, seed + rounds):
        with tempfile.TemporaryDirectory() as folder:
            try:
                play(Path(folder), number)
            except Exception as error:
                if (failed := failed + 1) > 9:
                    break
                print(f"{number}: {type(error).__name__} {error} {getattr(error, '__notes__', '')}"[:1200], flush=True)
    sys.exit(f"{failed} of {rounds} failed" if failed else 0)
