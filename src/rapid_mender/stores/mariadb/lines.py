"""Rows as lines of CSV: as LOAD DATA sends them, and as the server spells them."""

from __future__ import annotations

from collections.abc import Sequence

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pcsv
import pyarrow.types as pt

from ...core.cast import as_text, hexadecimal
from ..sql.link import Cells, Pick


def lines_of(columns: Sequence[Cells]) -> pa.Buffer | bytes:
    """Rows as CSV: null is NULL, texts stand in quotes."""
    cells = []
    for _, values in columns:
        texts = hexadecimal(values) if pt.is_binary(values.type) else as_text(values)[0]
        if pt.is_string(values.type):
            if pc.any(pc.match_substring(texts, '"')).as_py():
                texts = pc.replace_substring(texts, '"', '""')
            texts = pc.binary_join_element_wise('"', texts, '"', "")
        cells.append(texts)
    rows = pc.binary_join_element_wise(*cells, ",", null_handling="replace", null_replacement="NULL")
    lines = pc.binary_join_element_wise(rows, "\n", "")
    offsets, data = lines.buffers()[1:]
    if data is None:
        return b""
    ends = memoryview(offsets).cast("i")
    return data.slice(ends[lines.offset], ends[lines.offset + len(lines)] - ends[lines.offset])


def parsed(texts: Sequence[bytes], picks: Sequence[Pick]) -> pa.Table | None:
    """Lines of CSV as a table; None if they are not whole."""
    names = [one.alias for one in picks]
    schema = pa.schema([(one.alias, one.wire) for one in picks])
    if not texts:
        return schema.empty_table()
    data = b"\n".join(texts) + b"\n"
    plain = [(field.name, field.type if pt.is_integer(field.type) else pa.string()) for field in schema]
    for types in (schema, pa.schema(plain)):  # what is no time of the calendar stays a text
        try:
            return pcsv.read_csv(
                pa.BufferReader(data),
                pcsv.ReadOptions(column_names=names, block_size=len(data) + 1, use_threads=len(data) > 1 << 20),
                pcsv.ParseOptions(newlines_in_values=True, ignore_empty_lines=False),
                pcsv.ConvertOptions(
                    check_utf8=False, column_types=types, null_values=[""], strings_can_be_null=True,
                    quoted_strings_can_be_null=False,
                ),
            )  # fmt: skip
        except pa.ArrowInvalid as error:
            if "CSV parse error" in str(error):
                return None
    return None
