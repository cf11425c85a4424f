"""Loading rows into a table that a sync has just made: nothing is there to be looked up and compared.

What a load cannot do without a doubt goes the way of all records: a value that does not fit, a row that is refused.
"""

from __future__ import annotations

import pyarrow as pa

from ..changes.recorder import Recorder
from ..core.cast import cast
from ..core.keys import one_array
from ..core.schema import TableInfo
from ..errors import JobError, StoreError
from ..jobs.job import Job
from ..merging.beside import Beside
from ..stores.contract import Load, Session, Store
from .sending import Sending


class Loader:
    """Loads records into the table of a job, which is the maker's own."""

    def __init__(self, target: Store, send: Sending, job: Job) -> None:
        self.target, self.send, self.job = target, send, job
        self._may = not (job.derive or job.columns or job.history or job.seal)

    def load(self, records: pa.Table, beside: Beside) -> int | None:
        """Load records in a transaction of their own; the number of the batch. None if they are to be merged instead:
        then nothing is written."""
        if not self._may or not records.num_rows:
            return None
        try:
            with self.target.begin(write=False) as session:
                info = session.describe(self.job.table)
                values = self._fitting(session, info, records)
            if values is None:
                return None
            with self.target.begin(write=True, table=info) as session:
                beside.begin(session)
                made = session.describe(self.job.table)
                batch = self._recorded(session, made, beside, values.num_rows)
                session.append(made, Load(values))
                beside.end(session)
            return batch
        except JobError:
            raise
        except StoreError:  # a merge finds out which rows it is about
            return None

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

    def _recorded(self, session: Session, info: TableInfo, beside: Beside, count: int) -> int:
        from .. import __version__

        recorder = Recorder(session, info, beside.name, False, f"rmend {__version__}")
        batch = recorder.start()
        counts = {"insert": count, "update": 0, "delete": 0, "skip": 0, "reject": 0}
        recorder.finish(counts, {"records": count, "key": self.job.key, **beside.figures})
        return batch
