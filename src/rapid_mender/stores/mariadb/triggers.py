"""Recording what other programs change in a MariaDB table, by row triggers.

Who starts the capture owns the triggers, and they run with his rights. A merge says in a variable of its connection
that it records by itself: it must know the capture's secret, which those do who may read our tables. The names of
triggers are seen by everybody, what they do is not.

Who writes may set in a session what time it is, and which number an AUTO_INCREMENT gives next. So changes are numbered
by a sequence, and dated by the clock of the server.

A trigger that names a column which is gone, or a value that the history has no room for, would break whoever writes. So
the trigger then takes each column by itself, and leaves out what cannot be had.
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import NamedTuple

import pyarrow.types as pt

from ...core.schema import Column, TableInfo
from ..contract import Capture
from ..contract.capture import LOST
from ..sql.text import text_sql
from .tables import quoted

MOMENT = "UTC_TIMESTAMP(3)"
_CLOCK = "TIMESTAMP'1970-01-01 00:00:00' + INTERVAL UNIX_TIMESTAMP(SYSDATE(6)) SECOND"
"""The time, in UTC, whatever the session of the writer says that it is; `MOMENT` goes by that."""
ASIDE, MERGING = "@rmend_aside", "@rmend_merging"
_AHEAD = 100_000
"""How many numbers are left free for what may still count by AUTO_INCREMENT."""
_GONE = "1054"
"""No such column."""
_UNFIT = "1264, 1265, 1292, 1366, 1406, 1411, 1690"
"""Out of range, cut, wrong, too long."""


class History(NamedTuple):
    """Where changes are recorded."""

    shape: TableInfo
    place: tuple[str, str]
    """Its schema, and its name there."""
    sequence: tuple[str, str]
    """The schema and the name of what numbers them."""


class CaptureSQL:
    """The triggers of one capture."""

    def __init__(
        self, info: TableInfo, place: tuple[str, str], history: History, capture: Capture, here: str | None,
        hindering: Sequence[str],
    ) -> None:  # fmt: skip
        """`place`: the table's schema and name; `here`: the schema that the connection is in. `hindering`: the columns
        for which an UPDATE IGNORE may leave a row as it is."""
        self.hindering = hindering
        self.info, self.place, self.history, self.capture = info, place, history.shape, capture
        self.place_of_history, self.sequence = history.place, history.sequence
        self.at = ".".join(map(quoted, history.place))
        self.local, self.local_sequence = quoted(history.place[1]), quoted(history.sequence[1])
        """As a trigger names them, in the schema of its table: so that it may be restored into another one."""
        self.before = "" if place[0] == here else f"{quoted(place[0])}."

    def statements(self) -> list[str]:
        """What creates them."""
        capture = self.capture
        made = [self._trigger(action, f"AFTER {action.upper()}", self._recording(action)) for action in capture.actions]
        if capture.deletes != "record":
            made.append(self._trigger("guard", "BEFORE DELETE", f"BEGIN {_signal(capture.says)}; END"))
        return made

    def numbering(self) -> list[str]:
        """What has the sequence number changes, after those that there are.

        Triggers of an earlier version may go on meanwhile, by AUTO_INCREMENT: then some numbers are left free for them.
        """
        sequence = ".".join(map(quoted, self.sequence))
        schema, name = map(text_sql, self.place_of_history)
        counted = "SELECT COUNT(*) FROM information_schema.COLUMNS WHERE COLUMN_NAME = 'change_no' AND EXTRA <> ''"
        ahead = f"IF(({counted} AND TABLE_SCHEMA = {schema} AND TABLE_NAME = {name}) > 0, {_AHEAD}, 1)"
        last = f"SELECT GREATEST(COALESCE(MAX(change_no), 0), {self.capture.after}) + {ahead} FROM {self.at}"
        return [
            f"CREATE SEQUENCE IF NOT EXISTS {sequence} ENGINE = InnoDB",
            f"SET @rmend_next = ({last})",
            f"EXECUTE IMMEDIATE CONCAT({text_sql(f'DO SETVAL({sequence}, ')}, @rmend_next, ', 0)')",
        ]

    def _trigger(self, what: str, event: str, body: str) -> str:
        name = f"{self.before}{quoted(self.capture.trigger(what))}"
        return f"CREATE TRIGGER {name} {event} ON {self.before}{quoted(self.place[1])} FOR EACH ROW {body}"

    def _recording(self, action: str) -> str:
        capture = self.capture
        tests = [f"NOT ({ASIDE} <=> '{capture.secret}')"]
        if action == "update":
            tests += [f"({' OR '.join(map(self._differs, capture.watched))})", *self._happened()]
        if (told := capture.condition(action)) is not None:
            tests.append(f"({told}\n)")
        merge = _signal(f"a merge into {self.info.name} may not read rmend_captures: grant it SELECT on that table")
        differs = {name: self._differs(name) for name in capture.watched} if action == "update" else {}
        values = {(side, name): f"{side.upper()}.{quoted(name)}" for _, side, name in capture.sides(action)}
        return (
            f"BEGIN DECLARE EXIT HANDLER FOR {_GONE}, {_UNFIT} {self._carefully(action)}; "
            f"IF {' AND '.join(tests)} THEN "
            f"IF {MERGING} <=> {self._itself()} THEN {merge}; END IF; "
            f"{self._people()}{self._insert(action, values, differs)}; END IF; END"
        )

    def _happened(self) -> list[str]:
        """Whether an update has happened: MariaDB runs the trigger as well for a row that UPDATE IGNORE has left as it
        is. The row is looked up where that may be: by the key that it is to have, and none may be there by the old one.
        """
        key = [name for name in self.info.identifying if name in self.info]
        if not key or not self.hindering:
            return []
        table = quoted(self.place[1])
        same = [
            f"{self._exactly(name, f'r.{quoted(name)}')} <=> {self._exactly(name, f'NEW.{quoted(name)}')}"
            for name in self.hindering
        ]

        def there(side: str) -> str:
            return " AND ".join(f"r.{quoted(name)} = {side}.{quoted(name)}" for name in key)

        moved = " OR ".join(f"OLD.{quoted(name)} <> NEW.{quoted(name)}" for name in key)
        differs = " OR ".join(map(self._differs, self.hindering))
        return [
            f"(NOT ({differs}) OR (EXISTS (SELECT 1 FROM {table} AS r WHERE {there('NEW')} AND {' AND '.join(same)}) "
            f"AND (NOT ({moved}) OR NOT EXISTS (SELECT 1 FROM {table} AS r WHERE {there('OLD')}))))"
        ]

    def _carefully(self, action: str) -> str:
        """The same, column by column: what is gone is left out, and, if that does not do, what does not fit.

        In variables of the connection: those of the trigger itself would have to be made for every row.
        """
        capture = self.capture
        values, fitting, differs = dict[tuple[str, str], str](), dict[tuple[str, str], str](), dict[str, str]()
        sets, lost = list[str](), list[str]()
        for at, (stored, side, name) in enumerate(capture.sides(action)):
            one = values[side, name] = f"@rmend_v{at}"
            length = self.info[name].length if name in self.info else None
            fits = _fits(replace(self.history[stored], length=length), one)
            fitting[side, name] = f"IF({fits}, {one}, NULL)"
            lost.append(f"NOT ({fits})")
            sets += [f"SET {one} = NULL;", f"SET {one} = {side.upper()}.{quoted(name)};"]
        for at, name in enumerate(capture.watched if action == "update" else ()):
            differs[name] = f"@rmend_d{at}"
            sets += [f"SET @rmend_d{at} = 0;", f"SET @rmend_d{at} = {self._differs(name)};"]
        test = f"NOT ({ASIDE} <=> '{capture.secret}')"
        if differs:
            test += f" AND ({' OR '.join(differs.values())})"
        reason = f"IF({' OR '.join(lost)}, {text_sql(LOST)}, NULL)"
        forget = f"SET {', '.join(f'{one} = NULL' for one in values.values())}"  # whoever writes might not read these
        return (
            f"BEGIN DECLARE EXIT HANDLER FOR SQLEXCEPTION BEGIN {forget}; RESIGNAL; END; "
            f"BEGIN DECLARE CONTINUE HANDLER FOR {_GONE} BEGIN END; {' '.join(sets)} END; "
            f"IF {test} THEN {self._people()}"
            f"BEGIN DECLARE EXIT HANDLER FOR {_UNFIT} {self._insert(action, fitting, differs, reason)}; "
            f"{self._insert(action, values, differs, 'NULL')}; END; END IF; {forget}; END"
        )

    def _people(self) -> str:
        """Who does it, and with which program, by the user's own expressions: unknown where these fail."""
        own = (("@rmend_actor", self.capture.actor), ("@rmend_application", self.capture.application))
        return "".join(
            f"BEGIN DECLARE CONTINUE HANDLER FOR SQLEXCEPTION SET {name} = NULL; SET {name} = ({sql}\n); END; "
            for name, sql in own
            if sql is not None
        )

    def _insert(
        self, action: str, values: Mapping[tuple[str, str], str], differs: Mapping[str, str], reason: str = ""
    ) -> str:
        """The INSERT into the history. `values` are by side and column, `differs` the tests whether a column has
        changed."""
        capture = self.capture
        names = ["change_no", "action", "changed_at", "actor", "application"]
        who = "@rmend_actor" if capture.actor is not None else "USER()"
        program = "@rmend_application" if capture.application is not None else "NULL"
        cells = [f"NEXT VALUE FOR {self.local_sequence}", text_sql(action), _CLOCK, who, program]
        if action == "update":
            names.append("changed")
            labels = {name: text_sql(json.dumps(name, ensure_ascii=False)) for name in differs}
            parts = ", ".join(f"IF({test}, {labels[name]}, NULL)" for name, test in differs.items())
            cells.append(f"CONCAT('[', CONCAT_WS(', ', {parts}), ']')")
        for stored, side, name in capture.sides(action):
            names.append(quoted(stored))
            cells.append(values[side, name])
        if reason:
            names.append("reason")
            cells.append(reason)
        return f"INSERT INTO {self.local} ({', '.join(names)}) VALUES ({', '.join(cells)})"

    def _itself(self) -> str:
        """What stands for the table, in SQL within its triggers, where DATABASE() is its schema."""
        end = text_sql(f"`.{quoted(self.place[1])}")
        return f"CONCAT('`', REPLACE(DATABASE(), '`', '``'), {end})"

    def _differs(self, name: str) -> str:
        old, new = (self._exactly(name, f"{side}.{quoted(name)}") for side in ("OLD", "NEW"))
        return f"NOT ({old} <=> {new})"

    def _exactly(self, name: str, value: str) -> str:
        """A value, so that two are equal only if they are the same, letter for letter."""
        column: Column = self.info[name] if name in self.info else self.history[self.capture.names[f"old_{name}"]]
        return f"BINARY {value}" if pt.is_string(column.type) else value


def _fits(column: Column, value: str) -> str:
    """Whether a column of the history has room for a value."""
    kind = column.type
    if pt.is_integer(kind):
        room = kind.bit_width - pt.is_signed_integer(kind)
        least = -(1 << room) if pt.is_signed_integer(kind) else 0
        return f"{value} IS NULL OR {value} BETWEEN {least} AND {(1 << room) - 1}"
    if pt.is_decimal(kind):
        return f"{value} IS NULL OR ABS({value}) < {10 ** (kind.precision - kind.scale)}"
    if pt.is_string(kind) and not column.normalises and not column.labels and not column.members:
        return f"CHAR_LENGTH({value}) <= {column.length}" if column.length is not None else "TRUE"
    return f"{value} IS NULL OR FALSE"


def _signal(text: str) -> str:
    return f"SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = {text_sql(text[:128])}"
