"""How the texts of a batch write numbers and dates, where that is not as this library writes them."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.types as pt

from .cast import cast, plain
from .masks import either, mask_of, nulled, some
from .parsers import Cast, trimmed
from .schema import Column

MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
_BLANKS = " \u00a0\u2009\u202f"
"""What may stand between thousands where a blank does: also those that no line is broken at, and thin ones."""
_DIRECTIVES = {
    "Y": "[0-9]{4}", "y": "[0-9]{2}", "m": "[0-9]{1,2}", "b": "[A-Za-z]{3,9}", "d": "[0-9]{1,2}",
    "H": "[0-9]{1,2}", "I": "[0-9]{1,2}", "M": "[0-9]{1,2}", "S": "[0-9]{1,2}", "f": "[0-9]{1,9}", "p": "[AaPp][Mm]",
    "z": "Z|[+-][0-9]{2}:?[0-9]{2}",
}  # fmt: skip
_PIVOT = 69
"""Of a year with two digits those from this one on are of the last century, as POSIX says."""


@dataclass(frozen=True)
class Notation:
    """How the texts of a column write their values. `format` is for dates and times, in the directives of `strptime`;
    `decimal` is the decimal mark of a number, and `thousands` what stands between its thousands."""

    format: str | None = None
    decimal: str = "."
    thousands: str = ""

    def problem(self, kind: pa.DataType, example: str = "%d.%m.%Y") -> str | None:
        """Why a column of a type cannot be written so, in words; None if it can. `example`: a format of a date, as it
        is said where this one comes from."""
        if self.format is None:
            return None if is_number(kind) else "decimal and thousands are for numbers"
        if not pt.is_temporal(kind) or pt.is_duration(kind):
            return "format is for dates and times"
        if self.decimal != "." or self.thousands:
            return "decimal and thousands are for numbers"
        used = re.findall(r"%(.)", self.format.replace("%%", ""))
        if unknown := [one for one in used if one not in _DIRECTIVES and one != "B"]:
            return f"%{unknown[0]} is not known in format; there are {', '.join(f'%{one}' for one in _DIRECTIVES)}"
        if twice := [one for one in used if used.count(one) > 1]:
            return f"format has %{twice[0]} twice"
        if not pt.is_time(kind) and not ({"Y", "y"} & {*used} and {"m", "b", "B"} & {*used} and "d" in used):
            return f"format needs a day, a month and a year, such as {example}"
        if ("I" in used) != ("p" in used):
            return "%I, an hour up to twelve, and %p, AM or PM, come together in format"
        if pt.is_time(kind) and not {"H", "I"} & {*used}:
            return "format needs an hour, such as %H:%M"
        return None

    def said(self) -> dict[str, str]:
        """As the options of a column say it."""
        options = {"format": self.format or "", "decimal": self.decimal, "thousands": self.thousands}
        return {name: value for name, value in options.items() if value and (name, value) != ("decimal", ".")}

    def __str__(self) -> str:
        return ", ".join(f'{name} = "{value}"' for name, value in self.said().items())

    def words(self, wanted: str) -> str:
        """What a text must be, in words; `wanted` is what a value of the column must be."""
        if self.format is not None:
            return f"written as {self.format}"
        between = f", and {self.thousands!r} between thousands" if self.thousands else ""
        return f"{wanted} with {self.decimal!r} as its decimal mark{between}"


def read_values(values: pa.ChunkedArray | pa.Array, column: Column, notation: Notation | None) -> Cast:
    """Values in the type of a column, and a mask of those that cannot be; texts are written in a notation."""
    if notation is None or not (pt.is_string(values.type) or pt.is_large_string(values.type)):
        return cast(values, column)
    texts, wrong = _rewritten(plain(values), notation)
    done, bad = cast(texts, column)
    return done, either(bad, wrong)


def _rewritten(texts: pa.Array, notation: Notation) -> Cast:
    """Texts as the parsers of types read them, and a mask of those that are not written as a notation says."""
    bare = trimmed(texts)
    done = _number(bare, notation) if notation.format is None else _moment(bare, notation.format)
    return done, some(mask_of(pc.and_(pc.is_valid(bare), pc.is_null(done))))


def is_number(kind: pa.DataType) -> bool:
    return pt.is_integer(kind) or pt.is_floating(kind) or pt.is_decimal(kind)


def _number(texts: pa.Array, notation: Notation) -> pa.Array:
    between = f"[{_BLANKS}]" if notation.thousands == " " else re.escape(notation.thousands)
    whole = f"[0-9]+|[0-9]{{1,3}}(?:{between}[0-9]{{3}})+" if between else "[0-9]+"
    pattern = rf"^[+-]?(?:{whole})?(?:{re.escape(notation.decimal)}[0-9]*)?(?:[eE][+-]?[0-9]+)?$"
    good = mask_of(pc.fill_null(pc.match_substring_regex(texts, pattern), True))
    texts = nulled(texts, ~good)
    if between:
        texts = pc.replace_substring_regex(texts, between, "")
    return pc.replace_substring(texts, notation.decimal, ".") if notation.decimal != "." else texts


def _moment(texts: pa.Array, form: str) -> pa.Array:
    parts = pc.extract_regex(texts, pattern_of(form))
    names = [parts.type.field(at).name for at in range(parts.type.num_fields)]
    got = {name: pc.if_else(pc.is_valid(parts), pc.struct_field(parts, name), None) for name in names}
    date = _date(got)
    clock = _clock(got)
    if date is None or clock is None:
        return clock if date is None else date
    return pc.binary_join_element_wise(date, clock, " ")


def pattern_of(form: str) -> str:
    """The pattern of the texts in a format."""
    out = ""
    for piece in re.findall(r"%.|\s+|[^%\s]+|%", form):
        if piece.isspace():
            out += r"\s+"
        elif piece.startswith("%") and piece[1:] in (*_DIRECTIVES, "B"):
            name = piece[1].replace("B", "b")
            out += f"(?P<{name}>{_DIRECTIVES[name]})"
        else:
            out += re.escape("%" if piece == "%%" else piece)
    return f"^{out}$"


def _date(got: Mapping[str, pa.Array]) -> pa.Array | None:
    if "d" not in got:
        return None
    year = got.get("Y")
    if year is None:
        last = pc.greater_equal(pc.cast(got["y"], pa.int32()), _PIVOT)
        year = pc.binary_join_element_wise(pc.if_else(last, "19", "20"), got["y"], "")
    month = got.get("m")
    if month is None:
        names = pc.utf8_lower(pc.utf8_slice_codeunits(got["b"], 0, 3))
        month = pc.cast(pc.add(pc.index_in(names, value_set=pa.array(MONTHS)), 1), pa.string())
    return pc.binary_join_element_wise(year, _two(month), _two(got["d"]), "-")


def _clock(got: Mapping[str, pa.Array]) -> pa.Array | None:
    hour = got.get("H")
    if "I" in got:
        twelve = pc.cast(got["I"], pa.int32())
        good = pc.and_(pc.greater(twelve, 0), pc.less_equal(twelve, 12))
        late = pc.equal(pc.utf8_lower(got["p"]), "pm")
        number = pc.add(pc.if_else(pc.equal(twelve, 12), 0, twelve), pc.if_else(late, 12, 0))
        hour = pc.if_else(good, pc.cast(number, pa.string()), None)
    if hour is None:
        return None
    zero = pc.if_else(pc.is_valid(hour), "00", None)
    clock = pc.binary_join_element_wise(_two(hour), _two(got.get("M", zero)), _two(got.get("S", zero)), ":")
    if "f" in got:
        clock = pc.binary_join_element_wise(clock, got["f"], ".")
    return pc.binary_join_element_wise(clock, got["z"], "") if "z" in got else clock


def _two(texts: pa.Array) -> pa.Array:
    return pc.utf8_lpad(texts, 2, "0")
