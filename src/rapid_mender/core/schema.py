"""What the core knows of a table: its columns, their types and limits, its keys."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Literal

import pyarrow as pa
import pyarrow.types as pt

_UNITS = ("s", "ms", "us", "ns")
Fold = Literal["case", "blanks", "collation"]


@dataclass(frozen=True, slots=True)
class Column:
    """One column of a table.

    `type` is the column's own type as Arrow sees it; values are cast to it before they are
    compared. `declared` is the type as the database spells it, "" where it declares
    none, and None for a column that no database has described.
    """

    name: str
    type: pa.DataType
    declared: str | None = None
    nullable: bool = True
    has_default: bool = False
    """The database fills the column when it is not sent: a default, an identity, a row number."""
    generated: bool = False
    """The database computes the column; it cannot be written."""
    length: int | None = None
    """The most characters that a text may have."""
    fold: Fold | None = None
    """What the database counts as equal in this column: letters of either case, trailing blanks, or what its
    collation says, which only the database knows in full."""
    trims: bool = False
    """The database does not keep blanks at the end of a text."""
    fraction: int | None = None
    """How many digits of a second are kept, if not as many as the type has."""
    labels: tuple[str, ...] = ()
    """The only values, of a column whose type lists them."""
    members: tuple[str, ...] = ()
    """The texts of which a value may have any, of a column that holds sets."""
    width: int | None = None
    """The number of bytes of a column that fills shorter values up with zeros."""
    normalises: bool = False
    """The database may turn a value into another one on its own; the store is asked what it makes of it."""
    json: bool = False
    """Its texts are JSON, kept as they were sent: two that say the same count as the same."""
    nan: bool = True
    """A float column that can hold NaN."""
    years: bool = False
    """Whole numbers that are years: 0, and 1901 to 2155."""
    one_of: tuple[str, ...] = ()
    """The only texts that the column may hold, in a table that Rapid Mender makes."""
    room: int | None = field(default=None, compare=False)
    """The most bytes that a value may have, where the type sets a bound that is not `length`."""
    number: int | None = field(default=None, compare=False)
    """What tells the column from others of its table, also if it gets another's name, where the database says so."""

    @property
    def required(self) -> bool:
        """Whether an insert must send a value for this column."""
        return not self.nullable and not self.has_default and not self.generated

    def holds(self, other: Column) -> bool:
        """Whether this column keeps every value of another one just as it is; one without a declared type does."""
        if not self.declared or not other.declared or self.declared == other.declared:
            return True
        if self.length is not None and (other.length is None or other.length > self.length):
            return False
        if self.room is not None and other.room is not None and other.room > self.room:
            return False
        listed = set(self.labels) >= set(other.labels) and set(self.members) >= set(other.members)
        digits = (6 if self.fraction is None else self.fraction) >= (6 if other.fraction is None else other.fraction)
        alike = self.width == other.width and (other.trims or not self.trims) and (other.years or not self.years)
        return listed and digits and alike and _holds(self.type, other.type)


def copied(columns: Iterable[Column], names: Mapping[str, str] | None = None) -> tuple[Column, ...]:
    """Columns like some of a table, for a new one in any store; `names` has other names for some."""
    named = names or {}
    return tuple(
        Column(named.get(one.name, one.name), one.type, nullable=one.nullable, length=one.length) for one in columns
    )


@dataclass(frozen=True, slots=True)
class Reach:
    """Foreign keys by which the database changes other rows of a table when one of its rows changes."""

    said: str
    """Which constraint it begins with."""
    deletes: bool
    """A deleted row takes others along, or empties their reference."""
    columns: tuple[str, ...] = ()
    """The columns that are referred to, if a change of these changes other rows."""

    def deleting(self, table: str) -> str | None:
        """What is wrong with deleting rows of the table with a history; None if nothing is."""
        if not self.deletes:
            return None
        return (
            f"constraint {self.said} deletes or changes other rows of {table!r} along with a deleted one, and the "
            "history would not have them"
        )

    def updating(self, table: str, columns: Iterable[str]) -> tuple[str, str] | None:
        """What is wrong with updating columns of the table with a history, and one of those that it is about; None if
        nothing is."""
        if not (hit := sorted(set(columns) & set(self.columns))):
            return None
        return (
            f"constraint {self.said} changes other rows of {table!r} when {', '.join(hit)} changes, and the history "
            "would not have them",
            hit[0],
        )


@dataclass(frozen=True)
class TableInfo:
    """One table, as its store describes it."""

    name: str
    columns: tuple[Column, ...]
    primary_key: tuple[str, ...] = ()
    unique: tuple[tuple[str, ...], ...] = ()
    """The column sets, besides the primary key, that the database keeps unique."""
    triggers: bool = False
    """The table has triggers, so that what is stored may differ from what was sent."""
    referenced: bool = False
    """Other rows refer to rows of this table, and may change or go with them."""
    refers: tuple[str, ...] = ()
    """What the foreign keys of the table say, in words."""
    reach: tuple[Reach, ...] = ()
    identity: str = ""
    """What tells the table from every other of its store, whatever the name by which it was asked for."""
    undoes: bool = True
    """What was written can be undone. Not so with some engines of MariaDB."""
    number: int | None = field(default=None, compare=False)
    """By which the database knows the table, whatever its name; None where it has no such number."""
    owner: str = field(default="", compare=False)
    """To whom the table belongs, where the database says so."""
    rights: frozenset[str] | None = field(default=None, compare=False)
    """Which of select, insert, update and delete the user may do, where the database says so."""
    indexes: tuple[tuple[str, tuple[str, ...]], ...] = field(default=(), compare=False)
    """The indexes with which Rapid Mender makes the table, by name."""

    def __hash__(self) -> int:
        return hash((self.name, len(self.columns)))

    def __getitem__(self, name: str) -> Column:
        return self._by_name[name]

    def __contains__(self, name: object) -> bool:
        return name in self._by_name

    @cached_property
    def _by_name(self) -> dict[str, Column]:
        return {column.name: column for column in self.columns}

    @cached_property
    def _by_lower_name(self) -> dict[str, Column]:
        return {column.name.lower(): column for column in reversed(self.columns)}

    @property
    def identifying(self) -> tuple[str, ...]:
        """The columns that tell the rows apart, as the table says: its primary key, or a unique constraint over columns
        without nulls. Empty if there are none."""
        for names in (self.primary_key, *self.unique):
            if names and not any(self[name].nullable for name in names):
                return tuple(names)
        return ()

    def named(self, name: str) -> Column | None:
        """The column of this name, else one whose name differs in upper and lower case only."""
        return self._by_name.get(name) or self._by_lower_name.get(name.lower())

    def complete(self, values: pa.Table) -> pa.Table:
        """`values` with all columns of the table, in its order; those that it lacks are null."""
        sent, count = set(values.column_names), values.num_rows
        columns = [values[c.name] if c.name in sent else pa.nulls(count, c.type) for c in self.columns]
        return pa.table(columns, names=self.names)

    @property
    def names(self) -> list[str]:
        return [column.name for column in self.columns]

    def pick(self, names: Iterable[str]) -> list[Column]:
        return [self[name] for name in names]

    @cached_property
    def schema(self) -> pa.Schema:
        return pa.schema([pa.field(column.name, column.type) for column in self.columns])


def _holds(kind: pa.DataType, other: pa.DataType) -> bool:
    if kind == other:
        return True
    if pt.is_integer(kind) and pt.is_integer(other):
        room = kind.bit_width - pt.is_signed_integer(kind), other.bit_width - pt.is_signed_integer(other)
        return room[0] >= room[1] and (pt.is_signed_integer(kind) or pt.is_unsigned_integer(other))
    if pt.is_decimal(kind) and pt.is_decimal(other):
        return kind.scale >= other.scale and kind.precision - kind.scale >= other.precision - other.scale
    if pt.is_timestamp(kind) and pt.is_timestamp(other):
        return kind.tz == other.tz and _UNITS.index(kind.unit) >= _UNITS.index(other.unit)
    return pt.is_floating(kind) and pt.is_floating(other) and kind.bit_width >= other.bit_width
