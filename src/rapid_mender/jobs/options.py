"""The parts of what a merge is told, each a checked model: batch, rules, columns, versions, rejects, limits."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from datetime import date, datetime, time
from decimal import Decimal
from typing import Annotated, Any, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, ValidationError, model_validator

from ..core.compare import Likeness
from ..core.names import closest
from ..errors import JobError
from ..incoming.chunks import Options
from ..stores.contract import Store
from ..stores.given import as_store
from ..stores.urls import without_password

_SHOWN = 200


def listed(value: Any) -> Any:
    return [value] if isinstance(value, str) else value


Names = Annotated[list[str], BeforeValidator(listed)]


class Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", arbitrary_types_allowed=True, strict=True, frozen=True)

    def __init__(self, /, **options: Any) -> None:
        try:
            super().__init__(**options)
        except ValidationError as error:
            raise JobError(_in_words(type(self), error)) from None

    def __repr_args__(self) -> Any:
        """Without the password of a store."""
        for name, value in super().__repr_args__():
            yield name, without_password(value) if isinstance(value, str) and str(name).endswith("store") else value


Mark = Annotated[str, Field(min_length=1, max_length=1, pattern="^[^0-9+-]$")]


def check_marks(decimal: str, thousands: str) -> None:
    """Raise ValueError if the decimal mark is what stands between thousands too."""
    if decimal == thousands:
        raise ValueError(f"{decimal!r} cannot be the decimal mark and stand between thousands; set decimal too")


class Incoming(Strict):
    """Where the incoming records are: a file, and how it is written if it is a text; or a query, and on which store."""

    path: str | None = None
    query: str | None = None
    store: Annotated[str | Store | None, BeforeValidator(as_store)] = None
    """Where the query is run; by default where the records go."""
    delimiter: str = Field(default=",", min_length=1, max_length=1)
    encoding: str = "utf-8"
    nulls: tuple[str, ...] = Field(default=("",), strict=False)
    """The texts that stand for no value, unless quoted."""
    decimal: Mark = "."
    """The decimal mark of numbers in texts."""
    thousands: Mark | Literal[""] = ""
    """What stands between the thousands of numbers in texts."""
    quote: str = Field(default='"', min_length=1, max_length=1)
    """What stands around a text that may have delimiters or line breaks in it."""
    skip: int = Field(default=0, ge=0)
    """How many lines, or rows of a sheet, stand before the names of the columns."""
    sheet: str | None = None
    """Which sheet of a workbook; by default the first."""
    format: Literal["csv", "tsv", "jsonl", "json", "parquet", "arrow", "excel"] | None = None
    """What the file is, if its ending does not say so; what comes over standard input is CSV unless this says else."""

    @model_validator(mode="after")
    def _one_of_them(self) -> Incoming:
        if not self.delimiter.isascii() or self.delimiter in f"{self.quote}\r\n\0":
            raise ValueError(f"delimiter is one ASCII character, and no quote or line break, not {self.delimiter!r}")
        if not self.quote.isascii() or self.quote in "\r\n\0":
            raise ValueError(f"quote is one ASCII character, and no line break, not {self.quote!r}")
        check_marks(self.decimal, self.thousands)
        if (self.path is None) == (self.query is None):
            raise ValueError("incoming is a path or a query: give one of them")
        if self.store is not None and self.query is None:
            raise ValueError("incoming.store says where a query is run; give a query")
        return self

    @property
    def options(self) -> Options:
        return Options(self.delimiter, self.quote, self.skip, self.encoding, self.nulls, self.sheet, self.format)


class Rule(Strict):
    """A condition that decides on a record, and the reason that is given.

    `when` is an SQL expression over `incoming.COLUMN`, `existing.COLUMN`, `matched`, `changed` and
    `changed('COLUMN')`; in Python it may be a function of two Arrow tables, the incoming records and the rows
    that they meet (null where there is none), of one length, that returns a boolean for each record. Values
    between braces in `because` are expressions: "{incoming.height_m} m is taller than any tree".
    """

    decide: Literal["insert", "update", "delete", "skip", "reject"]
    when: str | Callable[..., Any]
    because: str | None = None


class Versions(Strict):
    """How a table keeps the versions of a thing: rows with spans of time.

    `from` (in Python `from_`) and `to` are the columns of a span; `current` a flag of the version that is in force, and
    `number` what counts the versions of a key, if the table has these. `effective` is the incoming column that dates a
    record; without it that is the time of the batch. `open` is the date that stands for no end, if that is not null;
    with `end = "included"` a span has its last day in it. `late` says what becomes of a record that is dated before the
    current version. With `overwrite = "all"` what is not versioned is overwritten in all versions of a key; with `join`
    versions that become equal to their neighbours are joined.
    """

    model_config = ConfigDict(populate_by_name=True)

    from_: str = Field(alias="from")
    to: str
    current: str | None = None
    number: str | None = None
    effective: str | None = None
    open: datetime | date | None = None
    end: Literal["excluded", "included"] = "excluded"
    late: Literal["insert", "skip", "reject"] = "reject"
    overwrite: Literal["current", "all"] = "current"
    join: bool = False


class ColumnOptions(Strict):
    """How one column is compared and written."""

    tolerance: Annotated[Decimal | None, BeforeValidator(lambda value: _decimal(value))] = None
    ignore_case: bool = False
    trim: bool = False
    compare: bool = True
    write: Literal["always", "insert", "never"] = "always"
    null: Literal["overwrite", "keep", "default"] = "overwrite"
    previous: str | None = None
    version: bool = False
    format: Annotated[str, Field(min_length=1)] | None = None
    """How its dates or times are written in texts, in the directives of strptime."""
    decimal: Mark | None = None
    """The decimal mark of its numbers in texts."""
    thousands: Mark | None = None
    """What stands between the thousands of its numbers in texts."""

    @property
    def decides(self) -> bool:
        """Whether anything is said of how it is compared or written."""
        said = {name for name, one in type(self).model_fields.items() if getattr(self, name) != one.default}
        return not said <= {"format", "decimal", "thousands"}

    @model_validator(mode="after")
    def _marks_differ(self) -> ColumnOptions:
        check_marks(self.decimal or ".", self.thousands or "")
        return self

    @property
    def likeness(self) -> Likeness:
        return Likeness(self.tolerance, self.ignore_case, self.trim, self.null != "overwrite")


class FixedValue(Strict):
    """A value that is taken where a look-up finds none, or several."""

    value: Any


def _given(value: Any) -> Any:
    if value not in ("reject", "null") and not isinstance(value, FixedValue | dict):
        raise ValueError('must be "reject", "null" or a value: {value = 7}')
    return FixedValue(**value) if isinstance(value, dict) else value


GivenInstead = Annotated[Any, BeforeValidator(_given)]


class Lookup(Strict):
    """A column that is looked up in another table of the store.

    `match` says by what: columns of that table, each with the incoming column whose value it must have. `take` is the
    column whose value is taken. `none` and `several` say what becomes of a record for which there is no row, or rows
    with different values: "reject", "null", or a value, {value = 7}.
    """

    table: str
    match: dict[str, str] = Field(min_length=1)
    take: str
    none: GivenInstead = "reject"
    several: GivenInstead = "reject"


class RejectsTable(Strict):
    """A table of the store that keeps rejects."""

    table: str


class RejectsPath(Strict):
    """A file that keeps rejects."""

    path: str
    formulas: Literal["keep", "neutral"] = "keep"
    """In CSV: whether a value that a spreadsheet would take for a formula stays as it came, or gets an apostrophe."""


def rejects_of(value: Any) -> Any:
    if isinstance(value, dict):
        return RejectsTable(**value) if "table" in value or "path" not in value else RejectsPath(**value)
    return value


@dataclass(frozen=True)
class Limit:
    """A count, or a share of a whole."""

    count: int | None
    share: Decimal | None

    def allows(self, number: int, whole: int) -> bool:
        if self.count is not None:
            return number <= self.count
        assert self.share is not None
        return Decimal(number) * 100 <= self.share * whole

    def __str__(self) -> str:
        return f"{self.count:,}" if self.count is not None else f"{self.share} %"


def _decimal(value: Any) -> Any:
    if value is None or isinstance(value, Decimal):
        return value
    if isinstance(value, bool) or not isinstance(value, int | float) or not 0 <= value < float("inf"):
        raise ValueError("must be a number that is not negative")
    return Decimal(str(value))


def _limit(value: Any) -> Any:
    if value is None or isinstance(value, Limit):
        return value
    if isinstance(value, int) and not isinstance(value, bool) and value >= 0:
        return Limit(value, None)
    match = re.fullmatch(r"\s*([0-9]+(?:\.[0-9]+)?)\s*%\s*", value) if isinstance(value, str) else None
    if match is None:
        raise ValueError('must be a count (200) or a percentage ("5%")')
    if Decimal(match[1]) > 100:
        raise ValueError("must be at most 100 %")
    return Limit(None, Decimal(match[1]))


def each_of(model: type[Strict], word: str) -> Callable[[Any], Any]:
    """Make a model of each dict in a list or a dict; all that fail are named."""

    def made(value: Any) -> Any:
        if not isinstance(value, list | dict):
            return value
        items = list(value.items()) if isinstance(value, dict) else [(i + 1, one) for i, one in enumerate(value)]
        done, wrong = {}, []
        for name, one in items:
            try:
                done[name] = model(**one) if isinstance(one, dict) else one
            except JobError as error:
                wrong.append(f"{word.format(name)}: {error}")
        if wrong:
            raise ValueError("; ".join(wrong))
        return done if isinstance(value, dict) else list(done.values())

    return made


def _constant(value: Any) -> Any:
    if value is not None and not isinstance(value, str | bool | int | float | Decimal | date | time):
        raise ValueError("must be a text, a number, true or false, a date or a time")
    return value


GivenLimit = Annotated[Limit | None, BeforeValidator(_limit)]
Constant = Annotated[Any, BeforeValidator(_constant)]


def _in_words(model: type[BaseModel], error: ValidationError) -> str:
    """What is wrong with the options, one sentence each."""
    sentences = []
    for one in error.errors():
        unknown = one["type"] == "extra_forbidden"
        place = [
            str(part + 1 if isinstance(part, int) else part)
            for number, part in enumerate(one["loc"], 1)
            if (unknown and number == len(one["loc"])) or not _is_of_a_type(str(part))
        ]
        name = ".".join(place)
        if unknown:
            known = list((Incoming if place[0] == "incoming" and len(place) > 1 else model).model_fields)
            close = closest(place[-1], known)
            mend = f"did you mean {close!r}?" if close else f"the options are {', '.join(known)}"
            sentences.append(f"there is no option {name!r}; {mend}")
        elif one["type"] == "missing":
            sentences.append(f"the option {name!r} is missing")
        elif one["type"] == "literal_error":
            sentences.append(f"{name} is {one['ctx']['expected']}, not {_shown(one['input'])}")
        elif one["type"] == "value_error":
            said = str(one["ctx"]["error"])
            sentences.append(f"{name} {said}, not {_shown(one['input'])}" if said.startswith("must") else said)
        else:
            message = (
                one["msg"]
                .replace("Input should be", "must be")
                .replace("valid ", "")
                .replace("a boolean", "true or false")
            )
            sentences.append(f"{name}: {message[0].lower()}{message[1:]}, not {_shown(one['input'])}")
    return "; ".join(dict.fromkeys(sentences))


def _is_of_a_type(part: str) -> bool:
    """Whether a part of a path to an option names a type that it may have, and no option."""
    types = ("function-", "is-instance", "constrained", "callable")
    return part.startswith(types) or part in ("str", "RejectsTable", "RejectsPath")


def _shown(value: Any) -> str:
    """A wrong value, in a message: short, and without a password."""
    if isinstance(value, dict | list | tuple):
        return "a table of options" if isinstance(value, dict) else "a list"
    if isinstance(value, int) and abs(value) > 1 << 64:
        return "a number past 64 bits"
    text = repr(without_password(value) if isinstance(value, str) else value)
    return text if len(text) <= _SHOWN else text[:_SHOWN] + "…"
