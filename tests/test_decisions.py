"""Rules, column settings, order, deletes and limits, on every store, against the plain reference."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import rapid_mender as rm
from rapid_mender.stores.contract import Conflict

from . import length, reference
from . import replaying as changes
from .cases import ARCHIVE, SCHEMA, Case, with_archive
from .laws import normal, on_every_store
from .stores import STORES, TABLE


@on_every_store(25, case=st.composite(lambda draw: Case(draw, False))())
def test_every_option_agrees_with_the_reference(store: str, case: Case) -> None:
    """Decisions, changed columns, table and archive; replay and undo hold as well."""
    with STORES[store](SCHEMA, ["tag_no"], case.rows) as place:
        with_archive(place)
        before = place.table()
        wanted = reference.merge(case.rows, case.batch, ["tag_no"], case.reference)
        told = case.merge(place, rm.preview)
        result = case.merge(place)
        got = [(row["decision"], set(row["changed"] or ())) for row in result.decisions.to_pylist()]
        assert got[: len(case.batch)] == wanted.decided
        assert got[len(case.batch) :] == [("delete", set())] * wanted.gone
        assert (result.missing, told.counts, told.changed) == (wanted.gone, result.counts, result.changed)
        assert normal(place.rows()) == normal([dict.fromkeys(SCHEMA.names) | row for row in wanted.table])
        if case.options["delete"] == "archive":
            assert normal(place.rows(ARCHIVE)) == normal([dict.fromkeys(SCHEMA.names) | row for row in wanted.archived])
        written = sum(result.counts[name] for name in ("insert", "update", "delete"))
        assert result.landed == (written > 0)
        history = rm.history(place.store, TABLE)
        assert history.num_rows == written
        key = place.info.pick(["tag_no"])
        assert normal(changes.replay(before, history, key).to_pylist()) == normal(place.table().to_pylist())
        undone = changes.replay(place.table(), changes.invert(history), key)
        assert normal(undone.to_pylist()) == normal(before.to_pylist())


@pytest.mark.parametrize("store", ["memory", "sqlite"])
@settings(max_examples=length.some(20))
@given(case=st.composite(lambda draw: Case(draw, False))())
def test_keys_that_are_made_agree_with_the_reference(store: str, case: Case) -> None:
    """As above, with records whose key the database makes: a new one for each, in decisions and history."""
    case.options["null_key"] = case.reference.null_key = "generate"
    case.options["commit_every"] = None
    with STORES[store](SCHEMA, ["tag_no"], case.rows) as place:
        if store == "memory":
            place.store = rm.MemoryStore({TABLE: place.table()}, numbered={TABLE: "tag_no"})
        with_archive(place)
        wanted = reference.merge(case.rows, case.batch, ["tag_no"], case.reference)
        result = case.merge(place)
        decisions = result.decisions.to_pylist()[: len(case.batch)]
        assert [(row["decision"], set(row["changed"] or ())) for row in decisions] == wanted.decided
        made = [d["tag_no"] for d, r in zip(decisions, case.batch, strict=True) if r["tag_no"] is None and d["decision"] == "insert"]
        assert None not in made
        kept = [row["tag_no"] for row in wanted.table if row["tag_no"] is not None]  # a deleted row's may come again
        assert len({*made, *kept}) == len(made) + len(kept)
        held = [row | {"tag_no": None} if row["tag_no"] in made else row for row in place.rows()]
        assert normal(held) == normal([dict.fromkeys(SCHEMA.names) | row for row in wanted.table])
        assert set(made) <= set(rm.history(place.store, TABLE, action="insert")["new_tag_no"].to_pylist())


@on_every_store(20, case=st.composite(lambda draw: Case(draw, True))())
def test_the_same_batch_twice_under_every_setting(store: str, case: Case) -> None:
    with STORES[store](SCHEMA, ["tag_no"], case.rows) as place:
        first = case.merge(place)
        table = place.rows()
        second = case.merge(place)
        assert not second.landed
        assert second.counts["skip"] == first.records - first.counts["reject"]
        assert place.rows() == table


class _Interrupted(rm.MemoryStore):
    """A store in which another program comes between, once, at the end of a unit of work."""

    left = 1

    @contextmanager
    def begin(self, write: bool, *args: Any, **options: Any) -> Iterator[Any]:
        with super().begin(write, *args, **options) as session:
            yield session
            if write and self.left:
                self.left -= 1
                raise Conflict("another program came between")


@pytest.mark.parametrize("commit_every", [None, 2])
def test_a_unit_of_work_that_is_done_again_is_done_once(commit_every: int | None) -> None:
    """Nothing of the first time counts, and what came is known the second time too: only what did not is deleted."""
    rows = {"id": [1, 2, 3, 4, 5], "v": ["a", "b", "c", "d", "e"]}
    store = _Interrupted({"t": pa.table(rows)})
    batch = [{"id": 1, "v": "z"}, {"id": 2, "v": "b"}, {"id": 3, "v": None}, {"id": 9, "v": "n"}, {"id": "x"}]
    job = rm.Job(store=store, table="t", key="id", missing="delete", commit_every=commit_every, rules=[rm.Rule(decide="skip", when="incoming.v IS NULL")])
    told = rm.preview(job, batch[:4], by="v")
    result = rm.merge(job, batch[:4], by="v")
    assert (result.retries, result.counts, result.groups) == (1, told.counts, told.groups)
    assert result.counts == {"insert": 1, "update": 1, "delete": 2, "skip": 2, "reject": 0}
    assert sorted(store["t"]["id"].to_pylist()) == [1, 2, 3, 9]
    assert (len(result.decisions), result.rules, result.records) == (6, {1: 1}, 4)
    store.left = 1
    assert rm.merge(job, batch).warnings != []
    assert rm.history(store, "t").num_rows == 4
    assert rm.batches(store)["batch_no"].to_pylist() == [1, 2]


def test_rejects_of_what_is_done_again_are_not_kept(tmp_path: Path) -> None:
    """What was a reject the first time only, because of what another program had written, is in no file."""
    store, times = _Interrupted({"t": pa.table({"id": [1], "v": ["a"]})}), iter([True])
    rule = rm.Rule(decide="reject", when=lambda incoming, existing: pa.array([next(times, False)]))
    job = rm.Job(store=store, table="t", key="id", rules=[rule], rejects=str(tmp_path / "r.csv"))
    result = rm.merge(job, [{"id": 1, "v": "b"}])
    assert (result.counts["update"], result.counts["reject"], result.rejects_path) == (1, 0, None)
    assert list(tmp_path.iterdir()) == []
