"""A table on a sheet of an Excel or OpenDocument workbook, read by python-calamine."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from ..errors import IncomingError
from .chunks import Chunk, Options, Source
from .jsonl import dict_chunks

_ROWS = 1 << 16
_WHOLE = 2**53
_LOOKED_AT = 200  # rows


@dataclass
class ExcelFile(Source):
    """The first row that is not empty, after those to skip, has the names. An empty row is no record."""

    path: str = ""
    options: Options = field(default_factory=Options)

    def __post_init__(self) -> None:
        self.unit, self.ragged = "row", True

    def rows(self) -> list[list[Any]]:
        """All rows of the sheet, as they come: a list of cells each, an empty text for none."""
        try:
            from python_calamine import CalamineError, CalamineWorkbook
        except ImportError:
            what = "a workbook is read by python-calamine; install it: pip install 'rapid-mender[excel]'"
            raise IncomingError(what, self.name) from None
        try:
            book = CalamineWorkbook.from_path(self.path)
            name = self.options.sheet or next(iter(book.sheet_names), None)
            if name is None or name not in book.sheet_names:
                there = ", ".join(map(repr, book.sheet_names)) or "none"
                raise IncomingError(f"the workbook has no sheet {name!r}; there are {there}", self.name)
            return book.get_sheet_by_name(name).to_python(skip_empty_area=False)
        except (CalamineError, OSError, ValueError) as error:
            raise IncomingError(f"this is not a workbook, or a damaged one: {error}", self.name) from error

    def _read(self) -> tuple[list[str], int, list[list[Any]]]:
        """The names of the columns; the number of the row after them; and the rows from there on."""
        rows = self.rows()
        for at, row in enumerate(rows[self.options.skip :], self.options.skip):
            if any(cell != "" for cell in row):
                return _names(row, self.name, at + 1), at + 2, rows[at + 1 :]
        raise IncomingError("the sheet is empty: it has not even a row of column names", self.name)

    def __iter__(self) -> Iterator[Chunk]:
        names, first, rows = self._read()
        width = len(names)
        for start in range(0, len(rows), _ROWS):
            records, numbers = [], []
            for number, row in enumerate(rows[start : start + _ROWS], first + start):
                if any(cell != "" for cell in row[:width]):
                    records.append({name: self._value(cell) for name, cell in zip(names, row, strict=False)})
                    numbers.append(number)
            yield from dict_chunks(records, numbers, self.broken)

    def _value(self, cell: Any) -> Any:
        """A cell as a value; some texts stand for none."""
        return None if cell == "" or (isinstance(cell, str) and cell in self.options.nulls) else _plain(cell)


def rows_before(path: str) -> int:
    """How many rows seem to stand before the names: the first row with as many cells as most rows have has these."""
    rows = ExcelFile(path, path=path).rows()
    widths = [sum(cell != "" for cell in row) for row in rows[:_LOOKED_AT]]
    usual = Counter(width for width in widths if width).most_common(1)
    return next((at for at, width in enumerate(widths) if width >= usual[0][0]), 0) if usual else 0


def _names(row: list[Any], path: str, number: int) -> list[str]:
    """The names in a row; columns without one at its end are no columns."""
    cells = [str(_plain(cell)).strip() if cell != "" else "" for cell in row]
    while cells and not cells[-1]:
        cells.pop()
    if "" in cells:
        raise IncomingError(f"column {cells.index('') + 1} has no name", path, f"row {number}")
    if twice := [name for name, count in Counter(cells).items() if count > 1]:
        raise IncomingError(f"several columns are named {twice[0]!r}; give them different names", path, f"row {number}")
    return cells


def _plain(cell: Any) -> Any:
    """A cell as a value: a workbook knows no whole numbers."""
    if isinstance(cell, float) and cell.is_integer() and abs(cell) < _WHOLE:
        return int(cell)
    return cell
