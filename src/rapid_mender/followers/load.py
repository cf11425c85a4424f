"""Loading rows into a table that a sync has just made: nothing is there to be looked up and compared.

What a load cannot do without a doubt goes the way of all records: a value that does not fit, a row that is refused.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import nullcontext
from dataclasses import dataclass, field

import pyarrow as pa

from ..changes.detail import Detail
from ..changes.details import bring_up_to_date
from ..changes.recorder import Recorder
from ..core.cast import cast
from ..core.decisions import NAMES
from ..core.keys import one_array
from ..core.schema import TableInfo
from ..errors import JobError, StoreError
from ..jobs.job import Job
from ..merging.beside import Beside
from ..stores.contract import Load, Session, Store
from .sending import Sending

_TOGETHER = 1 << 20
"""As many rows are loaded in one transaction, up to the end of a page."""


@dataclass
class Loaded:
    """What became of some pages of records."""

    batch: int | None = None
    count: int = 0
    left: list[pa.Table] = field(default_factory=list)
    """These did not go in."""
    ended: bool = False
    """There were no more pages."""


def can_load(job: Job) -> bool:
    """Whether what a job sends goes into its table as it is, and nothing is kept of it."""
    return not (job.derive or job.columns or job.history or job.seal)


class Loader:
    """Loads records into the table of a job, which is the maker's own."""

    def __init__(self, target: Store, send: Sending, job: Job) -> None:
        self.target, self.send, self.job = target, send, job

    def load(self, pages: Iterator[pa.Table], beside: Beside) -> Loaded:
        """Load some pages of records in one transaction, each while the next is made ready. What is left of those that
        were taken is to be merged."""
        taken: list[pa.Table] = []
        lost: list[StoreError] = []
        done = Loaded()

        def read() -> Iterator[pa.Table]:
            try:
                for page in pages:
                    taken.append(page)
                    yield page
                    if sum(one.num_rows for one in taken) >= _TOGETHER:
                        return
            except StoreError as error:
                lost.append(error)
                raise
            done.ended = True

        bring_up_to_date(self.target)
        with self.target.begin(write=False) as session:
            info = session.describe(self.job.table)
        try:
            with self.target.begin(write=True, table=info) as session:
                beside.begin(session)
                self._load(session, read(), done, beside)
                if done.count:
                    beside.end(session)
            return done
        except JobError:
            raise
        except StoreError:  # a merge finds out which rows it is about
            if lost:  # it is about the source
                raise
            return Loaded(left=taken)

    def _load(self, session: Session, pages: Iterator[pa.Table], done: Loaded, beside: Beside) -> None:
        recorder: Recorder | None = None
        made = session.describe(self.job.table)
        for page in pages:
            if not page.num_rows:
                continue
            beside_it = self.target.reads_beside_writes  # what is asked over the connection of the load waits for it
            with self.target.begin(write=False) if beside_it else nullcontext(session) as looking:
                values = self._fitting(looking, made, page)
            if values is None:
                done.left.append(page)
                break
            if recorder is None:
                recorder = Recorder(session, made, beside.name, False, kind=beside.kind)
                done.batch = recorder.start()
            session.append(made, Load(values))
            done.count += values.num_rows
        if recorder is not None:
            counts = dict.fromkeys(NAMES, 0) | {"insert": done.count}
            key = [self.job.key] if isinstance(self.job.key, str) else self.job.key
            details = [*(Detail("key", name=name) for name in key), *beside.details]
            recorder.finish(counts, {"records": done.count, "key": key}, details=details)

    def _fitting(self, session: Session, info: TableInfo, records: pa.Table) -> pa.Table | None:
        """The records as the table holds them; None if a value does not fit."""
        arrays, names = [], []
        for name in self.send.columns:
            column = info[self.job.rename.get(name, name)]
            values, bad = cast(one_array(records[name]), column)
            if (bad is not None and bad.any()) or (values.null_count and not column.nullable):
                return None
            arrays.append(values)
            names.append(column.name)
        values, refused = session.normalise(info, pa.table(arrays, names=names))
        return None if any(mask.any() for mask in refused.values()) else values
