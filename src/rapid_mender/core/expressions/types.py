"""The types of expressions: their families, what two of them have in common, and what SQL's type names mean."""

from __future__ import annotations

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.types as pt

INT = pa.int64()
FLOAT = pa.float64()
TEXT = pa.string()
BOOL = pa.bool_()
DATE = pa.date32()
STAMP = pa.timestamp("us")
TIME = pa.time64("us")
_WIDEST, _WIDER = 76, 38


def family(kind: pa.DataType) -> str:
    """number, text, boolean, date, timestamp, time, bytes, null; or "other", which can only be asked for null."""
    if pt.is_integer(kind) or pt.is_floating(kind) or pt.is_decimal(kind):
        return "number"
    for test, name in (
        (pt.is_string, "text"), (pt.is_boolean, "boolean"), (pt.is_date, "date"), (pt.is_timestamp, "timestamp"),
        (pt.is_time, "time"), (pt.is_binary, "bytes"), (pt.is_null, "null"),
    ):  # fmt: skip
        if test(kind):
            return name
    return "other"


def spoken(kind: pa.DataType) -> str:
    """A type in words, with its article."""
    words = {"date": "a date", "timestamp": "a date and time", "time": "a time of day", "null": "null"}
    name = family(kind)
    return words.get(name, f"a {name}" if name in ("number", "text", "boolean") else name)


def canonical(kind: pa.DataType) -> pa.DataType:
    """The type in which values of `kind` are computed."""
    if kind == pa.uint64():
        return pa.decimal128(20, 0)
    if pt.is_integer(kind):
        return INT
    if pt.is_floating(kind):
        return FLOAT
    if pt.is_decimal(kind) and not pt.is_decimal256(kind):
        return pa.decimal128(kind.precision, kind.scale) if kind.scale >= 0 else pa.decimal128(38, 0)
    if pt.is_date(kind):
        return DATE
    if pt.is_timestamp(kind):
        return STAMP  # a zone is UTC in our stores
    if pt.is_time(kind):
        return TIME
    return kind


def as_decimal(kind: pa.DataType) -> pa.DataType:
    return pa.decimal128(19, 0) if pt.is_integer(kind) else kind


def decimal(precision: int, scale: int) -> pa.DataType:
    """A decimal type, wider than usual where it must be; a float where no decimal is wide enough."""
    if precision > _WIDEST:
        return FLOAT
    return pa.decimal128(precision, scale) if precision <= _WIDER else pa.decimal256(precision, scale)


def common(one: pa.DataType, other: pa.DataType) -> pa.DataType | None:
    """The type in which values of both can stand side by side; None if there is none."""
    if one == other or pt.is_null(other):
        return one
    if pt.is_null(one):
        return other
    names = {family(one), family(other)}
    if names == {"date", "timestamp"}:
        return STAMP
    if names != {"number"}:
        return None
    if pt.is_floating(one) or pt.is_floating(other):
        return FLOAT
    one, other = as_decimal(one), as_decimal(other)
    scale = max(one.scale, other.scale)
    return decimal(max(one.precision - one.scale, other.precision - other.scale) + scale, scale)


def to(values: pa.Array | pa.Scalar, kind: pa.DataType) -> pa.Array | pa.Scalar:
    """Values in a type that `common` gave; never fails."""
    if values.type == kind:
        return values
    if pt.is_floating(kind) and pt.is_decimal256(values.type):
        return pc.cast(pc.cast(values, pa.string()), kind)
    return pc.cast(values, kind, safe=False) if not pt.is_decimal(values.type) else pc.cast(values, kind)


_NAMES: dict[str, pa.DataType] = {
    "TINYINT": pa.int8(), "SMALLINT": pa.int16(), "INT": pa.int32(), "BIGINT": INT, "FLOAT": FLOAT, "DOUBLE": FLOAT,
    "REAL": FLOAT, "TEXT": TEXT, "VARCHAR": TEXT, "CHAR": TEXT, "NCHAR": TEXT, "NVARCHAR": TEXT, "BOOLEAN": BOOL,
    "DATE": DATE, "TIME": TIME, "TIMESTAMP": STAMP, "DATETIME": STAMP, "VARBINARY": pa.binary(), "BINARY": pa.binary(),
}  # fmt: skip


def named(name: str, sizes: list[int]) -> tuple[pa.DataType, int | None] | None:
    """The type of a SQL type name, and the length that it cuts texts to; None if the name is not known."""
    if name == "DECIMAL":
        precision, scale = (*sizes, 0)[:2] if sizes else (38, 10)
        return (pa.decimal128(precision, scale), None) if 1 <= precision <= 38 and 0 <= scale <= precision else None
    if name == "INT":
        return INT, None  # no database agrees with another on how many bytes INTEGER has
    kind = _NAMES.get(name)
    if kind is None:
        return None
    return kind, sizes[0] if sizes and pt.is_string(kind) else None
