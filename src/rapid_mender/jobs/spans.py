"""The columns in which a table keeps spans of time, held against it."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.types as pt

from ..core.cast import wanted
from ..core.schema import Column
from ..core.versions import NEVER, as_instants, instants, spans_of
from ..stores.contract import Condition
from .job import Job
from .options import Versions
from .problems import Problems
from .resolving import Resolver

_HAS_DATES = (pt.is_date, pt.is_timestamp)


@dataclass(frozen=True)
class Spans:
    """How the versions of a table are kept. The names are those of its columns."""

    options: Versions
    begin: str
    end: str
    current: str | None
    number: str | None
    versioned: tuple[str, ...]
    """A change in one of these opens a version."""
    surrogates: tuple[str, ...]
    """What the database makes anew for each version."""
    open: Any
    """What stands for no end."""

    @property
    def columns(self) -> list[str]:
        """All that says which span a row has."""
        return [name for name in (self.begin, self.end, self.current, self.number) if name is not None]

    @property
    def in_force(self) -> Condition:
        """What holds for the versions that have no end."""
        return Condition(self.end, "=", self.open)

    def instants(self, rows: pa.Table) -> tuple[np.ndarray, np.ndarray]:
        """When versions begin and end, closed-open, as instants."""
        kind = rows.schema.field(self.end).type
        never = None if self.open is None else instants(pa.array([self.open], kind), NEVER)[0]
        return spans_of(rows[self.begin], rows[self.end], never, self.included)

    def ends(self, numbers: np.ndarray, kind: pa.DataType) -> pa.Array:
        """Instants at which spans end, as the table has them."""
        if self.included:
            numbers = np.where(numbers == NEVER, numbers, numbers - 1)
        return as_instants(numbers, kind, pa.scalar(self.open, kind))

    @property
    def included(self) -> bool:
        return self.options.end == "included"


def bind_spans(resolver: Resolver, problems: Problems, job: Job, key: list[str]) -> Spans | None:
    """The spans of a job; None if it has none. What is wrong is among the problems."""
    told, info = job.versions, resolver.info
    if told is None:
        return None
    named = {what: resolver.column(f"[versions] {what}", getattr(told, _field(what))) for what in _COLUMNS}
    given = {what: info[name] for what, name in named.items() if name is not None}
    if "from" not in given or "to" not in given:
        return None
    names = [column.name for column in given.values()]
    for name in {one for one in names if names.count(one) > 1 or one in key}:
        problems.wrong(f"[versions] {name} is named twice, or is of the key; each takes a column of its own")
    _check_types(problems, told, given)
    for given_name in job.columns:
        column = info.named(given_name)
        if column is not None and column.name in names:
            problems.wrong(f"[columns.{given_name}]: {column.name} is set by [versions]; it takes no options")
    own = {*key, *names}
    unique = [columns for columns in (info.primary_key, *info.unique) if columns]
    for columns in unique:
        if set(columns) <= set(key):
            problems.wrong(
                f"[versions]: {', '.join(columns)} is unique in {info.name}, so a key cannot have a second version; "
                f"let it be unique together with {given['from'].name}"
            )
    surrogates = [
        column.name for column in info.columns
        if column.has_default and column.name not in own and any(set(one) == {column.name} for one in unique)
    ]  # fmt: skip
    versioned = [
        column.name
        for name, options in job.columns.items()
        if options.version and (column := info.named(name)) is not None and column.name not in own
    ]
    return Spans(
        told, given["from"].name, given["to"].name, named["current"], named["number"], tuple(versioned),
        tuple(surrogates), _open(given["to"], told.open),
    )  # fmt: skip


_COLUMNS = ("from", "to", "current", "number")


def _field(what: str) -> str:
    return "from_" if what == "from" else what


def _check_types(problems: Problems, told: Versions, given: dict[str, Column]) -> None:
    begin, end = given["from"], given["to"]
    for what, column in (("from", begin), ("to", end)):
        if not any(fits(column.type) for fits in _HAS_DATES):
            problems.wrong(f"[versions] {what}: {column.name} is {wanted(column)}, and a span has dates or timestamps")
            return
    if begin.type != end.type:
        problems.wrong(f"[versions]: {begin.name} and {end.name} have different types ({begin.type}, {end.type})")
    if told.end == "included" and not pt.is_date(end.type):
        problems.wrong(f'[versions] end = "included" is for dates, and {end.name} is {wanted(end)}')
    if told.open is None and not end.nullable:
        problems.wrong(
            f"[versions]: {end.name} is required (NOT NULL), so no end is not null; say which date stands for it: "
            "open = 9999-12-31"
        )
    flag, number = given.get("current"), given.get("number")
    if flag is not None and not (pt.is_boolean(flag.type) or pt.is_integer(flag.type)):
        problems.wrong(f"[versions] current: {flag.name} is {wanted(flag)}, and a flag is true or false, or 1 or 0")
    if number is not None and not pt.is_integer(number.type):
        problems.wrong(f"[versions] number: {number.name} is {wanted(number)}, and versions are counted by numbers")


def _open(column: Column, value: date | None) -> Any:
    """The date that stands for no end, as the column has it."""
    if value is None or not pt.is_timestamp(column.type):
        return value
    moment = value if isinstance(value, datetime) else datetime(value.year, value.month, value.day)
    return pa.scalar(moment, pa.timestamp("us")).cast(column.type).as_py()


def dated(job: Job, spans: Spans, begin: Column) -> Job:
    """The job, with the date of a record derived."""
    effective = spans.options.effective
    if effective is not None and effective.lower() == begin.name.lower():
        return job
    if effective is None:
        text = "CURRENT_DATE" if pt.is_date(begin.type) else "CURRENT_TIMESTAMP"
        return job.model_copy(update={"derive": {begin.name: text, **job.derive}})
    quoted = effective.replace('"', '""')
    return job.model_copy(update={"derive": {**job.derive, begin.name: f'incoming."{quoted}"'}})
