"""Describing a PostgreSQL table: one query of its catalogue, and how the values of each type pass."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from typing import Any

import pyarrow as pa
import pyarrow.types as pt

from ..core.schema import Column, TableInfo
from ..errors import StoreError
from .sql_link import Described, Form, Locator
from .sql_text import name_sql

_NATIVE: dict[str, tuple[pa.DataType, str]] = {
    "int2": (pa.int16(), "smallint"), "int4": (pa.int32(), "integer"), "int8": (pa.int64(), "bigint"),
    "float4": (pa.float32(), "real"), "float8": (pa.float64(), "double precision"), "bool": (pa.bool_(), "boolean"),
    "text": (pa.string(), "text"), "varchar": (pa.string(), "text"), "bytea": (pa.binary(), "bytea"),
    "date": (pa.date32(), "date"), "time": (pa.time64("us"), "time"), "timestamp": (pa.timestamp("us"), "timestamp"),
    "timestamptz": (pa.timestamp("us", "UTC"), "timestamptz"),
}  # fmt: skip
_UNITS = {0: "s", 3: "ms", 6: "us", -1: "us"}
ANY_NUMERIC = pa.decimal256(76, 38)
"""For numbers without a scale: 38 digits before the point and 38 after it."""
TEXT = Form(pa.string(), "text", "{}::text")
BIG = Form(pa.int64(), "bigint", "{}::bigint")
NUMBER = Form(pa.int32(), "integer", "{}::integer")
_BY_PLACE = Locator("ctid", Form(pa.string(), "text", "{}::text", "{}::text", "{}::tid"))
_BY_PART = Locator("tableoid", Form(pa.int64(), "bigint", "{}::bigint", "{}::bigint", "{}::oid"))

_QUESTION = """
SELECT json_build_object(
  'schema', n.nspname, 'name', c.relname, 'kind', c.relkind, 'here', n.nspname = current_schema(),
  'rules', c.relhasrules,
  'children', c.relhassubclass,
  'columns', (SELECT json_agg(json_build_object(
      'name', a.attname, 'declared', format_type(a.atttypid, a.atttypmod), 'mod', a.atttypmod,
      'not_null', a.attnotnull OR t.typnotnull, 'default', a.atthasdef, 'identity', a.attidentity,
      'generated', a.attgenerated, 'type', t.typname, 'kind', t.typtype, 'own', t.typnamespace = 11,
      'collation', a.attcollation, 'exact', coalesce(l.collisdeterministic, true),
      'base', b.typname, 'base_kind', b.typtype, 'base_mod', t.typtypmod,
      'base_declared', CASE WHEN b.oid IS NOT NULL THEN format_type(b.oid, t.typtypmod) END,
      'labels', CASE WHEN t.typtype = 'e' THEN
          (SELECT json_agg(e.enumlabel ORDER BY e.enumsortorder) FROM pg_enum e WHERE e.enumtypid = t.oid) END
    ) ORDER BY a.attnum)
    FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid LEFT JOIN pg_type b ON b.oid = t.typbasetype
    LEFT JOIN pg_collation l ON l.oid = a.attcollation
    WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped),
  'indexes', (SELECT json_agg(json_build_object(
      'primary', i.indisprimary, 'name', x.relname, 'columns', (SELECT json_agg(a.attname ORDER BY k.place)
          FROM unnest(i.indkey::int2[]) WITH ORDINALITY k(number, place)
          JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.number
          WHERE k.place <= i.indnkeyatts)) ORDER BY x.relname)
    FROM pg_index i JOIN pg_class x ON x.oid = i.indexrelid
    WHERE i.indrelid = c.oid AND i.indisunique AND i.indpred IS NULL AND i.indexprs IS NULL),
  'triggers', EXISTS (SELECT FROM pg_trigger g WHERE g.tgrelid = c.oid AND NOT g.tgisinternal AND g.tgenabled <> 'D'),
  'referenced', EXISTS (SELECT FROM pg_constraint f WHERE f.confrelid = c.oid AND f.contype = 'f'
      AND (f.confupdtype <> 'a' OR f.confdeltype <> 'a')),
  'refers', (SELECT json_agg(DISTINCT a.attname || ' refers to ' || r.relname)
    FROM pg_constraint f JOIN pg_class r ON r.oid = f.confrelid CROSS JOIN unnest(f.conkey) k(number)
    JOIN pg_attribute a ON a.attrelid = f.conrelid AND a.attnum = k.number
    WHERE f.conrelid = c.oid AND f.contype = 'f')
)::text AS found
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p', 'v', 'f', 'm')
  AND {}
  AND CASE WHEN $1 IS NULL THEN n.nspname = ANY (current_schemas(false)) ELSE n.nspname = $1 END
ORDER BY array_position(current_schemas(false), n.nspname), c.relname LIMIT 1"""
QUESTIONS = {
    "rmend_exact": _QUESTION.replace("{}", "c.relname = $2"),
    "rmend_alike": _QUESTION.replace("{}", "lower(c.relname) = lower($2)"),
}
"""Describe a table of a schema or, if that is null, of the search path; by its exact name or one in other letters."""

NAMES = """
SELECT CASE WHEN n.nspname = current_schema() THEN '' ELSE n.nspname || '.' END || c.relname AS name
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p', 'v') AND NOT c.relispartition AND n.nspname <> 'information_schema'
  AND n.nspname NOT LIKE 'pg\\_%' ORDER BY n.nspname <> current_schema(), 1"""


def spellings(name: str) -> list[tuple[str, str | None, str]]:
    """What a table's name may mean, the likelier first: which question finds it, its schema, and its name there."""
    dots = [match.start() for match in re.finditer(r"\.", name)]
    parts = [("rmend_exact", name[:at], name[at + 1 :]) for at in dots]
    return [("rmend_exact", None, name), *parts, ("rmend_alike", None, name)]


def described(found: str) -> Described:
    """A table from what one of `QUESTIONS` found."""
    one = json.loads(found)
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
    )
    always = any(row["identity"] == "a" for row in one["columns"] or ())
    return Described(
        info,
        f"{name_sql(one['schema'])}.{name_sql(one['name'])}",
        forms,
        locators,
        told=not view and not (one["rules"] and one["kind"] != "v"),
        overriding=" OVERRIDING SYSTEM VALUE" if always else "",
        extra={"schema": one["schema"], "name": one["name"], "unique": by_name},
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
        settles=name not in _NATIVE and name not in ("numeric", "bpchar", "citext"),
    )


def _form(row: Mapping[str, Any], column: Column) -> Form:
    name, mod, _, domain = _basic(row)
    write = f"{{}}::{row['declared']}"
    if name in _NATIVE:
        staged = _NATIVE[name][1]
        return Form(column.type, staged, f"{{}}::{staged}", write=write if domain else "{}")
    if name == "numeric":
        write = f"trim_scale({{}}){write[2:]}" if mod < 4 else (write if domain else "{}")
        return Form(column.type, "numeric", "{}::numeric", write=write)
    fold = "lower({}::text)" if name == "citext" else None
    return Form(pa.string(), "text", "{}::text", "{}::text", write, fold, settles=column.settles)


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
    return "text"
