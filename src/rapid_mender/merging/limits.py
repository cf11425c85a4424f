"""How much a run may reject and delete before it stops."""

from __future__ import annotations

from collections.abc import Mapping

from ..errors import LimitError
from ..jobs.plan import Plan


class Limits:
    """The limits of a job, held against what a run has decided. A preview does not stop: it warns."""

    def __init__(self, plan: Plan, write: bool) -> None:
        self._plan, self._job, self._write = plan, plan.job, write
        self.rows = 0
        """The number of rows that a share in `max_deletes` refers to."""
        self.stops: dict[str, str] = {}
        """In a preview, why a merge would stop, by limit."""

    @property
    def counts_rows(self) -> bool:
        """Whether a limit needs `rows`."""
        return self._job.max_deletes is not None and self._job.max_deletes.share is not None

    def check(self, counts: Mapping[str, int], records: int, at_end: bool) -> None:
        """Raise LimitError if the decisions on so many records are past a limit; a share is told `at_end` only."""
        most = self._job.max_rejects
        if most is not None and (at_end or most.count is not None) and not most.allows(counts["reject"], records):
            self._stop(
                "max_rejects",
                f"{counts['reject']:,} of {records:,} records are rejects, and max_rejects is {most}",
                "the rejects",
            )
        self.check_deletes(counts["delete"])

    def check_deletes(self, deletes: int) -> None:
        """Raise LimitError if so many rows may not be deleted."""
        most = self._job.max_deletes
        if most is not None and not most.allows(deletes, self.rows):
            whole = f" of {self.rows:,}" if most.share is not None else ""
            self._stop(
                "max_deletes", f"{deletes:,}{whole} rows are to be deleted, and max_deletes is {most}", "a preview"
            )

    def _stop(self, limit: str, why: str, what: str) -> None:
        if self._write:
            committed = " but for what was committed before (commit_every)" if self._job.commit_every else ""
            undone = f"the run was undone{committed}"
            if not self._plan.info.undoes:
                undone = "what it wrote so far stays, since the table cannot undo (without_undo)"
            raise LimitError(f"{why}; {undone}; look at {what}, or raise the limit", limit)
        self.stops[limit] = why
