"""Every common type of PostgreSQL and MariaDB: what is written comes back, and a second merge skips it."""

from __future__ import annotations

from typing import Any

import pyarrow as pa
import pytest

import rapid_mender as rm

from . import servers

# by server: what a column declares, its Arrow type, and texts for it with what the database then holds, as text
TYPES: dict[str, list[tuple[str, str, dict[str, str]]]] = {
    "postgresql": [
        ("smallint", "int16", {"7": "7", "-32768": "-32768"}),
        ("integer", "int32", {"7.0": "7"}),
        ("bigint", "int64", {"-9223372036854775808": "-9223372036854775808"}),
        ("numeric(10,2)", "decimal128(10, 2)", {"12.5": "12.50", "0.005": "0.01", "-7": "-7.00"}),
        ("numeric(50,10)", "decimal256(50, 10)", {f"{10**37}.5": f"{10**37}.5000000000"}),
        ("numeric", "decimal256(76, 38)", {"1.50": "1.5", "0.1": "0.1", str(10**20 + 1): str(10**20 + 1)}),
        ("real", "float", {"0.1": "0.1", "1e30": "1e+30"}),
        ("double precision", "double", {"0.30000000000000004": "0.30000000000000004", "1e300": "1e+300"}),
        ("text", "string", {"007": "007", " a ": " a ", "quo'te": "quo'te"}),
        ("varchar(5)", "string", {"größe": "größe"}),
        ("char(4)", "string", {"ab": "ab", "ab  ": "ab"}),
        ('"char"', "string", {"x": "x"}),
        ("citext", "string", {"Oak": "Oak"}),
        ("boolean", "bool", {"yes": "true", "0": "false"}),
        ("date", "date32[day]", {"2026-02-28": "2026-02-28", "0001-01-01": "0001-01-01"}),
        ("time", "time64[us]", {"10:11:12.25": "10:11:12.25"}),
        ("time(0)", "time64[us]", {"10:11:12.75": "10:11:12"}),
        ("timetz", "string", {"10:11:12+02": "10:11:12+02"}),
        ("timestamp", "timestamp[us]", {"2026-02-28T10:11": "2026-02-28 10:11:00"}),
        ("timestamp(0)", "timestamp[s]", {"2026-02-28 10:11:12.7": "2026-02-28 10:11:12"}),
        ("timestamp(1)", "timestamp[us]", {"2026-02-28 10:11:12.77": "2026-02-28 10:11:12.7"}),
        ("timestamptz", "timestamp[us, tz=UTC]", {"2026-02-28 10:11:12+02:00": "2026-02-28 08:11:12+00"}),
        ("timestamptz(3)", "timestamp[ms, tz=UTC]", {"2026-02-28 10:11:12.12345Z": "2026-02-28 10:11:12.123+00"}),
        ("interval", "string", {"1 day 2 hours": "1 day 02:00:00", "P1M": "1 mon"}),
        ("uuid", "string", {"6F9619FF8B86D011B42D00CF4FC964FF": "6f9619ff-8b86-d011-b42d-00cf4fc964ff"}),
        ("json", "string", {'{"b": 1,  "a": 2}': '{"b": 1,  "a": 2}'}),
        ("jsonb", "string", {'{"b":1,  "a":[2, null]}': '{"a": [2, null], "b": 1}'}),
        ("bytea", "binary", {"00ff": "\\x00ff", "": "\\x"}),
        ("integer[]", "string", {"{1, 2,NULL}": "{1,2,NULL}"}),
        ("text[]", "string", {'{"a b",c}': '{"a b",c}'}),
        ("mood", "string", {"fair": "fair"}),
        ("height", "decimal128(6, 2)", {"12.345": "12.35"}),
        ("inet", "string", {"10.0.0.1/32": "10.0.0.1", "10.1.0.0/16": "10.1.0.0/16", "::1": "::1"}),
        ("money", "string", {"3.25": "$3.25"}),
        ("bit(3)", "string", {"101": "101"}),
        ("int4range", "string", {"[1,4]": "[1,5)"}),
        ("point", "string", {"( 1, 2 )": "(1,2)"}),
        ("oid", "string", {"7": "7"}),
        ("xml", "string", {"<a/>": "<a/>"}),
    ],
    "mariadb": [
        ("tinyint", "int8", {"-128": "-128"}),
        ("tinyint(1)", "bool", {"true": "1", "no": "0"}),
        ("tinyint unsigned", "uint8", {"255": "255"}),
        ("smallint", "int16", {"7.0": "7"}),
        ("mediumint", "int32", {"8388607": "8388607"}),
        ("int unsigned", "uint32", {"4294967295": "4294967295"}),
        ("bigint", "int64", {"-9223372036854775808": "-9223372036854775808"}),
        ("bigint unsigned", "uint64", {"18446744073709551615": "18446744073709551615"}),
        ("decimal(10,2)", "decimal128(10, 2)", {"12.5": "12.50", "0.005": "0.01", "-7": "-7.00"}),
        ("decimal(60,20)", "decimal256(60, 20)", {"1.5": "1.50000000000000000000"}),
        ("float", "float", {"0.1": "0.1", "1e30": "1e30"}),
        ("double", "double", {"0.30000000000000004": "0.30000000000000004", "1e300": "1e300"}),
        ("double(8,2)", "double", {"12.346": "12.35"}),
        ("varchar(5)", "string", {"größe": "größe", "quo'te": "quo't"}),
        ("varchar(300)", "string", {"back\\slash": "back\\slash", 'quo"te': 'quo"te'}),
        ("char(4)", "string", {"ab  ": "ab"}),
        ("varchar(20) CHARACTER SET latin1", "string", {"größe": "größe"}),
        ("varchar(20) COLLATE utf8mb4_unicode_ci", "string", {"Oak": "Oak"}),
        ("text", "string", {" a ": " a ", "": "", "NULL": "NULL", "a\nb\r\nc": "a\nb\r\nc"}),
        ("date", "date32[day]", {"2026-02-28": "2026-02-28"}),
        ("time", "time64[us]", {"10:11:12.75": "10:11:12"}),
        ("time(6)", "time64[us]", {"10:11:12.25": "10:11:12.250000"}),
        ("datetime", "timestamp[s]", {"2026-02-28 10:11:12.7": "2026-02-28 10:11:12"}),
        ("datetime(1)", "timestamp[us]", {"2026-02-28 10:11:12.77": "2026-02-28 10:11:12.7"}),
        ("datetime(3)", "timestamp[ms]", {"2026-02-28 10:11:12.1239": "2026-02-28 10:11:12.123"}),
        ("datetime(6)", "timestamp[us]", {"2026-02-28 10:11:12.123456": "2026-02-28 10:11:12.123456"}),
        ("timestamp(6) NULL", "timestamp[us, tz=UTC]", {"2026-02-28 10:11:12+02:00": "2026-02-28 08:11:12.000000"}),
        ("year", "int16", {"2026": "2026"}),
        ("bit(1)", "bool", {"yes": "1"}),
        ("bit(10)", "uint64", {"1000": "1000"}),
        ("enum('poor','fair','it''s, good')", "string", {"FAIR": "fair", "it's, good": "it's, good"}),
        ("set('oak','elm','ash')", "string", {"ash,Oak": "oak,ash", "": ""}),
        ("json", "string", {'{"b": 1,  "a": 2}': '{"b": 1,  "a": 2}'}),
        ("binary(4)", "binary", {"00ff": "00FF0000"}),
        ("varbinary(8)", "binary", {"0a0d": "0A0D"}),
        ("blob", "binary", {"00ff": "00FF", "": ""}),
        ("uuid", "string", {"6F9619FF8B86D011B42D00CF4FC964FF": "6f9619ff-8b86-d011-b42d-00cf4fc964ff"}),
        ("inet6", "string", {"2001:0db8::1": "2001:db8::1"}),
    ],
}  # fmt: skip
BEFORE = {
    "postgresql": (
        "CREATE EXTENSION IF NOT EXISTS citext", "CREATE TYPE mood AS ENUM ('poor', 'fair')", "SET lc_monetary = 'C'",
        "CREATE DOMAIN height AS numeric(6,2) CHECK (value < 200)",
    ),
    "mariadb": (),
}  # fmt: skip
BAD = {  # values that a type refuses, to be rejected each on its own
    "postgresql": {
        "smallint": "40000", "uuid": "6F96", "jsonb": "{", "mood": "sad", "height": "250", "varchar(5)": "too long",
        "inet": "x", "text": "nul\x00", "interval": "soon", "integer[]": "{a}", "date": "2026-02-30",
    },
    "mariadb": {
        "tinyint unsigned": "-1", "enum('poor','fair','it''s, good')": "sad", "set('oak','elm','ash')": "oak,fir",
        "varchar(5)": "too long", "json": "{", "uuid": "6F96", "double": "inf", "year": "26", "bit(10)": "5000",
        "varchar(20) CHARACTER SET latin1": "日本",
    },
}  # fmt: skip


@pytest.mark.parametrize("kind", TYPES)
@pytest.mark.parametrize("many", [False, True], ids=["few", "many"])
def test_every_type_is_written_read_and_skipped(kind: str, many: bool) -> None:
    """A few records go as literals and many by bulk load; both must come out the same."""
    types = TYPES[kind]
    with servers.database(kind) as database:
        columns = ", ".join(f"c{i} {declared}" for i, (declared, _, _) in enumerate(types))
        database.run(*BEFORE[kind], f"CREATE TABLE t (id bigint PRIMARY KEY, {columns})")
        store = type(database.store)(database.url)  # it knows the types that were just made
        with store.begin(write=False) as session:
            info = session.describe("t")
        assert [str(info[f"c{i}"].type) for i in range(len(types))] == [arrow for _, arrow, _ in types]
        most = max(len(values) for _, _, values in types)
        rounds = 40 if many else 1
        records: list[dict[str, Any]] = []
        for n in range(most * rounds):
            texts = [list(values)[min(n % most, len(values) - 1)] for _, _, values in types]
            short = [text[:5] if declared == "varchar(5)" else text for text, (declared, _, _) in zip(texts, types, strict=True)]
            records.append({"id": n} | {f"c{i}": text for i, text in enumerate(short)})
        records.append({"id": -1} | {f"c{i}": None for i in range(len(types))})
        job = rm.Job(store=store, table="t", key="id")
        first = rm.merge(job, records)
        assert first.counts["insert"] == len(records), first.rejects["rmend_reason"].to_pylist()[:5]
        for i, (declared, _, values) in enumerate(types):
            text = "abbrev" if declared == "inet" else "text"
            spelled = f"{text}(c{i})" if kind == "postgresql" else f"CAST(c{i} + 0 AS CHAR)" if "bit" in declared else f"c{i}"
            if declared.startswith(("binary", "varbinary", "blob")):
                spelled = f"HEX(c{i})"
            within = f"FROM t WHERE id BETWEEN 0 AND {most - 1} ORDER BY id"
            rows = _texts(database, f"SELECT {spelled} AS v {within}")
            wanted = [list(values.values())[min(n, len(values) - 1)] for n in range(most)]
            assert rows == wanted, declared
        again = rm.merge(job, records)
        assert not again.landed, (again.counts, again.changed)
        assert again.counts["skip"] == len(records)
        changed = rm.merge(job, [record | {name: None for name in record if name != "id"} for record in records])
        assert changed.counts["update"] == len(records) - 1
        restored = rm.merge(job, records)
        assert restored.counts["update"] == len(records) - 1
        history = rm.history(store, "t").to_pylist()
        updates = [row for row in history if row["batch_no"] == restored.batch]
        inserts = {row["new_id"]: row for row in history if row["batch_no"] == first.batch}
        for row in updates:
            for i in range(len(types)):
                assert row[f"old_c{i}"] is None
                assert row[f"new_c{i}"] == inserts[row["new_id"]][f"new_c{i}"]


def _texts(database: servers.Database, sql: str) -> list[str | None]:
    """The values of a column, as the database spells them."""
    if database.kind == "mariadb":
        return [row["v"] for row in database.link.ask(sql)]
    return [None if row is None else str(row) for row in pa.concat_tables(database.link.query(sql))["v"].to_pylist()]


@pytest.mark.parametrize("kind", BAD)
def test_a_value_that_a_type_refuses_is_a_reject_of_its_own(kind: str) -> None:
    with servers.database(kind) as database:
        database.run(*BEFORE[kind])
        columns = ", ".join(f"c{i} {declared}" for i, declared in enumerate(BAD[kind]))
        database.run(f"CREATE TABLE t (id bigint PRIMARY KEY, {columns})")
        store = type(database.store)(database.url)
        records: list[dict[str, Any]] = [{"id": n} for n in range(200)]
        for i, value in enumerate(BAD[kind].values()):
            records[7 * i + 3] = {"id": 7 * i + 3, f"c{i}": value}
        result = rm.merge(rm.Job(store=store, table="t", key="id"), records)
        reasons = result.rejects["rmend_reason"].to_pylist()
        assert result.rejects["rmend_row"].to_pylist() == [7 * i + 4 for i in range(len(BAD[kind]))], reasons
        assert result.counts["insert"] == 200 - len(BAD[kind])
        assert all(reasons)


@pytest.mark.parametrize("kind", TYPES)
def test_what_the_database_fills_is_in_the_history(kind: str) -> None:
    """Identity, defaults, generated columns and triggers: the history records what is stored."""
    number = "bigint GENERATED ALWAYS AS IDENTITY" if kind == "postgresql" else "bigint AUTO_INCREMENT"
    trigger = (
        (
            "CREATE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN NEW.w := upper(NEW.w); RETURN NEW; END $$",
            "CREATE TRIGGER g BEFORE INSERT OR UPDATE ON t FOR EACH ROW EXECUTE FUNCTION f()",
        )
        if kind == "postgresql"
        else (
            "CREATE TRIGGER g BEFORE INSERT ON t FOR EACH ROW SET NEW.w = upper(NEW.w)",
            "CREATE TRIGGER h BEFORE UPDATE ON t FOR EACH ROW SET NEW.w = upper(NEW.w)",
        )
    )
    with servers.database(kind) as database:
        database.run(f"CREATE TABLE t (id {number} PRIMARY KEY, v int DEFAULT 5, w varchar(9), twice int GENERATED ALWAYS AS (v * 2) STORED)", *trigger)
        job = rm.Job(store=database.store, table="t", key="id", null_key="generate")
        made = rm.merge(job, [{"id": None, "w": f"n{i}"} for i in range(100)])
        assert made.decisions["id"].to_pylist() == list(range(1, 101))
        sent = rm.merge(job, [{"id": 500, "v": 7, "w": "x"}, {"id": 1, "v": 9}])
        assert sent.counts == made.counts | {"insert": 1, "update": 1}
        rows = [{n: row[f"new_{n}"] for n in ("id", "v", "w", "twice")} for row in rm.history(database.store, "t").to_pylist()]
        assert rows[0] == {"id": 1, "v": 5, "w": "N0", "twice": 10}
        assert sorted(rows[-2:], key=str) == [
            {"id": 1, "v": 9, "w": "N0", "twice": 18}, {"id": 500, "v": 7, "w": "X", "twice": 14},
        ]  # fmt: skip


NO_TIMES = [("DATE", "'0000-00-00'"), ("DATETIME", "'2020-00-00 00:00:00'"), ("TIMESTAMP(6) NULL", "'0000-00-00 00:00:00'"), ("TIME", "'-838:59:59'")]


@pytest.mark.mariadb
@pytest.mark.parametrize(("declared", "value"), NO_TIMES)
def test_times_that_are_none_stay_as_they_are(declared: str, value: str) -> None:
    """In several rows at once: merged around, undone, and the history knows them."""
    with servers.database("mariadb") as database:
        rows = ", ".join(f"({n}, {value}, 1)" for n in range(3))
        database.run("SET sql_mode = ''", f"CREATE TABLE t (id INT PRIMARY KEY, v {declared}, z INT)", f"INSERT INTO t VALUES {rows}")
        now = "SELECT id, CAST(v AS CHAR) AS v, z FROM t ORDER BY id"
        before = database.link.ask(now)
        merged = rm.merge(rm.Job(store=database.store, table="t", key="id"), [{"id": n, "z": n + 5} for n in range(4)])
        assert merged.counts == {"insert": 1, "update": 3, "delete": 0, "skip": 0, "reject": 0}
        assert rm.verify(database.store, "t").holds
        rm.undo(database.store, merged.batch)
        assert database.link.ask(now) == before
