"""Rules, column settings, order, deletes and limits, on every store, against the plain reference."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from datetime import date
from decimal import Decimal
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import rapid_mender as rm
from rapid_mender.changes import algebra as changes
from rapid_mender.core.schema import Column, TableInfo
from rapid_mender.stores.contract import Conflict

from . import reference
from .stores import STORES, TABLE, Place
from .test_laws import normal, on_every_store

SCHEMA = pa.schema(
    [
        ("tag_no", pa.int64()), ("species", pa.string()), ("girth", pa.float64()), ("height", pa.decimal128(12, 3)),
        ("day", pa.date32()), ("felled", pa.bool_()), ("old girth", pa.float64()), ("note", pa.string()),
    ]
)  # fmt: skip
VALUES: dict[str, list[Any]] = {
    "tag_no": [1, 2, 3, 4, 5, 6],
    "species": ["Oak", "oak", " OAK ", "Elm", "", None],
    "girth": [10.0, 10.1, 10.2, 10.35, -3.0, None],
    "height": [Decimal("4.000"), Decimal("4.250"), Decimal("4.500"), Decimal("9.001"), None],
    "day": [date(2026, 1, 1), date(2026, 1, 3), date(2026, 4, 1), None],
    "felled": [True, False, None],
    "old girth": [1.0, 10.0, None],
    "note": ["a", "b", None],
}
ARCHIVE = "felled 'trees'"


def _less(a: Any, b: Any) -> bool | None:
    return None if a is None or b is None else a < b


RULES: list[tuple[str, reference.Predicate]] = [
    ("incoming.girth < 0", lambda new, old, changed: _less(new["girth"], 0)),
    ("existing.girth > incoming.girth", lambda new, old, changed: old and _less(new["girth"], old["girth"])),
    ("NOT matched AND incoming.note = 'a'", lambda new, old, changed: old is None and new["note"] == "a"),
    ("changed('species') AND NOT changed('girth')", lambda new, old, changed: "species" in changed - {"girth"}
     and "girth" not in changed),
    ("matched AND incoming.felled", lambda new, old, changed: old is not None and new["felled"] is True),
    ("existing.felled IS TRUE AND LOWER(incoming.species) LIKE 'o%'", lambda new, old, changed: old is not None
     and old["felled"] is True and (new["species"] or "").lower().startswith("o")),
    ("COALESCE(incoming.height, 0) BETWEEN 4.2 AND 5", lambda new, old, changed:
     Decimal("4.2") <= (new["height"] or 0) <= 5),
    ("matched", lambda new, old, changed: old is not None),
]  # fmt: skip
SCOPES: list[tuple[str | None, Any]] = [
    (None, lambda row: True),
    ("NOT felled", lambda row: row["felled"] is False),
    ("existing.girth >= 10", lambda row: row["girth"] is not None and row["girth"] >= 10),
]
DERIVE = {"note": ("UPPER(incoming.species) || '!'", lambda r: None if r["species"] is None else r["species"].upper() + "!")}


class Case:
    """A table, a batch, a job, and the same job for the reference. `plain` leaves out what deletes and rules do."""

    def __init__(self, draw: st.DrawFn, plain: bool) -> None:
        self.rows = [self._row(draw, tag) for tag in draw(st.lists(st.integers(1, 6), unique=True, max_size=5))]
        sent = ["tag_no", "species", "girth", "height", "day", "felled", "note"]
        tag = st.sampled_from([*VALUES["tag_no"], *([] if plain else [None])])
        count = draw(st.integers(0, 8))
        self.batch = [{n: v for n, v in self._row(draw, draw(tag)).items() if n in sent} for _ in range(count)]
        self.sent = pa.schema([SCHEMA.field(name) for name in sent])
        columns: dict[str, dict[str, Any]] = {
            "species": draw(st.fixed_dictionaries({}, optional={"ignore_case": st.booleans(), "trim": st.booleans()})),
            "girth": draw(st.fixed_dictionaries({}, optional={"tolerance": st.just(0.1), "previous": st.just("old girth")})),
            "height": draw(st.fixed_dictionaries({}, optional={"tolerance": st.sampled_from([0.25, 3])})),
            "day": draw(st.fixed_dictionaries({}, optional={"tolerance": st.just(2)})),
            "note": {}, "felled": {},
        }  # fmt: skip
        for options in columns.values():
            options |= draw(st.fixed_dictionaries({}, optional={
                "compare": st.booleans(), "null": st.sampled_from(["overwrite", "keep"]),
                "write": st.sampled_from(["always", "always", "insert", "never"]),
            }))  # fmt: skip
        derive = draw(st.booleans())
        self.options: dict[str, Any] = {
            "columns": columns, "duplicates": draw(st.sampled_from(["reject", "first", "last"])),
            "order": draw(st.sampled_from([None, "day"])), "derive": {n: s for n, (s, _) in DERIVE.items()} if derive else {},
            "commit_every": draw(st.sampled_from([None, None, 1, 3])),
        }  # fmt: skip
        self.reference = reference.Options(
            self.options["duplicates"], (), self.options["order"], columns, [], {n: f for n, (_, f) in DERIVE.items()} if derive else {}
        )
        if plain:
            return
        rules = draw(st.lists(st.tuples(st.sampled_from(["insert", "update", "delete", "skip", "reject"]), st.sampled_from(RULES)), max_size=3))
        scope, within = draw(st.sampled_from(SCOPES))
        missing = draw(st.sampled_from(["keep", "delete"]))
        delete = draw(st.sampled_from(["remove", "mark", "archive"]))
        allow = draw(st.sampled_from([["insert", "update", "delete"], ["insert", "delete"], ["update"], []]))
        self.options |= {
            "rules": [rm.Rule(decide=decide, when=when) for decide, (when, _) in rules], "missing": missing, "delete": delete,
            "allow": allow, **({"scope": scope} if missing == "delete" else {}),
            **({"mark": {"felled": True, "note": "'gone'"}} if delete == "mark" else {}),
            **({"archive": ARCHIVE} if delete == "archive" else {}),
        }  # fmt: skip
        self.reference.rules = [(decide, predicate) for decide, (_, predicate) in rules]
        self.reference.allow = tuple(allow)
        self.reference.missing, self.reference.scope = missing, within
        self.reference.delete, self.reference.mark = delete, {"felled": True, "note": "gone"}

    def _row(self, draw: st.DrawFn, tag: int | None) -> dict[str, Any]:
        return {name: tag if name == "tag_no" else draw(st.sampled_from(values)) for name, values in VALUES.items()}

    def __repr__(self) -> str:
        return f"Case(rows={self.rows}, batch={self.batch}, {self.options})"

    def merge(self, place: Place, work: Any = rm.merge) -> rm.Result:
        job = rm.Job(store=place.store, table=TABLE, key="tag_no", **self.options)
        result: rm.Result = work(job, pa.Table.from_pylist(self.batch, self.sent))
        return result


def _with_archive(place: Place) -> None:
    with place.opened.begin(write=True) as session:
        session.create(TableInfo(ARCHIVE, tuple(Column(f.name, f.type) for f in SCHEMA)))


@on_every_store(60, case=st.composite(lambda draw: Case(draw, False))())
def test_every_option_agrees_with_the_reference(store: str, case: Case) -> None:
    """Decisions, changed columns, table and archive; replay and undo hold as well."""
    with STORES[store](SCHEMA, ["tag_no"], case.rows) as place:
        _with_archive(place)
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
@settings(max_examples=40)
@given(case=st.composite(lambda draw: Case(draw, False))())
def test_keys_that_are_made_agree_with_the_reference(store: str, case: Case) -> None:
    """As above, with records whose key the database makes: a new one for each, in decisions and history."""
    case.options["null_key"] = case.reference.null_key = "generate"
    case.options["commit_every"] = None
    with STORES[store](SCHEMA, ["tag_no"], case.rows) as place:
        if store == "memory":
            place.store = rm.MemoryStore({TABLE: place.table()}, numbered={TABLE: "tag_no"})
        _with_archive(place)
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


@on_every_store(40, case=st.composite(lambda draw: Case(draw, True))())
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
