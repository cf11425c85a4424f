"""Holding a table that follows against the one that is followed, and merging what differs."""

from __future__ import annotations

import time
from contextlib import closing
from dataclasses import replace

import pyarrow as pa

from ..changes.own import remove_rows
from ..core.own_tables import REFUSED, SYNCED
from ..errors import JobError
from ..incoming import Spool
from ..merging.merge import merge_beside, preview
from .compare import Compared, find_differences
from .fingerprints import fingerprint_at
from .positions import now, put_row
from .table_sync import PLACE, TableSyncing


def compared(sync: TableSyncing, mend: bool) -> Compared:
    """Hold the target against the source, row by row; with `mend`, merge what differs, and go on from there."""
    began, job = time.perf_counter(), sync.job
    if job.keep == "changes":
        raise JobError("a log is no copy of a table, so it cannot be compared with one")
    with sync.target.begin(write=False) as session:
        session.describe(job.to_table)
    rows = sync.rows_of_sync()
    if mend and not rows:
        raise JobError(f"{job.follower!r} has not begun to follow: sync first")
    with closing(Spool()) as puts, closing(Spool()) as extra:
        with (
            sync.tail.look(0, 0, whole=False, rows=True) as view,
            sync.receiving(sync.sending(view)) as receiving,
        ):
            send, target = receiving.send, receiving.info
            jobs = replace(send, catching_up=True).job(target), send.job_of_extra(target)
            found = find_differences(view, receiving, puts, extra)
            found.follower, found.to_store = job.follower, sync.target.where
            found.behind = max(view.until - rows[0]["position"], 0) if rows else 0
            at = {
                "position": view.until, "batch_no": view.batch, "filled": True, "keyless": False,
                "fingerprint": fingerprint_at(view.past, view.until), "filled_to": None,
            }  # fmt: skip
        before = {name: rows[0][name] for name in PLACE} if rows else {}
        if mend:
            before = sync.with_key(before, jobs[0].key)
            with sync.target.begin(write=True) as session:
                remove_rows(session, REFUSED, **sync.same)
        none = pa.table({name: pa.nulls(0) for name in send.key})
        for each, spool in zip(jobs, (puts, extra), strict=True):
            if spool.rows and mend:
                found.add(merge_beside(each, iter(spool), sync.moving(before, before, [], none, send.key)))
            elif spool.rows:
                found.add(preview(each, iter(spool)))
    if mend:
        with sync.target.begin(write=True) as session:
            put_row(session, SYNCED, sync.same, at | {"moved_at": now(), "rejected": found.refused}, before)
        sync.note(at | {"rejected": found.refused}, [])
    found.mended, found.seconds = mend, time.perf_counter() - began
    return found
