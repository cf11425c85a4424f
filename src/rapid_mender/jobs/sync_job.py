"""What a sync is told: a Sync in Python, a TOML file on disk, with the same names in both."""

# ruff: noqa: RUF012  pydantic copies the defaults

from __future__ import annotations

import os
from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, PrivateAttr, model_validator

from ..errors import JobError
from ..stores.contract import Store
from ..stores.given import as_store
from .job import Job
from .job_file import read_job_file
from .options import (
    ColumnOptions,
    Constant,
    GivenLimit,
    Names,
    RejectsPath,
    RejectsTable,
    Strict,
    each_of,
    rejects_of,
)

OF_THE_MERGE = ("columns", "delete", "mark", "marked", "unmark", "archive", "rejects", "max_rejects",
                        "max_deletes", "history", "seal")  # fmt: skip
_OF_A_TABLE = ("to_table", "key", "derive", "keep", "conflict", "new_columns", *OF_THE_MERGE)


class Sync(Strict):
    """All that a sync is told: which table follows which, and how.

    `table` of `store` is followed; `to_table` of `to_store` follows it, or files in `to_folder` do, under the name
    `follower`, by which its position is kept. The other options have defaults; those of a job file mean what they mean
    there.
    """

    store: Annotated[str | Store, BeforeValidator(as_store)]
    table: str
    to_store: Annotated[str | Store | None, BeforeValidator(as_store)] = None
    to_table: str = ""
    to_folder: str | None = None
    """A folder for files with the changes, in the place of a table."""
    format: Literal["events", "parquet"] = "events"
    """What the files are: CloudEvents, one JSON object a line for each change; or Parquet."""
    first: bool = False
    """Whether the first file has the rows as they are, as if each was inserted; else the files begin with the first
    change."""
    follower: str = Field(min_length=1)
    key: Names = []
    """The columns of `to_table` that identify a row; by default those to which the key of `table` goes."""
    only: Names = []
    """The columns of `table` that are sent, besides its key; by default all."""
    ignore: Names = []
    """Columns of `table` that are not sent."""
    rename: dict[str, str] = {}
    derive: dict[str, Constant] = {}
    when: str | None = None
    """An expression over old.COLUMN and new.COLUMN: only changes for which it is true are sent."""
    changes_to: Names = []
    """Of the updates only those are sent that change one of these columns."""
    versions: Literal["all", "current"] = "all"
    """Of a table that keeps versions: whether all of them follow, or of each thing only the one in force."""
    keep: Literal["rows", "changes"] = "rows"
    """Whether the rows are kept as they are, or every change is appended to a log."""
    conflict: Literal["overwrite", "skip", "reject", "later"] | None = None
    """What becomes of a change whose row in `to_table` is not what the history says it was; by default "overwrite".
    Where both tables follow each other: of a change of a row that both sides have changed; by default the later change
    counts."""
    new_columns: Literal["stop", "ignore", "add"] = "stop"
    """What becomes of a column of `table` that `to_table` does not have: the sync stops and says so, it is left out, or
    it is added to `to_table`."""
    columns: Annotated[dict[str, ColumnOptions], BeforeValidator(each_of(ColumnOptions, "[columns.{}]"))] = {}
    delete: Literal["remove", "mark", "archive"] = "remove"
    mark: dict[str, Constant] = {}
    marked: str | None = None
    unmark: dict[str, Constant] = {}
    archive: str | None = None
    rejects: Annotated[str | RejectsPath | RejectsTable | None, BeforeValidator(rejects_of)] = None
    max_rejects: GivenLimit = None
    max_deletes: GivenLimit = None
    commit_every: int = Field(1 << 20, ge=1, lt=1 << 31)
    """How many changes take effect together, at most."""
    history: bool = False
    seal: bool | None = None

    _source: str | None = PrivateAttr(None)

    @model_validator(mode="after")
    def _together(self) -> Sync:
        """Check options that only make sense together."""
        folder = self.to_folder is not None
        used = [name for name in _OF_A_TABLE if getattr(self, name) != type(self).model_fields[name].get_default()]
        both = sorted(set(self.only) & set(self.ignore))
        log = self.keep == "changes"
        for given, words in (
            (folder == (self.to_store is not None), "say where changes go: to_store and to_table, or to_folder"),
            (not folder and not self.to_table, "to_table is missing: the table that follows"),
            (folder and bool(used), f"to_folder: files have no {', '.join(used)}; leave that out"),
            (not folder and (self.first or self.format != "events"), "first and format are for files: to_folder"),
            (bool(both), f"only and ignore both name {', '.join(both)}"),
            (not self.follower.strip(), "follower is the name by which the position is kept; give one"),
            (log and self.delete != "remove", 'keep = "changes" appends deletes like all changes; leave out delete'),
            (log and self.conflict is not None, 'keep = "changes" replaces no row; leave out conflict'),
            (
                self.versions == "current"
                and (log or folder or self.conflict is not None or bool(self.changes_to) or self.when is not None),
                'versions = "current" keeps one row of each thing up to date; leave out keep, to_folder, conflict, '
                "changes_to and when",
            ),
            (log and bool(self.key), 'keep = "changes" has the key change_no; leave out key'),
            (log and bool(self.columns), 'keep = "changes" compares nothing; leave out columns'),
        ):
            if given:
                raise ValueError(words)
        if not folder:
            self.merge_job(["x"])
        return self

    def merge_job(self, key: list[str], **more: Any) -> Job:
        """The job that merges what is sent into `to_table`."""
        assert self.to_store is not None
        given = {name: getattr(self, name) for name in OF_THE_MERGE}
        return Job(store=self.to_store, table=self.to_table, key=key, **given | more)

    @property
    def source(self) -> str | None:
        """The file that the sync was loaded from."""
        return self._source

    @classmethod
    def load(cls, path: str | os.PathLike[str], *, names: Mapping[str, str] | None = None) -> Sync:
        """Load a file. Relative paths in it count from the file's own folder; `names` gives values for its ${NAME}.

        Raises JobError if the file is not there, is not TOML, or says something that a sync does not know.
        """
        path = os.fspath(path)
        options = read_job_file(path, names or {}, False)
        try:
            sync = cls(**options)
        except JobError as error:
            raise JobError(f"{path}: {error}") from None
        sync._source = path
        return sync
