"""Changes of a PostgreSQL table that are recorded in another order than they were made in, put right.

What a statement has changed is recorded when it ends. So what was written meanwhile, by somebody's trigger, by a
function that the statement calls, or by another part of the same statement, is recorded before it. A statement notes
when it begins, in a setting of the transaction that has a letter for each statement under way; one that records
something notes after these how far the history went before. A statement that finds such a note when it ends has the
changes since then put in order, after it has recorded its own.

The changes of a key follow from each other: each takes the row that the one before put, and the last one puts what the
table has, if anything. Where they do not as they were recorded, they are put together so that they do: the statement's
own in their order, the others in theirs. They get new numbers; they were recorded in this transaction, so nobody has
read them yet. As anybody may alter settings, nothing is done where they do follow as they were recorded.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from ...core.schema import TableInfo
from ..contract import Capture
from ..sql.text import name_sql
from .catalog import literal_sql, op
from .parts import Part

_EXACT = frozenset((
    "smallint", "integer", "bigint", "numeric", "text", "character varying", "character", "uuid", "date", "boolean",
    "bytea", "timestamp without time zone", "timestamp with time zone",
))  # fmt: skip
"""The types of which equal values are found by PostgreSQL's own operator; those of others, by their texts."""
_TOUCHES = """
w AS MATERIALIZED (
  SELECT h.* FROM (SELECT h.*, ((h.xmin::text::int8 - (top % 4294967296)) + 4294967296) % 4294967296 AS {ago}
    FROM {history} AS h WHERE h.change_no > since AND h.batch_no IS NULL) AS h
  WHERE CASE WHEN h.{ago} < 2147483648 THEN pg_xact_status((top + h.{ago})::text::xid8) = 'in progress' ELSE false END
), t AS MATERIALIZED (
  SELECT h.change_no AS n, h.change_no > before AS mine, true AS takes, {was} AS was,
    CASE WHEN {stays} THEN {becomes} END AS becomes, {old} FROM w AS h WHERE h.action <> 'insert'
  UNION ALL SELECT h.change_no, h.change_no > before, false, NULL, {becomes}, {new} FROM w AS h
  WHERE h.action = 'insert' OR (h.action = 'update' AND NOT ({stays}))
)"""
"""What this transaction has recorded since the statement began (what it sees, and is not over, is its own); and from
which keys each of these changes takes a row, as it was, and to which it puts one."""
_ORDERING = """
DECLARE k record; moved int8[]; behind int8[]; more int8[]; still int8[]; whole bool; good bool[];
  i int4; j int4; p int4; q int4; has text; mine bool; stands text; lookup text; knows bool := true;
  top int8 := pg_current_xact_id()::text::int8;
BEGIN
  IF NOT EXISTS (WITH t AS (
      SELECT h.change_no > before AS mine, {old} FROM {history} AS h
      WHERE h.change_no > since AND h.batch_no IS NULL AND h.action <> 'insert'
      UNION ALL SELECT h.change_no > before, {new} FROM {history} AS h
      WHERE h.change_no > since AND h.batch_no IS NULL AND h.action <> 'delete')
    SELECT FROM t GROUP BY {keys} HAVING bool_or(mine) AND bool_or(NOT mine))
  THEN RETURN; END IF;
  BEGIN
    PERFORM {stands} FROM {table} AS r LIMIT 0;
  EXCEPTION WHEN undefined_column THEN -- it is gone, or has another name by now
    knows := false;
    SELECT concat('SELECT ROW(', string_agg(coalesce('r.' || quote_ident(a.attname), 'NULL'), ', ' ORDER BY c.n),
      ')::text FROM {at} AS r WHERE ', string_agg(format(c.key, quote_ident(a.attname)), ' AND '))
    INTO lookup FROM (VALUES {columns}) AS c (n, number, name, key) LEFT JOIN pg_attribute AS a
    ON a.attrelid = '{at}'::regclass AND NOT a.attisdropped
      AND CASE WHEN a.attrelid = {oid} THEN a.attnum = c.number ELSE a.attname = c.name END;
  END;
  FOR k IN WITH {touches}, c AS (
      SELECT t.*, lag(n) OVER one AS prior, lag(becomes) OVER one AS been
      FROM t WINDOW one AS (PARTITION BY {keys} ORDER BY n)
    ), a AS (
      SELECT {keys}, array_agg(n ORDER BY n) FILTER (WHERE mine) AS n, array_agg(takes ORDER BY n) FILTER (WHERE mine)
          AS takes, array_agg(was ORDER BY n) FILTER (WHERE mine) AS was,
        array_agg(becomes ORDER BY n) FILTER (WHERE mine) AS becomes,
        array_agg(n ORDER BY n) FILTER (WHERE NOT mine) AS other_n, array_agg(takes ORDER BY n) FILTER (WHERE NOT mine)
          AS other_takes, array_agg(was ORDER BY n) FILTER (WHERE NOT mine) AS other_was,
        array_agg(becomes ORDER BY n) FILTER (WHERE NOT mine) AS other_becomes,
        bool_or(prior IS NOT NULL AND (takes <> (been IS NOT NULL) OR (takes AND been <> was))) AS broken,
        (array_agg(becomes ORDER BY n DESC))[1] AS last
      FROM c GROUP BY {keys} HAVING bool_or(mine) AND bool_or(NOT mine)
    )
    SELECT * FROM a
  LOOP
    IF knows THEN stands := (SELECT {stands} FROM {table} AS r WHERE {found});
    ELSE EXECUTE lookup INTO stands USING {key}; END IF;
    p := cardinality(k.n); q := cardinality(k.other_n);
    CONTINUE WHEN (NOT k.broken AND k.last IS NOT DISTINCT FROM stands) OR p::int8 * q > 10000000;
    good := array_fill(false, ARRAY[((p + 1) * (q + 1)) * 2]);
    FOR i IN REVERSE p..0 LOOP FOR j IN REVERSE q..0 LOOP FOREACH mine IN ARRAY ARRAY[true, false] LOOP
      CONTINUE WHEN (mine AND i = 0) OR (NOT mine AND j = 0);
      has := CASE WHEN mine THEN k.becomes[i] ELSE k.other_becomes[j] END;
      good[(i * (q + 1) + j) * 2 + CASE WHEN mine THEN 1 ELSE 2 END] := CASE
        WHEN i = p AND j = q THEN has IS NOT DISTINCT FROM stands ELSE coalesce(
          j < q AND k.other_was[j + 1] IS NOT DISTINCT FROM has AND good[(i * (q + 1) + j + 1) * 2 + 2], false)
          OR coalesce(i < p AND k.was[i + 1] IS NOT DISTINCT FROM has AND good[((i + 1) * (q + 1) + j) * 2 + 1], false)
        END;
    END LOOP; END LOOP; END LOOP;
    CONTINUE WHEN NOT good[2 * 1 + 2] AND NOT good[(q + 1) * 2 + 1];
    i := 0; j := 0;
    WHILE i < p OR j < q LOOP
      mine := NOT (j < q AND good[(i * (q + 1) + j + 1) * 2 + 2]
        AND ((i = 0 AND j = 0) OR k.other_was[j + 1] IS NOT DISTINCT FROM has));
      IF mine THEN i := i + 1; has := k.becomes[i]; ELSE j := j + 1; has := k.other_becomes[j];
        IF i > 0 THEN moved := moved || k.other_n[j]; behind := behind || k.n[i]; END IF;
      END IF;
    END LOOP;
  END LOOP;
  IF moved IS NULL THEN RETURN; END IF;
  LOOP
    WITH {touches}, f AS (
      SELECT b.n, max(coalesce(f.after, 0)) OVER (PARTITION BY {of_b} ORDER BY b.n) AS after
      FROM t AS b LEFT JOIN unnest(moved, behind) AS f (n, after) ON f.n = b.n WHERE NOT b.mine
    ), g AS (SELECT n, max(after) AS after FROM f GROUP BY n HAVING max(after) > 0)
    SELECT array_agg(n ORDER BY n), array_agg(after ORDER BY n) INTO more, still FROM g;
    EXIT WHEN more = moved AND still = behind;
    moved := more; behind := still;
  END LOOP;
  WITH {touches} SELECT EXISTS (SELECT FROM t AS b JOIN unnest(moved, behind) AS f (n, after) ON f.n = b.n
    JOIN t AS a ON {on} WHERE a.mine AND a.n > f.after) INTO whole;
  WITH {touches}, o AS (
    SELECT h.change_no AS n, h.change_no > before AS mine, f.after
    FROM w AS h LEFT JOIN unnest(moved, behind) AS f (n, after) ON f.n = h.change_no
    WHERE f.n IS NOT NULL OR (whole AND h.change_no > before)
  ), m AS (
    SELECT n, nextval({sequence}) AS m
    FROM (SELECT n FROM o ORDER BY CASE WHEN mine THEN n ELSE after END, NOT mine, n) AS n
  )
  UPDATE {history} AS h SET change_no = m.m, changed_at = clock_timestamp() FROM m
  WHERE h.change_no = m.n AND h.change_no > since;
EXCEPTION WHEN OTHERS THEN RETURN; -- no writer is to fail for it
END"""
"""Where the changes of a key do not follow from each other as they were recorded, or do not end with what the table
has, those of the statement and the others are put together as they do: from each step (how many of the statement, how
many others, and which came last) it is known whether the rest can follow. Then changes of several keys are held
together."""


def setting(capture: Capture) -> str:
    """The setting that has the statements under way."""
    return f"rmend.o{capture.token}"


def opening(capture: Capture) -> str:
    """What is done before a statement."""
    name = literal_sql(setting(capture))
    under_way = f"pg_catalog.concat(pg_catalog.current_setting({name}, true), pg_catalog.left(TG_OP, 1))"
    assign = f"said := pg_catalog.set_config({name}, {under_way}, true)"  # which is faster than PERFORM
    return f"DECLARE said pg_catalog.text; BEGIN {assign}; RETURN NULL; END"


DECLARED = "was pg_catalog.text; rest pg_catalog.text; done pg_catalog.int8; at pg_catalog.int4; "
"""The variables of a trigger for `ending` and `recorded`."""
DECLARED += "since pg_catalog.int8; before pg_catalog.int8; "


def ending(capture: Capture) -> str:
    """What is done after a statement: `since` becomes the last change before what was recorded since it began, null if
    there is none; `rest` the statements that are still under way."""
    name, letter = literal_sql(setting(capture)), "pg_catalog.left(TG_OP, 1)"
    mark = literal_sql(r"!(\d{1,18});")
    return (
        f"was := coalesce(pg_catalog.current_setting({name}, true), ''); since := NULL; "
        f"IF pg_catalog.right(was, 1) {op('=')} {letter} THEN rest := pg_catalog.left(was, -1); ELSE "
        f"at := pg_catalog.strpos(pg_catalog.reverse(was), {letter}); "
        f"rest := pg_catalog.right(was, GREATEST(at {op('-')} 1, 0)); "
        f"since := CASE WHEN at {op('>')} 0 THEN pg_catalog.substring(rest, {mark})::pg_catalog.int8 END; "
        f"rest := pg_catalog.concat(pg_catalog.left(was, pg_catalog.length(was) {op('-')} at), rest); END IF; "
        f"IF rest {op('<>')} '' AND rest {op('!~')} '[A-Z]' THEN rest := ''; END IF; "
        f"was := pg_catalog.set_config({name}, rest, true); "
    )


def recording(history: str) -> str:
    """What is done before a statement records changes: `before` becomes the last one then."""
    return (
        f"IF rest {op('<>')} '' OR since IS NOT NULL THEN "
        f"before := pg_catalog.pg_sequence_last_value({sequence(history)}); END IF; "
    )


def recorded(capture: Capture, order: str) -> str:
    """What is done when a statement has recorded so many changes (`done`). `order`: the function that puts them in
    order."""
    name = literal_sql(setting(capture))
    noted = "pg_catalog.concat(rest, '!', coalesce(before, 0), ';')"
    return (
        f"IF done {op('>')} 0 THEN IF rest {op('<>')} '' AND rest {op('~')} '[A-Z]$' THEN "
        f"was := pg_catalog.set_config({name}, {noted}, true); END IF; "
        f"IF since IS NOT NULL THEN PERFORM {order}(since, before); END IF; END IF; "
    )


def sequence(history: str) -> str:
    """What numbers the changes of a history, in SQL."""
    return f"pg_catalog.pg_get_serial_sequence({literal_sql(history)}, 'change_no')::pg_catalog.regclass"


def ordering(info: TableInfo, part: Part, history: str, capture: Capture) -> str:
    """The body of the function that puts changes in order: those after `since`, of which those after `before` are of
    the statement that has ended."""
    table, types = part.sql, [part.columns[name]["type"] for name in info.identifying]
    exact = [kind.partition("(")[0].removeprefix("pg_catalog.") in _EXACT for kind in types]

    def key(columns: Sequence[str]) -> list[str]:
        return [one if same else whole([one]) for one, same in zip(columns, exact, strict=True)]

    def stored(side: str, names: Iterable[str]) -> list[str]:
        return [f"h.{name_sql(capture.names[f'{side}_{name}'])}" for name in names]

    def listed(columns: Sequence[str]) -> str:
        return ", ".join(f"{one} AS k{at}" for at, one in enumerate(columns))

    def whole(columns: Iterable[str]) -> str:
        return f"ROW({', '.join(columns)})::text"  # by what types print: a cast of their own might be anybody's

    old, new = (key(stored(side, info.identifying)) for side in ("old", "new"))
    names = [f"k{at}" for at in range(len(old))]
    touches = _TOUCHES.format(
        was=whole(stored("old", capture.known)), becomes=whole(stored("new", capture.known)), history=history,
        old=listed(old), new=listed(new), ago=name_sql("rmend ago"),
        stays=f"h.action = 'update' AND {' AND '.join(f'{a} = {b}' for a, b in zip(old, new, strict=True))}",
    )  # fmt: skip
    row = key([f"r.{name_sql(name)}" for name in info.identifying])
    tests = dict(zip(info.identifying, key(["r.%s"] * len(row)), strict=True))
    places = {name: at for at, name in enumerate(info.identifying, 1)}
    columns = [
        f"({at}, {part.columns[name]['number']}, {literal_sql(name)}, "
        f"{literal_sql(f'{tests[name]} = ${places[name]}') if name in tests else 'NULL'})"
        for at, name in enumerate(capture.known)
    ]
    return _ORDERING.format(
        touches=touches, keys=", ".join(names), of_b=", ".join(f"b.{name}" for name in names), history=history,
        on=" AND ".join(f"a.{name} = b.{name}" for name in names), sequence=sequence(history), table=table,
        found=" AND ".join(f"{one} = k.{name}" for one, name in zip(row, names, strict=True)),
        columns=", ".join(columns), at=table.replace("'", "''"), oid=part.oid,
        key=", ".join(f"k.{name}" for name in names), old=listed(old), new=listed(new),
        stands=whole(f"r.{name_sql(name)}" for name in capture.known),
    )  # fmt: skip
