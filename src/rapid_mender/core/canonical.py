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


def netstrings(texts: Iterable[object]) -> bytes:
    """A few values, in order."""
    out = []
    for text in texts:
        data = str(text).encode()
        out.append(_NULL.encode() if text is None else b"%d:%s," % (len(data), data))
    return b"".join(out)


def canonical_rows(rows: Existing) -> pa.Array:
    """Each row as one text: its values as netstrings, column after column."""
    cells = [_canonical(rows, name) for name in rows.values.column_names]
    return pc.binary_join_element_wise(*cells, "")


def _canonical(rows: Existing, name: str) -> pa.Array:
    values = plain(rows.values[name])
    texts = as_text(values)[0]
    if pt.is_floating(values.type) or pt.is_decimal(values.type):  # 1, 1.0 and 1.00 are one number
        texts = pc.replace_substring_regex(texts, r"^(-?\d+)(\.\d*?)0+$", r"\1\2")
        texts = pc.replace_substring_regex(texts, r"\.$", "")
    if name in rows.verbatim:
        cells = rows.verbatim[name]
        texts = pc.replace_with_mask(texts, pa.array(cells.mask), plain(cells.text))
    size = pc.binary_length(texts.cast(pa.binary())).cast(pa.string())
    return pc.fill_null(pc.binary_join_element_wise(size, ":", texts, ",", ""), _NULL)
