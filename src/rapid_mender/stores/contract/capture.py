"""Recording what other programs change: by triggers, in the history that merges write."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, fields
from typing import Any, Literal, NamedTuple

import numpy as np

from ...core.json_text import read_json
from ...core.names import in_quotes
from ...core.schema import Column, TableInfo
from ...errors import JobError, StoreError

PREFIX = "rmend_capture_"
"""What our triggers and their functions are called begins with this; then comes the token of the capture."""
LOST = "values that do not fit into the history are left out: refresh the capture"
"""The reason of a change that is not recorded in full."""
ACTIONS = ("insert", "update", "delete")
_USES = re.compile(
    r"""'(?:[^']|'')*'|"(?:[^"]|"")*"(?!\s*\.)|`(?:[^`]|``)*`(?!\s*\.)|"""
    r"""(?<![\w."`])(?P<side>old|new)\s*\.\s*(?:"(?:[^"]|"")*"|`(?:[^`]|``)*`|\w+)""",
    re.I,
)


def sides_of(action: str) -> list[str]:
    """Which rows an action has: the old one, the new one, or both."""
    return [side for side, none in (("old", "insert"), ("new", "delete")) if action != none]


class Trigger(NamedTuple):
    """A trigger on a table."""

    name: str
    about: str
    """When it fires and what it runs, in words."""
    enabled: bool = True

    @property
    def token(self) -> str | None:
        """The capture that it belongs to; None if it is none of ours."""
        return self.name[len(PREFIX) :].partition("_")[0] if self.name.startswith(PREFIX) else None


@dataclass(frozen=True)
class Options:
    """How a table is captured."""

    columns: tuple[str, ...] = ()
    """An update is recorded only if it changes one of these; none: any."""
    actions: tuple[str, ...] = ACTIONS
    when: str | None = None
    """Only what meets this condition, in the store's own SQL over old.X and new.X."""
    actor: str | None = None
    """Who did it, as the store's own SQL; None: the user of the database."""
    application: str | None = None
    deletes: Literal["record", "mark", "refuse"] = "record"
    """What becomes of a delete."""
    mark: Mapping[str, str] = field(default_factory=dict)
    """What a mark sets, in the store's own SQL."""
    says: str = ""
    """The text with which a delete is refused."""
    truncate: Literal["record", "refuse"] = "record"

    def others(self) -> dict[str, Any]:
        """The options that are not as they are by default."""
        plain = Options()
        names = (one.name for one in fields(Options))
        return {name: getattr(self, name) for name in names if getattr(self, name) != getattr(plain, name)}


@dataclass(frozen=True, kw_only=True)
class Capture(Options):
    """What is recorded of a table, and how."""

    token: str
    """Tells this capture from all others; its triggers have it in their names."""
    secret: str
    """Known to merges only, where a trigger cannot tell otherwise that it is one."""
    history: str
    names: Mapping[str, str]
    """old_X and new_X, and what they are called in the history."""
    known: Mapping[str, str]
    """The columns of the table that are known, as they were declared."""
    after: int = 0
    """The last change of the history, if that was removed and none of a higher number came since."""

    @property
    def watched(self) -> Sequence[str]:
        """An update is recorded if it changes one of these."""
        return self.columns or tuple(self.known)

    def trigger(self, what: str, part: int | None = None) -> str:
        """The name of a trigger, or of its function."""
        return f"{PREFIX}{self.token}_{'' if part is None else f'{part}_'}{what}"

    def condition(self, action: str) -> str | None:
        """The condition for one action: a row that is not there has no values."""
        if self.when is None:
            return None
        none = {"insert": "old", "delete": "new"}.get(action)
        return _USES.sub(lambda use: "NULL" if (use["side"] or "").lower() == none else use[0], self.when)

    def sides(self, action: str) -> Iterator[tuple[str, str, str]]:
        """What an action puts into the history: its column there, the side, and the column of the table."""
        for side in sides_of(action):
            yield from ((self.names[f"{side}_{name}"], side, name) for name in self.known)


def lacking(triggers: Sequence[Trigger], token: str, wanted: int) -> list[str]:
    """What is wrong with the triggers of a capture."""
    mine = [trigger for trigger in triggers if trigger.token == token]
    off = [trigger.name for trigger in mine if not trigger.enabled]
    notes = [f"somebody has disabled {in_quotes(off)}: what it would record is missing"] if off else []
    if len(mine) < wanted:
        notes.append(
            f"{wanted - len(mine)} of its {wanted} triggers are gone: somebody dropped them, or made the table anew; "
            "refresh it"
        )
    if len(mine) > wanted:
        notes.append(f"it has {len(mine)} triggers and should have {wanted}; refresh it")
    return notes


@dataclass(frozen=True)
class Known:
    """What a capture knows of its table."""

    columns: Mapping[str, str] = field(default_factory=dict)
    """Its columns, as they were declared."""
    triggers: int = 0
    """How many triggers the capture has."""
    numbers: Mapping[str, int] = field(default_factory=dict)
    """The numbers of the columns, where the database numbers them."""
    table: int | None = None
    """The number of the table, likewise."""

    @classmethod
    def of(cls, info: TableInfo, columns: Mapping[str, str], triggers: int) -> Known:
        numbers = {column.name: column.number for column in info.columns if column.number is not None}
        return cls(dict(columns), triggers, numbers, info.number)

    @classmethod
    def read(cls, text: str | None) -> Known:
        """From the JSON in which it is kept. What somebody has altered to something else counts as not known."""
        known = read_json(text, dict[str, Any]())

        def mapping(name: str, kind: type) -> dict[str, Any]:
            found = known.get(name)
            return found if isinstance(found, dict) and all(type(one) is kind for one in found.values()) else {}

        def number(name: str) -> int | None:
            return known[name] if type(known.get(name)) is int else None

        return cls(mapping("columns", str), number("triggers") or 0, mapping("numbers", int), number("table"))

    def as_text(self) -> str:
        return json.dumps(vars(self), ensure_ascii=False)


def altered(session: Capturing, info: TableInfo, row: Mapping[str, Any]) -> list[str]:
    """What has changed of a table since its capture learnt it. `row`: of the capture, in `rmend_captures`."""
    known = Known.read(row["known"])
    was = known.columns
    new = [column.name for column in info.columns if column.name not in was]
    gone = [name for name in was if name not in info]
    notes = [f"column {name!r} is new, and not recorded" for name in new]
    notes += [f"there is no column {name!r} any more" for name in gone]
    for column in info.columns:
        if column.name not in was:
            continue
        if was[column.name] != (column.declared or ""):
            notes.append(f"column {column.name!r} was {was[column.name]} and is {column.declared}")
        elif known.table == info.number and known.numbers.get(column.name, column.number) != column.number:
            notes.append(f"column {column.name!r} is another one than it was")
    notes += session.outdated(info, row["token"])
    return [f"{one}: refresh the capture" for one in notes]


class Capturing:
    """The triggers of a store."""

    def why_no_capture(self, info: TableInfo) -> str | None:
        """Why changes to a table cannot be recorded by triggers; None if they can."""
        return f"{self.where} has no triggers, and nobody else can write to it"  # type: ignore[attr-defined]

    def widen_sql(self, info: TableInfo, columns: Sequence[Column]) -> list[str]:
        """The statements that give columns of a table other types, which hold all that they have."""
        return []

    def create_sql(self, info: TableInfo, beside: TableInfo | None = None) -> str:
        """The statement that `create` runs."""
        raise NotImplementedError

    def owning_sql(self, info: TableInfo) -> list[str]:
        """The statements that give the history of a table to whom it must belong, if that is somebody else than who
        makes it. Raises JobError if its triggers would give somebody's rights away."""
        return []

    def numbering_sql(self, info: TableInfo, capture: Capture) -> list[str]:
        """The statements after which the store numbers the changes of a history."""
        return []

    def numbered_sql(self, info: TableInfo) -> list[str]:
        """The statements that are run last, when all that records changes of a table is made anew."""
        return []

    def next_numbers(self, info: TableInfo, count: int) -> np.ndarray | None:
        """So many numbers for changes of a captured table, ascending; None if the history takes them by itself."""
        return None

    def capture_sql(self, info: TableInfo, capture: Capture) -> list[str]:
        """The statements after which changes to a table are recorded."""
        raise NotImplementedError

    def release_sql(self, info: TableInfo, token: str) -> list[str]:
        """The statements after which they no longer are."""
        raise NotImplementedError

    def strays_sql(self, info: TableInfo, token: str) -> list[str]:
        """The statements that drop what the capture of a table has on other tables, as that table had their names once,
        where `release_sql` does not."""
        return []

    def orphans_sql(self, token: str) -> list[str]:
        """The statements that drop all that a capture has, where there is no table of its name any more."""
        raise NotImplementedError

    def add_columns_sql(self, info: TableInfo, columns: Sequence[Column]) -> list[str]:
        """The statements that add nullable columns to a table."""
        raise NotImplementedError

    def note_sql(
        self, shape: TableInfo, row: Mapping[str, str | None], number: int | None, stamped: Sequence[str]
    ) -> str:
        """The statement that inserts a row of texts into one of our tables, or sets them in the one of a number, or
        deletes that; the columns `stamped` become the time."""
        raise NotImplementedError

    def define(self, info: TableInfo | None, statements: Sequence[str], switching: Sequence[str] = ()) -> None:
        """Run statements such as these about a table, before anything else is written: locks that were taken by
        looking are given up. Some databases commit with each of them; so those that switch on and off what is recorded
        are apart, and are run last, while nobody else writes to the table, where others can be kept out."""
        raise NotImplementedError

    def define_alone(self, info: TableInfo, statements: Sequence[str]) -> int | None:
        """Run such statements while nobody writes to the table. Returns how many rows it has then; None if others
        cannot be kept out."""
        self.define(info, statements)
        return self.count(info)  # type: ignore[attr-defined, no-any-return]

    def check_sql(self, info: TableInfo, what: str, sql: str, rows: bool) -> None:
        """Raise JobError if the store cannot make anything of an expression; `rows`: it may use old.X and new.X."""
        bare = re.sub(r"'(?:[^']|'')*'|\"(?:[^\"]|\"\")*\"|`(?:[^`]|``)*`", "", sql)
        if ";" in bare or bare.count("(") != bare.count(")") or not sql.strip():
            raise JobError(f"{what}: {sql!r} is not one expression")
        try:
            self.try_sql(info, sql, rows)
        except StoreError as error:
            raise JobError(f"{what}: {error}") from error

    def try_sql(self, info: TableInfo, sql: str, rows: bool) -> None:
        """Evaluate an expression. Raises StoreError if the store cannot."""
        raise NotImplementedError

    def not_seen(self, info: TableInfo, told: Options) -> list[str]:
        """What triggers of this store cannot see, or do to others, in words."""
        return []

    def triggers(self, info: TableInfo) -> list[Trigger]:
        """All triggers of a table, those of its partitions too."""
        return []

    def outdated(self, info: TableInfo, token: str) -> list[str]:
        """What the triggers of a capture do not see, as the table was altered since they were made, in words."""
        return []

    def unsafe_triggers(self, info: TableInfo) -> list[str]:
        """What makes the triggers of a table's capture a danger to whoever owns them, in words."""
        return []

    def stand_aside(self, info: TableInfo) -> bool:
        """Have our triggers on a table record nothing for the rest of this transaction. Returns whether there are
        any."""
        return False
