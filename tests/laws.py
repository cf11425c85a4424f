"""Random tables and batches, and how a law is held over every store."""

from __future__ import annotations

import math
from collections.abc import Callable
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from typing import Any

import hypothesis
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import rapid_mender as rm

from . import length
from .stores import TABLE, Place, every_store

_text = st.text(st.characters(codec="utf-8", exclude_categories=("Cs", "Cc")), max_size=12) | st.sampled_from(
    ["", " ", "null", "0", "1e3", "O'Hara", 'quo"te', "ß", "Ärger", "日本"]
)
VALUES: dict[pa.DataType, st.SearchStrategy[Any]] = {
    pa.int64(): st.integers(-(2**63), 2**63 - 1) | st.integers(-3, 3),
    pa.float64(): st.floats(allow_nan=False, width=64) | st.sampled_from([0.0, -0.0, 0.1 + 0.2, 1e300, 2.0**53]),
    pa.string(): _text,
    pa.bool_(): st.booleans(),
    pa.date32(): st.dates(date(1, 1, 1), date(9999, 12, 31)),
    pa.timestamp("us"): st.datetimes(datetime(1, 1, 1), datetime(9999, 12, 31)),
    pa.time64("us"): st.times(),
    pa.decimal128(12, 3): st.integers(-(10**12) + 1, 10**12 - 1).map(lambda n: Decimal(n).scaleb(-3)),
    pa.binary(): st.binary(max_size=8),
}
KEYS: dict[pa.DataType, st.SearchStrategy[Any]] = {  # few values each, so that records meet rows and one another
    pa.int64(): st.integers(1, 6),
    pa.string(): st.sampled_from(["a", "A", "b ", "b", "ß", "7", "007"]),
    pa.date32(): st.sampled_from([date(2026, 1, 1) + timedelta(days=n) for n in range(4)]),
    pa.decimal128(12, 3): st.sampled_from([Decimal("1.500"), Decimal("1.000"), Decimal("-2.125")]),
    pa.bool_(): st.booleans(),
    pa.timestamp("us"): st.sampled_from([datetime(2026, 1, 1), datetime(2026, 1, 1, 0, 0, 0, 5)]),
    pa.time64("us"): st.sampled_from([time(1, 2), time(1, 2, 3, 4)]),
}
NAMES = ["tag_no", "select", "girth cm", 'odd"name', "größe", "Upper", "x'y"]


class Case:
    """A table, two batches against it, and what a merge of them is told."""

    def __init__(self, draw: st.DrawFn) -> None:
        key_types = draw(st.lists(st.sampled_from(list(KEYS)), min_size=1, max_size=2))
        other_types = draw(st.lists(st.sampled_from(list(VALUES)), min_size=1, max_size=4))
        names = draw(st.permutations(NAMES))[: len(key_types) + len(other_types)]
        self.key = list(names[: len(key_types)])
        types = dict(zip(names, key_types + other_types, strict=True))
        self.required = tuple(name for name in names if name not in self.key and draw(st.integers(0, 5)) == 0)
        self.schema = pa.schema([pa.field(name, kind, name not in self.required) for name, kind in types.items()])
        strategies = {n: KEYS[t] if n in self.key else VALUES[t] for n, t in types.items()}
        pools = {n: draw(st.lists(s, min_size=1, max_size=3)) for n, s in strategies.items() if n not in self.key}

        def value(name: str, nullable: bool) -> Any:
            if name in self.key:
                rare = nullable and draw(st.integers(0, 15)) == 0
                return None if rare else draw(strategies[name])
            return draw(st.sampled_from([*pools[name], *([None] if nullable else [])]))

        def record(columns: list[str]) -> dict[str, Any]:
            return {name: value(name, True) for name in columns}

        rows = [{n: value(n, n not in (*self.key, *self.required)) for n in names} for _ in range(draw(st.integers(0, 7)))]
        self.rows = list({tuple(row[name] for name in self.key): row for row in rows}.values())
        optional = [name for name in names if name not in self.key]
        sent = self.key + [name for name in optional if draw(st.integers(0, 4))]
        self.batches = [[record(sent) for _ in range(draw(st.integers(0, 10)))] for _ in range(2)]
        self.duplicates = draw(st.sampled_from(["reject", "first", "last"]))
        self.sent = pa.schema([self.schema.field(name).with_nullable(True) for name in sent])

    def __repr__(self) -> str:
        types = {field.name: str(field.type) for field in self.schema}
        return f"Case({types}, key={self.key}, rows={self.rows}, batches={self.batches}, {self.duplicates})"

    def make_finite(self) -> None:
        """For a database that refuses infinities (a test of its types says so): with the largest numbers instead."""
        for record in (*self.rows, *self.batches[0], *self.batches[1]):
            for name, value in record.items():
                if isinstance(value, float) and math.isinf(value):
                    record[name] = math.copysign(1.7e308, value)

    def frame(self, batch: int = 0) -> pa.Table:
        return pa.Table.from_pylist(self.batches[batch], self.sent)

    def job(self, place: Place) -> rm.Job:
        return rm.Job(store=place.store, table=TABLE, key=self.key, duplicates=self.duplicates)


cases = st.composite(lambda draw: Case(draw))()
_SHARE = {"memory": 1.0, "sqlite": 1.0, "postgresql": 0.4, "mariadb": 0.4}
_SHARE_OF_A_VARIANT = 0.2


def on_every_store(most: int = 24, **strategies: st.SearchStrategy[Any]) -> Callable[..., Callable[[str, int], None]]:
    """A property of every store; on servers, which take longer, with fewer examples, and on variants of a store with few.
    In a long run it comes in several parts, each with a seed of its own."""

    def wrap(test: Callable[..., None]) -> Callable[[str, int], None]:
        @every_store
        @pytest.mark.parametrize("part", range(length.PARTS))
        def run(store: str, part: int) -> None:
            @hypothesis.seed(length.SEED + part)
            @settings(max_examples=length.some(most * _SHARE.get(store, _SHARE_OF_A_VARIANT) / length.PARTS))
            @given(**strategies)
            def law(**drawn: Any) -> None:
                for case in drawn.values():
                    if isinstance(case, Case) and store.startswith("mariadb"):
                        case.make_finite()
                test(store, **drawn)

            law()

        run.__doc__ = test.__doc__
        return run

    return wrap


def normal(rows: list[dict[str, Any]]) -> list[tuple[Any, ...]]:
    """Rows in an order of their own; -0.0 is 0.0 to every database."""
    flat = [tuple((n, v + 0.0 if isinstance(v, float) else v) for n, v in sorted(row.items())) for row in rows]
    return sorted(flat, key=repr)
