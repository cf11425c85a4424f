"""The laws of a merge, on every store, over random schemas, keys, tables and batches."""

from __future__ import annotations

import random
from datetime import timedelta
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import strategies as st

import rapid_mender as rm
from rapid_mender.stores.contract import Session
from rapid_mender.stores.urls import open_store

from . import reference
from . import replaying as changes
from .laws import Case, cases, normal, on_every_store
from .stores import STORES, TABLE, every_store


@on_every_store(case=cases)
def test_agrees_with_the_reference(store: str, case: Case) -> None:
    """Every decision, every changed column and the table afterwards are what the plain merge says."""
    with STORES[store](case.schema, case.key, case.rows) as place:
        before = rm.preview(case.job(place), case.frame())
        assert normal(place.rows()) == normal(case.rows), "a preview wrote"
        result = rm.merge(case.job(place), case.frame())
        required = tuple(column.name for column in place.info.columns if column.required)
        options = reference.Options(case.duplicates, required)
        wanted_outcome = reference.merge(case.rows, case.batches[0], case.key, options)
        after, decided = wanted_outcome.table, wanted_outcome.decided
        got = [(row["decision"], set(row["changed"] or ())) for row in result.decisions.to_pylist()]
        assert got == decided
        assert result.decisions.equals(before.decisions)
        assert result.decisions["row"].to_pylist() == list(range(1, len(decided) + 1))
        wanted = [{name: row.get(name) for name in case.schema.names} for row in after]
        assert normal(place.rows()) == normal(wanted)
        assert all(result.decisions["reason"].to_pylist())
        rejected = [n for n, (decision, _) in enumerate(decided, 1) if decision == "reject"]
        assert result.rejects["rmend_row"].to_pylist() == rejected
        assert {n: c for n, c in result.counts.items() if c} == {n: [d for d, _ in decided].count(n) for n in {d for d, _ in decided}}


@on_every_store(case=cases)
def test_replay_undo_and_merging_twice(store: str, case: Case) -> None:
    """Table before + history = table after, and back; the second time nothing is written."""
    with STORES[store](case.schema, case.key, case.rows) as place:
        key = place.info.pick(case.key)
        before = place.table()
        tables = [before]
        numbers = []
        for batch in (0, 1):
            result = rm.merge(case.job(place), case.frame(batch))
            after = place.table()
            written = sum(result.counts[name] for name in ("insert", "update", "delete"))
            assert result.landed == (written > 0)
            if result.landed:
                history = rm.history(place.store, TABLE, batch=result.batch)
                assert history.num_rows == written
                assert sorted(history["change_no"].to_pylist()) == history["change_no"].to_pylist()
                assert normal(changes.replay(tables[-1], history, key).to_pylist()) == normal(after.to_pylist())
                undone = changes.replay(after, changes.invert(history), key)
                assert normal(undone.to_pylist()) == normal(tables[-1].to_pylist())
            again = rm.merge(case.job(place), case.frame(batch))
            numbers += [result.batch, again.batch]
            assert not again.landed
            assert again.counts["insert"] == again.counts["update"] == again.counts["delete"] == 0
            assert again.counts["reject"] == result.counts["reject"]
            tables.append(after)
        everything = rm.history(place.store, TABLE)
        assert normal(changes.replay(before, everything, key).to_pylist()) == normal(tables[-1].to_pylist())
        counted = rm.batches(place.store)
        assert counted["batch_no"].to_pylist() == numbers == [1, 2, 3, 4]  # every run is noted, without jumps
        assert set(counted["status"].to_pylist()) <= {"done"}


@on_every_store(20, case=cases, seed=st.integers(0, 999), chunk=st.integers(1, 4))
def test_chunks_and_order_change_nothing(store: str, case: Case, seed: int, chunk: int) -> None:
    """The same outcome in chunks of any size, and in any order of a batch whose order says nothing."""
    outcomes = []
    for shuffled, rows in ((False, None), (False, chunk), (True, chunk)):
        if shuffled and case.duplicates != "reject":
            continue
        records = list(case.batches[0])
        if shuffled:
            random.Random(seed).shuffle(records)
        with STORES[store](case.schema, case.key, case.rows) as place, pytest.MonkeyPatch.context() as patch:
            if rows is not None:
                for kind in (Session, *Session.__subclasses__()):
                    patch.setattr(kind, "chunk_rows", rows)
                    patch.setattr(kind, "slice_rows", max(1, rows - 1))
            frame = pa.Table.from_pylist(records, case.sent)
            given_as = frame if rows is None else iter(frame.to_batches(max_chunksize=rows))
            result = rm.merge(case.job(place), given_as)
            history = rm.history(place.store, TABLE).drop_columns(["change_no", "changed_at"]).to_pylist()
            outcomes.append((normal(place.rows()), result.counts, result.changed, normal(history)))
    assert all(outcome == outcomes[0] for outcome in outcomes[1:])


@every_store
def test_history_says_what_and_who(store: str) -> None:
    """The columns of the history, its filters, and a column that the table gets later."""
    schema = pa.schema([("district", pa.string()), ("tag_no", pa.int64()), ("girth cm", pa.float64())])
    key = ["district", "tag_no"]
    rows = [{"district": "N", "tag_no": n, "girth cm": float(n)} for n in (1, 2, 3)]
    with STORES[store](schema, key, rows) as place:
        job = rm.Job(store=place.store, table=TABLE, key=key)
        assert rm.history(place.store, TABLE).num_rows == 0
        rm.merge(job, [{"district": "N", "tag_no": 1, "girth cm": 9.5}, {"district": "S", "tag_no": 1, "girth cm": None}])
        with place.opened.begin(write=True) as session:
            session.add_columns(TABLE, [rm_column("crown", pa.string())])
        rm.merge(job, [{"district": "N", "tag_no": 1, "crown": "wide"}])
        all_of_it = rm.history(place.store, TABLE).to_pylist()
        assert [(c["change_no"], c["batch_no"], c["action"], c["changed"]) for c in all_of_it] == [
            (1, 1, "update", '["girth cm"]'), (2, 1, "insert", None), (3, 2, "update", '["crown"]'),
        ]  # fmt: skip
        assert (all_of_it[0]["old_girth cm"], all_of_it[0]["new_girth cm"]) == (1.0, 9.5)
        assert (all_of_it[0]["new_crown"], all_of_it[2]["old_crown"], all_of_it[2]["new_crown"]) == (None, None, "wide")
        assert all(c["application"].startswith("rmend ") and c["changed_at"].tzinfo for c in all_of_it)
        for filters, wanted in (
            ({"key": {"district": "N", "tag_no": "1"}}, [1, 3]),
            ({"batch": 2}, [3]),
            ({"action": "insert"}, [2]),
            ({"column": "girth cm"}, [1]),
            ({"since": all_of_it[2]["changed_at"]}, [c["change_no"] for c in all_of_it if c["changed_at"] >= all_of_it[2]["changed_at"]]),
            ({"until": all_of_it[0]["changed_at"] - timedelta(seconds=1)}, []),
            ({"limit": 2}, [2, 3]),
        ):
            found = rm.history(place.store, TABLE, **filters)["change_no"].to_pylist()
            assert found == wanted, filters
        with pytest.raises(rm.JobError, match="did you mean 'crown'"):
            rm.history(place.store, TABLE, column="crwn")
        quiet = rm.Job(store=place.store, table=TABLE, key=key, history=False)
        assert rm.merge(quiet, [{"district": "N", "tag_no": 2, "girth cm": 0.5}]).batch == 3
        assert rm.history(place.store, TABLE).num_rows == 3
        assert rm.batches(place.store, limit=1).to_pylist()[0]["updated"] == 1


def rm_column(name: str, kind: pa.DataType) -> Any:
    from rapid_mender.core.schema import Column

    return Column(name, kind)


def test_a_session_that_fails_leaves_nothing() -> None:
    store = rm.MemoryStore({"t": pa.table({"id": [1]})})

    def fail() -> None:
        with open_store(store).begin(write=True) as session:
            session.insert(session.describe("t"), pa.table({"id": [2]}), ["id"])
            raise ZeroDivisionError

    with pytest.raises(ZeroDivisionError):
        fail()
    assert store["t"].to_pylist() == [{"id": 1}]
