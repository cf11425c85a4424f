"""What is wrong with a job, and what may surprise: collected, so that all of it can be told together."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from ..errors import JobError


class Problems:
    """`found` say what is wrong, `warnings` what may surprise."""

    def __init__(self) -> None:
        self.found: list[str] = []
        self.warnings: list[str] = []

    def wrong(self, problem: str) -> None:
        if problem not in self.found:
            self.found.append(problem)

    def warn(self, warning: str) -> None:
        if warning not in self.warnings:
            self.warnings.append(warning)

    def raise_all(self) -> None:
        """Raise JobError with all that is wrong, if anything is."""
        if len(self.found) == 1:
            raise JobError(self.found[0])
        if self.found:
            listed = "\n".join(f"- {problem}" for problem in self.found)
            raise JobError(f"{len(self.found)} things are wrong with the job:\n{listed}", self.found)

    @contextmanager
    def aside(self) -> Iterator[None]:
        """Forget what is found to be wrong within the block."""
        before = list(self.found)
        yield
        self.found[:] = before
