"""Incoming records in the table's terms: named by its columns, in their types, with their faults."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from datetime import datetime

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.types as pt

from ..errors import JobError
from .cast import as_text, cast, plain, wanted
from .expressions import Env, Expression
from .expressions.scope import Name
from .names import in_quotes, near_hint
from .notation import Notation, read_values
from .schema import Column, TableInfo

REJECT_TEXT = "\x00text"
"""The column of incoming records in which the text of one comes again that could not be split into values."""
REJECT_COLUMNS = ("rmend_row", "rmend_reason", "rmend_text", "rmend_batch", "rmend_absent", "rmend_formulas")
"""What stands before the columns of a rejected record. A file of rejects can be merged: there they say nothing."""

REJECT_SHAPE = pa.schema([("rmend_row", pa.int64()), ("rmend_reason", pa.string()), ("rmend_text", pa.string())])
"""What a run itself says of a reject."""

_SHOWN = 60  # characters of a bad value that a reason repeats


NO_NOTATIONS: Mapping[str, Notation] = {}


@dataclass
class Records:
    """A chunk of incoming records. `faults` has a reason where a record cannot be used, else null."""

    rows: np.ndarray
    values: pa.Table
    faults: pa.Array
    extras: dict[str, pa.Array] = field(default_factory=dict)
    """Columns that go nowhere and that expressions or functions may read."""

    def add_fault(self, mask: np.ndarray, reasons: pa.Array | str) -> None:
        """Note `reasons` (one, or one for each true of `mask`) beside the faults that are there already."""
        if not mask.any():
            return
        count = int(mask.sum())
        new = pa.array([reasons] * count) if isinstance(reasons, str) else reasons
        old = self.faults.filter(pa.array(mask))
        both = pc.binary_join_element_wise(old, new, "; ", null_handling="skip")
        self.faults = pc.replace_with_mask(self.faults, mask, both)


def known_column(info: TableInfo, name: str) -> Column:
    """The column of this name. Raises JobError, with the nearest name, if there is none."""
    column = info.named(name)
    if column is None:
        mend = near_hint(name, info.names) or f"; its columns are {in_quotes(info.names)}"
        raise JobError(f"table {info.name!r} has no column {name!r}{mend}")
    return column


def value_of(column: Column, value: object) -> pa.Scalar:
    """A value as one of a column. Raises JobError if it cannot be."""
    values = pa.array([value])
    done, bad = cast(values, column)
    if bad is not None and bad.any():
        raise JobError(misfit(values, column)[0].as_py())
    return plain(done)[0]


def read_columns(
    raw: pa.Table,
    rows: np.ndarray,
    mapping: Mapping[str, str],
    info: TableInfo,
    notations: Mapping[str, Notation] = NO_NOTATIONS,
) -> Records:
    """Cast the mapped columns of `raw` to the table's types; a value that cannot be is a fault of its row. `notations`:
    how texts are written, by the columns of the table."""
    arrays: list[pa.Array] = []
    records = Records(rows, pa.table({}), pa.nulls(len(rows), pa.string()))
    for name, target in mapping.items():
        column = info[target]
        values, bad = read_values(raw[name], column, notations.get(target))
        arrays.append(values)
        if bad is not None and bad.any():
            notation = notations.get(target)
            why = notation.words(wanted(column)) if notation is not None else None
            records.add_fault(bad, misfit(plain(raw[name]).filter(pa.array(bad)), column, why))
    records.values = pa.table(arrays, names=list(mapping.values()))
    return records


def misfit(values: pa.Array, column: Column, why: str | None = None) -> pa.Array:
    """A reason for each of `values` that does not fit `column`."""
    shown, _ = as_text(values)
    clipped = pc.if_else(
        pc.greater(pc.utf8_length(shown), _SHOWN),
        pc.binary_join_element_wise(pc.utf8_slice_codeunits(shown, 0, _SHOWN), "…", ""),
        shown,
    )
    quoted = pc.binary_join_element_wise("'", clipped, "'", "")
    texts = pc.fill_null(quoted, "the value")
    if why is None and (pt.is_decimal(column.type) or pt.is_floating(column.type)):
        comma = pc.fill_null(pc.match_substring_regex(shown, r"^\s*[+-]?[0-9]+(\.[0-9]{3})*,[0-9]+\s*$"), False)
        mend = pc.if_else(comma, "; write a point for the comma", "")
        words = pa.scalar(f" is not {wanted(column)}")
        return pc.binary_join_element_wise(f"{column.name}: ", texts, words, mend, "")
    return pc.binary_join_element_wise(f"{column.name}: ", texts, f" is not {why or wanted(column)}", "")


def derive(
    records: Records,
    derived: Mapping[str, Expression],
    values: dict[Name, pa.Array],
    now: datetime,
    info: TableInfo,
    own: Mapping[str, pa.Array],
    notations: Mapping[str, Notation] = NO_NOTATIONS,
) -> None:
    """Put derived columns among the records' values; one that cannot be computed or stored is a fault.

    `values` are those of the incoming side; each derived column stands there for those that are derived after it. `own`
    has what came for a derived column, which its own expression reads. A derived text is read like one that came.
    """
    done = dict(zip(records.values.column_names, records.values.columns, strict=True))
    for name, expression in derived.items():
        came = {("incoming", name): own[name]} if name in own else {}
        cells, column = expression.evaluate(Env(len(records.rows), values | came, now)), info[name]
        value, bad = read_values(cells.values, column, notations.get(name))
        if bad is not None and bad.any():
            records.add_fault(bad, misfit(plain(cells.values).filter(pa.array(bad)), column))
        if cells.failed is not None:
            why = (
                f"{name}: {expression.text} cannot be computed (division by zero, overflow, or a text of another form)"
            )
            records.add_fault(cells.failed & records.faults.is_null().to_numpy(zero_copy_only=False), why)
        done[name] = values["incoming", name] = value
    records.values = pa.table(done)


def lacks_value(column: str) -> str:
    """The reason for rejecting a record without a value for a required column."""
    return f"{column} is required (NOT NULL) and came without a value"


def check_required(records: Records, info: TableInfo, columns: Iterable[str]) -> None:
    """A null that was sent for one of `columns` that takes none is a fault."""
    for name in columns:
        column = info[name]
        if not column.nullable and records.values[name].null_count:
            empty = pc.and_(pc.is_null(records.values[name].combine_chunks()), pc.is_null(records.faults))
            records.add_fault(
                empty.to_numpy(zero_copy_only=False),
                lacks_value(name),
            )
