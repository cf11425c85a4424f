"""What is wrong with a job, and what may surprise: collected, so that all of it can be told together."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import NamedTuple

from ..core.expressions import ExpressionError
from ..errors import JobError


class Problem(NamedTuple):
    """One thing that is wrong. `lines`: it shown in its text, each line after a line break."""

    what: str
    lines: str = ""

    def __str__(self) -> str:
        return self.what + self.lines


class Problems:
    """`errors` are what is wrong, `warnings` what may surprise."""

    def __init__(self) -> None:
        self.errors: list[Problem] = []
        self.warnings: list[str] = []
        self._kept: list[str] = []

    def wrong(self, what: str, lines: str = "") -> None:
        problem = Problem(what, lines)
        if problem not in self.errors:
            self.errors.append(problem)

    def wrong_expression(self, place: str, error: ExpressionError, hint: str = "") -> None:
        """An expression at a `place` of the job is wrong; `hint`: how it may be meant."""
        lines = error.lines + (f"\n    ({hint})" if hint else "")
        self.wrong(f"{place}: {error.what}", lines)

    def warn(self, warning: str) -> None:
        if warning not in self.warnings:
            self.warnings.append(warning)

    def take(self) -> list[str]:
        """What is wrong, and forget it."""
        every = [str(problem) for problem in self.errors]
        self.errors.clear()
        return every

    def raise_all(self) -> None:
        """Raise JobError with all that is wrong, if anything is."""
        every = [str(problem) for problem in self.errors]
        if len(every) == 1:
            raise JobError(every[0])
        if every:
            listed = "\n".join(f"- {problem}" for problem in every)
            raise JobError(f"{len(every)} things are wrong with the job:\n{listed}", every)

    def keep(self) -> None:
        """Keep the warnings there are for every batch."""
        self._kept = list(self.warnings)

    def reset(self) -> None:
        """Forget all but the warnings that are kept: another batch begins."""
        self.errors, self.warnings = [], list(self._kept)

    @contextmanager
    def noticed(self) -> Iterator[list[str]]:
        """The warnings of the block, also those that there were before it."""
        before, self.warnings = self.warnings, []
        try:
            yield self.warnings
        finally:
            news, self.warnings = self.warnings, before
            for warning in news:
                self.warn(warning)

    @contextmanager
    def aside(self) -> Iterator[None]:
        """Forget what turns out to be wrong within the block."""
        before = list(self.errors)
        yield
        self.errors[:] = before
