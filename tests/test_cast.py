# ruff: noqa: E501, SIM905, RUF005
"""Casting: every type and the texts and values at its edges, against Python's own decimal and datetime."""

from __future__ import annotations

import re
from datetime import date, datetime, time, timedelta
from decimal import ROUND_HALF_UP, Decimal, localcontext
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.types as pt
import pytest
from hypothesis import given
from hypothesis import strategies as st

from rapid_mender.core.cast import cast
from rapid_mender.core.hashing import hash_rows
from rapid_mender.core.schema import Column

from . import length

pytestmark = pytest.mark.pure

BAD = "bad"
KINDS = [
    *(getattr(pa, f"{sign}int{bits}")() for sign in ("", "u") for bits in (8, 16, 32, 64)), pa.float32(), pa.float64(),
    *(pa.decimal128(*size) for size in ((1, 0), (10, 2), (18, 4), (38, 0), (38, 10), (38, 38))),
    *(pa.decimal256(*size) for size in ((50, 5), (76, 0), (76, 10), (76, 40))), pa.bool_(), pa.date32(),
    *(pa.timestamp(unit, zone) for unit in ("s", "ms", "us", "ns") for zone in (None, "UTC")),
    pa.time32("s"), pa.time32("ms"), pa.time64("us"), pa.time64("ns"),
]  # fmt: skip
_SECOND = 10**9
_UNIT = {"s": _SECOND, "ms": 10**6, "us": 1000, "ns": 1}
_FIRST, _END = -719_162 * 86_400 * _SECOND, 2_932_897 * 86_400 * _SECOND  # the years 1 and 10000
_TIME = r"([01][0-9]|2[0-3]):([0-5][0-9])(?::([0-5][0-9])(?:\.([0-9]{1,9}))?)?"
_ZONE = r"[Zz]|([+-])([01][0-9]|2[0-3])(?::?([0-5][0-9]))?"


def reference(text: str, kind: pa.DataType) -> Any:
    """What a text is in a column of a type, told by Python; times as counts of their unit."""
    text = text.strip()
    if not text:
        return None
    if pt.is_integer(kind):
        limits = np.iinfo(kind.to_pandas_dtype())
        number = int(text.split(".")[0]) if re.fullmatch(r"[+-]?[0-9]+(\.0*)?", text, re.A) else None
        return number if number is not None and limits.min <= number <= limits.max else BAD
    if pt.is_boolean(kind):
        said = [text.lower() in words for words in (("true", "t", "yes", "y", "1", "1.0", "on"), ("false", "f", "no", "n", "0", "0.0", "off"))]
        return said[0] if any(said) else BAD
    if pt.is_floating(kind) and re.fullmatch("[+-]?(inf|infinity|nan)", text, re.I):
        return repr(float(text))
    if pt.is_floating(kind) or pt.is_decimal(kind):
        if not re.fullmatch(r"[+-]?(?:[0-9]+\.?[0-9]*|\.[0-9]+)(?:[eE][+-]?[0-9]+)?", text, re.A):
            return BAD
        if pt.is_floating(kind):
            with np.errstate(over="ignore"):
                value = float(np.float32(float(text)) if kind == pa.float32() else float(text))
            return repr(value) if abs(value) < float("inf") else BAD
        if text == "1e" + "9" * 30:
            return BAD  # Python cannot
        with localcontext(prec=5000, Emax=10**12, Emin=-(10**12)):
            exact = Decimal(text)
            if not exact or exact.adjusted() < -100:
                return Decimal(0)
            rounded = exact.quantize(Decimal(1).scaleb(-kind.scale), ROUND_HALF_UP) if exact.adjusted() < 100 else exact
            return rounded if abs(rounded) < Decimal(10) ** (kind.precision - kind.scale) else BAD

    def nanos(hour: str, minute: str, second: str | None, fraction: str | None) -> int:
        seconds = (int(hour or 0) * 60 + int(minute or 0)) * 60 + int(second or 0)
        return seconds * _SECOND + int((fraction or "0").ljust(9, "0"))

    if pt.is_time(kind):
        found = re.fullmatch(_TIME, text, re.A)
        return nanos(*found.groups()) // _UNIT[kind.unit] if found else BAD
    found = re.fullmatch(rf"([0-9]{{4}}-[0-9]{{2}}-[0-9]{{2}})(?:[ T]{_TIME})?(?:{_ZONE})?", text, re.A)
    try:
        day = date.fromisoformat(found[1]) if found else None
    except ValueError:
        day = None
    if found is None or day is None:
        return BAD
    if pt.is_date(kind):
        zoned = text[-1] in "Zz" or found[6] is not None
        return BAD if zoned or nanos(*found.groups()[1:5]) else day
    ahead = int(f"{found[6]}1") * nanos(found[7], found[8], None, None) if found[6] else 0
    moment = (day - date(1970, 1, 1)).days * 86_400 * _SECOND + nanos(*found.groups()[1:5]) - ahead
    ticks = moment // _UNIT[kind.unit]
    return ticks if _FIRST <= moment < _END and -(2**63) <= ticks < 2**63 else BAD


def outcome(values: pa.Array, kind: pa.DataType) -> list[Any]:
    array, bad = cast(values, Column("x", kind))
    if pt.is_timestamp(kind) or pt.is_time(kind):
        array = array.view(f"int{kind.bit_width}")
    marks = np.zeros(len(values), bool) if bad is None else bad
    found = [repr(v) if isinstance(v, float) else v for v in array.to_pylist()]
    return [(BAD if v is None else f"{v} although bad") if mark else v for v, mark in zip(found, marks, strict=True)]


_NINES = [part for n in (27, 28, 29, 33, 37, 38, 39, 66, 67, 75, 76, 77, 100) for part in ("9" * n, "-" + "9" * n + ".5", "0." + "9" * n)]
NUMBERS = """0 -0 +0 00 1 -1 +1 007 1. 1.0 -1.0 .5 -.5 +.5 5. . 1.5 2.5 -2.5 0.005 1.005 -1.005 0x10 0X1 1e3 1E3 1e+3 1e-3 1e0005
 1e-0005 0e999 0e9999 1e e5 1e5.5 1_000 1,000 --1 +-1 ١٢ 12.5 99999999.995 99999999.994999 -99999999.995 1e37 1e38 1e39 1e75 1e76
 1e308 1.7976931348623157e308 1.7976931348623159e308 1e309 3.4028234663852886e38 3.4028235677973366e38 3.4028236e38 1e-45 1e-46 5e-324
 1e-400 1e999 1e-999 1e99999 1e-99999 123456789012345678901234567890e-20 0.00001e43 nan NaN -nan inf -INF Infinity
 +infinity infi nan(1) 1e300 0.1 123456789.123456789 9007199254740993 1.00001 12345678901234567890.00 true TRUE t Yes on off no f F 2 10""".split() + [
    *(str(sign * (2**bits + near)) for bits in (7, 8, 15, 16, 31, 32, 53, 63, 64, 127) for near in (-1, 0, 1) for sign in (1, -1)),
    *_NINES, "1" + "0" * 37, "0" * 100 + "1", "0." + "0" * 37 + "1", "0." + "0" * 38 + "5", "0." + "0" * 38 + "4" + "9" * 50, "1 2", "x", " 5\t", " ", "1e" + "9" * 30,
]  # fmt: skip
DAYS = """2026-01-05 2024-02-29 2026-02-29 1900-02-29 0001-01-01 0000-12-31 9999-12-31 10000-01-01 1969-12-31 1582-10-10 2026-1-5 20260105
 2026-13-01 2026-00-10 2026-01-32 -2026-01-05 +2026-01-05 2026/01/05 1677-09-21 1677-09-20 2262-04-11 2262-04-12 ٢٠٢٦-01-05 5.1.2026""".split()  # fmt: skip
TIMES = """00:00 00:00:00 00:00:00.000 00:00:00.0000000000 10 1011 10:11 101112 10:11:12 10:11:12.5 10:11:12.123456 10:11:12.123456789 10:11:12.
 24:00 23:59:59.999999999 23:60 10:11:60 1:2:3 23:47:16.854775807 23:47:16.854775808 00:12:43.145224192 00:12:43.145224191""".split()  # fmt: skip
ZONES = ["Z", "z", *"+00 +00:00 -00:00 +02:00 +0200 -0130 +14:00 +23:59 +24:00 +99:59 +1:00 +01:60 UTC +02:00:00".split(), " +02:00", " Z"]
STAMPS = [
    *(f"{day}{mark}{hour}" for day in DAYS for mark in " Tt" for hour in TIMES),
    *(f"{day}{hour}{zone}" for day in DAYS for hour in ("", " 10:11", " 10:11:12", "T23:59:59.5", "T23:59:59.999999999") for zone in ZONES),
]  # fmt: skip


@pytest.mark.parametrize("kind", KINDS, ids=str)
def test_texts_are_cast_as_python_reads_them(kind: pa.DataType) -> None:
    """All at once, without those that are bad (the fast ways), and many by themselves."""
    texts = [*NUMBERS, *DAYS, *TIMES, *(STAMPS if pt.is_timestamp(kind) or pt.is_date(kind) else [])]
    wanted = [reference(text, kind) for text in texts]
    assert dict(zip(texts, outcome(pa.array(texts), kind), strict=True)) == dict(zip(texts, wanted, strict=True))
    good = [text for text, want in zip(texts, wanted, strict=True) if want != BAD]
    for some in (good, [text for text in good if text[-1] == "Z" and len(text) in (20, 22)]):
        assert outcome(pa.array(some, pa.string()), kind) == [reference(text, kind) for text in some]
    every = 1 + len(texts) // (400 if length.LONG else 25)
    for text, want in list(zip(texts, wanted, strict=True))[KINDS.index(kind) % every :: every]:
        assert (text, outcome(pa.array([text]), kind)) == (text, [want])


_INTS = [sign * (2**bits + near) for bits in (0, 7, 8, 16, 31, 32, 53, 63, 64) for near in (-1, 0, 1) for sign in (1, -1)] + [10**12, 10**19]
_FLOATS = [
    0.0,
    -0.0,
    1.5,
    2.5,
    0.1,
    1.005,
    1e300,
    -1e300,
    1e39,
    3.4028235677973366e38,
    1e-46,
    5e-324,
    1e15,
    1e16,
    1e23,
    2.0**53,
    2.0**63,
    1e37,
    1e38,
    123456789.987654321,
    float("inf"),
    float("nan"),
]
_DECIMALS = [
    Decimal(text)
    for text in (
        "0 1 1.5 2.50 -1.005 0.1 7.0000000001 9007199254740993.5 9223372036854775808 18446744073709551615 1e-38 123456789.123456789 " + " ".join(_NINES)
    ).split()
]
_DAYS = [date(1, 1, 1), date(9999, 12, 31), date(1677, 9, 21), date(1677, 9, 22), date(2262, 4, 11), date(2262, 4, 12), date(1816, 1, 1)]
_EDGES = [
    "1677-09-21 00:12:43.145224",
    "1677-09-21 00:12:43.145225",
    "2262-04-11 23:47:16.854775",
    "2262-04-11 23:47:16.854776",
    "9999-12-31 23:59:59.999999",
    "2026-01-05",
    "2026-01-05 10:11:12.5",
]
_MOMENTS = [datetime(1, 1, 1), *(datetime.fromisoformat(text) for text in _EDGES)]
SOURCES: list[tuple[pa.DataType, list[Any]]] = [
    *((kind, _INTS) for kind in KINDS[:8]), (pa.float16(), [np.float16(x) for x in (0, 1.5, 0.1, 65504)]), (pa.float32(), _FLOATS), (pa.float64(), _FLOATS),
    *((kind, _DECIMALS) for kind in (*KINDS[10:20], pa.decimal128(38, -2), pa.decimal256(76, 38), pa.decimal32(9, 2), pa.decimal64(18, 2))),
    (pa.date32(), _DAYS), (pa.date64(), _DAYS), *((pa.timestamp(unit, zone), _MOMENTS) for unit in _UNIT for zone in (None, "UTC", "+05:30")),
    *((kind, [time(0), time(23, 59, 59, 999999), time(10, 11)]) for kind in KINDS[-4:]),
]  # fmt: skip


def spelled(value: pa.Scalar, one: pa.Array, to: pa.DataType) -> str:
    """A value as somebody would write it who writes all of it."""
    kind = value.type
    if pt.is_timestamp(kind):
        seconds, nanos = divmod(one.view(pa.int64())[0].as_py() * _UNIT[kind.unit], _SECOND)
        return f"{datetime(1970, 1, 1) + timedelta(seconds=seconds)}.{nanos:09}{'Z' if kind.tz else ''}"
    if pt.is_floating(kind) and not pt.is_float64(kind) and (pt.is_decimal(to) or pt.is_float64(to)):
        return str(np.float32(value.as_py()))
    plain = value.as_py()
    if pt.is_decimal(kind) or (pt.is_floating(kind) and pt.is_integer(to) and abs(plain) < float("inf")):
        return f"{Decimal(plain):f}"
    return str(plain) if not pt.is_floating(kind) else repr(float(plain))


@pytest.mark.parametrize(("kind", "values"), SOURCES, ids=lambda v: str(v)[:20])
def test_values_are_cast_as_their_texts_are(kind: pa.DataType, values: list[Any]) -> None:
    singles = []
    for value in values:
        try:
            singles.append(
                pa.array([value], pa.timestamp(kind.unit)).cast(pa.timestamp(kind.unit, "UTC")).cast(kind)
                if pt.is_timestamp(kind) and kind.tz
                else pa.array([value], kind)
            )
        except (pa.ArrowException, OverflowError, ValueError):
            continue  # no value of this type
    assert singles
    every = 1 if length.LONG else 8
    some = KINDS if length.LONG else KINDS[SOURCES.index((kind, values)) % 2 :: 2]
    for number, to in enumerate(some):
        if not pt.is_boolean(to):
            wanted = [reference(spelled(one[0], one, to), to) for one in singles]
            assert (to, outcome(pa.concat_arrays(singles), to)) == (to, wanted)
            for one, want in list(zip(singles, wanted, strict=True))[number % every :: every]:
                assert (to, one, outcome(one, to)) == (to, one, [want])


CASES: list[tuple[pa.DataType, list[Any], list[Any]]] = [
    (pa.int64(), [True, False], [1, 0]),
    (pa.bool_(), [0, 1, 5], [False, True, BAD]),
    (pa.binary(), ["00fF", "0", "zz", "", " 6a "], [b"\x00\xff", BAD, BAD, b"", b"j"]),
    (pa.string(), [1.5, 12.0], ["1.5", "12"]),
    (pa.string(), [Decimal("0E-10")], ["0.0000000000"]),
    (pa.string(), [datetime(2026, 1, 5, 8, 11)], ["2026-01-05 08:11:00"]),
    (pa.string(), [b"\xff", b"a"], [BAD, "a"]),
    (pa.string(), [{"a": [1]}], ['{"a": [1]}']),
]


@pytest.mark.parametrize(("kind", "given", "wanted"), CASES, ids=lambda v: str(v)[:40])
def test_casts(kind: pa.DataType, given: list[Any], wanted: list[Any]) -> None:
    assert outcome(pa.array(given), kind) == wanted
    assert [outcome(pa.array([value]), kind)[0] for value in given] == wanted  # a bad neighbour must not matter


@given(st.lists(st.tuples(st.text(max_size=20) | st.none(), st.integers(-5, 5) | st.none()), min_size=1, max_size=40), st.integers(0, 2**64 - 1))
def test_rows_hash_alike_exactly_when_they_are_equal(rows: list[tuple[str | None, int | None]], seed: int) -> None:
    columns = [pa.array([a for a, _ in rows], pa.string()), pa.array([b for _, b in rows], pa.int64())]
    hashes = hash_rows(columns, seed).tolist()
    assert len(set(hashes)) == len(set(rows))
    half = len(rows) // 2
    assert hash_rows([column.slice(half) for column in columns], seed).tolist() == hashes[half:]
