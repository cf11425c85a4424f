"""Describing a MariaDB table: its columns, keys and triggers, and how the values of each type pass."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import pyarrow as pa
import pyarrow.types as pt

from ...core.schema import Column, Reach, TableInfo
from ...errors import StoreError
from ..contract import PREFIX
from ..sql.link import Described, Form, Locator
from ..sql.text import text_sql

Ask = Callable[[str], Sequence[Mapping[str, Any]]]
"""Runs a query and gives its few rows, as texts."""

_INTEGERS = {"tinyint": 8, "smallint": 16, "mediumint": 32, "int": 32, "integer": 32, "bigint": 64}
_ROOM = {"tiny": (1 << 8) - 1, "": (1 << 16) - 1, "medium": (1 << 24) - 1, "long": (1 << 32) - 1}
"""How many bytes go into a text or blob of each size."""
_SIZE = re.compile(r"(?P<size>tiny|medium|long|)(?P<kind>text|blob)\b", re.I)
_BLOBS = ("tinyblob", "blob", "mediumblob", "longblob", "varbinary", "binary")
_TEXTS = ("char", "varchar", "tinytext", "text", "mediumtext", "longtext")
_UNITS = {0: "s", 3: "ms", 6: "us"}
_LONGEST = 1000  # letters of a text that is made with bounds: all columns of a row have 64 KiB together
_TYPE = re.compile(r"^(?P<name>\w+)(?:\((?P<args>(?:'(?:[^']|'')*'|[^)'])*)\))?(?P<rest>.*)$", re.S)
_COUNTER = re.compile(r" AUTO_INCREMENT=\d+")
_PLAIN = "CONVERT({} USING utf8mb4) COLLATE utf8mb4_bin"
_LONG = 191
"""Longer texts are kept in a history as TEXT: a row of it has each column twice, and a row has a limit."""

NUMBER = Form(pa.int32(), "int", "CAST({} AS SIGNED)")
TEXT = Form(pa.string(), "longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin", "CONVERT({} USING utf8mb4)")


def quoted(name: str) -> str:
    return "`" + name.replace("`", "``") + "`"


def describe(ask: Ask, name: str, place: tuple[str, str] | None = None) -> Described | None:
    """Describe a table. `name` may begin with the name of its database and a dot; `place` is just these two."""
    found_at = _find(ask, name, place)
    if found_at is None:
        return None
    schema, table, kind, here, undoes = found_at
    shown = table if here else f"{schema}.{table}"
    if kind != "BASE TABLE":
        raise StoreError(f"{shown!r} is a {kind.lower()}; on MariaDB records are merged into a table")
    at = f"TABLE_SCHEMA = {text_sql(schema)} AND TABLE_NAME = {text_sql(table)}"
    rows = ask(
        "SELECT COLUMN_NAME AS Field, COLUMN_TYPE AS Type, COLLATION_NAME AS Collation, IS_NULLABLE AS `Null`, "
        f"COLUMN_DEFAULT AS `Default`, EXTRA AS Extra, PRIVILEGES AS rights FROM information_schema.COLUMNS WHERE {at} "
        "ORDER BY ORDINAL_POSITION"
    )
    texts = _json(ask, schema, table) if any(row["Type"] == "longtext" for row in rows) else ()
    described = [column_of(row, row["Field"] in texts) for row in rows]
    columns = tuple(column for column, _ in described)
    forms = {column.name: form for column, form in described}
    every, indexes = _indexes(ask, at)
    primary = indexes.pop("PRIMARY", ())
    if not rows or any(name not in forms for name in primary):
        raise StoreError(
            f"this user may not see every column of {shown!r}: GRANT SELECT, INSERT, UPDATE ON "
            f"{quoted(schema)}.{quoted(table)} TO CURRENT_USER"
        )
    required = {column.name for column in columns if not column.nullable}
    finder = primary or next((names for names in indexes.values() if set(names) <= required), ())
    triggers = _triggers(ask, schema, table) != "0"
    info = TableInfo(
        shown, columns, primary, tuple(indexes.values()), triggers, refers=_refers(ask, schema, table),
        reach=_reach(ask, schema, table), identity=f"{quoted(schema)}.{quoted(table)}", undoes=undoes,
        rights=_rights([row["rights"] or "" for row in rows]),
    )  # fmt: skip
    return Described(
        info,
        (schema, table),
        f"{quoted(schema)}.{quoted(table)}",
        forms,
        tuple(Locator(quoted(name), forms[name]) for name in finder),
        as_sent=not any("on update" in (row["Extra"] or "").lower() for row in rows),
        indexes=every,
        extra={
            "indexes": {"PRIMARY": primary} | indexes,
            "letters": {row["Field"]: row["Collation"].split("_")[0] for row in rows if row["Collation"]},
        },
    )


def _json(ask: Ask, schema: str, table: str) -> set[str]:
    """The columns that were declared JSON: texts, with a check."""
    rows = ask(
        "SELECT CONSTRAINT_NAME AS n FROM information_schema.CHECK_CONSTRAINTS WHERE "
        f"CONSTRAINT_SCHEMA = {text_sql(schema)} AND TABLE_NAME = {text_sql(table)} AND LEVEL = 'Column' "
        "AND CHECK_CLAUSE = CONCAT('json_valid(`', REPLACE(CONSTRAINT_NAME, '`', '``'), '`)')"
    )
    return {row["n"] for row in rows}


def definition(ask: Ask, table: Described) -> str | None:
    """A text that changes when the description of a table does, and is there sooner; None if the table has gone."""
    try:
        shown = ask(f"SHOW CREATE TABLE {table.sql}")[0]["Create Table"]
    except StoreError:
        return None
    return f"{_triggers(ask, *table.place)} {without_counter(shown)}"


def without_counter(shown: str) -> str:
    """A CREATE TABLE statement without the number that comes next, which is no part of the description."""
    return _COUNTER.sub("", shown)


def _triggers(ask: Ask, schema: str, table: str) -> str:
    of = f"EVENT_OBJECT_SCHEMA = {text_sql(schema)} AND EVENT_OBJECT_TABLE = {text_sql(table)}"
    of += f" AND LEFT(TRIGGER_NAME, {len(PREFIX)}) <> '{PREFIX}'"
    return str(ask(f"SELECT count(*) AS n FROM information_schema.TRIGGERS WHERE {of}")[0]["n"])


def _find(ask: Ask, name: str, place: tuple[str, str] | None) -> tuple[str, str, str, bool, bool] | None:
    """The database, the name and the kind of a table, and whether it is in the connection's own database."""
    asked = [f"TABLE_SCHEMA = DATABASE() AND TABLE_NAME = {text_sql(name)}"]
    for match in re.finditer(r"\.", name):
        schema, table = name[: match.start()], name[match.end() :]
        asked.append(f"TABLE_SCHEMA = {text_sql(schema)} AND TABLE_NAME = {text_sql(table)}")
    asked.append(f"TABLE_SCHEMA = DATABASE() AND lower(TABLE_NAME) = lower({text_sql(name)})")
    if place is not None:
        asked = [f"TABLE_SCHEMA = {text_sql(place[0])} AND TABLE_NAME = {text_sql(place[1])}"]
    for where in asked:
        sql = (
            "SELECT TABLE_SCHEMA AS s, TABLE_NAME AS t, TABLE_TYPE AS k, TABLE_SCHEMA = DATABASE() AS here, "
            "ENGINE AS e, "
            "(SELECT TRANSACTIONS FROM information_schema.ENGINES AS n WHERE n.ENGINE = found.ENGINE) AS undoes "
        )
        rows = ask(f"{sql}FROM information_schema.TABLES AS found WHERE {where} ORDER BY 2 LIMIT 1")
        if rows:
            one = rows[0]
            return one["s"], one["t"], one["k"], one["here"] == "1", one["e"] is None or one["undoes"] == "YES"
    return None


def _indexes(ask: Ask, at: str) -> tuple[list[tuple[str, ...]], dict[str, tuple[str, ...]]]:
    """The columns of each index over whole columns, and of those that are unique by their names."""
    rows = ask(
        "SELECT INDEX_NAME AS i, COLUMN_NAME AS c, SUB_PART AS p, NON_UNIQUE AS n FROM information_schema.STATISTICS "
        f"WHERE {at} ORDER BY INDEX_NAME, SEQ_IN_INDEX"
    )
    partial = {row["i"] for row in rows if row["p"] is not None or row["c"] is None}
    indexes: dict[str, tuple[str, ...]] = {}
    for row in rows:
        if row["i"] not in partial:
            indexes[row["i"]] = (*indexes.get(row["i"], ()), row["c"])
    several = {row["i"] for row in rows if row["n"] != "0"}
    return list(indexes.values()), {name: columns for name, columns in indexes.items() if name not in several}


def _refers(ask: Ask, schema: str, table: str) -> tuple[str, ...]:
    """What the foreign keys of a table say, in words."""
    rows = ask(
        "SELECT COLUMN_NAME AS c, REFERENCED_TABLE_NAME AS t, REFERENCED_COLUMN_NAME AS r "
        f"FROM information_schema.KEY_COLUMN_USAGE WHERE TABLE_SCHEMA = {text_sql(schema)} "
        f"AND TABLE_NAME = {text_sql(table)} AND REFERENCED_TABLE_NAME IS NOT NULL "
        "ORDER BY CONSTRAINT_NAME, ORDINAL_POSITION"
    )
    return tuple(f"{row['c']} refers to {row['t']}.{row['r']}" for row in rows)


def _reach(ask: Ask, schema: str, table: str) -> tuple[Reach, ...]:
    """The foreign keys by which a change of the table comes back to it; found by going up to what it refers to."""
    reach, seen, up = [], set(), [(schema, table)]
    while up:
        child = up.pop()
        if child in seen:
            continue
        seen.add(child)
        rows = ask(
            "SELECT c.CONSTRAINT_NAME AS n, c.DELETE_RULE AS d, c.UPDATE_RULE AS u, k.REFERENCED_TABLE_SCHEMA AS s, "
            "k.REFERENCED_TABLE_NAME AS t, GROUP_CONCAT(k.REFERENCED_COLUMN_NAME SEPARATOR '\0') AS r "
            "FROM information_schema.REFERENTIAL_CONSTRAINTS AS c JOIN information_schema.KEY_COLUMN_USAGE AS k "
            "ON k.CONSTRAINT_SCHEMA = c.CONSTRAINT_SCHEMA AND k.CONSTRAINT_NAME = c.CONSTRAINT_NAME "
            "AND k.TABLE_NAME = c.TABLE_NAME "
            f"WHERE c.CONSTRAINT_SCHEMA = {text_sql(child[0])} AND c.TABLE_NAME = {text_sql(child[1])} "
            f"AND k.TABLE_SCHEMA = {text_sql(child[0])} AND k.TABLE_NAME = {text_sql(child[1])} "
            "GROUP BY 1, 2, 3, 4, 5"
        )
        for row in rows:
            deletes, updates = (row[rule] not in ("RESTRICT", "NO ACTION") for rule in ("d", "u"))
            if (row["s"], row["t"]) == (schema, table) and (deletes or updates):
                reach.append(Reach(row["n"], deletes, tuple(row["r"].split("\0")) if updates else ()))
            elif deletes or updates:
                up.append((row["s"], row["t"]))
    return tuple(reach)


def _rights(columns: Sequence[str]) -> frozenset[str]:
    """What may be done, by what may be done with each column. Of deletes the server does not say it here."""
    each = [set(rights.lower().split(",")) for rights in columns]
    every = set.intersection(*each) if each else set()
    some = set.union(*each) if each else set()
    return frozenset({"delete"} | ({"select"} & every) | ({"insert", "update"} & some))


@dataclass(frozen=True)
class _Type:
    """A column's type, taken apart."""

    name: str
    args: str
    unsigned: bool

    @property
    def size(self) -> int | None:
        return int(self.args.split(",")[0]) if self.args[:1].isdigit() else None

    @property
    def scale(self) -> int:
        parts = self.args.split(",")
        return int(parts[1]) if len(parts) == 2 and parts[1].strip().isdigit() else 0

    @property
    def labels(self) -> tuple[str, ...]:
        return tuple(label.replace("''", "'") for label in re.findall(r"'((?:[^']|'')*)'", self.args))


def column_of(row: Mapping[str, Any], json: bool = False) -> tuple[Column, Form]:
    """A column and its form, from a row as SHOW FULL COLUMNS gives them. `json`: it was declared so."""
    match = _TYPE.match(row["Type"])
    assert match is not None
    one = _Type(match["name"].lower(), match["args"] or "", "unsigned" in match["rest"].lower())
    extra = (row["Extra"] or "").lower()
    collation = row["Collation"]
    kind, form, about = _of_type(one, row["Type"], collation)
    declared = row["Type"]
    if collation is not None:
        declared = f"{_shorter(one, declared)} CHARACTER SET {collation.split('_')[0]} COLLATE {collation}"
    default = row["Default"]
    generated = "generated" in extra
    column = Column(
        name=row["Field"],
        type=kind,
        declared=declared,
        nullable=row["Null"] == "YES",
        has_default="auto_increment" in extra or (default is not None and default != "NULL" and not generated),
        generated=generated,
        json=json,
        nan=False,
        **about,
    )
    return column, form


def _shorter(one: _Type, declared: str) -> str:
    return "text" if one.name in ("varchar", "char") and (one.size or 0) > _LONG else declared


def _of_type(one: _Type, spelled: str, collation: str | None) -> tuple[pa.DataType, Form, dict[str, Any]]:
    """The Arrow type, the form, and what else is to be known of a column."""
    name, size = one.name, one.size
    about: dict[str, Any]
    if name == "tinyint" and size == 1:
        return pa.bool_(), Form(pa.int8(), "tinyint", "CAST({} AS SIGNED)"), {}
    if name in _INTEGERS:
        kind = getattr(pa, f"{'u' if one.unsigned else ''}int{_INTEGERS[name]}")()
        return kind, Form(kind, spelled, f"CAST({{}} AS {'UNSIGNED' if one.unsigned else 'SIGNED'})"), {}
    if name == "year":
        return pa.int16(), Form(pa.int16(), "smallint", "CAST({} AS SIGNED)"), {"years": True}
    if name == "bit":
        kind = pa.bool_() if (size or 1) == 1 else pa.uint64()
        wire = pa.int8() if (size or 1) == 1 else pa.uint64()
        return kind, Form(wire, "bigint unsigned", "CAST({} AS UNSIGNED)", "({} + 0)", "CAST({} AS UNSIGNED)"), {}
    if name in ("decimal", "numeric"):
        digits = size or 10
        kind = (pa.decimal128 if digits <= 38 else pa.decimal256)(digits, one.scale)
        staged = f"decimal({digits},{one.scale})"
        came = kind if digits <= 38 else pa.string()  # Arrow reads no longer ones from CSV
        return kind, Form(kind, staged, f"CAST({{}} AS {staged})", came=came), {}
    if name in ("double", "float", "real"):
        kind = pa.float32() if name == "float" else pa.float64()
        cast = "CAST({} AS DOUBLE)"
        if one.args:  # a float that is rounded to a number of decimals
            write = f"ROUND({{}}, {one.scale})"
            return kind, Form(kind, name, cast, cast, write, came=pa.float64(), normalises=True), {"normalises": True}
        write = "{}" if name != "float" else "CAST({} AS FLOAT)"
        return kind, Form(kind, name, cast, cast if name == "float" else "{}", write, came=pa.float64()), {}
    if name == "date":
        return pa.date32(), Form(pa.date32(), "date", "CAST({} AS DATE)"), {}
    if name in ("datetime", "timestamp"):
        digits = size or 0
        kind = pa.timestamp(_UNITS.get(digits, "us"), "UTC" if name == "timestamp" else None)
        wire = pa.timestamp(kind.unit)
        about = {} if digits in _UNITS else {"fraction": digits}
        return kind, Form(wire, f"datetime({digits})", f"CAST({{}} AS DATETIME({digits}))"), about
    if name == "time":
        digits = size or 0
        about = {} if digits == 6 else {"fraction": digits}
        return pa.time64("us"), Form(pa.time64("us"), f"time({digits})", f"CAST({{}} AS TIME({digits}))"), about
    if name in _BLOBS:
        staged, about = ("longblob", {"width": size}) if name == "binary" else (spelled, {"room": _room(spelled, size)})
        return pa.binary(), Form(pa.binary(), staged, read="HEX({})", came=pa.string()), about
    if name in _TEXTS and collation is not None:
        charset = collation.split("_")[0]
        text = f"CONVERT({{}} USING {charset}) COLLATE {collation}"
        fold = None
        about = {"length": size if name in ("char", "varchar") else None, "trims": name == "char"}
        about["room"] = _room(spelled, None)
        pads = "nopad" not in collation
        if collation.endswith("_bin"):
            about["fold"] = "blanks" if pads else None
        else:
            about["fold"] = "collation"
            fold = f"HEX(WEIGHT_STRING({'RTRIM({})' if pads else '{}'}))"
        staged = f"{spelled} CHARACTER SET {charset} COLLATE {collation}"
        return pa.string(), Form(pa.string(), staged, text, _PLAIN, fold=fold), about
    if name in ("enum", "set") and collation is not None:
        about = {"labels": one.labels if name == "enum" else (), "members": one.labels if name == "set" else ()}
        staged = f"{spelled} CHARACTER SET {collation.split('_')[0]} COLLATE {collation}"
        return pa.string(), Form(pa.string(), staged, TEXT.literal, _PLAIN), about
    write, read = f"CAST({{}} AS {name})", "CAST({} AS CHAR) COLLATE utf8mb4_bin"
    if name in ("point", "geometry", "linestring", "polygon", "multipoint", "multilinestring", "multipolygon"):
        write, read = "ST_GeomFromText({})", "ST_AsText({}) COLLATE utf8mb4_bin"
    return pa.string(), Form(pa.string(), TEXT.staged, TEXT.literal, read, write, normalises=True), {"normalises": True}


def _room(declared: str, size: int | None) -> int | None:
    sized = _SIZE.match(declared)
    return _ROOM[sized["size"].lower()] if sized is not None else size


_LETTER = {"utf8mb4": 4, "utf8mb3": 3, "utf16": 4, "utf32": 4, "ucs2": 2}
_SIZED = re.compile(r"^(?:var)?(?P<kind>char|binary)\((?P<size>\d+)\)(?: CHARACTER SET (?P<letters>\w+))?", re.I)


def bytes_in_row(column: Column) -> int:
    """How many bytes of a row's 65,535 a column may take."""
    sized = _SIZED.match(declare(column))
    if sized is not None:
        return int(sized["size"]) * _LETTER.get(sized["letters"] or "", 1) + 2
    return column.type.bit_width // 8 if pt.is_primitive(column.type) else 12


_MOST_DIGITS, _MOST_DECIMALS = 65, 38


def declare(column: Column) -> str:
    """The declared type with which Rapid Mender creates a column."""
    if column.declared is not None:
        sized = _SIZE.match(column.declared)  # with all the room that there is, as what it is like may be widened
        return column.declared if sized is None else f"long{sized['kind'].lower()}{column.declared[sized.end() :]}"
    kind = column.type
    if pt.is_boolean(kind):
        return "tinyint(1)"
    if pt.is_decimal(kind):
        scale = min(kind.scale, _MOST_DECIMALS)
        return f"decimal({min(kind.precision, _MOST_DIGITS)},{scale})"  # what it does not hold exactly is refused
    if pt.is_timestamp(kind):
        return f"datetime({ {'s': 0, 'ms': 3}.get(kind.unit, 6) })"
    if pt.is_string(kind):
        length = max((len(text) for text in column.one_of), default=column.length or _LONGEST + 1)
        short = f"varchar({length})" if length <= _LONGEST else "longtext"
        return f"{short} CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin"
    for test, words in (
        (pt.is_integer, "bigint"), (pt.is_floating, "double"), (pt.is_date, "date"), (pt.is_time, "time(6)"),
    ):  # fmt: skip
        if test(kind):
            return words
    return "longblob"
