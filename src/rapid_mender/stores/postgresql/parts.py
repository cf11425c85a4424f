"""What captures ask PostgreSQL's catalogue for: a table with its partitions, its triggers, whose its history is."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

from ..sql.text import name_sql
from .catalog import catalog_sql

PINNED = "search_path=pg_catalog, pg_temp"
"""How the catalogue has the setting of a function whose names nobody else can answer."""
_HASHED = catalog_sql(
    "(pg_catalog.hashname(a.attname)::int8 * 1000003) + (a.atttypid::int8 * 8191) + (a.atttypmod::int8 * 31) "
    "+ a.attnum::int8"
)
_PRINT = (
    f"(SELECT pg_catalog.sum(pg_catalog.hashint8({_HASHED})) FROM pg_catalog.pg_attribute AS a "
    "WHERE a.attrelid OPERATOR(pg_catalog.=) {relation} AND a.attnum OPERATOR(pg_catalog.>) 0 "
    "AND a.attnum OPERATOR(pg_catalog.<=) {last} AND NOT a.attisdropped)"
)
PARTS = catalog_sql("""
SELECT c.oid::int8 AS oid, n.nspname::text AS schema, c.relname::text AS name, c.relkind::text AS kind,
  (SELECT json_agg(json_build_object('name', a.attname, 'number', a.attnum,
     'type', CASE WHEN t.typnamespace <> 11 THEN quote_ident(s.nspname::text) || '.' || quote_ident(t.typname::text)
       WHEN coalesce(e.typname, t.typname)::text = ANY ('{{bit,varbit,bool,bpchar,varchar,float4,float8,int2,int4,
          int8,numeric,interval,time,timetz,timestamp,timestamptz}}'::text[]) THEN format_type(a.atttypid, a.atttypmod)
       ELSE 'pg_catalog.' || quote_ident(t.typname::text) END,
     'id', a.atttypid::int8, 'mod', a.atttypmod) ORDER BY a.attnum)::text
   FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid JOIN pg_namespace s ON s.oid = t.typnamespace
   LEFT JOIN pg_type e ON e.typarray = t.oid
   WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped) AS columns
FROM (SELECT {0}::oid AS oid UNION SELECT p.relid::oid FROM pg_partition_tree({0}::oid::regclass) AS p) AS part
JOIN pg_class c ON c.oid = part.oid JOIN pg_namespace n ON n.oid = c.relnamespace ORDER BY c.oid <> {0}::oid, c.oid""")
"""A table and all of its partitions, with their columns. Types that the grammar itself names have no schema."""
TRIGGERS = catalog_sql("""
SELECT g.tgname::text AS name, g.tgenabled <> 'D' AS enabled, p.proname::text AS function, n.nspname::text AS schema,
  c.relname::text AS relation, pg_get_userbyid(p.proowner) AS owner,
  NOT p.prosecdef OR coalesce(ARRAY['{setting}'] <@ p.proconfig, false) AS pinned,
  (g.tgtype::int4 & 1) <> 0 AS row, (g.tgtype::int4 & 66) AS time, g.tgtype::int4 AS type
FROM pg_trigger g JOIN pg_proc p ON p.oid = g.tgfoid JOIN pg_class c ON c.oid = g.tgrelid
JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE NOT g.tgisinternal AND g.tgrelid = ANY (
  ARRAY(SELECT {0}::oid UNION SELECT p.relid::oid FROM pg_partition_tree({0}::oid::regclass) AS p))
ORDER BY c.oid <> {0}::oid, c.relname, g.tgname""").replace("{setting}", PINNED)
"""The triggers of a table and of its partitions."""
FUNCTIONS = catalog_sql("""
SELECT p.proname::text AS function, g.tgname::text AS name, n.nspname::text AS schema, c.relname::text AS relation,
  pg_get_function_identity_arguments(p.oid) AS given, f.nspname::text AS home
FROM pg_proc p JOIN pg_namespace f ON f.oid = p.pronamespace
LEFT JOIN pg_trigger g ON g.tgfoid = p.oid AND NOT g.tgisinternal AND g.tgparentid = 0
LEFT JOIN pg_class c ON c.oid = g.tgrelid LEFT JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE (f.nspname = {0} OR {0} = '') AND starts_with(p.proname::text, {1}) ORDER BY 1, 2""")
"""The functions of a schema, or of all, whose names begin with a text, and the triggers that call them."""
ASTRAY = catalog_sql("""
SELECT n.nspname::text || '.' || c.relname::text AS name, p.relid IS NOT NULL AS belongs
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
LEFT JOIN pg_partition_tree({0}::oid::regclass) AS p ON p.relid = c.oid
LEFT JOIN (SELECT DISTINCT g.tgrelid FROM pg_trigger g WHERE starts_with(g.tgname::text, {1})) AS g ON g.tgrelid = c.oid
WHERE c.oid <> {0}::oid AND (p.relid IS NOT NULL) <> (g.tgrelid IS NOT NULL) ORDER BY 1""")
"""Partitions of a table without triggers whose names begin with a text, and other tables that have some."""
CHILDREN = catalog_sql("""
SELECT n.nspname::text || '.' || c.relname::text AS name FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid
JOIN pg_namespace n ON n.oid = c.relnamespace WHERE i.inhparent = {0}::oid AND NOT c.relispartition ORDER BY 1""")
"""The tables that inherit from a table."""
REFERRING = catalog_sql("""
SELECT quote_ident(n.nspname::text) || '.' || quote_ident(c.relname::text) AS relation,
  (SELECT json_agg(json_build_array(a.attname, b.attname))
   FROM ROWS FROM (unnest(k.conkey), unnest(k.confkey)) AS u (here, there)
   JOIN pg_attribute a ON a.attrelid = k.conrelid AND a.attnum = u.here
   JOIN pg_attribute b ON b.attrelid = k.confrelid AND b.attnum = u.there)::text AS columns
FROM pg_constraint k JOIN pg_class c ON c.oid = k.confrelid JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE k.conrelid = {0}::oid AND k.contype = 'f' AND k.confdeltype = 'c' AND k.conparentid = 0 ORDER BY k.conname""")
"""The foreign keys of a table that delete its rows with those to which they refer."""
CIRCUMSTANCES = catalog_sql("""
SELECT
  (SELECT array_to_string(array_agg(k.conname::text), ', ') FROM pg_constraint k
   WHERE k.conrelid = {0}::oid AND k.condeferrable AND k.contype = ANY ('{{p,u}}'::char[])) AS deferred,
  (SELECT array_to_string(array_agg(DISTINCT coalesce(r.rolname::text, 'all roles') ||
     coalesce(' in ' || d.datname::text, '')), ', ') FROM pg_db_role_setting s
   LEFT JOIN pg_roles r ON r.oid = s.setrole LEFT JOIN pg_database d ON d.oid = s.setdatabase
   WHERE (d.datname IS NULL OR d.datname = current_database())
   AND s.setconfig @> ARRAY['session_replication_role=replica']::text[]) AS replicas,
  EXISTS (SELECT FROM pg_subscription_rel s WHERE s.srrelid = {0}::oid) AS subscribed""")
"""Under what circumstances the triggers of a table do not run, or not in the order of what they record."""
HOME = catalog_sql("""
SELECT t.owner, t.trusted, t.me, t.acts, t.oid, coalesce(t.strange, '') AS strange FROM (
  SELECT w.rolname::text AS owner, m.rolname = w.rolname AS me, h.oid::int8 AS oid,
    o.rolname = w.rolname OR o.rolsuper OR (NOT w.rolsuper AND pg_has_role(w.oid, o.oid, 'USAGE')) AS trusted,
    m.rolsuper OR pg_has_role(m.oid, w.oid, 'MEMBER') AS acts,
    (SELECT array_to_string(array_agg(DISTINCT p.proname::text || ' of ' || pg_get_userbyid(p.proowner)::text), ', ')
     FROM pg_trigger g JOIN pg_proc p ON p.oid = g.tgfoid JOIN pg_roles f ON f.oid = p.proowner
     WHERE g.tgrelid = h.oid AND NOT g.tgisinternal AND NOT f.rolsuper AND f.oid <> w.oid
       AND (w.rolsuper OR NOT pg_has_role(w.oid, f.oid, 'USAGE'))) AS strange
  FROM pg_class c JOIN pg_roles o ON o.oid = c.relowner JOIN pg_roles m ON m.rolname = current_user
  LEFT JOIN (SELECT h.oid, h.relowner FROM pg_class h JOIN pg_namespace n ON n.oid = h.relnamespace
    WHERE n.nspname = {schema} AND h.relname = {history}) AS h ON true
  JOIN pg_roles w ON w.oid = coalesce(h.relowner, c.relowner)
  WHERE c.oid = {table}::oid) AS t""")
"""Whose the history of a table is, or will be; whether that role trusts the owner of the table; whether the user may
act as it; and functions of others that run when the history is written."""
TOKENS = catalog_sql("""
SELECT DISTINCT substr(g.tgname::text, 15, 12) AS token FROM pg_trigger g
WHERE g.tgrelid = {}::oid AND substr(g.tgname::text, 1, 14) = 'rmend_capture_'""")
"""The captures of a table, by its triggers."""


@dataclass(frozen=True)
class Part:
    """A table, or a partition of it."""

    at: int
    sql: str
    kind: str
    columns: dict[str, dict[str, Any]]
    oid: int

    @classmethod
    def of(cls, at: int, row: dict[str, Any]) -> Part:
        columns = {one["name"]: one for one in json.loads(row["columns"] or "[]")}
        return cls(at, f"{name_sql(row['schema'])}.{name_sql(row['name'])}", row["kind"], columns, int(row["oid"]))

    def print_of(self, names: Sequence[str]) -> str:
        """What the columns come to as one number, as an expression: without a parameter, so that it is planned once.

        Where the table has another number, as in a restored database, it is null.
        """
        last = max(one["number"] for name, one in self.columns.items() if name in names)
        return _PRINT.format(relation=f"{self.oid}::pg_catalog.oid", last=last)


class History(NamedTuple):
    """Where changes are recorded, and with whose rights."""

    schema: str
    """As SQL writes it."""
    sql: str
    """The name, with the schema."""
    oid: int | None
    """Its number in the catalogue, if it is there."""
    owner: str
    """Whose it is, and the functions are."""
    other: bool
    """The owner is not who runs the statements."""
    refers: tuple[tuple[str, list[tuple[str, str]]], ...] = ()
    """To which tables the captured one refers, so that its rows are deleted with theirs: as SQL writes them, with the
    columns of both."""
