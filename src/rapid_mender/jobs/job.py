"""What a merge is told: a Job in Python, a TOML file on disk, with the same names in both."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import date, datetime, time
from decimal import Decimal
from typing import Annotated, Any, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, PrivateAttr, ValidationError, model_validator

from ..core.compare import Likeness
from ..core.names import closest
from ..errors import JobError
from ..incoming.chunks import Options
from ..incoming.query import Query
from ..stores.contract import Store
from ..stores.given import as_store
from ..stores.urls import without_password
from .batch_span import batches_of
from .job_file import read_job_file

_SHOWN = 200
_NOT_WITH_VERSIONS = (
    "{} does not go with [versions]: a record is dated, and closed versions stay; leave one of the two out"
)


def _listed(value: Any) -> Any:
    return [value] if isinstance(value, str) else value


Names = Annotated[list[str], BeforeValidator(_listed)]


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


class Incoming(Strict):
    """Where the incoming records are: a file, and how it is written if it is a text; or a query, and on which store."""

    path: str | None = None
    query: str | None = None
    store: Annotated[str | Store | None, BeforeValidator(as_store)] = None
    """Where the query is run; by default where the records go."""
    delimiter: str = Field(",", min_length=1, max_length=1)
    encoding: str = "utf-8"
    nulls: tuple[str, ...] = Field(("",), strict=False)
    """The texts that stand for no value, unless quoted."""
    format: Literal["csv", "tsv", "jsonl", "parquet"] | None = None
    """What the file is, if its ending does not say so; what comes over standard input is CSV unless this says else."""

    @model_validator(mode="after")
    def _one_of_them(self) -> Incoming:
        if not self.delimiter.isascii() or self.delimiter in '"\r\n\0':
            raise ValueError(f"delimiter is one ASCII character, and no quote or line break, not {self.delimiter!r}")
        if (self.path is None) == (self.query is None):
            raise ValueError("incoming is a path or a query: give one of them")
        if self.store is not None and self.query is None:
            raise ValueError("incoming.store says where a query is run; give a query")
        return self

    @property
    def options(self) -> Options:
        return Options(self.delimiter, self.encoding, self.nulls, self.format)


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

    @property
    def likeness(self) -> Likeness:
        return Likeness(self.tolerance, self.ignore_case, self.trim, self.null != "overwrite")


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


class Job(Strict):
    """All that a merge is told.

    `store` is a URL or a Store; `table` a table in it; `key` the columns that identify a record. The other
    options have defaults: see docs/job-file.md. Raises JobError for an unknown option or a wrong value.
    """

    store: Annotated[str | Store, BeforeValidator(as_store)]
    table: str
    key: Names = Field(min_length=1)
    incoming: Annotated[
        Incoming | None, BeforeValidator(lambda value: {"path": value} if isinstance(value, str) else value)
    ] = None
    rename: dict[str, str] = {}
    derive: dict[str, Constant] = {}
    ignore: Names = []
    null_key: Literal["reject", "generate"] = "reject"
    duplicates: Literal["reject", "first", "last"] = "reject"
    order: str | None = None
    update_only: Names = []
    columns: Annotated[dict[str, ColumnOptions], BeforeValidator(each_of(ColumnOptions, "[columns.{}]"))] = {}
    versions: Annotated[
        Versions | None, BeforeValidator(lambda value: Versions(**value) if isinstance(value, dict) else value)
    ] = None
    rules: Annotated[list[Rule], BeforeValidator(each_of(Rule, "rule {}"))] = []
    allow: Annotated[list[Literal["insert", "update", "delete"]], BeforeValidator(_listed)] = [
        "insert", "update", "delete",
    ]  # fmt: skip
    missing: Literal["keep", "delete"] = "keep"
    scope: str | None = None
    max_deletes: GivenLimit = None
    delete: Literal["remove", "mark", "archive"] = "remove"
    mark: dict[str, Constant] = {}
    marked: str | None = None
    unmark: dict[str, Constant] = {}
    archive: str | None = None
    rejects: Annotated[str | RejectsPath | RejectsTable | None, BeforeValidator(rejects_of)] = None
    max_rejects: GivenLimit = None
    commit_every: int | None = Field(None, ge=1, lt=1 << 62)
    history: bool = True
    seal: bool | None = None
    batches: Annotated[str, BeforeValidator(batches_of)] = "all"
    without_undo: bool = False

    _source: str | None = PrivateAttr(None)

    @model_validator(mode="after")
    def _together(self) -> Job:
        """Check options that only make sense together."""
        full, marks, archives = self.missing == "delete", self.delete == "mark", self.delete == "archive"
        for given, needed, words in (
            (self.scope is not None, full, 'scope says which rows may be missing; set missing = "delete"'),
            (marks, bool(self.mark), 'delete = "mark" needs the columns to set: mark = {felled = true}'),
            (bool(self.mark), marks, 'mark says how rows are marked; set delete = "mark"'),
            (self.marked is not None, marks, 'marked says which rows are marked; set delete = "mark"'),
            (bool(self.unmark), marks, 'unmark says what brings a marked row back; set delete = "mark"'),
            (
                self.null_key == "generate" and self.commit_every is not None,
                False,
                'null_key = "generate" with commit_every: a run that is stopped and run again would insert the records '
                "without a key twice; leave one of the two out",
            ),
            (
                any(options.version for options in self.columns.values()),
                self.versions is not None,
                'version = true needs the columns of the spans: [versions] from = "valid_from", to = "valid_to"',
            ),
            (
                self.versions is not None,
                any(options.version for options in self.columns.values()),
                "[versions] needs a column whose change opens a version: version = true in [columns.NAME]",
            ),
            (self.versions is not None and self.order is not None, False, _NOT_WITH_VERSIONS.format("order")),
            (self.versions is not None and archives, False, _NOT_WITH_VERSIONS.format('delete = "archive"')),
            (
                self.versions is not None and self.null_key == "generate",
                False,
                _NOT_WITH_VERSIONS.format('null_key = "generate"'),
            ),
            (archives, self.archive is not None, 'delete = "archive" needs the table: archive = "NAME"'),
            (self.archive is not None, archives, 'archive says where rows go; set delete = "archive"'),
        ):
            if given and not needed:
                raise ValueError(words)
        return self

    @property
    def rejects_path(self) -> RejectsPath | None:
        """The file that rejects are written to, if it is one."""
        if isinstance(self.rejects, str):
            return RejectsPath(path=self.rejects)
        return self.rejects if isinstance(self.rejects, RejectsPath) else None

    @property
    def source(self) -> str | None:
        """The file that the job was loaded from."""
        return self._source

    @property
    def batch(self) -> Any:
        """The job's own batch: a path, a Query, or None."""
        if self.incoming is None or self.incoming.path is not None:
            return self.incoming and self.incoming.path
        assert self.incoming.query is not None
        return Query(self.incoming.store or self.store, self.incoming.query)

    @classmethod
    def load(
        cls, path: str | os.PathLike[str], *, store: str | Store | None = None, names: Mapping[str, str] | None = None
    ) -> Job:
        """Load a job file. Relative paths in it count from the file's own folder.

        `store` is taken in the place of the file's own; `names` gives values for its ${NAME}, before the environment
        does. Raises JobError if the file is not there, is not TOML, or says something that a job does not know.
        """
        path = os.fspath(path)
        options = read_job_file(path, names or {}, store is not None)
        try:
            job = cls(**options if store is None else {**options, "store": store})
        except JobError as error:
            raise JobError(f"{path}: {error}") from None
        job._source = path
        return job


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


def job_name(job: Job) -> str | None:
    """By what name a job goes in the batches: that of its file."""
    return job.source.replace("\\", "/").rsplit("/", 1)[-1] if job.source else None
