"""Restoring the records of a file of rejects: without columns that they did not send, and without apostrophes that we
added."""

from __future__ import annotations

import glob
import json
import os
import re
from collections.abc import Iterable, Iterator
from dataclasses import replace
from fnmatch import fnmatch
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.types as pt

from ..core.masks import mask_of
from ..core.names import not_text
from ..core.records import REJECT_COLUMNS, REJECT_SHAPE, REJECT_TEXT
from ..errors import IncomingError, JobError
from .chunks import Chunk, Options, Source

ROW, ABSENT, FORMULAS = "rmend_row", "rmend_absent", "rmend_formulas"
_ENDINGS = (".csv", ".jsonl", ".parquet")
_SIGNS, _TEXT = set(REJECT_SHAPE.names), REJECT_SHAPE.names[2]
FORMULA = r"^'*[=+\-@\t\r]"
"""Texts that a spreadsheet would take for a formula, or that an apostrophe keeps from being one."""


def own_options(first: bytes, options: Options) -> Options:
    """The options for a file with this beginning: files of rejects are always written in the same way."""
    match = re.match(rb"(?:\xef\xbb\xbf)?\"?rmend_row\"?(.)\"?rmend_reason\"?\1", first)
    if match is None:
        return options
    usual, nulls = Options(), tuple({*options.nulls, ""})
    delimiter = match[1].decode("latin-1")
    return replace(options, delimiter=delimiter, quote=usual.quote, skip=0, encoding=usual.encoding, nulls=nulls)


def kept_name(name: str) -> str:
    """The name of an incoming column in a file of rejects: one that has a name of ours gets an underscore more."""
    return f"{name}_" if name.rstrip("_") in REJECT_COLUMNS else name


def own_name(name: str) -> str:
    """What a column of a file of rejects was called when it came."""
    if name == _TEXT:
        return REJECT_TEXT
    return name[:-1] if name.endswith("_") and name.rstrip("_") in REJECT_COLUMNS else name


def schema_of(source: Source) -> pa.Schema | None:
    """The columns with which the records of a source come, as `restored` gives them."""
    schema = source.schema
    if schema is None or not set(schema.names) >= _SIGNS:
        return schema
    return pa.schema([field.with_name(own_name(field.name)) for field in schema if _is_sent(field.name)])


def _is_sent(name: str) -> bool:
    """Whether a column of a file of rejects is one of the records' own, or that of their text."""
    return name == _TEXT or name not in REJECT_COLUMNS


def is_ragged(source: Source) -> bool:
    """Whether a record of a source may lack columns that others have."""
    return source.ragged or (source.schema is not None and {*_SIGNS, ABSENT} <= set(source.schema.names))


def restored(chunks: Iterable[Chunk]) -> Iterator[Chunk]:
    """Chunks as they first came, without the columns that a file of rejects adds."""
    for chunk in chunks:
        names = set(chunk.raw.column_names)
        if not names >= _SIGNS:
            yield chunk
            continue
        raw = _with_formulas(chunk.raw) if FORMULAS in names else chunk.raw
        told = raw[ABSENT].cast(pa.string()).combine_chunks() if ABSENT in names else None
        raw = raw.select(list(filter(_is_sent, raw.column_names)))
        raw = raw.rename_columns([own_name(name) for name in raw.column_names])
        if told is None:
            yield Chunk(raw, chunk.rows)
            continue
        coded, names = told.dictionary_encode(null_encoding="encode"), set(raw.column_names)
        for code, text in enumerate(coded.dictionary.to_pylist()):
            here = mask_of(pc.equal(coded.indices, code))
            for mask, absent in _by_absent(raw, here, [name for name in map(own_name, _names(text)) if name in names]):
                yield Chunk(raw.drop_columns(absent).filter(pa.array(mask)), chunk.rows[mask])


def _by_absent(table: pa.Table, mask: np.ndarray, names: list[str]) -> Iterator[tuple[np.ndarray, list[str]]]:
    """Masks of the rows that lack the same columns. A column that somebody filled in since is not absent."""
    groups: list[tuple[np.ndarray, list[str]]] = [(mask, [])]
    for name in names:
        null = table[name].is_null().to_numpy()
        groups = [
            (part, lacks) for here, absent in groups
            for part, lacks in ((here & null, [*absent, name]), (here & ~null, absent)) if part.any()
        ]  # fmt: skip
    return iter(groups)


def _names(text: str | None) -> list[str]:
    try:
        names = json.loads(text) if text else []
        if isinstance(names, list) and all(isinstance(one, str) for one in names):
            return names
    except ValueError:
        pass
    raise IncomingError(
        f"{ABSENT}: {text!r} is no list of names; leave that column of a file of rejects as it was", place=ABSENT
    )


def _with_formulas(table: pa.Table) -> pa.Table:
    for at, field in enumerate(table.schema):
        if pt.is_string(field.type):
            values = table[field.name]
            ours = pc.and_(pc.match_substring_regex(values, FORMULA), pc.starts_with(values, "'"))
            ours = pc.fill_null(ours, False)
            table = table.set_column(at, field, pc.if_else(ours, pc.utf8_slice_codeunits(values, 1), values))
    return table.drop_columns([FORMULAS])


def check_rejects_path(path: str, batch: Any = None) -> None:
    """Raise JobError unless rejects can be written to `path` without overwriting anything but a file of rejects."""
    if why := not_text(path, path=True):
        raise JobError(f"rejects: {path!r} is no path: {why}")
    if os.path.isdir(path):
        raise JobError(f"rejects: {path} is a folder; name a file in it")
    if not path.endswith(_ENDINGS):
        raise JobError(f"rejects: {path!r} must end in .csv, .jsonl or .parquet")
    folder = os.path.dirname(os.path.abspath(path))
    if not os.path.isdir(folder):
        raise JobError(f"rejects: there is no folder {folder}; make it, or write the rejects elsewhere")
    if not os.access(folder, os.W_OK):
        raise JobError(f"rejects: the folder {folder} cannot be written to by this user")
    pattern = isinstance(batch, str) and not os.path.exists(batch) and glob.has_magic(batch)
    if pattern and fnmatch(os.path.abspath(path), os.path.abspath(batch)):
        raise JobError(f"rejects: {batch} would take in {path} the next time; write rejects elsewhere")
    if not os.path.lexists(path):
        return
    if isinstance(batch, str | os.PathLike) and os.path.exists(batch) and os.path.samefile(batch, path):
        raise JobError(f"rejects: {path} is the batch itself; name another file")
    if not _is_ours(path):
        raise JobError(f"rejects: {path} is there already, and is no file of rejects; name another file, or move it")


def _is_ours(path: str) -> bool:
    """Whether a file is one of rejects, or has nothing in it."""
    try:
        with open(path, "rb") as file:
            first = file.read(64)
        if path.endswith(".parquet") and first:
            import pyarrow.parquet as pq

            return ROW in pq.read_schema(path).names
    except (OSError, pa.ArrowException):
        return False
    return first.removeprefix(b"\xef\xbb\xbf").lstrip(b'{" ').startswith(ROW.encode()) or not first
