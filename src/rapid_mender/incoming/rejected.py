"""Records of a file of rejects as they came: what they did not send is not there, and no apostrophe that we put."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.types as pt

from ..core.masks import mask_of
from ..errors import IncomingError
from .chunks import Chunk, Options, Source

ROW, ABSENT, FORMULAS = "rmend_row", "rmend_absent", "rmend_formulas"
FORMULA = r"^'*[=+\-@\t\r]"
"""What a spreadsheet would take for a formula; or for one that an apostrophe keeps from being one."""


def own_options(first: bytes, options: Options) -> Options:
    """How a file is written that begins so: a file of rejects is written in one way, whatever the batch was."""
    head = first.removeprefix(b"\xef\xbb\xbf").replace(b'"', b"")
    if not head.startswith(ROW.encode()) or len(head) == len(ROW):
        return options
    return Options(head[len(ROW) : len(ROW) + 1].decode("latin-1"), "utf-8", tuple({*options.nulls, ""}))


def is_ragged(source: Source) -> bool:
    """Whether a record of a source may lack columns that others have."""
    return source.ragged or (source.schema is not None and {ROW, ABSENT} <= set(source.schema.names))


def restored(chunks: Iterable[Chunk]) -> Iterator[Chunk]:
    """Chunks without what a file of rejects says beside the records."""
    for chunk in chunks:
        names = set(chunk.raw.column_names)
        if ROW not in names:
            yield chunk
            continue
        raw = _with_formulas(chunk.raw) if FORMULAS in names else chunk.raw
        if ABSENT not in names:
            yield Chunk(raw, chunk.rows)
            continue
        coded = raw[ABSENT].cast(pa.string()).combine_chunks().dictionary_encode(null_encoding="encode")
        rest = raw.drop_columns([ABSENT])
        for code, text in enumerate(coded.dictionary.to_pylist()):
            here = mask_of(pc.equal(coded.indices, code))
            for mask, absent in _by_absent(rest, here, [name for name in _names(text) if name in names]):
                yield Chunk(rest.drop_columns(absent).filter(pa.array(mask)), chunk.rows[mask])


def _by_absent(table: pa.Table, mask: np.ndarray, names: list[str]) -> Iterator[tuple[np.ndarray, list[str]]]:
    """Masks of the rows that lack the same of some columns: one that was filled in since is not absent."""
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
        found = json.loads(text) if text else []
        if isinstance(found, list) and all(isinstance(one, str) for one in found):
            return found
    except ValueError:
        pass
    raise IncomingError(f"{ABSENT}: {text!r} is no list of names; leave that column of a file of rejects as it was")


def _with_formulas(table: pa.Table) -> pa.Table:
    for at, field in enumerate(table.schema):
        if pt.is_string(field.type):
            values = table[field.name]
            ours = pc.and_(pc.match_substring_regex(values, FORMULA), pc.starts_with(values, "'"))
            ours = pc.fill_null(ours, False)
            table = table.set_column(at, field, pc.if_else(ours, pc.utf8_slice_codeunits(values, 1), values))
    return table.drop_columns([FORMULAS])
