"""Rows in a form that does not depend on the store that keeps them, to be hashed: every value as a netstring.

A netstring is the length of a text in bytes, a colon, the text in UTF-8, and a comma (D. J. Bernstein, "Netstrings",
1997). A value that is null is a lone hyphen and a comma. So two different rows never have the same form.
"""

from __future__ import annotations

from collections.abc import Iterable

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.types as pt

from .cast import as_text, plain
from .existing import Existing

_NULL = "-,"
_SAMPLE = 1024
"""Of so many values it is seen whether they repeat."""
_LEAST = 16
"""Fewer are spelled one by one."""
_LONG = 4096
"""Up to this length in bytes, lengths are spelled beforehand."""
_Pieces = list[pa.Array | pa.Scalar]
"""Texts that make one if they are put together; a scalar is the same for every row."""


def netstrings(texts: Iterable[object]) -> bytes:
    """A few values, in order."""
    out = []
    for text in texts:
        data = str(text).encode()
        out.append(_NULL.encode() if text is None else b"%d:%s," % (len(data), data))
    return b"".join(out)


def canonical_rows(rows: Existing) -> pa.Array:
    """Each row as one text: its values as netstrings, column after column."""
    pieces: _Pieces = []
    for name in rows.values.column_names:
        for piece in _canonical(rows, name):
            if isinstance(piece, pa.Scalar) and pieces and isinstance(pieces[-1], pa.Scalar):
                pieces[-1] = pa.scalar(pieces[-1].as_py() + piece.as_py())
            else:
                pieces.append(piece)
    joined = pc.binary_join_element_wise(*pieces, "")
    return pa.repeat(joined, rows.values.num_rows) if isinstance(joined, pa.Scalar) else joined


def _canonical(rows: Existing, name: str) -> _Pieces:
    """The cells of a column."""
    values = plain(rows.values[name])
    if name in rows.verbatim:
        cells = rows.verbatim[name]
        return _netstrings(pc.replace_with_mask(_texts(values), pa.array(cells.mask), plain(cells.text)))
    if not _repeats(values):
        return _netstrings(_texts(values))
    few = values.dictionary_encode()
    each = pc.binary_join_element_wise(*_netstrings(_texts(few.dictionary)), "")
    if len(few.dictionary) == 1 and not few.null_count:
        return [each[0]]
    return [pc.fill_null(each.take(few.indices), _NULL)]


def _repeats(values: pa.Array) -> bool:
    """Whether values repeat so often that each is spelled once only. Not so numbers with a point: two zeros are one."""
    sample = values[:_SAMPLE]
    alike = pt.is_floating(values.type) or pt.is_nested(values.type) or len(sample) < _LEAST
    return not alike and len(sample.unique()) * 4 <= len(sample)


def _texts(values: pa.Array) -> pa.Array:
    """Values as text; 1, 1.0 and 1.00 are one number."""
    texts = as_text(values)[0]
    if pt.is_decimal(values.type) and values.type.scale > 0:
        return pc.ascii_rtrim(pc.ascii_rtrim(texts, "0"), ".")
    return texts


def _netstrings(texts: pa.Array) -> _Pieces:
    lengths = pc.binary_length(texts.cast(pa.binary()))
    least, most = pc.min_max(lengths).values()
    if texts.null_count or not len(texts) or most.as_py() > _LONG:
        sizes = lengths.cast(pa.string())
        return [pc.fill_null(pc.binary_join_element_wise(sizes, ":", texts, ",", ""), _NULL)]
    sizes = [f"{length}:" for length in range(most.as_py() + 1)]
    return [pa.scalar(sizes[-1]) if least == most else pa.array(sizes).take(lengths), texts, pa.scalar(",")]
