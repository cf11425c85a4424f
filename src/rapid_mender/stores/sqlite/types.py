"""SQLite's types: what a declared type means, and how its values are kept.

SQLite keeps any value in any column, in one of four forms (integer, real, text, blob), and turns some into
others by the column's affinity. This module maps declared types to Arrow types, and values to the one form
in which Rapid Mender writes each type. It reads other forms where their meaning is plain.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import lru_cache
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.types as pt

from ...core.cast import cast, hexadecimal
from ...core.keys import one_array
from ...core.schema import Column

PARTS = ("integer", "real", "text", "blob")
_PART_TYPES = {"integer": pa.int64(), "real": pa.float64(), "text": pa.string(), "blob": pa.binary()}

_INTEGERS = {
    "INT", "INTEGER", "TINYINT", "SMALLINT", "MEDIUMINT", "BIGINT", "BIG INT", "INT2", "INT4", "INT8", "LONG",
    "YEAR", "BIT", "SERIAL", "BIGSERIAL", "SMALLSERIAL",
}  # fmt: skip
_FLOATS = {"REAL", "DOUBLE", "DOUBLE PRECISION", "FLOAT", "FLOAT4", "FLOAT8", "FLOATING POINT", "SINGLE"}
_DECIMALS = {"DECIMAL", "NUMERIC", "NUMBER", "DEC", "FIXED", "MONEY", "CURRENCY", "SMALLMONEY"}
_BINARIES = {"BINARY", "VARBINARY", "BINARY VARYING", "BYTEA", "IMAGE", "RAW"}
_CHARACTERS = {
    "CHAR", "CHARACTER", "VARCHAR", "VARCHAR2", "NCHAR", "NVARCHAR", "NVARCHAR2", "BPCHAR", "CHARACTER VARYING",
    "CHAR VARYING", "VARYING CHARACTER", "NATIVE CHARACTER", "NATIONAL CHARACTER", "NATIONAL CHARACTER VARYING",
}  # fmt: skip
_STAMPS = {"DATETIME", "TIMESTAMP", "DATETIME2", "SMALLDATETIME", "TIMESTAMP WITHOUT TIME ZONE"}
_ZONED = {"TIMESTAMPTZ", "TIMESTAMP WITH TIME ZONE", "DATETIMEOFFSET"}
_DECLARED = re.compile(r"^(?P<name>[^(]*)(\(\s*(?P<size>\d+)[^,)]*(,\s*(?P<scale>\d+)\s*)?\))?(?P<rest>.*)$", re.S)


def affinity(declared: str | None) -> str:
    """The affinity that SQLite gives a declared type, by its own rules, in their order."""
    name = (declared or "").upper()
    if "INT" in name:
        return "INTEGER"
    if any(word in name for word in ("CHAR", "CLOB", "TEXT")):
        return "TEXT"
    if not name or "BLOB" in name or name == "ANY":
        return "BLOB"
    if any(word in name for word in ("REAL", "FLOA", "DOUB")):
        return "REAL"
    return "NUMERIC"


def column_type(declared: str, seen: frozenset[str] = frozenset()) -> tuple[pa.DataType, int | None]:
    """The Arrow type of a declared type, and the length that it sets for texts.

    `seen` are the forms of the values in the table, for a column that declares no type.
    """
    match = _DECLARED.match(" ".join(declared.upper().split()))
    assert match is not None
    name = (match["name"] + match["rest"]).replace("  ", " ").strip()
    name = re.sub(r"\s*\b(UNSIGNED|SIGNED|ZEROFILL)\b\s*", " ", name).strip()
    size = int(match["size"]) if match["size"] else None
    if name in _INTEGERS:
        return pa.int64(), None
    if name in ("BOOLEAN", "BOOL"):
        return pa.bool_(), None
    if name == "DATE":
        return pa.date32(), None
    if name in _STAMPS:
        return pa.timestamp("us"), None
    if name in _ZONED:
        return pa.timestamp("us", "UTC"), None
    if name in ("TIME", "TIME WITHOUT TIME ZONE"):
        return pa.time64("us"), None
    if name in _DECIMALS:
        scale = int(match["scale"] or 0)
        return (pa.decimal128(size, scale) if size and scale <= size <= 38 else pa.float64()), None
    if name in _FLOATS:
        return pa.float64(), None
    if name in _BINARIES:
        return pa.binary(), None
    if name in _CHARACTERS:
        return pa.string(), size
    if name in ("", "ANY"):
        for forms, kind in (
            ({"integer"}, pa.int64()),
            ({"integer", "real"}, pa.float64()),
            ({"blob"}, pa.binary()),
        ):
            if seen and seen <= forms:
                return kind, None
        return pa.string(), None
    by_affinity = {"INTEGER": pa.int64(), "REAL": pa.float64(), "BLOB": pa.binary()}
    return (pa.string() if name == "INTERVAL" else by_affinity.get(affinity(declared), pa.string())), None


def declare(column: Column) -> str:
    """The declared type with which Rapid Mender creates a column."""
    if column.declared is not None:
        return column.declared
    kind = column.type
    for test, words in (
        (pt.is_integer, "INTEGER"), (pt.is_boolean, "BOOLEAN"), (pt.is_floating, "REAL"), (pt.is_date, "DATE"),
        (pt.is_time, "TIME"), (pt.is_binary, "BLOB"), (pt.is_string, "TEXT"),
    ):  # fmt: skip
        if test(kind):
            return words
    if pt.is_decimal(kind):
        return f"DECIMAL({kind.precision},{kind.scale})"
    return "TIMESTAMP WITH TIME ZONE" if kind.tz else "TIMESTAMP"


@lru_cache(maxsize=4096)
def in_parts(column: Column) -> bool:
    """Whether the column may hold values of several forms without our noticing, so that it must be read form by form.

    The driver hands a column over in one type: reals for integers among reals, texts for numbers among texts,
    bytes for texts among blobs.
    """
    kind = column.type
    if column.normalises or pt.is_binary(kind):
        return True
    if pt.is_string(kind):
        return affinity(column.declared) != "TEXT"
    if pt.is_floating(kind):
        return affinity(column.declared) != "REAL"
    return bool(pt.is_decimal(kind) and kind.precision > 15)


def expected(column: Column) -> tuple[pa.DataType, ...]:
    """The Arrow types in which the driver hands a well-kept column over."""
    kind = column.type
    if pt.is_integer(kind) or pt.is_boolean(kind):
        return (pa.int64(),)
    if pt.is_floating(kind):
        return (pa.float64(),)
    if pt.is_decimal(kind):
        return (pa.int64(), pa.float64())
    return (pa.binary(),) if pt.is_binary(kind) else (pa.string(),)


# -- writing ----------------------------------------------------------------------------------------


def encode(values: pa.Array) -> pa.Array:
    """Values in the form in which SQLite is given them."""
    encoder = _encoder(values.type)
    return values if encoder is None else encoder(values)


def spelled(kind: pa.DataType, value: Any) -> str | int | None:
    """A value in that form, as `encode` makes it; None where only that does."""
    if type(value) is str and pt.is_string(kind):
        return value
    if type(value) is int and pt.is_integer(kind):
        return value
    if isinstance(value, datetime) and value.tzinfo is UTC and kind == pa.timestamp("ms", "UTC"):
        plain = value.replace(tzinfo=None, microsecond=value.microsecond // 1000 * 1000)
        return f"{plain.isoformat(' ')}Z"
    return None


@lru_cache(1000)
def _encoder(kind: pa.DataType) -> Callable[[pa.Array], pa.Array] | None:
    """What makes that form of values of a type; None: it is their own."""
    if pt.is_boolean(kind):
        return lambda values: values.cast(pa.int64())
    if pt.is_date(kind) or pt.is_decimal(kind):
        return lambda values: values.cast(pa.string())
    if pt.is_time(kind):
        return lambda values: _shorter(values.cast(pa.int64()), values.cast(pa.string()), 8)
    if pt.is_timestamp(kind):
        return _timestamps
    return None


def _timestamps(values: pa.Array) -> pa.Array:
    kind = values.type
    plain = values.cast(pa.timestamp("us" if kind.unit == "ms" else kind.unit))  # as it is when it is read
    text = _shorter(plain.cast(pa.timestamp("us")).cast(pa.int64()), plain.cast(pa.string()), 19)
    return text if kind.tz is None else pc.binary_join_element_wise(text, "Z", "")


def _shorter(micros: pa.Array, text: pa.Array, length: int) -> pa.Array:
    """Without the fraction of a second where it is zero."""
    seconds = pc.multiply(pc.divide(micros, 1_000_000), 1_000_000)
    whole = pc.equal(seconds, micros)
    if not pc.any(whole).as_py():
        return text
    return pc.if_else(whole, pc.utf8_slice_codeunits(text, 0, length), text)


def too_many_digits(column: Column, values: pa.Array) -> np.ndarray | None:
    """A mask of decimals that SQLite would round: it keeps 64-bit whole numbers, and otherwise 15 digits."""
    kind = column.type
    if not pt.is_decimal(kind) or kind.precision <= 15:
        return None
    digits = pc.replace_substring_regex(values.cast(pa.string()), r"^-|\.0*$", "")
    whole = pc.match_substring_regex(digits, r"^[0-9]{1,18}$")
    significant = pc.replace_substring_regex(pc.replace_substring(digits, ".", ""), r"^0+", "")
    fraction = pc.match_substring(digits, ".")
    significant = pc.if_else(fraction, pc.replace_substring_regex(significant, r"0+$", ""), significant)
    fine = pc.or_(whole, pc.less_equal(pc.utf8_length(significant), 15))
    return ~np.asarray(pc.fill_null(fine, True))


# -- reading ----------------------------------------------------------------------------------------


@dataclass
class Decoded:
    """Values of a column; which cells were unreadable, and which were readable but spelled otherwise."""

    values: pa.Array
    unreadable: np.ndarray | None = None
    respelled: np.ndarray | None = None

    def verbatim(self) -> np.ndarray | None:
        if self.unreadable is None or self.respelled is None:
            return self.respelled if self.unreadable is None else self.unreadable
        return self.unreadable | self.respelled


def decode(column: Column, stored: pa.Array) -> Decoded:
    """Read a column from one storage form, as the driver hands it over."""
    kind, form = column.type, stored.type
    if stored.null_count == len(stored):
        return Decoded(pa.nulls(len(stored), kind))
    if form == kind:
        return Decoded(stored)
    valid = np.asarray(stored.is_valid())
    if pt.is_boolean(kind) and pt.is_integer(form):
        good = np.asarray(pc.is_in(stored, value_set=pa.array([0, 1, None])))
        return Decoded(stored.cast(pa.bool_()) if good.all() else _only(stored, good).cast(pa.bool_()), _some(~good))
    if pt.is_decimal(kind) and (pt.is_integer(form) or pt.is_floating(form)):
        return _decimal(column, stored)
    if pt.is_floating(kind) and pt.is_integer(form):
        values, bad = cast(stored, column)
        respelled = valid if affinity(column.declared) == "BLOB" else None
        return Decoded(values, _some(bad), respelled)
    if column.normalises and not pt.is_binary(form):
        return Decoded(stored.cast(pa.string()))  # a real as the shortest text that reads back the same
    if pt.is_string(kind) and not pt.is_binary(form):
        return Decoded(stored.cast(pa.string()), None, valid)
    if not pt.is_string(form) or pt.is_binary(kind) or pt.is_integer(kind) or pt.is_floating(kind):
        return Decoded(pa.nulls(len(stored), kind), valid)
    values, bad = cast(stored, column)
    again = encode(values)
    if again.type != form:
        return Decoded(values, _some(bad), valid)
    respelled = ~np.asarray(pc.fill_null(pc.equal(again, stored), True))
    return Decoded(values, _some(bad), _some(respelled))


def form_sql(expression: str, form: str, name: str) -> str:
    """What to select for one of PARTS of an expression."""
    return f"CASE typeof({expression}) WHEN '{form}' THEN {expression} END AS {name}"


def typed_parts(parts: pa.Table) -> pa.Table:
    """A table with the columns PARTS, each in its type; the driver does not know the type of an empty one."""
    count = parts.num_rows
    return pa.table(
        [
            pa.nulls(count, kind) if values.null_count == count else one_array(values).cast(kind)
            for kind, values in zip(_PART_TYPES.values(), parts.columns, strict=True)
        ],
        names=list(PARTS),
    )


def as_one(parts: pa.Table) -> pa.Array:
    """A column that was fetched form by form, in the one form that it has; as texts if it has several."""
    held = [one_array(parts[form]) for form in PARTS if parts[form].null_count < parts.num_rows]
    if not held:
        return pa.nulls(parts.num_rows)
    if len(held) == 1:
        return held[0]
    texts = [hexadecimal(one) if pt.is_binary(one.type) else one.cast(pa.string()) for one in held]
    return pc.coalesce(*texts)


def decode_parts(column: Column, parts: pa.Table) -> Decoded:
    """Read a column that was fetched form by form, as `typed_parts` gives it."""
    out = Decoded(pa.nulls(parts.num_rows, column.type))
    for form in PARTS:
        stored = one_array(parts[form])
        if stored.null_count == len(stored):
            continue
        one = decode(column, stored)
        out.values = pc.coalesce(out.values, one.values)
        for name in ("unreadable", "respelled"):
            mine, theirs = getattr(out, name), getattr(one, name)
            setattr(out, name, theirs if mine is None else mine if theirs is None else mine | theirs)
    return out


def _decimal(column: Column, stored: pa.Array) -> Decoded:
    kind = column.type
    if pt.is_integer(stored.type):
        values, bad = cast(stored, column)
        return Decoded(values, _some(bad))
    raw = stored.fill_null(0.0).to_numpy()
    scaled = np.rint(raw * 10.0**kind.scale)
    inside = np.abs(scaled) < 2.0**53
    units = np.where(inside, scaled, 0.0)
    limit = 10.0 ** min(kind.precision, 17)
    bad = inside & (np.abs(units) >= limit)
    whole = units.astype(np.int64)
    words = np.empty((len(raw), 2), np.int64)
    words[:, 0], words[:, 1] = whole, whole >> 63
    valid = np.asarray(stored.is_valid())
    bitmap = pa.array(valid & inside & ~bad).buffers()[1]
    values = pa.Array.from_buffers(kind, len(raw), [bitmap, pa.py_buffer(words)])
    respelled = inside & ~bad & (units / 10.0**kind.scale != raw)
    if not inside.all():  # too large for doubles to count in units: by the shortest text instead
        wide, wide_bad = cast(_only(stored, ~inside).cast(pa.string()), column)
        values = pc.coalesce(values, wide)
        bad = bad if wide_bad is None else bad | wide_bad
        back = pc.cast(pc.cast(wide, pa.string()), pa.float64())
        respelled |= np.asarray(pc.fill_null(pc.not_equal(back, stored), False))
    return Decoded(values, _some(bad & valid), _some(respelled & valid))


def _only(values: pa.Array, mask: np.ndarray) -> pa.Array:
    return pc.if_else(pa.array(mask), values, pa.scalar(None, values.type))


def _some(mask: np.ndarray | None) -> np.ndarray | None:
    return mask if mask is not None and mask.any() else None
