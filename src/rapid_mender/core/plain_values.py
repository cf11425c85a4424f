"""Single values in a column's own type, as Python has them, without Arrow: only those that nothing is to be done with.

A value that would have to be cast, rounded, cut or refused is left: `take` and `keep` raise NotPlain, and whoever asks
goes by `core.cast`.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from datetime import UTC, date, datetime
from decimal import Decimal
from typing import Any, Literal

import pyarrow.types as pt

from .schema import Column

Kind = Literal["int", "float", "bool", "text", "date", "time", "zoned time", "decimal"]

FIRST_YEAR = 1000
"""Years before it are spelled in other ways by every database."""
_WHOLE_FLOAT = 1 << 53
_DATE = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}")
_STEPS = {"s": 1_000_000, "ms": 1_000, "us": 1}


class NotPlain(Exception):
    """The value is none of those that are taken as they are."""


def kind_of(column: Column) -> Kind | None:
    """What kind of values a column has; None if they are not all plain."""
    special = column.generated or column.labels or column.members or column.normalises or column.trims or column.json
    if special or column.width is not None or column.fraction is not None:
        return None
    kind = column.type
    if pt.is_signed_integer(kind):
        return "int"
    if pt.is_timestamp(kind) and kind.unit in _STEPS:
        return "time" if kind.tz is None else "zoned time"
    if pt.is_decimal(kind) and kind.precision <= 28:
        return "decimal"
    tests: tuple[tuple[Any, Kind], ...] = (
        (pt.is_float64, "float"), (pt.is_boolean, "bool"), (pt.is_string, "text"), (pt.is_date32, "date"),
    )  # fmt: skip
    return next((name for test, name in tests if test(kind)), None)


def taker_of(column: Column) -> Callable[[Any], Any]:
    """What takes an incoming value that is not null, of a column with a `kind_of`: gives it in the column's type, or
    raises NotPlain."""
    kind = kind_of(column)
    assert kind is not None
    return {
        "int": _int_taker, "float": lambda _: _float, "bool": lambda _: _bool, "text": _text_taker,
        "date": lambda _: _date, "time": _time_taker, "zoned time": _time_taker, "decimal": _decimal_taker,
    }[kind](column)  # fmt: skip


def _int_taker(column: Column) -> Callable[[Any], Any]:
    most = 1 << column.type.bit_width - 1

    def take(value: Any) -> int:
        if type(value) is not int or not -most <= value < most:
            raise NotPlain
        return value

    return take


def _float(value: Any) -> float:
    if type(value) is int and -_WHOLE_FLOAT <= value <= _WHOLE_FLOAT:
        return float(value)
    if type(value) is not float or not math.isfinite(value) or (not value and math.copysign(1, value) < 0):
        raise NotPlain
    return value


def _bool(value: Any) -> bool:
    if type(value) is not bool:
        raise NotPlain
    return value


def _text_taker(column: Column) -> Callable[[Any], Any]:
    most = column.length if column.length is not None else math.inf

    def take(value: Any) -> str:
        if type(value) is not str or len(value) > most or "\0" in value:
            raise NotPlain
        if not value.isascii():
            try:
                value.encode()
            except UnicodeEncodeError:
                raise NotPlain from None
        return value

    return take


def _date(value: Any) -> date:
    if type(value) is str and _DATE.fullmatch(value):
        try:
            value = date.fromisoformat(value)
        except ValueError:
            raise NotPlain from None
    if type(value) is not date or value.year < FIRST_YEAR:
        raise NotPlain
    return value


def _time_taker(column: Column) -> Callable[[Any], Any]:
    step, zoned = _STEPS[column.type.unit], column.type.tz is not None

    def take(value: Any) -> datetime:
        if type(value) is not datetime or (value.tzinfo is not None) != zoned or value.microsecond % step:
            raise NotPlain
        if value.year < FIRST_YEAR:
            raise NotPlain
        if not zoned:
            return value.replace(fold=0) if value.fold else value
        try:
            return value.astimezone(UTC)
        except OverflowError:
            raise NotPlain from None

    return take


def _decimal_taker(column: Column) -> Callable[[Any], Any]:
    most, unit = Decimal(10) ** (column.type.precision - column.type.scale), Decimal(1).scaleb(-column.type.scale)

    def take(value: Any) -> Decimal:
        if type(value) not in (int, Decimal):
            raise NotPlain
        number = Decimal(value)
        if not number.is_finite() or abs(number) >= most or (not number and number.is_signed()):
            raise NotPlain
        exact = number.quantize(unit)
        if exact != number:
            raise NotPlain
        return exact

    return take
