"""Describing a PostgreSQL table: one query of its catalogue, and how the values of each type pass."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from typing import Any

import pyarrow as pa
import pyarrow.types as pt

from ...core.schema import Column, Reach, TableInfo
from ...errors import StoreError
from ..sql.link import Described, Form, Locator
from ..sql.text import name_sql
from .catalog import op

_NATIVE: dict[str, tuple[pa.DataType, str]] = {
    "int2": (pa.int16(), "smallint"), "int4": (pa.int32(), "integer"), "int8": (pa.int64(), "bigint"),
    "float4": (pa.float32(), "real"), "float8": (pa.float64(), "double precision"), "bool": (pa.bool_(), "boolean"),
    "text": (pa.string(), "pg_catalog.text"), "varchar": (pa.string(), "pg_catalog.text"),
    "bytea": (pa.binary(), "pg_catalog.bytea"),
    "date": (pa.date32(), "pg_catalog.date"), "time": (pa.time64("us"), "time"),
    "timestamp": (pa.timestamp("us"), "timestamp"),
    "timestamptz": (pa.timestamp("us", "UTC"), "pg_catalog.timestamptz"),
}  # fmt: skip
_UNITS = {0: "s", 3: "ms", 6: "us", -1: "us"}
ANY_NUMERIC = pa.decimal256(76, 38)
"""For numbers without a scale: 38 digits before the point and 38 after it."""
_OWN = op("=")
TEXT = Form(pa.string(), "pg_catalog.text", "{}::pg_catalog.text", equals=_OWN)
NUMBER = Form(pa.int32(), "integer", "{}::integer", equals=_OWN)
_AS_TEXT = "{}::pg_catalog.text"
_BY_PLACE = Locator("ctid", Form(pa.string(), "pg_catalog.text", _AS_TEXT, _AS_TEXT, "{}::pg_catalog.tid", equals=_OWN))
_BY_PART = Locator(
    "tableoid", Form(pa.int64(), "bigint", "{}::bigint", "{}::bigint", "{}::pg_catalog.oid", equals=_OWN)
)


def spellings(name: str) -> list[tuple[str, str | None, str]]:
    """What a table's name may mean, the likelier first: which question finds it, its schema, and its name there."""
    dots = [match.start() for match in re.finditer(r"\.", name)]
    parts = [("rmend_exact", name[:at], name[at + 1 :]) for at in dots]
    return [("rmend_exact", None, name), *parts, ("rmend_alike", None, name)]


def described(answer: str) -> Described:
    """A table from what one of `QUESTIONS` found."""
    one = json.loads(answer)
    name = one["name"] if one["here"] else f"{one['schema']}.{one['name']}"
    if one["kind"] == "m":
        raise StoreError(f"{name!r} is a materialized view; records can be merged into a table, or a view that is not")
    columns, forms = [], {}
    for row in one["columns"] or ():
        columns.append(column := _column(row))
        forms[column.name] = _form(row, column)
    indexes = [(index["primary"], tuple(index["columns"])) for index in one["indexes"] or ()]
    by_name = {index["name"]: tuple(index["columns"]) for index in one["indexes"] or ()}
    view = one["kind"] in "vf"
    locators: tuple[Locator, ...] = ()
    if not view:
        locators = (_BY_PLACE, _BY_PART) if one["kind"] == "p" or one["children"] else (_BY_PLACE,)
    info = TableInfo(
        name,
        tuple(columns),
        next((names for primary, names in indexes if primary), ()),
        tuple(names for primary, names in indexes if not primary),
        bool(one["triggers"]),
        bool(one["referenced"]),
        tuple(one["refers"] or ()),
        tuple(
            Reach(f["said"], f["deletes"], tuple(f["columns"] or ()) if f["updates"] else ())
            for f in one["reach"] or ()
        ),
        f"{one['oid']}",
        number=int(one["oid"]),
        owner=one["owner"],
        rights=frozenset(name for name, may in one["rights"].items() if may),
    )
    always = any(row["identity"] == "a" for row in one["columns"] or ())
    return Described(
        info,
        (one["schema"], one["name"]),
        f"{name_sql(one['schema'])}.{name_sql(one['name'])}",
        forms,
        locators,
        as_sent=not view and not (one["rules"] and one["kind"] != "v"),
        overriding=" OVERRIDING SYSTEM VALUE" if always else "",
        trusted=one["trusted"],
        runs=tuple(one["runs"] or ()),
        loads=not one["secured"],
        extra={
            "unique": by_name,
            "after": any(trigger["after"] for trigger in one["triggers"] or ()),
            "deferred": one["deferred"] or [],
            "late": any(trigger["late"] for trigger in one["triggers"] or ()),
        },
    )


def numeric_type(mod: int) -> pa.DataType:
    """The Arrow type of a numeric, from its type modifier."""
    if mod >= 4:
        precision, scale = (mod - 4) >> 16, (((mod - 4) & 0x7FF) ^ 1024) - 1024
        if 0 <= scale <= precision <= 76:
            return (pa.decimal128 if precision <= 38 else pa.decimal256)(precision, scale)
    return ANY_NUMERIC


def _basic(row: Mapping[str, Any]) -> tuple[str, int, str, bool]:
    """The type that a column comes down to: its name, modifier, spelling, and whether it is a domain's."""
    if row["kind"] == "d":
        return row["base"], row["base_mod"], row["base_declared"], True
    return row["type"], row["mod"], row["declared"], False


def _column(row: Mapping[str, Any]) -> Column:
    name, mod, declared, _ = _basic(row)
    kind: pa.DataType = pa.string()
    length = fraction = None
    if name in _NATIVE:
        kind = _NATIVE[name][0]
        if name == "varchar" and mod > 4:
            length = mod - 4
        elif name in ("timestamp", "timestamptz", "time"):
            if mod in _UNITS and name != "time":
                kind = pa.timestamp(_UNITS[mod], kind.tz)
            elif mod >= 0:
                fraction = mod
    elif name == "numeric":
        kind = numeric_type(mod)
    elif name == "bpchar":
        length = mod - 4 if mod > 4 else None
    return Column(
        name=row["name"],
        type=kind,
        declared=declared,
        nullable=not row["not_null"],
        has_default=bool(row["default"] and not row["generated"]) or bool(row["identity"]),
        generated=bool(row["generated"]),
        length=length,
        fold="collation" if name == "citext" or not row["exact"] else None,
        trims=name == "bpchar",
        fraction=fraction,
        labels=tuple(row["labels"] or ()),
        normalises=name not in _NATIVE and name not in ("numeric", "bpchar", "citext"),
        number=row["number"],
        json=name == "json",
    )


def _form(row: Mapping[str, Any], column: Column) -> Form:
    name, mod, _, domain = _basic(row)
    write = f"{{}}::{row['declared']}"
    if name in _NATIVE:
        staged = _NATIVE[name][1]
        return Form(column.type, staged, f"{{}}::{staged}", write=write if domain else "{}", equals=_OWN)
    if name == "numeric":
        write = f"pg_catalog.trim_scale({{}}){write[2:]}" if mod < 4 else (write if domain else "{}")
        return Form(column.type, "numeric", "{}::numeric", write=write, equals=_OWN)
    equals = op("=").replace("pg_catalog", name_sql(row["equals"])) if row["equals"] else _OWN
    fold = "pg_catalog.lower({}::pg_catalog.text)" if name == "citext" else None
    # a cast to text adds /32 to the address of one machine
    read = "pg_catalog.abbrev({}::pg_catalog.inet)" if name == "inet" and row["own"] else _AS_TEXT
    return Form(
        pa.string(), "pg_catalog.text", _AS_TEXT, read, write, fold, normalises=column.normalises, equals=equals
    )


_UNSIGNED = {
    "uint8": "smallint", "uint16": "integer", "uint32": "bigint", "uint64": "numeric(20,0)",
}  # fmt: skip
"""By types of numbers that PostgreSQL does not have the next that hold them all."""


def declare(column: Column) -> str:
    """The declared type with which Rapid Mender creates a column."""
    if column.declared is not None:
        return column.declared
    kind = column.type
    if pt.is_decimal(kind):
        return f"numeric({kind.precision},{kind.scale})"
    if pt.is_timestamp(kind):
        digits = {"s": "(0)", "ms": "(3)"}.get(kind.unit, "")
        return f"timestamp{digits} with{'' if kind.tz else 'out'} time zone"
    for native, staged in _NATIVE.values():
        if native == kind:
            return staged
    return _UNSIGNED.get(str(kind), "pg_catalog.text")
