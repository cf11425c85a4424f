"""Options that several commands share."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING, Annotated

import typer

if TYPE_CHECKING:
    from ..jobs.job import Job
    from ..stores.contract import Store

JobFile = Annotated[str, typer.Argument(metavar="JOB", help="The job file (TOML).")]
Batch = Annotated[
    str | None,
    typer.Argument(
        metavar="INCOMING",
        help="A CSV, JSON Lines or Parquet file, several by a pattern in quotes, or - for standard input; default: "
        "the job's own.",
    ),
]
By = Annotated[
    str | None,
    typer.Option("--by", metavar="COLUMN|SQL", help="Count decisions and rows by a column or an SQL expression."),
]
AsJson = Annotated[bool, typer.Option("--json", help="Print one JSON document instead of tables.")]
OtherStore = Annotated[
    str | None, typer.Option("--store", metavar="URL", help="Use this store in the place of the job's own.")
]
Names = Annotated[
    list[str] | None,
    typer.Option("--set", metavar="NAME=VALUE", help="A value for ${NAME} in the job file; once for each name."),
]
Key = Annotated[
    list[str] | None, typer.Option("--key", metavar="COLUMN=VALUE", help="One record; once for each key column.")
]


Force = Annotated[bool, typer.Option("--force", help="Go by batches also that were altered since they were sealed.")]
Where = Annotated[str, typer.Argument(metavar="JOB|STORE", help="A job file, or a store URL.")]
Table = Annotated[str | None, typer.Option("--table", help="The table; needed with a store URL.")]


def place_of(
    where: str, store: str | None, names: list[str] | None, table: str | None = None, needed: bool = True
) -> tuple[str | Store, str, list[str]]:
    """The store, the table and the key, if a job file names them; `table` is told beside it, or else `needed`."""
    if "://" in where and not os.path.exists(where):
        if needed and table is None:
            from ..errors import JobError

            raise JobError("name the table with --table, or give a job file instead of a store URL")
        return where, table or "", []
    job = load(where, store, names)
    return job.store, table or job.table, job.key


def load(job: str, store: str | None, names: list[str] | None) -> Job:
    """The job in a file, with the options that the command line overrides."""
    from ..jobs.job import Job

    return Job.load(job, store=store, names=pairs("--set", "NAME=VALUE", names))


def pairs(option: str, form: str, words: list[str] | None) -> dict[str, str]:
    """NAME=VALUE words as a mapping. Raises JobError for a word without a value, or a name given twice."""
    from ..errors import JobError

    given: dict[str, str] = {}
    for word in words or []:
        name, separator, value = word.partition("=")
        if not separator or not name:
            raise JobError(f"{option} {name!r} is not {form}" if option != "--set" else f"{option} takes {form}")
        if name in given:
            raise JobError(f"{option} says {name!r} twice")
        given[name] = value
    return given
