"""Recording what other programs change in a PostgreSQL table, by a trigger for each statement.

A trigger is given all rows that a statement has changed, as they were and as they are, in one order; so these are
numbered and joined, and go into the history with one INSERT.

The functions run with the rights of their owner, who is the owner of the history, whoever writes. So every name in them
stands with its schema, types too; the search path is pinned to the system's own; texts are spelled so that no setting
of the writer's session changes what they mean; and the tables that are named are held against those that are meant
before they are touched, as the owner of a schema may put others in their place.

A merge says in a setting of its transaction that it records by itself; that holds only for those who may write to the
history.

If columns were altered since, the statement is put together anew, for the columns that are known: renamed ones are
found by their numbers, dropped ones are null, and so are those whose values no longer fit.
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

from ...core.schema import TableInfo
from ..contract import Capture
from ..contract.capture import LOST, sides_of
from ..sql.text import name_sql
from .catalog import catalog_sql, literal_sql, op

SETTING = "rmend.aside"
PINNED = "search_path=pg_catalog, pg_temp"
"""How the catalogue has the setting of a function whose names nobody else can answer."""
_PICKED = "\0picked"
"""Stands where an INSERT has the columns that are selected from the rows that changed."""
_FITTING = "\0fitting"
"""Stands where it has those that are put into the history, if these may be others."""
_IF_IT_FITS = f"CASE WHEN %1$s::%2$s::%3$s {op('=')} %1$s THEN %1$s::%2$s END"
_WITHOUT_JIT = (
    "jit := pg_catalog.current_setting('jit', true); IF jit IS NOT NULL THEN "
    "PERFORM pg_catalog.set_config('jit', 'off', true); END IF; {}; IF jit IS NOT NULL THEN "
    "PERFORM pg_catalog.set_config('jit', jit, true); END IF"
)
"""The planner takes the numbers that rows are joined by for few, so the join for huge, and would compile it."""
_LETTERS = '{} COLLATE pg_catalog."C"'
_PLAIN = {
    **dict.fromkeys(("text", "character varying"), _LETTERS), "real": "pg_catalog.float4send({})",
    "double precision": "pg_catalog.float8send({})",
    **dict.fromkeys(("smallint", "integer", "bigint", "boolean", "date", "uuid", "bytea", "numeric"), "{}"),
    **dict.fromkeys(("timestamp without time zone", "timestamp with time zone"), "{}"),
}  # fmt: skip
"""The types whose values are the same, letter for letter, if these are equal. Others are compared as they are stored,
which takes several times as long."""
MOMENT = "pg_catalog.clock_timestamp()"
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
  coalesce(ARRAY['{setting}'] <@ p.proconfig, false) AS pinned,
  (g.tgtype::int4 & 1) <> 0 AS row, (g.tgtype::int4 & 66) AS time, g.tgtype::int4 AS type
FROM pg_trigger g JOIN pg_proc p ON p.oid = g.tgfoid JOIN pg_class c ON c.oid = g.tgrelid
JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE NOT g.tgisinternal AND g.tgrelid = ANY (
  ARRAY(SELECT {0}::oid UNION SELECT p.relid::oid FROM pg_partition_tree({0}::oid::regclass) AS p))
ORDER BY c.oid <> {0}::oid, c.relname, g.tgname""").replace("{setting}", PINNED)
"""The triggers of a table and of its partitions."""
FUNCTIONS = catalog_sql("""
SELECT p.proname::text AS function, g.tgname::text AS name, n.nspname::text AS schema, c.relname::text AS relation
FROM pg_proc p JOIN pg_namespace f ON f.oid = p.pronamespace
LEFT JOIN pg_trigger g ON g.tgfoid = p.oid AND NOT g.tgisinternal AND g.tgparentid = 0
LEFT JOIN pg_class c ON c.oid = g.tgrelid LEFT JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE f.nspname = {0} AND p.pronargs = 0 AND starts_with(p.proname::text, {1}) ORDER BY 1, 2""")
"""The functions of a schema whose names begin with a text, and the triggers that call them."""
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


class CaptureSQL:
    """The functions and triggers of one capture."""

    def __init__(self, info: TableInfo, history: History, parts: Sequence[Part], capture: Capture) -> None:
        self.info, self.home, self.parts, self.capture = info, history, parts, capture
        self.schema, self.history = history.schema, history.sql
        taken = {name.lower() for part in parts for name in part.columns}
        self.number = next(name for at in range(len(taken) + 1) if (name := f"rmend_n{at or ''}") not in taken)

    def statements(self, prints: Sequence[int]) -> list[str]:
        """What creates them. `prints`: what the columns of each part come to."""
        made = list[str]()
        for part, known in zip(self.parts, prints, strict=True):
            for action in self.capture.actions:
                made += self._action(part, action, known)
            made += [*self._truncating(part, known), *self._guarding(part)]
        return made

    def numbering(self) -> str:
        """What has the database number changes, after those that there are."""
        column = "change_no"
        at = f"pg_catalog.pg_get_serial_sequence({literal_sql(self.history)}, '{column}')"
        last = f"(SELECT pg_catalog.max({column}) FROM {self.history})"
        add = f"ALTER TABLE {self.history} ALTER COLUMN {column} ADD GENERATED BY DEFAULT AS IDENTITY"
        set_to = (
            f"PERFORM pg_catalog.setval({at}, GREATEST(coalesce({last}, 0), {self.capture.after}) "
            f"OPERATOR(pg_catalog.+) 1, false);"
        )
        body = f"BEGIN IF {at} IS NULL THEN {add}; END IF; {set_to} END"
        return f"DO {_dollars(body)}"

    # -- what is recorded -----------------------------------------------------------------------------------

    def _action(self, part: Part, action: str, known: int) -> list[str]:
        body = self._either(part, known, action)
        passed = " ".join(f"{side.upper()} TABLE AS rmend_{side}" for side in sides_of(action))
        events = f"AFTER {action.upper()} ON {part.sql} REFERENCING {passed} FOR EACH STATEMENT"
        return self._trigger(part, action, events, body)

    def _unless_aside(self) -> str:
        return (
            f"NOT (coalesce(pg_catalog.current_setting('{SETTING}', true), '') {op('=')} '{self.capture.token}' "
            f"AND pg_catalog.has_table_privilege(session_user, {literal_sql(self.history)}, 'INSERT'))"
        )

    def _rows(self, side: str, numbered: bool, apart: bool, source: str) -> str:
        """The rows of one side, with the columns under the names by which they are known."""
        names = [self.number, *self.capture.known]
        if apart:
            names += [f"{self.number}{at}" for at in range(len(self.capture.known))]
        number = "pg_catalog.row_number() OVER ()" if numbered else "1"
        picked = f"{number}, {_PICKED}{f', {_FITTING}' if apart else ''}"
        return f"(SELECT {picked} FROM {source or f'rmend_{side}'}) AS {side} ({', '.join(map(name_sql, names))})"

    def _insert(self, action: str, single: bool = False, apart: bool = False, source: str = "") -> str:
        """The INSERT into the history; `_PICKED` stands for the columns to select from the rows that changed.

        `single`: for a row alone. `apart`: `_FITTING` stands for what is put into the history of each column. `source`:
        a table in place of the rows that changed.
        """
        capture = self.capture
        sides = sides_of(action)
        numbered = len(sides) > 1 and not single
        joint = " FULL JOIN " if numbered else ", "
        rows = joint.join(self._rows(side, numbered, apart, source) for side in sides)
        user = "session_user::pg_catalog.text"
        program = "pg_catalog.current_setting('application_name')"
        said = f"CASE WHEN {program} {op('<>')} '' THEN {program} END"
        names = ["action", "changed_at", "actor", "application"]
        values = [literal_sql(action), MOMENT, _user(capture.actor, user), _user(capture.application, said)]
        tests = []
        if action == "update":
            names.append("changed")
            differ = {name: self._differs(name, apart) for name in capture.watched}
            values.append(_changed(differ))
            tests.append(f"({' OR '.join(differ.values())})")
        lost, places = [], {name: at for at, name in enumerate(capture.known)}
        for stored, side, name in capture.sides(action):
            names.append(name_sql(stored))
            fits = f"{side}.{name_sql(f'{self.number}{places[name]}' if apart else name)}"
            values.append(fits)
            lost.append(f"{side}.{name_sql(name)} IS NOT NULL AND {fits} IS NULL")
        if apart:
            names.append("reason")
            values.append(f"CASE WHEN {' OR '.join(lost)} THEN {literal_sql(LOST)} END")
        if (told := capture.condition(action)) is not None:
            tests.append(f"({told}\n)")
        number = name_sql(self.number)
        on = f" ON old.{number} {op('=')} new.{number}" if numbered else ""
        where = f" WHERE {' AND '.join(tests)}" if tests else ""
        order = f" ORDER BY old.{number}" if numbered else ""
        picked = f"SELECT {', '.join(values)} FROM {rows}{on}{where}{order}"
        return f"INSERT INTO {self.history} ({', '.join(names)}) {picked}"

    def _differs(self, name: str, apart: bool) -> str:
        """Whether a column has changed, letter for letter. What has become of its type since nobody knows (`apart`)."""
        kind = self.parts[0].columns[name]["type"].partition("(")[0].removeprefix("pg_catalog.")
        old, new = (f"{side}.{name_sql(name)}" for side in ("old", "new"))
        either = f"({old} IS NOT NULL OR {new} IS NOT NULL)"
        if apart or kind not in _PLAIN:
            return f"ROW({old})::pg_catalog.record {op('*<>')} ROW({new})::pg_catalog.record"
        before, after = (_PLAIN[kind].format(one) for one in (old, new))
        return f"({before} {op('<>')} {after}) IS NOT FALSE AND {either}"

    def _either(self, part: Part, known: int, action: str, source: str = "") -> str:
        """What a function does: the INSERT as it is; for a single row without numbering it; or put together anew."""
        here = ", ".join(map(name_sql, self.capture.known))
        same = f"coalesce({part.print_of(list(self.capture.known))}, 0) {op('=')} {known}"
        several = "EXISTS (SELECT FROM rmend_new OFFSET 1)" if action == "update" else "true"
        text = f"the history of {self.info.name} belongs to another role than its triggers: refresh the capture"
        body = f"LOCK TABLE ONLY {self.history} IN ROW EXCLUSIVE MODE; how := CASE "  # it stays the one that is named
        body += f"WHEN NOT {self._is_ours()} THEN -1 WHEN NOT {same} THEN 0 WHEN {several} THEN 2 ELSE 1 END; "
        many = self._insert(action, source=source).replace(_PICKED, here)
        body += f"IF how {op('=')} 2 THEN {many if action != 'update' else _WITHOUT_JIT.replace('{}', many)}; "
        if action == "update":
            body += f"ELSIF how {op('=')} 1 THEN {self._insert(action, single=True).replace(_PICKED, here)}; "
        body += f"ELSIF how {op('=')} 0 THEN {self._anew(part, self._insert(action, apart=True, source=source))} "
        body += f"ELSE RAISE EXCEPTION USING MESSAGE = {literal_sql(text)}; END IF; "
        body = f"IF {self._unless_aside()} THEN {self._named(part) if source else ''}{body}END IF; RETURN NULL; "
        texts = " ".join(f"{name} pg_catalog.text;" for name in ("picked", "fitting", "careful", "jit"))
        return f"DECLARE how pg_catalog.int4; {texts} BEGIN {body}END"

    def _is_ours(self) -> str:
        """Whether the history that is named is that of the functions' owner, as an expression.

        Its number in the catalogue costs nothing to look at; where it is another, as in a restored database, its owner
        says whether it is ours.
        """
        at = f"{literal_sql(self.history)}::pg_catalog.regclass"
        mine = f"(SELECT pg_catalog.pg_get_userbyid(h.relowner) {op('=')} current_user FROM pg_catalog.pg_class AS h "
        mine += f"WHERE h.oid {op('=')} {at})"
        return mine if self.home.oid is None else f"({at}::pg_catalog.oid {op('=')} {self.home.oid} OR {mine})"

    def _named(self, part: Part) -> str:
        """Stop if the name of the table is another's by now."""
        text = f"table {self.info.name} has another name by now: refresh its capture"
        return (
            f"IF TG_RELID {op('<>')} {literal_sql(part.sql)}::pg_catalog.regclass::pg_catalog.oid THEN "
            f"RAISE EXCEPTION USING MESSAGE = {literal_sql(text)}; END IF; "
        )

    def _anew(self, part: Part, sql: str) -> str:
        """The same with the columns that there are now, and what of them fits into the history."""
        rows = []
        for at, one in enumerate(part.columns[name] for name in self.capture.known):
            number, kind = f"{one['number']}::pg_catalog.int2", f"{one['id']}::pg_catalog.oid"
            rows.append(f"({at}, {number}, {literal_sql(one['type'])}, {kind}, {one['mod']})")
        none = "pg_catalog.concat('NULL::', k.type)"
        name = "pg_catalog.quote_ident(a.attname::pg_catalog.text)"
        same = f"a.atttypid {op('=')} k.id AND a.atttypmod {op('=')} k.mod"
        picked = f"CASE WHEN a.attname IS NULL THEN {none} ELSE {name} END"
        now = "pg_catalog.format_type(a.atttypid, a.atttypmod)"
        back = f"pg_catalog.format({literal_sql(_IF_IT_FITS)}, {name}, k.type, {now})"
        fitting = f"CASE WHEN a.attname IS NULL THEN {none} WHEN {same} THEN {name} ELSE {back} END"
        careful = f"CASE WHEN {same} THEN {name} ELSE {none} END"
        lists = ", ".join(f"pg_catalog.string_agg({one}, ', ' ORDER BY k.n)" for one in (picked, fitting, careful))
        return (
            f"SELECT {lists} INTO picked, fitting, careful "
            f"FROM (VALUES {', '.join(rows)}) AS k (n, number, type, id, mod) LEFT JOIN pg_catalog.pg_attribute AS a "
            f"ON a.attrelid {op('=')} TG_RELID AND a.attnum {op('=')} k.number AND NOT a.attisdropped; "
            f"BEGIN EXECUTE pg_catalog.format({_format(sql)}, picked, fitting); "
            "EXCEPTION WHEN OTHERS THEN "  # a cast may be anybody's, and raise anything
            f"EXECUTE pg_catalog.format({_format(sql)}, picked, careful); END;"
        )

    # -- truncating and guarding ----------------------------------------------------------------------------

    def _truncating(self, part: Part, known: int) -> list[str]:
        capture = self.capture
        if part.kind == "p" or part.kind == "f":
            return []
        events = f"BEFORE TRUNCATE ON {part.sql} FOR EACH STATEMENT"
        if capture.truncate == "refuse" or capture.deletes != "record":
            refused = f"table {self.info.name} is captured and may not be truncated; delete its rows"
            text = literal_sql(refused if capture.truncate == "refuse" else capture.says)
            return self._trigger(part, "truncate", events, f"BEGIN RAISE EXCEPTION USING MESSAGE = {text}; END")
        if "delete" not in capture.actions:
            return []
        return self._trigger(part, "truncate", events, self._either(part, known, "delete", f"ONLY {part.sql}"))

    def _guarding(self, part: Part) -> list[str]:
        capture = self.capture
        if capture.deletes == "refuse":
            events = f"AFTER DELETE ON {part.sql} REFERENCING OLD TABLE AS rmend_old FOR EACH STATEMENT"
            raising = f"RAISE EXCEPTION USING MESSAGE = {literal_sql(capture.says)}"
            body = f"BEGIN IF EXISTS (SELECT FROM rmend_old) THEN {raising}; END IF; RETURN NULL; END"
            return self._trigger(part, "guard", events, body)
        if capture.deletes != "mark" or part.kind == "p":
            return []
        merge = literal_sql(f'rows of {self.info.name} are marked, not deleted: set delete = "mark" in the job')
        sets = ", ".join(f"{name_sql(name)} = {sql}" for name, sql in capture.mark.items())
        body = (
            f"BEGIN {self._named(part)}IF NOT ({self._unless_aside()}) THEN "
            f"RAISE EXCEPTION USING MESSAGE = {merge}; END IF; "
            f"UPDATE ONLY {part.sql} SET {sets} WHERE ctid {op('=')} OLD.ctid; RETURN NULL; END"
        )
        return self._trigger(part, "guard", f"BEFORE DELETE ON {part.sql} FOR EACH ROW", body)

    # -- how it is spelled ----------------------------------------------------------------------------------

    def _trigger(self, part: Part, what: str, events: str, body: str) -> list[str]:
        name = name_sql(self.capture.trigger(what, part.at if len(self.parts) > 1 else None))
        function = f"{self.schema}.{name}"
        settings = "SET search_path = pg_catalog, pg_temp"
        if "\\" in body:  # of a user's own SQL: a session may give the backslash a meaning
            settings += " SET standard_conforming_strings = on"
        return [
            f"CREATE FUNCTION {function}() RETURNS pg_catalog.trigger LANGUAGE plpgsql SECURITY DEFINER {settings} AS "
            f"{_dollars('#variable_conflict use_column' + chr(10) + body)}",
            f"REVOKE ALL ON FUNCTION {function}() FROM PUBLIC",
            *([f"ALTER FUNCTION {function}() OWNER TO {name_sql(self.home.owner)}"] if self.home.other else []),
            f"CREATE TRIGGER {name} {events} EXECUTE FUNCTION {function}()",
        ]


def _changed(differ: Mapping[str, str]) -> str:
    """The columns that have changed, as a JSON array."""
    labels = {name: literal_sql(json.dumps(name, ensure_ascii=False)) for name in differ}
    parts = [f"CASE WHEN {test} THEN {labels[name]} END" for name, test in differ.items()]
    groups = [parts[at : at + 90] for at in range(0, len(parts), 90)]  # a call has at most 100 arguments
    joined = [f"pg_catalog.concat_ws(', ', {', '.join(group)})" for group in groups]
    if len(joined) > 1:
        joined = [f"pg_catalog.concat_ws(', ', {', '.join(_or_null(one) for one in joined)})"]
    return f"pg_catalog.concat('[', {joined[0]}, ']')"


def _user(own: str | None, default: str) -> str:
    return f"({own}\n)::pg_catalog.text" if own is not None else default


def _format(sql: str) -> str:
    """The same as a format for the two lists of columns."""
    return literal_sql(sql.replace("%", "%%").replace(_PICKED, "%1$s").replace(_FITTING, "%2$s"))


def _or_null(text: str) -> str:
    return f"CASE WHEN {text} {op('<>')} '' THEN {text} END"


def _dollars(body: str) -> str:
    """A body of code in quotes that it does not have."""
    tag = next(tag for at in range(1000) if (tag := f"$rmend{at or ''}$") not in body)
    return f"{tag}{body}{tag}"
