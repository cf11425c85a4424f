"""A job as a TOML file: read, names filled in, paths counted from the file's own folder."""

from __future__ import annotations

import os
import re
import tomllib
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from ..errors import JobError
from ..stores.given import file_of, of_file
from ..stores.urls import path_shown

_LONGEST = 4 << 20  # bytes of a job file


def read_job_file(path: str, names: Mapping[str, str], other_store: bool) -> dict[str, Any]:
    """The options that a file gives. `names` has values for its ${NAME}, before the environment; `other_store`: its
    store does not count.

    Raises JobError if the file is not there, is not TOML, or names what is not known.
    """
    shown = path_shown(path)
    try:
        with open(path, "rb") as file:
            text = file.read(_LONGEST + 1)
        if len(text) > _LONGEST:
            raise JobError(f"{shown} is not a job file: it is longer than {_LONGEST:,} bytes")
        options = tomllib.loads(text.decode())
    except FileNotFoundError:
        raise JobError(f"there is no job file {shown}") from None
    except IsADirectoryError:
        raise JobError(f"{shown} is a folder, not a job file") from None
    except PermissionError:
        raise JobError(f"{shown} cannot be read by this user; change the rights on it") from None
    except RecursionError:
        raise JobError(f"{shown} is not a job file: its brackets are nested too deep") from None
    except ValueError as error:  # not TOML, no UTF-8, no path; or a number of more digits than Python reads
        raise JobError(f"{shown} is not TOML: {error}") from None
    except OSError as error:
        raise JobError(f"{shown} cannot be read: {error.strerror}") from None
    if other_store:
        options.pop("store", None)
    try:
        return _relative_to(Path(path).parent, _filled_in(options, names))
    except JobError as error:
        raise JobError(f"{shown}: {error}") from None


_FILLED = ("store", "table", "to_store", "to_table", "to_folder", "incoming", "rejects", "archive")
_VARIABLE = re.compile(r"\$\$\{|\$\{([A-Za-z_][A-Za-z0-9_]*)(?::-([^}]*))?\}")


def _filled_in(options: dict[str, Any], names: Mapping[str, str]) -> dict[str, Any]:
    """Fill in ${NAME} and ${NAME:-default}, from `names` or the environment, in options that say where things are;
    $${ stands for ${."""
    known = {**os.environ, **names}

    def fill(value: Any, place: str) -> Any:
        if isinstance(value, dict):
            return {name: fill(one, f"{place}.{name}") if name != "query" else one for name, one in value.items()}
        if not isinstance(value, str):
            return value

        def named(match: re.Match[str]) -> str:
            if match[0] == "$${":
                return "${"
            if match[2] is not None:
                return known.get(match[1]) or match[2]
            if match[1] not in known:
                raise JobError(
                    f"{place}: there is no {match[1]} in the environment; set it (or --set {match[1]}=VALUE), write "
                    f"${{{match[1]}:-default}}, or the value itself"
                )
            return known[match[1]]

        return _VARIABLE.sub(named, value)

    return options | {name: fill(options[name], name) for name in _FILLED if name in options}


def _store_from(folder: Path, store: Any) -> Any:
    """A store's URL, counted from a folder."""
    path = file_of(store)
    return store if path is None else of_file(folder / path)


def _path_from(folder: Path, path: str) -> str:
    """A path, counted from a folder; - is standard input."""
    return path if path == "-" else str(folder / path)


def _relative_to(folder: Path, options: dict[str, Any]) -> dict[str, Any]:
    out = dict(options)
    incoming = out.get("incoming")
    for name in ("store", "to_store"):
        if out.get(name) is not None:
            out[name] = _store_from(folder, out[name])
    if isinstance(incoming, str):
        out["incoming"] = _path_from(folder, incoming)
    elif isinstance(incoming, dict):
        moved = {"store": _store_from(folder, incoming.get("store"))} if "store" in incoming else {}
        if isinstance(incoming.get("path"), str):
            moved["path"] = _path_from(folder, incoming["path"])
        out["incoming"] = incoming | moved
    if isinstance(out.get("to_folder"), str):
        out["to_folder"] = _path_from(folder, out["to_folder"])
    rejects = out.get("rejects")
    if isinstance(rejects, str):
        out["rejects"] = str(folder / rejects)
    elif isinstance(rejects, dict) and isinstance(rejects.get("path"), str):
        out["rejects"] = rejects | {"path": str(folder / rejects["path"])}
    return out
