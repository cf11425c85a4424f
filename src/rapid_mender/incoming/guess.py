"""Guessing how a file is written, by looking at its beginning: encoding, delimiter, quote, lines before the names."""

from __future__ import annotations

import codecs
import csv
from collections import Counter
from contextlib import suppress
from dataclasses import replace

from .chunks import Options
from .packed import DAMAGED, unpacked

_LOOKED_AT = 1 << 20  # bytes
_LINES = 200
_DELIMITERS = (",", ";", "\t", "|")
_MARKS = {
    codecs.BOM_UTF8: "utf-8", codecs.BOM_UTF32_LE: "utf-32", codecs.BOM_UTF32_BE: "utf-32",
    codecs.BOM_UTF16_LE: "utf-16", codecs.BOM_UTF16_BE: "utf-16",
}  # fmt: skip


def guess(path: str, options: Options, delimiter: str | None = None) -> Options:
    """How a CSV file seems to be written. `options`: what is taken where nothing tells; `delimiter`: one that is
    known."""
    data = b""
    with suppress(*DAMAGED), open(path, "rb") as file:
        data = bytes(unpacked(path, file).read(_LOOKED_AT))
    if not data:
        return options if delimiter is None else replace(options, delimiter=delimiter)
    encoding = _encoding(data)
    text = codecs.getincrementaldecoder(encoding)("replace").decode(data).removeprefix("\ufeff")
    lines = text.splitlines(keepends=True)[: _LINES + 1]
    if len(data) == _LOOKED_AT and len(lines) > 1:
        lines.pop()  # it may be cut
    told = lines[0].rstrip("\r\n") if lines else ""
    skipped = int(told.lower().startswith("sep=") and len(told) == 5)  # as spreadsheets say it
    if skipped:
        delimiter, lines = delimiter or told[4], lines[1:]
    quote = "'" if '"' not in text and _quotes_by(lines, delimiter) else '"'
    tried = [delimiter] if delimiter is not None else _DELIMITERS
    (share, before, width), best = max((_fits(lines, one, quote), one) for one in tried)
    if not share or not width:
        return replace(options, encoding=encoding, delimiter=delimiter or options.delimiter, skip=skipped)
    return replace(options, encoding=encoding, delimiter=best, quote=quote, skip=skipped - before)


def _encoding(data: bytes) -> str:
    for mark, name in _MARKS.items():
        if data.startswith(mark):
            return name
    if data[1::2].count(0) > len(data) // 4:
        return "utf-16-le"
    try:
        codecs.getincrementaldecoder("utf-8")().decode(data)
    except UnicodeDecodeError:
        return "cp1252"
    return "utf-8"


def _quotes_by(lines: list[str], delimiter: str | None) -> bool:
    """Whether values seem to stand between apostrophes."""
    for one in [delimiter] if delimiter is not None else _DELIMITERS:
        values = [value.strip() for line in lines for value in line.split(one)]
        if sum(len(value) > 1 and value[0] == value[-1] == "'" for value in values) > len(lines) // 2:
            return True
    return False


def _fits(lines: list[str], delimiter: str, quote: str) -> tuple[float, int, int]:
    """How well a delimiter fits: the share of lines with the usual number of values, if that is more than one; how many
    lines come before the first that has it, as a negative number; and that number."""
    widths, starts, start = [], [], 0
    reader = csv.reader(lines, delimiter=delimiter, quotechar=quote)
    with suppress(csv.Error):
        for row in reader:
            widths.append(len(row) if any(row) else 0)
            starts.append(start)
            start = reader.line_num
    several = Counter(width for width in widths if width > 1)
    if not several:
        return 0.0, 0, 0
    usual, count = several.most_common(1)[0]
    first = widths.index(usual)
    return count / sum(width > 0 for width in widths[first:]), -starts[first], usual
