"""What a merge is told: a Job in Python, a TOML file on disk, with the same names in both."""

# ruff: noqa: RUF012  pydantic copies the defaults

from __future__ import annotations

import os
from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, PrivateAttr, model_validator

from ..errors import JobError
from ..incoming.query import Query
from ..stores.contract import Store
from ..stores.given import as_store
from .batch_span import batches_of
from .job_file import read_job_file
from .options import (
    ColumnOptions,
    Constant,
    GivenLimit,
    Incoming,
    Lookup,
    Names,
    RejectsPath,
    RejectsTable,
    Rule,
    Strict,
    Versions,
    each_of,
    listed,
    rejects_of,
)

_NOT_WITH_VERSIONS = (
    "{} does not go with [versions]: a record is dated, and closed versions stay; leave one of the two out"
)


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
    lookup: Annotated[dict[str, Lookup], BeforeValidator(each_of(Lookup, "[lookup.{}]"))] = {}
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
    allow: Annotated[list[Literal["insert", "update", "delete"]], BeforeValidator(listed)] = [
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


def job_name(job: Job) -> str | None:
    """By what name a job goes in the batches: that of its file."""
    return job.source.replace("\\", "/").rsplit("/", 1)[-1] if job.source else None
