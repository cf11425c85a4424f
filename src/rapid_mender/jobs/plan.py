"""A job bound to its table: what the way of a batch goes by. It does not change any more."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import pyarrow as pa

from ..core.compare import Likeness
from ..core.expressions import Expression
from ..core.notation import Notation
from ..core.schema import TableInfo
from .job import Job
from .options import ColumnOptions
from .spans import Spans


@dataclass(frozen=True)
class Instead:
    """What is taken where there is no one row: a value, or nothing, and the record is a reject."""

    value: pa.Scalar
    rejects: bool = False


@dataclass(frozen=True)
class BoundLookup:
    """A column that is looked up in another table."""

    column: str
    info: TableInfo
    match: tuple[tuple[str, str], ...]
    """Columns of that table, each with the incoming column whose value it must have."""
    take: str
    none: Instead
    several: Instead


@dataclass(frozen=True)
class ColumnPlan:
    """What is done with one column of the table."""

    options: ColumnOptions
    """`previous` is the column's name as the table has it."""
    writes: str
    """When it is written: "always", or on "insert", or "never"."""

    @property
    def strict_null(self) -> bool:
        """Whether a null that is sent is a fault where the column is required, whatever row the record finds."""
        return self.writes == "always" and self.options.null == "overwrite"


@dataclass(frozen=True)
class Plan:
    """A job bound to its table."""

    job: Job
    info: TableInfo
    ragged: bool
    """A record of the batch may lack columns that others have."""
    key: list[str]
    order: str | None
    options: Mapping[str, ColumnOptions]
    """Those that the job gives, by the column's name as the table has it."""
    update_only: Sequence[str]
    notations: Mapping[str, Notation]
    """How the texts of a batch write the values of a column, where that is not as usual."""
    lookups: Mapping[str, BoundLookup]
    """The columns that are looked up in other tables."""
    columns: Mapping[str, ColumnPlan]
    """Every column of the table."""
    mark: Mapping[str, Expression]
    unmark: Mapping[str, Expression]
    marked: Expression | None
    fixed_marks: Mapping[str, Expression]
    scope: Expression | None
    spans: Spans | None
    """The columns in which the table keeps spans of time, if it has versions."""
    archive: TableInfo | None
    allowed: tuple[int, ...]
    has_functions: bool
    """A rule is a function of Python."""

    @cached_property
    def likeness(self) -> dict[str, Likeness]:
        """By column: when two values count as the same, where that is not only when they are."""
        told = {name: options.likeness for name, options in self.options.items()}
        told |= {one.name: replace(told.get(one.name, Likeness()), json=True) for one in self.info.columns if one.json}
        return {name: likeness for name, likeness in told.items() if likeness.names()}

    @cached_property
    def previous(self) -> dict[str, str]:
        """Column -> the column that takes its old value."""
        return {name: options.previous for name, options in self.options.items() if options.previous is not None}

    @cached_property
    def defaults(self) -> list[str]:
        """The columns for which the database puts its default where a record to insert has null."""
        return [name for name, options in self.options.items() if options.null == "default"]

    @cached_property
    def made(self) -> list[str]:
        """The columns of the primary key that the database makes, where records are merged by others."""
        return [name for name in self.info.primary_key if name not in self.key and self.info[name].has_default]

    @cached_property
    def identity(self) -> list[str]:
        """The columns that tell the rows apart: of versions the key alone does not."""
        return self.key if self.spans is None else [*self.key, self.spans.begin]

    def lacking(self, sent: Iterable[str]) -> list[str]:
        """The required columns that an insert would not have."""
        there = {name for name in sent if self.columns[name].writes != "never"}
        there |= set(self.spans.columns) if self.spans is not None else set()
        return [c.name for c in self.info.columns if c.required and c.name not in there]

    def updatable(self, sent: Iterable[str]) -> list[str]:
        """The columns that an update may set, of those that were sent."""
        return [
            name for name in sent
            if (name not in self.key or self.info[name].fold is not None) and self.columns[name].writes == "always"
        ]  # fmt: skip
