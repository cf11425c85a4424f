"""Recording what other programs change in a SQLite table, by row triggers.

A trigger of SQLite sees neither who writes nor a temporary table. So a merge notes in a table of the file that it
records by itself, and takes the note away before it commits: nobody else can write meanwhile.

Nor does SQLite run a trigger for a row that REPLACE removes. So the rows that may go are put by before it, and are
recorded after it if they are gone. They are not if anything was recorded in between: then they went otherwise.
"""

from __future__ import annotations

import json
from collections.abc import Sequence

from ...core.schema import TableInfo
from ..contract import Capture, Trigger
from ..sql.text import name_sql, text_sql
from .link import Link
from .unique import Unique

ASIDE = "rmend_aside"
MOMENT = "strftime('%Y-%m-%d %H:%M:%f000Z', 'now')"


class CaptureSQL:
    """The triggers of one capture."""

    def __init__(
        self, info: TableInfo, finders: Sequence[str], unique: Sequence[Unique], references: Sequence[str],
        capture: Capture,
    ) -> None:  # fmt: skip
        """`references`: tests whether the row OLD refers to a row that is not there any more."""
        self.info, self.capture, self.references = info, capture, references
        self.table, self.history = name_sql(info.name), name_sql(capture.history)
        self.finders = [name_sql(name) for name in finders]
        self.replaced = name_sql(f"rmend_replaced_{capture.token}")
        by_number = [Unique(f"t.{name_sql(one)} = NEW.{name_sql(one)}", (one,)) for one in finders if one not in info]
        self.unique = [*by_number, *unique]
        self.moves = list(dict.fromkeys(name for one in self.unique for name in one.columns))
        """The columns by which a row that is updated may come where another stands."""

    def statements(self) -> list[str]:
        """What creates them."""
        capture = self.capture
        made = [f"CREATE TABLE IF NOT EXISTS {ASIDE} (table_name TEXT PRIMARY KEY) WITHOUT ROWID"]
        finders = [f"f{at}" for at in range(len(self.finders))]
        listed = ", ".join([*finders, *(f"c{at}" for at in range(len(capture.known)))])
        put_by = bool(self.unique) and ("delete" in capture.actions or capture.deletes != "record")
        if put_by:
            made.append(f"CREATE TABLE {self.replaced} (change_no, {listed})")
            made += self._putting_by()
        gone = self._recording_replaced() if put_by else ""
        if "insert" in capture.actions or gone:
            record = self._record("insert") if "insert" in capture.actions else ""
            there = f"EXISTS (SELECT 1 FROM {self.replaced})"
            when = f"NOT {there} AND {self._unless_aside()}" if gone else self._unless_aside()
            made += [self._trigger("insert", "AFTER INSERT", when, record)] if record else []
            if gone:
                when = f"{there} AND {self._unless_aside()}"
                made.append(self._trigger("replace", "AFTER INSERT", when, gone + record))
        if "update" in capture.actions or gone:
            made += self._updating(gone)
        if "delete" in capture.actions:
            made.append(self._trigger("delete", "AFTER DELETE", self._unless_aside(), self._record("delete")))
        if capture.deletes != "record":
            made.append(self._trigger("guard", "BEFORE DELETE", "", self._guarding()))
        return made

    def _trigger(self, what: str, event: str, when: str, body: str) -> str:
        name = name_sql(self.capture.trigger(what))
        return f"CREATE TRIGGER {name} {event} ON {self.table}{f' WHEN {when}' if when else ''} BEGIN {body} END"

    def _aside(self) -> str:
        return f"EXISTS (SELECT 1 FROM {ASIDE} WHERE table_name = {text_sql(self.info.name)})"

    def _unless_aside(self) -> str:
        return f"NOT {self._aside()}"

    def _record(self, action: str, rows: str = "") -> str:
        """The INSERT into the history; `rows`: FROM a relation in place of the row of the trigger."""
        capture = self.capture
        names = ["action", "changed_at", "actor", "application"]
        who = [f"({one})" if one else "NULL" for one in (capture.actor, capture.application)]
        values = [text_sql(action), MOMENT, *who]
        if capture.after:  # what was removed of the history had higher numbers than what it has
            names.append("change_no")
            turn = "row_number() OVER ()" if rows else "1"  # a number that is taken would be replaced, by REPLACE
            values.append(f"max(coalesce({self._newest()}, 0), {capture.after}) + {turn}")
        if action == "update":
            names.append("changed")
            values.append(f"'[' || substr({self._changed()}, 3) || ']'")
        for stored, side, name in capture.sides(action):
            names.append(name_sql(stored))
            values.append(f"{side}.{name_sql(name)}")
        told = capture.condition(action)
        where = f" WHERE ({told}\n)" if told is not None else ""
        return f"INSERT INTO {self.history} ({', '.join(names)}) SELECT {', '.join(values)}{rows}{where}; "

    def _changed(self) -> str:
        parts = []
        for name in self.capture.watched:
            label = text_sql(f", {json.dumps(name, ensure_ascii=False)}")
            parts.append(f"CASE WHEN {_differs(name)} THEN {label} ELSE '' END")
        return _balanced(parts, "||")

    def _updating(self, gone: str) -> list[str]:
        capture, made = self.capture, list[str]()
        differs = f"({_balanced([_differs(name) for name in capture.watched], 'OR')})"
        record = self._record("update") if "update" in capture.actions else ""
        if not gone or not self.moves:
            when = f"{differs} AND {self._unless_aside()}"
            return [self._trigger("update", "AFTER UPDATE", when, record)] if record else []
        moved = f"({_balanced([_differs(name) for name in self.moves], 'OR')})"
        if record:
            when = f"NOT {moved} AND {differs} AND {self._unless_aside()}"
            made.append(self._trigger("update", "AFTER UPDATE", when, record))
            record = record.rstrip("; ") + f"{' AND' if ' WHERE (' in record else ' WHERE'} {differs}; "
        when = f"{moved} AND {self._unless_aside()}"
        made.append(self._trigger("move", f"AFTER UPDATE{self._of_moves()}", when, gone + record))
        return made

    def _of_moves(self) -> str:
        """Which columns an update has to set for a row to move: SQLite goes by the names that the statement has, and is
        spared a trigger. A column that is computed depends on any other."""
        if any(name in self.info and self.info[name].generated for name in self.moves):
            return ""
        return f" OF {', '.join(map(name_sql, dict.fromkeys([*self.moves, 'rowid', 'oid', '_rowid_'])))}"

    # -- rows that REPLACE removes --------------------------------------------------------------------------

    def _putting_by(self) -> list[str]:
        """Triggers that keep the rows which stand where a row is to be put."""
        there = [f"({one.there})" for one in self.unique]
        columns = ", ".join(f"t.{name}" for name in [*self.finders, *map(name_sql, self.capture.known)])

        def put_by(where: str) -> str:
            return (
                f"DELETE FROM {self.replaced}; INSERT INTO {self.replaced} "
                f"SELECT {self._newest()}, {columns} FROM {self.table} AS t WHERE {where}; "
            )

        exists = " OR ".join(f"EXISTS (SELECT 1 FROM {self.table} AS t WHERE {one})" for one in there)
        exists = f"(EXISTS (SELECT 1 FROM {self.replaced}) OR {exists}) AND {self._unless_aside()}"
        made = [self._trigger("before_insert", "BEFORE INSERT", exists, put_by(" OR ".join(there)))]
        if self.moves:
            itself = " AND ".join(f"t.{name} IS OLD.{name}" for name in self.finders)
            tests = [
                f"(({_balanced([_differs(name) for name in one.columns], 'OR')}) AND EXISTS "
                f"(SELECT 1 FROM {self.table} AS t WHERE {one.there} AND NOT ({itself})))"
                for one in self.unique
                if one.columns
            ]
            body = put_by(f"({' OR '.join(there)}) AND NOT ({itself})")
            some = f"EXISTS (SELECT 1 FROM {self.replaced})"  # put by for a row that then was not put
            when = f"({' OR '.join([some, *tests])}) AND {self._unless_aside()}"
            made.append(self._trigger("before_update", f"BEFORE UPDATE{self._of_moves()}", when, body))
        return made

    def _newest(self) -> str:
        return f"(SELECT max(change_no) FROM {self.history})"

    def _recording_replaced(self) -> str:
        """What is done after a row was put: those that were put by, and are gone."""
        capture = self.capture
        if capture.deletes != "record":
            return f"SELECT RAISE(ABORT, {text_sql(capture.says)}) FROM {self.replaced} AS r WHERE {self._gone()}; "
        rows = ", ".join(f"c{at} AS {name_sql(name)}" for at, name in enumerate(capture.known))
        fresh = f" FROM (SELECT {rows} FROM {self.replaced} AS r WHERE {self._gone()}) AS old"
        return self._record("delete", fresh)

    def _gone(self) -> str:
        """Whether a row that was put by is not there any more, but the one that has just been put."""
        same = " AND ".join(f"t.{name} = r.f{at}" for at, name in enumerate(self.finders))
        new = " AND ".join(f"t.{name} = NEW.{name}" for name in self.finders)
        there = f"EXISTS (SELECT 1 FROM {self.table} AS t WHERE {same} AND NOT ({new}))"
        return f"r.change_no IS {self._newest()} AND NOT {there}"

    # -- guarding -------------------------------------------------------------------------------------------

    def _guarding(self) -> str:
        capture = self.capture
        if capture.deletes == "refuse":
            return f"SELECT RAISE(ABORT, {text_sql(capture.says)}); "
        sets = ", ".join(f"{name_sql(name)} = {sql}" for name, sql in capture.mark.items())
        same = " AND ".join(f"{name} = OLD.{name}" for name in self.finders)
        merge = text_sql(f'rows of {self.info.name} are marked, not deleted: set delete = "mark" in the job')
        lost = " OR ".join(self.references)
        refused = f"SELECT RAISE(ABORT, {text_sql(capture.says)}) WHERE {lost}; " if lost else ""
        return (
            f"SELECT RAISE(ABORT, {merge}) WHERE {self._aside()}; {refused}"
            f"UPDATE {self.table} SET {sets} WHERE {same}; SELECT RAISE(IGNORE); "
        )


def _differs(name: str) -> str:
    return f"OLD.{name_sql(name)} IS NOT NEW.{name_sql(name)} COLLATE BINARY"


def _balanced(parts: Sequence[str], joint: str) -> str:
    """Many parts joined as a tree that is not deep: SQLite allows a depth of 1,000 only."""
    if len(parts) == 1:
        return parts[0]
    half = len(parts) // 2
    return f"({_balanced(parts[:half], joint)}) {joint} ({_balanced(parts[half:], joint)})"


def triggers_of(link: Link, table: str = "") -> list[Trigger]:
    """The triggers of a table, or of all."""
    which = "?1 = '' OR tbl_name = ?1 COLLATE NOCASE"
    sql = f"SELECT name, sql FROM sqlite_master WHERE type = 'trigger' AND ({which}) ORDER BY name"
    return [Trigger(name, " ".join(text.split())) for name, text in link.rows(sql, [table])]


def released(token: str, names: Sequence[str]) -> list[str]:
    """What drops triggers, and the table of what one of them puts by."""
    return [
        *(f"DROP TRIGGER {name_sql(name)}" for name in names),
        f"DROP TABLE IF EXISTS {name_sql(f'rmend_replaced_{token}')}",
    ]
