# ruff: noqa: E501
"""Expressions, held against SQLite over the same rows; where the two differ, the reason stands beside it."""

from __future__ import annotations

import math
import sqlite3
from datetime import UTC, date, datetime
from decimal import Decimal
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from rapid_mender.core.expressions import Env, ExpressionError, Scope, compile_expression
from rapid_mender.core.expressions.parsing import parse
from rapid_mender.core.expressions.reach import never_true, unreachable

pytestmark = pytest.mark.pure

NOW = datetime(2026, 5, 17, 10, 30, 15, tzinfo=UTC)
TYPES = {
    "a": pa.int64(), "b": pa.int64(), "x": pa.float64(), "y": pa.float64(), "s": pa.string(), "t": pa.string(),
    "d": pa.date32(), "e": pa.date32(), "m": pa.timestamp("us"), "f": pa.bool_(), "g": pa.bool_(),
}  # fmt: skip
ROWS: list[tuple[Any, ...]] = [
    (1, 2, 1.5, 0.5, "oak", "Oak", date(2026, 1, 31), date(2026, 2, 1), datetime(2026, 1, 31, 23, 59, 58), True, True),
    (7, -2, -2.5, 2.0, "  ash ", "a%h", date(2024, 2, 29), None, datetime(2024, 2, 29), True, False),
    (-7, 2, 0.0, 0.0, "", "x", date(1999, 12, 31), date(2000, 1, 1), datetime(1999, 12, 31, 12, 30), False, True),
    (0, 0, 2.5, -1.0, "lime_tree", "lime", date(2026, 7, 4), date(2026, 7, 4), None, False, False),
    (None, 3, None, 4.0, None, "elm", None, date(2026, 3, 1), datetime(2026, 3, 1, 1, 2, 3), None, True),
    (5, None, 3.25, None, "beech", None, date(2026, 5, 17), None, datetime(2026, 5, 17, 10, 30, 15), True, None),
    (None, None, None, None, None, None, None, None, None, None, None),
    (12, 5, 1e9, 3.0, "a'b", "b", date(2026, 10, 12), date(2025, 10, 12), datetime(2026, 10, 12, 6), False, None),
    (3, 3, 7.0, 7.0, "42", "42", date(2026, 3, 31), date(2026, 3, 31), datetime(2026, 3, 31, 8, 15), None, False),
]  # fmt: skip

SAME = """
a = b | a <> b | a < b | a <= b | a > b | a >= b | a = 1 | x > y | x = a | a > 1.5 | x >= 2.5 | 1 = 1 | 1 > 2 | NULL = 1
s = t | s <> t | s < t | s >= 'b' | s = '' | s = 'oak' | t > s | s = NULL | d = e | d < e | d >= '2026-01-31' | '2026-03-01' > e
m > '2026-01-01 00:00:00' | m = '2026-05-17 10:30:15' | f = g | f | NOT f | f = TRUE | f <> g
a IS NULL | a IS NOT NULL | s IS NULL | f IS TRUE | f IS NOT TRUE | f IS FALSE | f IS NOT FALSE | NOT (a IS NULL)
a IS DISTINCT FROM b | a IS NOT DISTINCT FROM b | s IS DISTINCT FROM t | s IS NOT DISTINCT FROM NULL | d IS DISTINCT FROM e
f AND g | f OR g | NOT f AND g | NOT (f AND g) | NOT (f OR g) | f AND NULL | f OR NULL | a > 1 AND b > 1 | a > 1 OR b IS NULL
a > 0 AND (b > 0 OR x > 0) | (a = 1) = (b = 2) | NOT NOT f | f AND TRUE | f OR FALSE | a = 1 OR a = 5 OR a = 12 OR a = 3
a IN (1, 5, 12) | a NOT IN (1, 5) | a IN (1, NULL) | a NOT IN (1, NULL) | s IN ('oak', 'elm') | d IN ('2026-01-31', '2026-05-17')
a IN (b, 7) | x IN (1.5, 7) | a IN (1, 2, 3, 4, 5, 6, 7, 8, 9, 10) | a NOT IN (1, 2, 3, 4, 5, 6, 7, 8, 9, NULL) | NULL IN (1, 2)
a BETWEEN 1 AND 5 | a NOT BETWEEN 1 AND 5 | x BETWEEN y AND 3 | d BETWEEN '2026-01-01' AND '2026-06-30' | a BETWEEN b AND NULL
s LIKE 'o%' | s LIKE '%e%' | s LIKE '%h' | s LIKE 'o_k' | s LIKE '_' | s LIKE '' | s LIKE 'oak' | s NOT LIKE '%e%' | s LIKE '%'
t LIKE 'a!%h' ESCAPE '!' | s LIKE 'lime!_%' ESCAPE '!' | t LIKE '%!%%' ESCAPE '!' | s LIKE '%.%' | s LIKE '%''%' | s LIKE '%m%t%'
a + b | a - b | a * b | a / b | a % b | -a | a + 1 | 10 - a | a * 2 + b * 3 | (a + b) * 2 | a / 2 | a % 3 | -a / 2 | +a
x + y | x - y | x * y | x / y | x * 2 | a + x | a * x | x / 2 | -x | 1.5 + a | 7 / 2 | 7 / 2.0 | -7 / 2 | -7 % 3 | 2 * 3 + 4
a / 0 | x / 0 | a % 0 | a / (b - 2) | 1 / NULL | ABS(a) | ABS(x) | ABS(a - b) | ROUND(x) | ROUND(x, 1) | ROUND(a) | ROUND(x * 3.3, 2)
s || t | s || '-' || t | s || NULL | 'n. ' || a | LOWER(t) | UPPER(s) | LENGTH(s) | LENGTH(s || t) | LENGTH('größe') | TRIM(s) | TRIM(s) = 'ash'
COALESCE(a, b) | COALESCE(a, b, 0) | COALESCE(s, 'none') | COALESCE(NULL, a) | COALESCE(x, a) | NULLIF(a, 1) | NULLIF(s, t) | NULLIF(s, '') | NULLIF(1, a)
CASE WHEN a > 1 THEN 'big' WHEN a = 1 THEN 'one' ELSE 'small' END | CASE WHEN a > 1 THEN 'big' END | CASE a WHEN 1 THEN 'one' WHEN 5 THEN 'five' END
CASE WHEN f THEN a ELSE b END | CASE WHEN b <> 0 THEN a / b END | CASE WHEN NULL THEN 1 ELSE 2 END | CASE WHEN a IS NULL THEN x ELSE 1 END > 1
CASE WHEN d > e THEN 'after' WHEN d = e THEN 'same' END | CASE s WHEN 'oak' THEN 1 WHEN t THEN 2 ELSE NULL END
CAST(a AS TEXT) | CAST('42' AS INTEGER) | CAST(x AS INTEGER) | CAST(-2.7 AS INTEGER) | CAST(a AS REAL) | CAST(NULL AS INTEGER) | CAST(f AS INTEGER)
s = 'oak' AND t LIKE 'O%' OR a > 5 AND NOT f | a + b > 3 AND COALESCE(x, 0) < 5 | LENGTH(s) > 3 AND s NOT IN ('beech') | (a) | ((a + (b)))
"""

OTHERWISE: list[tuple[str, str, str]] = [
    ("EXTRACT(YEAR FROM d)", "CAST(strftime('%Y', d) AS INTEGER)", "SQLite has no EXTRACT"),
    ("EXTRACT(MONTH FROM d)", "CAST(strftime('%m', d) AS INTEGER)", ""),
    ("EXTRACT(DAY FROM e) > 15", "CAST(strftime('%d', e) AS INTEGER) > 15", ""),
    ("EXTRACT(QUARTER FROM d)", "(CAST(strftime('%m', d) AS INTEGER) + 2) / 3", ""),
    ("EXTRACT(HOUR FROM m)", "CAST(strftime('%H', m) AS INTEGER)", ""),
    ("EXTRACT(MINUTE FROM m)", "CAST(strftime('%M', m) AS INTEGER)", ""),
    ("EXTRACT(SECOND FROM m)", "CAST(strftime('%S', m) AS INTEGER)", ""),
    ("d + INTERVAL '3' DAY", "date(d, '+3 days')", "SQLite has no intervals"),
    ("d - INTERVAL '1' WEEK", "date(d, '-7 days')", ""),
    ("INTERVAL '1' DAY + d", "date(d, '+1 day')", ""),
    ("m + INTERVAL '90' MINUTE", "strftime('%Y-%m-%d %H:%M:%S', m, '+90 minutes')", ""),
    ("d + INTERVAL '1' MONTH > e", "date(d, 'start of month', '+1 month', '+' || min(CAST(strftime('%d', d) AS INTEGER), "
     "CAST(strftime('%d', date(d, 'start of month', '+2 months', '-1 day')) AS INTEGER)) || ' days', '-1 day') > e",
     "a day that the month lacks is its last; SQLite's '+1 month' goes on into the next"),
    ("d - e", "CAST(julianday(d) - julianday(e) AS INTEGER)", "two dates apart: days"),
    ("d < CURRENT_DATE", "d < '2026-05-17'", "the clock of the run"),
    ("m <= CURRENT_TIMESTAMP", "m <= '2026-05-17 10:30:15'", ""),
    ("CURRENT_DATE - d > 100", "julianday('2026-05-17') - julianday(d) > 100", ""),
    ("CAST(m AS DATE)", "date(m)", "SQLite's CAST knows no dates"),
    ("CAST('2026-02-03' AS DATE) > d", "'2026-02-03' > d", ""),
    ("DATE '2026-02-03' > d", "'2026-02-03' > d", ""),
    ("SUBSTRING(s FROM 1 FOR 2)", "substr(s, 1, 2)", "SQLite 3.40 has no FROM and FOR"),
    ("SUBSTRING(s FROM 3)", "substr(s, 3)", ""),
    ("SUBSTRING(s, 2, 3)", "substr(s, 2, 3)", ""),
    ("SUBSTRING(s FROM a FOR 2)", "CASE WHEN a > 0 THEN substr(s, a, 2) WHEN a = 0 THEN substr(s, 1, 1) "
     "WHEN a IS NOT NULL THEN substr(s, 1, 0) END", "a start before 1 counts from there; SQLite counts from the end"),
    ("TRIM(LEADING ' ' FROM s)", "ltrim(s, ' ')", "SQLite has functions instead"),
    ("TRIM(TRAILING 'h' FROM t)", "rtrim(t, 'h')", ""),
    ("TRIM(BOTH 'a' FROM s)", "trim(s, 'a')", ""),
    ("s LIKE 'O%'", "s GLOB 'O*'", "LIKE of the standard tells upper from lower case; SQLite's does not"),
    ("UPPER('höhe')", "'HÖHE'", "letters beyond ASCII have upper case too; SQLite leaves them"),
    ("CAST(t AS INTEGER)", "CASE WHEN t GLOB '[0-9]*' THEN CAST(t AS INTEGER) END", "a text that is no number fails, "
     "as in the standard, and is null; SQLite makes 0 of it"),
    ("a * 9000000000000000000", "CASE WHEN a IN (0, 1) THEN a * 9000000000000000000 END", "overflow fails, as in the "
     "standard, and is null; SQLite goes on in floats"),
    ("0.1 + 0.2 = 0.3", "1", "exact numbers are exact; SQLite has floats"),
    ("7.0 % 2.5", "2.0", "the remainder of the numbers; SQLite takes that of whole numbers"),
    ("CAST(1.005 AS DECIMAL(5, 2))", "1.01", "decimals round half away from zero"),
    ("REPLACE(s, 'e', 'éé')", "replace(s, 'e', 'éé')", ""), ("REPLACE(s, 'a')", "replace(s, 'a', '')", "SQLite wants all three"),
    ("POSITION('e' IN s)", "instr(s, 'e')", "SQLite has instr"), ("POSITION('h' IN REPLACE(s, 'c', 'öö'))", "instr(replace(s, 'c', 'öö'), 'h')", ""),
    ("POSITION('' IN s)", "CASE WHEN s IS NOT NULL THEN 1 END", ""),
    ("LPAD(s, 6, 'xy')", "CASE WHEN length(s) < 6 THEN substr('xyxyxy', 1, 6 - length(s)) || s ELSE substr(s, 1, 6) END", "SQLite pads with printf only"),
    ("RPAD(s, 4)", "CASE WHEN length(s) < 4 THEN s || substr('    ', 1, 4 - length(s)) ELSE substr(s, 1, 4) END", ""),
    ("SPLIT_PART(s, '_', 1)", "CASE WHEN instr(s, '_') THEN substr(s, 1, instr(s, '_') - 1) ELSE s END", ""),
    ("SPLIT_PART(s, '_', 2)", "CASE WHEN instr(s, '_') THEN substr(s, instr(s, '_') + 1) WHEN s IS NOT NULL THEN '' END", ""),
    ("CAST(SPLIT_PART('30.03.2026;x', ';', 1) AS DATE FORMAT 'DD.MM.YYYY') > d", "'2026-03-30' > d", ""),
    ("CAST('7/4/2026 1:05 pm' AS TIMESTAMP FORMAT 'MM/DD/YYYY HH12:MI AM') > m", "'2026-07-04 13:05:00' > m", ""),
    ("f = 1", "f = 1", "0 and 1 beside a boolean"),
    ("'oak' || x", "'oak' || CASE WHEN x = CAST(x AS INTEGER) THEN CAST(x AS INTEGER) ELSE x END", "2.0 is spelled 2"),
]  # fmt: skip
CASES = [(one.strip(), one.strip(), "") for line in SAME.strip().splitlines() for one in line.split(" | ")] + OTHERWISE


def scope() -> Scope:
    return Scope({"incoming": TYPES}, bare="incoming")


def ours(text: str, rows: list[tuple[Any, ...]] = ROWS) -> tuple[list[Any], list[bool]]:
    columns = list(zip(*rows, strict=True))
    values = {("incoming", n): pa.array(c, k) for (n, k), c in zip(TYPES.items(), columns, strict=True)}
    done = compile_expression(text, scope())
    cells = done.evaluate(Env(len(rows), values, NOW))
    assert cells.values.type == done.type, text
    return cells.values.to_pylist(), [False] * len(rows) if cells.failed is None else cells.failed.tolist()


def plain(value: Any) -> Any:
    if isinstance(value, bool):
        return int(value)
    if isinstance(value, Decimal):
        return float(value)
    if isinstance(value, datetime):
        return value.isoformat(sep=" ")
    return value.isoformat() if isinstance(value, date) else value


def near(one: Any, other: Any) -> bool:
    numbers = isinstance(one, int | float) and isinstance(other, int | float)
    return math.isclose(one, other, rel_tol=1e-12) if numbers else bool(one == other)


@pytest.fixture(scope="module")
def database() -> Any:
    connection = sqlite3.connect(":memory:")
    connection.execute("CREATE TABLE r (a INTEGER, b INTEGER, x REAL, y REAL, s TEXT, t TEXT, d TEXT, e TEXT, m TEXT, f INT, g INT)")
    for row in ROWS:
        connection.execute(f"INSERT INTO r VALUES ({', '.join('?' * len(row))})", [plain(v) for v in row])
    yield connection
    connection.close()


def test_there_are_many_cases() -> None:
    assert len(CASES) >= 200


@pytest.mark.parametrize(("text", "theirs", "why"), CASES, ids=[case[0] for case in CASES])
def test_an_expression_is_what_sqlite_says(text: str, theirs: str, why: str, database: sqlite3.Connection) -> None:
    wanted = [row[0] for row in database.execute(f"SELECT {theirs} FROM r ORDER BY rowid")]
    got = [plain(value) for value in ours(text)[0]]
    assert [near(*pair) for pair in zip(got, wanted, strict=True)] == [True] * len(ROWS), (why, got, wanted)


numbers = st.integers(-5, 5) | st.none()


@given(rows=st.lists(st.tuples(numbers, numbers, st.booleans() | st.none()), min_size=1, max_size=6), data=st.data())
def test_logic_and_arithmetic_over_random_trees(rows: list[tuple[Any, ...]], data: st.DataObject) -> None:
    number = st.deferred(
        lambda: (
            st.sampled_from(["a", "b", "NULL", "0", "2"])
            | st.tuples(number, st.sampled_from(["+", "-", "*", "/", "%"]), number).map(lambda p: f"({p[0]} {p[1]} {p[2]})")
            | st.tuples(truth, number, number).map(lambda p: f"CASE WHEN {p[0]} THEN {p[1]} ELSE {p[2]} END")
        )
    )
    truth: st.SearchStrategy[str] = st.deferred(
        lambda: (
            st.sampled_from(["f", "TRUE", "NULL"])
            | st.tuples(number, st.sampled_from(["=", "<", ">=", "<>"]), number).map(lambda p: f"({p[0]} {p[1]} {p[2]})")
            | st.tuples(truth, st.sampled_from(["AND", "OR"]), truth).map(lambda p: f"({p[0]} {p[1]} {p[2]})")
            | truth.map(lambda p: f"(NOT {p})")
            | truth.map(lambda p: f"({p} IS NOT TRUE)")
        )
    )
    text = data.draw(truth)
    assume(text.count("(") < 40)  # deeper ones are refused
    connection = sqlite3.connect(":memory:")
    connection.execute("CREATE TABLE r (a INTEGER, b INTEGER, f INTEGER)")
    connection.executemany("INSERT INTO r VALUES (?, ?, ?)", rows)
    wanted = [row[0] for row in connection.execute(f"SELECT {text} FROM r ORDER BY rowid")]
    connection.close()
    full = [(a, b, *[None] * 7, f, None) for a, b, f in rows]
    values, failed = ours(text, full)  # what SQLite takes for null where it cannot be computed, is marked, and stays null
    assert [None if no else plain(value) for value, no in zip(values, failed, strict=True)] == [
        None if no else one for one, no in zip(wanted, failed, strict=True)
    ]


@pytest.mark.parametrize(
    ("text", "failed"),
    [
        ("a / 0", "abcdfhi"), ("CASE WHEN b <> 0 THEN a / b END", ""), ("b <> 0 AND a / b > 1", "") , ("x / y", "c"),
        ("CAST(t AS INTEGER)", "abcdeh"), ("9223372036854775807 + a", "abfhi"), ("COALESCE(a, 1 / 0)", "eg"),
        ("CAST(s AS DATE FORMAT 'DD.MM.YYYY')", "abdfhi"), ("CAST(a AS DECIMAL(1, 0))", "h"), ("d + INTERVAL '9000' YEAR", "abcdfhi"),
    ],
)  # fmt: skip
def test_what_cannot_be_computed_is_null_and_counted(text: str, failed: str) -> None:
    values, marks = ours(text)
    letters = "abcdefghi"
    assert "".join(letter for letter, mark in zip(letters, marks, strict=True) if mark) == failed
    assert all(value is None for value, mark in zip(values, marks, strict=True) if mark)


WRONG = [
    ("incomming.a > 1", "there is no 'incomming' here; did you mean incoming", "incomming"),
    ("aa > 1", "has no column 'aa'", "aa"), ("a >", "something is missing here", ""), ("", "is empty", ""),
    ("a > 'x'", "a number and the text 'x'; write a number without quotes", "'x'"),
    ("s > 5", "write CAST(s AS DOUBLE)", "5"), ("s = d", "write CAST(s AS DATE)", "d"),
    ("'2026-13-01' > d", "'2026-13-01' is not a date", "'2026-13-01'"), ("a AND f", "must be true or false", "a"),
    ("SUM(a) > 1", "SUM is an aggregate", ""), ("a IN (SELECT 1)", "a subquery cannot stand here", ""),
    ("EXISTS (SELECT 1)", "a subquery cannot stand here", ""), ("soundex2(s) = 'x'", "there is no function SOUNDEX2", ""),
    ("d + 1", "add an interval", ""), ("s + 1", "+ takes numbers, and this is a text", "s"),
    ("INTERVAL '3' DAY", "an interval is nothing by itself", ""), ("d + INTERVAL '3' MOON", "the units", ""),
    ("REPLACE(s, t, 'x')", "a text in quotes", "t"), ("LPAD(s, -1)", "from 0 to", ""), ("CAST(s AS DATE FORMAT 'DD.QQ')", "Q is not known", ""),
    ("s LIKE t", "the pattern of LIKE must be a text in quotes", ""), ("s LIKE 'a' ESCAPE 'xy'", "ESCAPE takes one", ""),
    ("s LIKE '" + "%a" * 600 + "'", "a pattern has at most 1000 characters", ""), ("CAST(f AS DATE)", "cannot become", "f"),
    ("CAST(a AS MONEYBAG)", "", ""), ("EXTRACT(WEEK FROM d)", "EXTRACT takes YEAR", ""), ("ROUND(x, a)", "a whole number", "a"),
    ("a; b", "more than one expression", ""), ("a b", "cannot stand in an expression", ""), ("'abc", "not SQL", ""),
    ("(" * 300 + "a" + ")" * 300, "", ""), ("changed('a')", "known in rules only", ""), ("a = b = 'x'", "", ""), ("a NOT BETWEEN SYMMETRIC 1 AND 2", "SYMMETRIC cannot stand", ""),
]  # fmt: skip


@pytest.mark.parametrize(("text", "message", "marked"), WRONG, ids=[one[0][:30] for one in WRONG])
def test_a_wrong_expression_points_at_the_place(text: str, message: str, marked: str) -> None:
    with pytest.raises(ExpressionError) as caught:
        compile_expression(text, scope())
    error = caught.value
    assert message in str(error)
    if marked:
        assert error.text[error.start : error.end + 1] == marked


def test_a_pattern_that_would_explode_elsewhere_is_linear() -> None:
    values = {("incoming", "s"): pa.array(["a" * 20_000 + "b"])}
    done = compile_expression("s LIKE '" + "%a" * 40 + "%c'", Scope({"incoming": {"s": pa.string()}}, bare="incoming"))
    assert done.evaluate(Env(1, values, NOW)).values.to_pylist() == [False]


@pytest.mark.parametrize(
    ("text", "never"),
    [
        ("1 = 2", True), ("FALSE", True), ("NULL", True), ("NOT matched AND existing.a = 1", True), ("a > 5 AND a < 3", True),
        ("NOT matched AND changed('a')", True), ("NOT matched AND changed", True), ("a > 5", False), ("matched", False),
        ("NOT matched AND existing.a IS NULL", False), ("existing.a = NULL", True), ("a > 1 OR 1 = 2", False),
    ],
)  # fmt: skip
def test_conditions_that_can_never_be_true(text: str, never: bool) -> None:
    assert never_true(parse(text)) == never


def test_rules_that_are_never_reached() -> None:
    texts = ["a > 1", "b = 2 AND (a > 1)", "b = 2", "TRUE", "c = 3"]
    assert unreachable(list(enumerate(map(parse, texts)))) == [(1, 0), (4, 3)]
