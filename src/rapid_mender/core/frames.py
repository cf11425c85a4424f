"""Frames of pandas and polars as Arrow tables, and which types a column of any frame may have."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

import pyarrow as pa
import pyarrow.types as pt

from ..errors import IncomingError
from .cast import plain
from .names import in_quotes
from .values import array_of


def as_table(frame: Any) -> pa.Table | list[dict[str, Any]] | None:
    """A frame as an Arrow table, or as dicts if its columns have no types; None if it is none.

    Raises IncomingError for one whose columns cannot be told apart, or hold what no column of a table could.
    """
    if isinstance(frame, pa.RecordBatch):
        frame = pa.Table.from_batches([frame])
    if isinstance(frame, pa.Table):
        return checked(frame)
    library = type(frame).__module__.partition(".")[0]
    if library == "polars":
        frame = _of_polars(frame)
    if library == "pandas" and hasattr(frame, "columns"):
        table = _of_pandas(frame)
        return checked(table) if isinstance(table, pa.Table) else table
    if not hasattr(frame, "__arrow_c_stream__"):
        return None
    try:
        return checked(pa.table(frame))
    except (pa.ArrowException, TypeError, ValueError) as error:
        raise IncomingError(f"a {type(frame).__name__} cannot be read as records: {error}; give a frame") from error


def checked(table: pa.Table) -> pa.Table:
    """The table, with the values themselves for dictionaries, run lengths and views: Arrow takes no rows of some.

    Raises IncomingError if a column is of a type that stands for no value of any database.
    """
    for place, field in enumerate(table.schema):
        if why := _verbatim(field.type):
            raise IncomingError(f"column {field.name!r} holds {why}; write it as a text or a number before")
        kind = _of_values(field.type)
        if kind != field.type:
            named = pa.field(field.name, kind, field.nullable)
            table = table.set_column(place, named, _valued(table[field.name], kind))
    return table


def _of_values(kind: pa.DataType) -> pa.DataType:
    if pt.is_dictionary(kind) or pt.is_run_end_encoded(kind):
        return _of_values(kind.value_type)
    return pa.large_string() if pt.is_string_view(kind) else pa.large_binary() if pt.is_binary_view(kind) else kind


def _valued(values: pa.ChunkedArray, kind: pa.DataType) -> pa.ChunkedArray:
    return pa.chunked_array([plain(chunk).cast(kind) for chunk in values.chunks], kind)


def _verbatim(kind: pa.DataType) -> str | None:
    if isinstance(kind, pa.BaseExtensionType):
        if kind.extension_name.startswith("pandas.period"):
            return "periods"
        return _verbatim(kind.storage_type)
    if pt.is_dictionary(kind) or pt.is_run_end_encoded(kind):
        return _verbatim(kind.value_type)
    return "unions" if pt.is_union(kind) else "calendar intervals" if pt.is_interval(kind) else None


def _of_polars(frame: Any) -> Any:
    import polars as pl

    frame = frame.collect() if isinstance(frame, pl.LazyFrame) else frame
    if not isinstance(frame, pl.DataFrame):
        return frame
    objects = [name for name, kind in frame.schema.items() if kind == pl.Object]
    if objects:
        raise IncomingError(f"column {objects[0]!r} holds Python objects; write them as texts or numbers before")
    huge = [name for name, kind in frame.schema.items() if str(kind) in ("Int128", "UInt128")]  # which Arrow lacks
    return frame.with_columns([pl.col(name).cast(pl.String) for name in huge]) if huge else frame


def _of_pandas(frame: Any) -> pa.Table | list[dict[str, Any]]:
    """As a table; where a column has values of several kinds, none of which is to be taken for another, as dicts."""
    import pandas as pd

    named = [name for name in frame.index.names if name is not None]
    if named:  # an index with a name is a column; one without counts rows
        clash = [name for name in named if name in frame.columns]
        if clash:
            raise IncomingError(f"the frame has {in_quotes(map(str, clash))} as a column and as its index; rename one")
        frame = frame.reset_index(level=[n for n, name in enumerate(frame.index.names) if name is not None])
    names = [str(name) for name in frame.columns]
    twice = sorted({name for name in names if names.count(name) > 1})
    if twice:
        raise IncomingError(f"the batch has more than one column named {in_quotes(twice)}; give them different names")
    columns = [frame.iloc[:, place] for place in range(len(names))]
    columns = [one.sparse.to_dense() if isinstance(one.dtype, pd.SparseDtype) else one for one in columns]
    kinds = [_kinds(one) if one.dtype == object else set() for one in columns]
    try:
        if all(len(several) < 2 for several in kinds):
            arrays = [
                array_of(one.where(one.notna(), None).tolist()) if Decimal in several else pa.Array.from_pandas(one)
                for one, several in zip(columns, kinds, strict=True)
            ]
            return pa.table(arrays, names=names)
    except (pa.ArrowException, TypeError, ValueError, OverflowError):  # Arrow has no place for such values
        pass
    values = [one.astype(object).where(one.notna(), None).tolist() for one in columns]
    return [dict(zip(names, row, strict=True)) for row in zip(*values, strict=True)]


def _kinds(column: Any) -> set[type]:
    """The kinds of values in a column of Python objects: NaN is no value there."""
    return set(map(type, column[column.notna()]))
