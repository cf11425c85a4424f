"""The history put to work: undone, looked into as of any time, verified; the same on every store."""

from __future__ import annotations

import random
from typing import Any

import pytest
from hypothesis import strategies as st

import rapid_mender as rm

from .cases import ARCHIVE, SCHEMA, with_archive
from .cases import Case as Options
from .laws import Case, cases, normal, on_every_store
from .stores import STORES, TABLE, Place

options = st.composite(lambda draw: Options(draw, False))()


def undone(place: Place, number: int, **given: Any) -> rm.Undone:
    """Undo a batch, as its preview says."""
    told = rm.undo(place.store, number, preview=True, **given)
    done = rm.undo(place.store, number, **given)
    assert (told.counts, told.conflicts.to_pylist(), told.wrote) == (done.counts, done.conflicts.to_pylist(), False)
    return done


@on_every_store(40, case=cases, seed=st.integers(0, 999))
def test_undoing_batches_gives_the_tables_before_them(store: str, case: Case, seed: int) -> None:
    with STORES[store](case.schema, case.key, case.rows) as place:
        tables = [normal(place.rows())]
        numbers = []
        for batch in (0, 1, 0):
            result = rm.merge(case.job(place), case.frame(batch))
            numbers.append(result.batch)
            tables.append(normal(place.rows()))
        middle = undone(place, 3)
        assert normal(place.rows()) == tables[2]
        if middle.batch is not None:
            undone(place, middle.batch)
            assert normal(place.rows()) == tables[3], "an undo of an undo is the batch again"
            undone(place, rm.batches(place.store)["batch_no"][-1].as_py())
        prefix = random.Random(seed).randint(1, 2)
        done = rm.undo(place.store, since=prefix)
        assert normal(place.rows()) == tables[prefix - 1]
        assert sum(done.counts.values()) == 0 or rm.batches(place.store).to_pylist()[-1]["undoes"]


@on_every_store(40, case=options)
def test_undo_of_every_option(store: str, case: Options) -> None:
    """Marks, archives, previous values, rules: the table and the archive are as before, and again as after."""
    with STORES[store](SCHEMA, ["tag_no"], case.rows) as place:
        with_archive(place)
        before = place.rows(), place.rows(ARCHIVE)
        result = case.merge(place)
        after = place.rows(), place.rows(ARCHIVE)
        assert result.batch is not None
        done = undone(place, result.batch)
        assert (place.rows(), place.rows(ARCHIVE)) == before
        assert sum(done.counts.values()) == sum(result.counts[name] for name in ("insert", "update", "delete"))
        if done.batch is not None:
            with pytest.raises(rm.JobError, match=f"undone already, by batch {done.batch}"):
                rm.undo(place.store, result.batch)
            undone(place, done.batch)
            assert (place.rows(), place.rows(ARCHIVE)) == after
            reasons = set(rm.history(place.store, TABLE, batch=done.batch)["reason"].to_pylist())
            assert reasons == {f"undoes batch {result.batch}"}


@on_every_store(40, case=cases, seed=st.integers(0, 999))
def test_as_of_every_batch_is_the_table_then_and_the_history_holds(store: str, case: Case, seed: int) -> None:
    with STORES[store](case.schema, case.key, case.rows) as place:
        copies = {0: normal(place.rows())}
        for batch in (0, 1, 0):
            number = rm.merge(case.job(place), case.frame(batch)).batch
            copies[number] = normal(place.rows())
            if random.Random(seed + number).random() < 0.3:
                number = rm.undo(place.store, number).batch or number
                copies[number] = normal(place.rows())
        if not rm.history(place.store, TABLE).num_rows:
            return
        for number, copy in copies.items():
            if number:
                assert normal(rm.as_of(place.store, TABLE, batch=number).to_pylist()) == copy, number
        assert normal(rm.as_of(place.store, TABLE, position=0).to_pylist()) == copies[0]
        assert normal(rm.as_of(place.store, TABLE, when="9999-01-01").to_pylist()) == copies[max(copies)]
        verified = rm.verify(place.store, TABLE)
        assert verified.holds, verified.differences.to_pylist()
        assert verified.rows == len(copies[max(copies)])
        assert verified.changes == rm.history(place.store, TABLE).num_rows
