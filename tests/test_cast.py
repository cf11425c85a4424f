"""Casting: every kind of value into every kind of column, and what is refused."""

from __future__ import annotations

from datetime import date, datetime, time
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from rapid_mender.core.cast import cast
from rapid_mender.core.hashing import hash_rows
from rapid_mender.core.schema import Column

BAD = "bad"
STAMP, ZONED = pa.timestamp("us"), pa.timestamp("us", "UTC")
UTC = datetime(2026, 1, 5, 8, 11)

CASES: list[tuple[pa.DataType, list[Any], list[Any]]] = [
    (pa.int64(), ["1", "+5", " 7 ", "12.0", "007"], [1, 5, 7, 12, 7]),
    (pa.int64(), ["12.5", "0x10", "abc", "1e3", "9223372036854775808", "1 2", "--1"], [BAD] * 7),
    (pa.int64(), ["", None, " "], [None] * 3),
    (pa.int16(), ["32767", "32768", "-32769"], [32767, BAD, BAD]),
    (pa.int64(), [1.0, 2.5, float("nan"), 1e300], [1, BAD, BAD, BAD]),
    (pa.int64(), [True, False], [1, 0]),
    (pa.int64(), [Decimal("2.00"), Decimal("2.50")], [2, BAD]),
    (pa.int64(), [date(2026, 1, 1)], [BAD]),
    (pa.float64(), ["1", "+.5", "5.", "1e3", "-inf"], [1.0, 0.5, 5.0, 1000.0, float("-inf")]),
    (pa.float64(), ["1e999", "1,5", "x", "0x1"], [BAD] * 4),
    (pa.float32(), ["1e39", "0.1"], [BAD, float(np.float32(0.1))]),
    (pa.decimal128(10, 2), ["1", "+1.005", "-1.005", "1e3", "1e-9"], [1, "1.01", "-1.01", 1000, 0]),
    (pa.decimal128(10, 2), ["99999999.99", "99999999.995", "1e999", "x", "1" * 60], ["99999999.99"] + [BAD] * 4),
    (pa.decimal128(10, 2), [1.005, 0.1, 2.5e7, float("nan")], ["1.01", "0.1", "25000000", BAD]),
    (pa.decimal128(10, 2), ["0." + "1" * 60, "5" + "0" * 36 + "e-36"], ["0.11", 5]),
    (pa.decimal128(38, 4), ["1" + "0" * 33, "1" + "0" * 34], [10**33, BAD]),
    (pa.bool_(), ["TRUE", "no", "1", "f", "2", "maybe"], [True, False, True, False, BAD, BAD]),
    (pa.bool_(), [0, 1, 5], [False, True, BAD]),
    (pa.date32(), ["2026-01-05", "2026-01-05 00:00:00", "2026-01-05T00:00"], [date(2026, 1, 5)] * 3),
    (pa.date32(), ["2026-02-29", "2026-01-05 13:00", "5.1.2026", "0000-01-01", "10000-01-01"], [BAD] * 5),
    (pa.date32(), [datetime(2026, 1, 5), datetime(2026, 1, 5, 1)], [date(2026, 1, 5), BAD]),
    (pa.date32(), [20260105], [BAD]),
    (STAMP, ["2026-01-05 10:11:00+02:00", "2026-01-05T08:11Z", "2026-01-05 08:11"], [UTC] * 3),
    (STAMP, ["2026-01-05 08:11:12.123456789"], [datetime(2026, 1, 5, 8, 11, 12, 123456)]),
    (STAMP, ["2026-02-30 10:00", "2026-01-05 24:00", "x", "2026-01-05 10:60"], [BAD] * 4),
    (STAMP, [date(2026, 1, 5)], [datetime(2026, 1, 5)]),
    (STAMP, [1767600660], [BAD]),
    (ZONED, ["2026-01-05 06:41-0130"], [UTC]),
    (pa.time64("us"), ["10:11", "10:11:12.5", "24:00", "10"], [time(10, 11), time(10, 11, 12, 500000), BAD, BAD]),
    (pa.binary(), ["00fF", "0", "zz", ""], [b"\x00\xff", BAD, BAD, b""]),
    (pa.string(), [1.5, 12.0], ["1.5", "12"]),
    (pa.string(), [datetime(2026, 1, 5, 8, 11)], ["2026-01-05 08:11:00"]),
    (pa.string(), [b"\xff", b"a"], [BAD, "a"]),
    (pa.string(), [{"a": [1]}], ['{"a": [1]}']),
]  # fmt: skip


@pytest.mark.parametrize(("kind", "given", "wanted"), CASES, ids=lambda v: str(v)[:40])
def test_casts(kind: pa.DataType, given: list[Any], wanted: list[Any]) -> None:
    def one(values: list[Any]) -> list[Any]:
        array, bad = cast(pa.array(values), Column("x", kind))
        marked = np.zeros(len(values), bool) if bad is None else bad
        return [BAD if is_bad else value for value, is_bad in zip(array.to_pylist(), marked, strict=True)]

    if pa.types.is_decimal(kind):
        wanted = [v if v is BAD else Decimal(v) for v in wanted]
    if pa.types.is_timestamp(kind) and kind.tz:
        wanted = [v.replace(tzinfo=__import__("datetime").UTC) for v in wanted]
    assert one(given) == wanted
    for value, want in zip(given, wanted, strict=True):  # a bad neighbour must not matter
        assert one([value]) == [want]


@given(st.lists(st.decimals(allow_nan=False, allow_infinity=False, places=6, min_value=-999, max_value=999)))
def test_decimals_round_half_away_from_zero(values: list[Decimal]) -> None:
    array, bad = cast(pa.array([str(v) for v in values], pa.string()), Column("x", pa.decimal128(6, 2)))
    assert bad is None or not bad.any()
    assert array.to_pylist() == [v.quantize(Decimal("0.01"), "ROUND_HALF_UP") for v in values]


@given(
    st.lists(st.tuples(st.text(max_size=20) | st.none(), st.integers(-5, 5) | st.none()), min_size=1, max_size=40),
    st.integers(0, 2**64 - 1),
)
def test_rows_hash_alike_exactly_when_they_are_equal(rows: list[tuple[str | None, int | None]], seed: int) -> None:
    columns = [pa.array([a for a, _ in rows], pa.string()), pa.array([b for _, b in rows], pa.int64())]
    hashes = hash_rows(columns, seed).tolist()
    assert len(set(hashes)) == len(set(rows))
    half = len(rows) // 2
    assert hash_rows([column.slice(half) for column in columns], seed).tolist() == hashes[half:]
