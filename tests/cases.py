"""Random jobs: every option of a job, beside what the plain reference makes of it."""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from typing import Any

import pyarrow as pa
from hypothesis import strategies as st

import rapid_mender as rm
from rapid_mender.core.schema import Column, TableInfo

from . import reference
from .stores import TABLE, Place

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


def with_archive(place: Place) -> None:
    with place.opened.begin(write=True) as session:
        session.create(TableInfo(ARCHIVE, tuple(Column(f.name, f.type) for f in SCHEMA)))
