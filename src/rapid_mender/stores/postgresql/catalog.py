"""What is asked of PostgreSQL's catalogue, so that nobody else's function, operator or type can answer.

A role that may create in a schema on the search path can plant objects there which fit a call better than PostgreSQL's
own, and would then be run with the rights of whoever merges. So every name in our SQL that is not the user's own stands
with its schema.
"""

from __future__ import annotations

import re

_SIGNS = re.compile(r"(?<=\s)(=|<>|>=|<=|<|>|/|\+|\*|\|\||~~|&&?|@>)(?=\s)")
_CALLS = re.compile(
    r"(?<![\w.])(json_build_object|json_build_array|json_agg|format_type|unnest|lower|array_position|current_schemas?|bool_and|"
    r"array_agg|current_setting|substr|array_to_string|convert_from|pg_partition_tree|quote_ident|pg_relation_size|pg_has_role|pg_get_userbyid|pg_get_function_identity_arguments|has_\w+_privilege|sum|count|max|length)\("
)
_TABLES = re.compile(r"(?<=FROM )(pg_\w+)|(?<=JOIN )(pg_\w+)")
_TYPES = re.compile(r"::(?!pg_catalog)(\"?\w+\"?)")


def op(sign: str) -> str:
    """An operator of PostgreSQL's own."""
    return f"OPERATOR(pg_catalog.{sign})"


def literal_sql(value: str) -> str:
    """A text, in SQL that may run in somebody else's session: whatever meaning that gives the backslash."""
    quoted = value.replace("'", "''")
    return f"'{quoted}'" if "\\" not in value else "E'" + quoted.replace("\\", "\\\\") + "'"


def catalog_sql(sql: str) -> str:
    """A query of the catalogue with every operator, function, table and type of it in `pg_catalog`.

    For our own constant texts: operators stand between blanks, there is no IN, LIKE or BETWEEN.
    """
    sql = _SIGNS.sub(lambda match: op(match[1]), sql)
    sql = _TABLES.sub(lambda match: f"pg_catalog.{match[0]}", sql)
    sql = _CALLS.sub(r"pg_catalog.\1(", sql)
    return _TYPES.sub(r"::pg_catalog.\1", sql)


_QUESTION = """
SELECT json_build_object(
  'schema', n.nspname, 'name', c.relname, 'kind', c.relkind, 'here', n.nspname = current_schema(),
  'oid', c.oid, 'owner', pg_get_userbyid(c.relowner), 'rules', c.relhasrules,
  'trusted', (SELECT {trusted} FROM pg_roles w WHERE w.oid = c.relowner),
  'secured', c.relrowsecurity,
  'runs', CASE WHEN NOT (SELECT {trusted} FROM pg_roles w WHERE w.oid = c.relowner) THEN (
    SELECT json_agg(what.it) FROM (
      SELECT 'it is a view' WHERE c.relkind = 'v'
      UNION ALL SELECT 'it is a table of another server' WHERE c.relkind = 'f'
      UNION ALL SELECT 'it has row security' WHERE c.relrowsecurity
      UNION ALL SELECT 'it has parts' WHERE c.relhassubclass OR c.relkind = 'p'
      UNION ALL SELECT 'column ' || a.attname::text || ' is of a type of ' || w.rolname::text
        FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid JOIN pg_roles w ON w.oid = t.typowner
        WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped AND t.typnamespace <> 11 AND NOT ({trusted})
      UNION ALL SELECT 'column ' || a.attname::text || ' is computed'
        FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attgenerated = 'v'
      UNION ALL SELECT 'index ' || x.relname::text || ' has an expression'
        FROM pg_index i JOIN pg_class x ON x.oid = i.indexrelid
        WHERE i.indrelid = c.oid AND (i.indexprs IS NOT NULL OR i.indpred IS NOT NULL)
      UNION ALL SELECT 'statistics ' || s.stxname::text || ' may have an expression'
        FROM pg_statistic_ext s WHERE s.stxrelid = c.oid
    ) AS what (it)) END,
  'children', c.relhassubclass,
  'rights', json_build_object(
    'select', has_table_privilege(c.oid, 'SELECT') OR (SELECT bool_and(has_column_privilege(c.oid, a.attnum, 'SELECT'))
      FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped),
    'insert', has_any_column_privilege(c.oid, 'INSERT'), 'update', has_any_column_privilege(c.oid, 'UPDATE'),
    'delete', has_table_privilege(c.oid, 'DELETE')),
  'columns', (SELECT json_agg(json_build_object(
      'name', a.attname, 'number', a.attnum, 'declared', format_type(a.atttypid, a.atttypmod), 'mod', a.atttypmod,
      'not_null', a.attnotnull OR t.typnotnull, 'default', a.atthasdef, 'identity', a.attidentity,
      'generated', a.attgenerated, 'type', t.typname, 'kind', t.typtype, 'own', t.typnamespace = 11,
      'collation', a.attcollation, 'exact', coalesce(l.collisdeterministic, true), 'bytes', a.attlen,
      'base', b.typname, 'base_kind', b.typtype, 'base_mod', t.typtypmod,
      'base_declared', CASE WHEN b.oid IS NOT NULL THEN format_type(b.oid, t.typtypmod) END,
      'labels', CASE WHEN t.typtype = 'e' THEN
          (SELECT json_agg(e.enumlabel ORDER BY e.enumsortorder) FROM pg_enum e WHERE e.enumtypid = t.oid) END,
      'equals', CASE WHEN coalesce(b.typnamespace, t.typnamespace) <> 11 THEN (SELECT s.nspname
          FROM pg_opclass k JOIN pg_am h ON h.oid = k.opcmethod AND h.amname = 'btree'
          JOIN pg_amop m ON m.amopfamily = k.opcfamily AND m.amopstrategy = 3
            AND m.amoplefttype = k.opcintype AND m.amoprighttype = k.opcintype
          JOIN pg_operator o ON o.oid = m.amopopr JOIN pg_namespace s ON s.oid = o.oprnamespace
          WHERE k.opcdefault AND k.opcintype = coalesce(b.oid, t.oid)) END
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
  'triggers', CASE WHEN c.relhastriggers OR c.relhassubclass THEN (
    SELECT json_agg(json_build_object('after', (g.tgtype & 66) = 0, 'late', g.tginitdeferred))
    FROM pg_trigger g
    WHERE NOT g.tgisinternal AND g.tgenabled <> 'D' AND substr(g.tgname::text, 1, 14) <> 'rmend_capture_'
      AND (g.tgrelid = c.oid OR g.tgrelid = ANY (SELECT h.inhrelid FROM pg_inherits h WHERE h.inhparent = c.oid))) END,
  'deferred', (SELECT json_agg(DISTINCT quote_ident(s.nspname::text) || '.' || quote_ident(f.conname::text))
    FROM pg_constraint f JOIN pg_namespace s ON s.oid = f.connamespace
    WHERE f.condeferred AND f.contype = ANY ('{f,u,p,x}'::"char"[]) AND (f.conrelid = c.oid OR f.confrelid = c.oid)),
  'referenced', EXISTS (SELECT FROM pg_constraint f WHERE f.confrelid = c.oid AND f.contype = 'f'
      AND (f.confupdtype <> 'a' OR f.confdeltype <> 'a')),
  'reach', CASE WHEN EXISTS (SELECT FROM pg_constraint f WHERE f.conrelid = c.oid AND f.contype = 'f'
      AND '{c,n,d}'::"char"[] && ARRAY[f.confdeltype, f.confupdtype]) THEN (
    WITH RECURSIVE reach (at, deletes, updates, said, columns) AS (
      SELECT f.conrelid, '{c,n,d}'::"char"[] @> ARRAY[f.confdeltype], '{c,n,d}'::"char"[] @> ARRAY[f.confupdtype],
        f.conname, f.confkey
      FROM pg_constraint f WHERE f.contype = 'f' AND f.confrelid = c.oid AND f.conparentid = 0
        AND '{c,n,d}'::"char"[] && ARRAY[f.confdeltype, f.confupdtype]
      UNION
      SELECT f.conrelid, r.deletes, r.updates, r.said, r.columns
      FROM reach r JOIN pg_constraint f ON f.contype = 'f' AND f.confrelid = r.at AND f.conparentid = 0
        AND '{c,n,d}'::"char"[] && ARRAY[f.confdeltype, f.confupdtype] WHERE r.at <> c.oid)
    SELECT json_agg(json_build_object('said', r.said, 'deletes', r.deletes, 'updates', r.updates, 'columns',
      (SELECT json_agg(a.attname) FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attnum = ANY (r.columns))))
    FROM reach r WHERE r.at = c.oid) END,
  'refers', (SELECT json_agg(DISTINCT a.attname || ' refers to ' || r.relname)
    FROM pg_constraint f JOIN pg_class r ON r.oid = f.confrelid CROSS JOIN unnest(f.conkey) k(number)
    JOIN pg_attribute a ON a.attrelid = f.conrelid AND a.attnum = k.number
    WHERE f.conrelid = c.oid AND f.contype = 'f')
)::text AS found
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind = ANY ('{r,p,v,f,m}'::"char"[])
  AND {}
  AND CASE WHEN $1 IS NULL THEN n.nspname = ANY (current_schemas(false)) ELSE n.nspname = $1 END
ORDER BY array_position(current_schemas(false), n.nspname), c.relname LIMIT 1"""
_TRUSTED = """w.rolname = current_user OR w.rolsuper OR (pg_has_role(w.oid, 'USAGE')
      AND NOT (SELECT u.rolsuper FROM pg_roles u WHERE u.rolname = current_user))"""
"""Whether the user trusts a role: it is the user, a superuser, or one that the user is a member of."""
_QUESTION = _QUESTION.replace("{trusted}", _TRUSTED)
QUESTIONS = {
    "rmend_exact": catalog_sql(_QUESTION.replace("{}", "c.relname = $2")),
    "rmend_alike": catalog_sql(_QUESTION.replace("{}", "lower(c.relname::text) = lower($2)")),
}
"""Describe a table of a schema or, if that is null, of the search path; by its exact name or one in other letters."""

NAMES = catalog_sql("""
SELECT CASE WHEN n.nspname = current_schema() THEN '' ELSE n.nspname || '.' END || c.relname AS name
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind = ANY ('{r,p,v}'::"char"[]) AND NOT c.relispartition AND n.nspname <> 'information_schema'
  AND NOT (n.nspname::text ~~ 'pg\\_%') ORDER BY n.nspname <> current_schema(), 1""")
"""The names of the tables, as `TableInfo` has them."""

HIDDEN = catalog_sql("""
SELECT n.nspname::text AS schema FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE lower(c.relname::text) = lower({}) AND NOT has_schema_privilege(n.oid, 'USAGE')
ORDER BY 1 LIMIT 1""")
"""A schema that has a table of a name, but which the user may not use."""

INDEXED = catalog_sql("""
SELECT 1 AS n FROM pg_index i JOIN pg_class x ON x.oid = i.indexrelid JOIN pg_class c ON c.oid = i.indrelid
JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE n.nspname = {} AND c.relname = {} AND x.relname = {} AND i.indisvalid""")
"""Whether a table of a schema has an index of a name."""

WAITS = """
SELECT pg_catalog.concat_ws(', ', a.usename, a.application_name,
    'process ' OPERATOR(pg_catalog.||) a.pid::pg_catalog.text) AS who,
  pg_catalog.to_char(a.xact_start, 'YYYY-MM-DD HH24:MI:SS OF') AS since,
  w.wait_event OPERATOR(pg_catalog.=) 'advisory' AS turn
FROM pg_catalog.pg_stat_activity w CROSS JOIN pg_catalog.unnest(pg_catalog.pg_blocking_pids(w.pid)) AS b (pid)
JOIN pg_catalog.pg_stat_activity a ON a.pid OPERATOR(pg_catalog.=) b.pid
WHERE w.pid OPERATOR(pg_catalog.=) {} ORDER BY a.pid LIMIT 3"""
"""For whom a process waits: what they are called, since when they are at work, and whether it is a turn that is waited
for."""

WRITERS = catalog_sql("""
SELECT l.virtualtransaction::text AS number, coalesce(concat_ws(', ', a.usename::text, nullif(a.application_name, ''),
    'process ' || l.pid::text, 'since ' || to_char(a.xact_start, 'YYYY-MM-DD HH24:MI:SS OF')), '') AS who
FROM pg_locks l LEFT JOIN pg_stat_activity a ON a.pid = l.pid JOIN pg_database d ON d.oid = l.database
WHERE l.locktype = 'relation' AND l.relation = {}::oid AND d.datname = current_database()
  AND l.mode = ANY (ARRAY['RowExclusiveLock', 'ShareRowExclusiveLock', 'ExclusiveLock', 'AccessExclusiveLock'])
ORDER BY a.xact_start""")
"""The transactions that write to a table, or may: whoever inserts has such a lock until the end."""

BLOCKS = catalog_sql("""
SELECT coalesce(max(pg_relation_size(c.oid::regclass) / current_setting('block_size')::int8), 0)::int8 AS blocks,
  bool_and(c.relkind = 'p' OR c.relkind = 'r' AND m.amname = 'heap')
    AND current_setting('server_version_num')::int4 >= 140000 AS may
FROM (WITH RECURSIVE part (oid) AS (
    SELECT {}::oid UNION ALL SELECT i.inhrelid FROM part p JOIN pg_inherits i ON i.inhparent = p.oid)
  SELECT oid FROM part) AS part (oid)
JOIN pg_class c ON c.oid = part.oid LEFT JOIN pg_am m ON m.oid = c.relam""")
"""The blocks of the largest part of a table, and whether all parts can be read by spans of blocks: the rows of a
foreign table have places of their own, and servers before 14 read a whole table for each span."""

SEQUENCES = catalog_sql("""
SELECT a.attname::text AS column, q.oid::int8 AS oid, s.seqmax AS most, s.seqcache AS cache,
  has_sequence_privilege(q.oid, 'UPDATE') AS may,
  quote_ident(m.nspname::text) || '.' || quote_ident(q.relname::text) AS name
FROM pg_attribute a JOIN pg_depend d ON d.refclassid = 'pg_catalog.pg_class'::regclass
  AND (d.refobjid = a.attrelid AND d.refobjsubid = a.attnum AND d.deptype = 'i' AND a.attidentity <> '')
  OR (d.classid = 'pg_catalog.pg_attrdef'::regclass AND d.objid = (
    SELECT f.oid FROM pg_attrdef f WHERE f.adrelid = a.attrelid AND f.adnum = a.attnum))
JOIN pg_class q ON q.oid = CASE WHEN a.attidentity <> '' THEN d.objid ELSE d.refobjid END
JOIN pg_sequence s ON s.seqrelid = q.oid JOIN pg_namespace m ON m.oid = q.relnamespace
WHERE a.attrelid = {} AND s.seqincrement > 0""")
"""What counts for the columns of a table, and whether the user may set it."""
