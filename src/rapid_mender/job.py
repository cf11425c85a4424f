"""What a merge is told: a Job in Python, a TOML file on disk, with the same names in both."""

from __future__ import annotations

import os
import tomllib
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, PrivateAttr, ValidationError

from .core.names import closest
from .errors import JobError
from .incoming.chunks import Options
from .stores.base import Store

_Names = Annotated[list[str], BeforeValidator(lambda value: [value] if isinstance(value, str) else value)]


class _Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", arbitrary_types_allowed=True, strict=True, frozen=True)

    def __init__(self, **options: Any) -> None:
        try:
            super().__init__(**options)
        except ValidationError as error:
            raise JobError(_in_words(type(self), error)) from None


class Incoming(_Strict):
    """Where the incoming records are, and how a text file of them is written."""

    path: str
    delimiter: str = Field(",", min_length=1, max_length=1)
    encoding: str = "utf-8"
    nulls: tuple[str, ...] = Field(("",), strict=False)
    """The texts that stand for no value, unless quoted."""

    @property
    def options(self) -> Options:
        return Options(self.delimiter, self.encoding, self.nulls)


class Job(_Strict):
    """All that a merge is told.

    `store` is a URL or a Store; `table` a table in it; `key` the columns that identify a record. The other
    options have defaults: see docs/job-file.md. Raises JobError for an unknown option or a wrong value.
    """

    store: str | Store
    table: str
    key: _Names = Field(min_length=1)
    incoming: Annotated[
        Incoming | None, BeforeValidator(lambda value: {"path": value} if isinstance(value, str) else value)
    ] = None
    rename: dict[str, str] = {}
    ignore: _Names = []
    duplicates: Literal["reject", "first", "last"] = "reject"
    rejects: str | None = None
    history: bool = True

    _source: str | None = PrivateAttr(None)

    @property
    def source(self) -> str | None:
        """The file that the job was loaded from."""
        return self._source

    @classmethod
    def load(cls, path: str | os.PathLike[str]) -> Job:
        """Load a job file. Relative paths in it count from the file's own folder.

        Raises JobError if the file is not there, is not TOML, or says something that a job does not know.
        """
        path = os.fspath(path)
        try:
            with open(path, "rb") as file:
                options = tomllib.load(file)
        except FileNotFoundError:
            raise JobError(f"there is no job file {path}") from None
        except IsADirectoryError:
            raise JobError(f"{path} is a folder, not a job file") from None
        except PermissionError:
            raise JobError(f"{path} cannot be read by this user; change the rights on it") from None
        except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
            raise JobError(f"{path} is not TOML: {error}") from None
        folder = Path(path).parent
        try:
            job = cls(**_relative_to(folder, options))
        except JobError as error:
            raise JobError(f"{path}: {error}") from None
        job._source = path
        return job


def _relative_to(folder: Path, options: dict[str, Any]) -> dict[str, Any]:
    out = dict(options)
    store, incoming = out.get("store"), out.get("incoming")
    if isinstance(store, str) and store.startswith("sqlite:///"):
        out["store"] = f"sqlite:///{folder / store[10:]}"
    if isinstance(incoming, str):
        out["incoming"] = str(folder / incoming)
    elif isinstance(incoming, dict) and isinstance(incoming.get("path"), str):
        out["incoming"] = incoming | {"path": str(folder / incoming["path"])}
    if isinstance(out.get("rejects"), str):
        out["rejects"] = str(folder / out["rejects"])
    return out


def _in_words(model: type[BaseModel], error: ValidationError) -> str:
    """What is wrong with the options, one sentence each."""
    sentences = []
    for one in error.errors():
        place = [
            str(part) for part in one["loc"] if not str(part).startswith(("function-", "is-instance", "constrained"))
        ]
        name = ".".join(place)
        if one["type"] == "extra_forbidden":
            known = list((Incoming if place[0] == "incoming" and len(place) > 1 else model).model_fields)
            close = closest(place[-1], known)
            mend = f"did you mean {close!r}?" if close else f"the options are {', '.join(known)}"
            sentences.append(f"there is no option {name!r}; {mend}")
        elif one["type"] == "missing":
            sentences.append(f"the option {name!r} is missing")
        elif one["type"] == "literal_error":
            sentences.append(f"{name} is {one['ctx']['expected']}, not {one['input']!r}")
        else:
            message = (
                one["msg"]
                .replace("Input should be", "must be")
                .replace("valid ", "")
                .replace("a boolean", "true or false")
            )
            sentences.append(f"{name}: {message[0].lower()}{message[1:]}, not {one['input']!r}")
    return "; ".join(dict.fromkeys(sentences))
