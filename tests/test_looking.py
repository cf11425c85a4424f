"""Looking before and after: one record explained, counts by group, jobs checked; and when values count as the same."""

from __future__ import annotations

from collections import Counter
from datetime import date, datetime, time
from decimal import Decimal
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import rapid_mender as rm
from rapid_mender.core.compare import Likeness, alike
from rapid_mender.jobs.draft import pair_names

from . import length
from .cases import SCHEMA, Case, with_archive
from .stores import STORES, TABLE

two_stores = pytest.mark.parametrize("store", ["memory", "sqlite"])
cases = st.composite(lambda draw: Case(draw, False))()


@two_stores
@settings(max_examples=length.some(15))
@given(case=cases)
def test_what_explain_says_is_what_a_merge_does(store: str, case: Case) -> None:
    with STORES[store](SCHEMA, ["tag_no"], case.rows) as place:
        with_archive(place)
        job = rm.Job(store=place.store, table=TABLE, key="tag_no", **case.options)
        frame = pa.Table.from_pylist(case.batch, case.sent)
        told = case.merge(place, rm.preview).decisions.to_pylist()[: len(case.batch)]
        rows = {row["tag_no"]: row for row in case.rows}
        for tag in {record["tag_no"] for record in case.batch} - {None}:
            found = rm.explain(job, frame, key={"TAG_NO": str(tag)})
            mine = [(one["row"], one["decision"], one["reason"]) for one in told if one["tag_no"] == tag]
            assert [(one.row, one.decision, one.reason) for one in found.records] == mine
            assert found.existing == ([rows[tag]] if tag in rows else [])
            for one in found.records:
                if one.decision == "update":
                    changed = {cell.column for cell in one.compared if cell.changed}
                    assert changed == set(told[one.row - 1]["changed"])
                assert [rule.decided for rule in one.rules].count(True) <= 1
                assert all((rule.value is True) >= rule.decided for rule in one.rules)
                for cell in one.compared:  # what is not changed has a reason, and what is changed none but that
                    assert cell.verdict
        nobody = rm.explain(job, frame, key={"tag_no": 77})
        assert (nobody.records, nobody.existing) == ([], [])
        assert nobody.note is not None
        with pytest.raises(rm.JobError, match="the key of the job is tag_no"):
            rm.explain(job, frame, key={"species": "Oak"})


BY: list[tuple[str, Any]] = [
    ("species", lambda row: row["species"]),
    ("old girth", lambda row: row["old girth"]),
    ("COALESCE(height, 0) > 4.3", lambda row: (row["height"] or 0) > Decimal("4.3")),
    ("CASE WHEN felled THEN 'felled' WHEN girth < 0 THEN 'odd' END",
     lambda row: "felled" if row["felled"] else "odd" if (row["girth"] or 0) < 0 else None),
]  # fmt: skip


@two_stores
@settings(max_examples=length.some(15))
@given(case=cases, by=st.sampled_from(BY))
def test_counts_by_group_are_those_of_the_rows(store: str, case: Case, by: Any) -> None:
    text, plain = by
    with STORES[store](SCHEMA, ["tag_no"], case.rows) as place:
        with_archive(place)
        before = Counter(plain(row) for row in place.rows())
        told = case.merge(place, lambda job, frame: rm.preview(job, frame, by=text))
        done = case.merge(place, lambda job, frame: rm.merge(job, frame, by=text))
        after = Counter(plain(row) for row in place.rows())
        groups = done.groups.to_pylist()
        assert {g["group"]: g["before"] for g in groups if g["before"]} == before
        assert {g["group"]: g["after"] for g in groups if g["after"]} == after
        assert sorted(map(repr, told.groups.to_pylist())) == sorted(map(repr, groups)), "a preview foresees it"
        for name, count in done.counts.items():
            assert sum(g[name] for g in groups) == count


@pytest.mark.parametrize(("kind", "tolerance", "pairs"), [
    (pa.int64(), 2, [(5, 7, True), (5, 8, False), (-(2**63), 2**63 - 1, False), (2**63 - 1, 2**63 - 3, True), (0, -2, True)]),
    (pa.uint64(), 1, [(2**64 - 1, 2**64 - 2, True), (0, 2**64 - 1, False)]),
    (pa.float64(), "0.1", [(10.2, 10.3, True), (10.2, 10.31, False), (1e16, 1e16 + 2, True), (float("nan"), 1.0, False), (0.0, -0.1, True)]),
    (pa.float32(), "0.1", [(10.2, 10.3, True), (10.2, 10.4, False)]),
    (pa.decimal128(12, 3), "0.25", [(Decimal("1.000"), Decimal("1.250"), True), (Decimal("1.000"), Decimal("1.251"), False)]),
    (pa.decimal128(38, 0), 5, [(Decimal(10) ** 37, Decimal(10) ** 37 + 5, True), (-(Decimal(10) ** 37), Decimal(10) ** 37, False)]),
    (pa.date32(), 2, [(date(2026, 2, 27), date(2026, 3, 1), True), (date(2026, 2, 27), date(2026, 3, 2), False)]),
    (pa.timestamp("us"), "1.5", [(datetime(2026, 1, 1), datetime(2026, 1, 1, 0, 0, 1, 500000), True), (datetime(1, 1, 1), datetime(9999, 1, 1), False)]),
    (pa.time64("us"), 60, [(time(10, 0), time(10, 1), True), (time(0, 0), time(23, 59), False)]),
], ids=str)  # fmt: skip
def test_tolerance_in_every_type(kind: pa.DataType, tolerance: Any, pairs: list[tuple[Any, Any, bool]]) -> None:
    setting = Likeness(Decimal(str(tolerance)))
    old, new = (pa.array([pair[side] for pair in pairs], kind) for side in (0, 1))
    wanted = [pair[2] for pair in pairs]
    assert alike(old, new, setting).tolist() == alike(new, old, setting).tolist() == wanted


def test_texts_that_count_as_the_same() -> None:
    old, new = pa.array(["Höhe", " a ", "B", "a", None]), pa.array(["HÖHE", "a", " b\t", "b", "x"])
    for setting, wanted in (
        (Likeness(ignore_case=True), [True, False, False, False, False]),
        (Likeness(trim=True), [False, True, False, False, False]),
        (Likeness(trim=True, ignore_case=True), [True, True, True, False, False]),
        (Likeness(), [False] * 5),
    ):
        assert alike(old, new, setting).tolist() == wanted


def test_incoming_columns_that_go_nowhere_may_be_used(tmp_path: Path) -> None:
    """In derived columns and rules: as text from a CSV file, in their types from a frame; keys may be derived."""
    store = rm.MemoryStore({"t": pa.schema([("id", pa.string()), ("girth", pa.decimal128(8, 2)), ("by", pa.string())]).empty_table()})
    job = rm.Job(
        store=store, table="t", key="id", derive={"id": "incoming.area || '-' || incoming.tag", "by": "'crews'",
        "girth": "CAST(incoming.girth_in AS DOUBLE) * 2.54"}, rules=[rm.Rule(decide="skip", when="incoming.crew = 'c9'", because="{incoming.crew}")],
    )  # fmt: skip
    (tmp_path / "b.csv").write_text("area,tag,girth_in,crew\nN,1,10,c1\nN,2,wide,c1\nN,3,1,c9\nN,1,10,c1\n")
    result = rm.merge(job, tmp_path / "b.csv")
    assert result.decisions["decision"].to_pylist() == ["insert", "reject", "skip", "skip"]
    assert result.rejects["rmend_reason"][0].as_py().startswith("girth: CAST(incoming.girth_in AS DOUBLE) * 2.54 cannot be computed")
    assert store["t"].to_pylist() == [{"id": "N-1", "girth": Decimal("25.40"), "by": "crews"}]
    frame = [{"area": "N", "tag": 1, "girth_in": 11.0, "crew": None}, {"area": "N", "tag": 4, "girth_in": None}]
    assert rm.merge(job, frame).counts == {"insert": 1, "update": 1, "delete": 0, "skip": 0, "reject": 0}
    with pytest.raises(rm.JobError, match="fits no column"):
        rm.merge(job, [{"area": "N", "tag": 1, "girth_in": 1.0, "crew": "x", "weather": "wet"}])
    without = rm.merge(job, [{"area": "N", "tag": 1, "girth_in": 1.0}])  # dicts may all lack what one may lack
    assert "the batch does not send 'crew'" in without.warnings[0]
    with pytest.raises(rm.JobError, match="no column 'crew'"):
        rm.merge(job, pa.table({"area": ["N"], "tag": [1], "girth_in": [1.0]}))


def test_check_reads_no_iterator_and_describes_every_option() -> None:
    store = rm.MemoryStore({"t": pa.table({"id": [1], "n": [1.0], "old": [1.0]}), "gone": pa.table({"id": [1], "n": [1.0], "old": [1.0]})})
    batches = iter([[{"id": 1, "n": 2.0}]])
    job = rm.Job(
        store=store, table="t", key="id", duplicates="last", missing="delete", scope="n > 0", delete="archive", archive="gone",
        columns={"n": {"tolerance": 1, "compare": False, "write": "insert", "previous": "old"}}, max_deletes="5%", max_rejects=3,
        commit_every=10, history=False, rejects={"table": "bad"}, ignore="x", rules=[rm.Rule(decide="skip", when=np.equal)],
    )  # fmt: skip
    said = " ".join(rm.check(job, batches).sentences)
    for words in (
        "Takes the last of several records", "for which n > 0 are moved to gone", "tolerance = 1, is no reason to write, is written on inserts only, "
        "leaves its old value in old",
        "when more than 3 rejects or 5 % of the rows are to be deleted", "Commits after every 10 records", "in the table bad", "Keeps no history",
    ):  # fmt: skip
        assert words in said, words
    assert len(list(batches)) == 1, "it is still there to be merged"


@pytest.mark.parametrize(("incoming", "columns", "wanted"), [
    (["Tag", "Girth", "height"], ["tag_no", "girth_cm", "height_m"], {"Tag": "tag_no", "Girth": "girth_cm", "height": "height_m"}),
    (["tagNo", "SURVEYED-ON"], ["tag_no", "surveyed_on"], {"tagNo": "tag_no", "SURVEYED-ON": "surveyed_on"}),
    (["date"], ["planted_date", "felled_date"], {}),
    (["heigth_m", "x"], ["height_m", "species"], {"heigth_m": "height_m"}),
    (["id", "tree id"], ["id", "tree_id"], {"id": "id", "tree id": "tree_id"}),
])  # fmt: skip
def test_names_are_paired(incoming: list[str], columns: list[str], wanted: dict[str, str]) -> None:
    assert pair_names(incoming, columns) == wanted
