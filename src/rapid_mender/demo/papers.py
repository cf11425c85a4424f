"""Batches as spreadsheets, databases and other programs write them, each in another way: for `rmend draft`."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Callable, Sequence
from datetime import date
from pathlib import Path
from typing import Any

PAPERS = ("spreadsheet.csv", "contractor.csv", "app.json", "database.txt", "report.csv")
_NAMES = ("district", "tag_no", "species", "girth_cm", "height_m", "surveyed_on")
_DAY = date(2026, 11, 16)
Tree = dict[str, Any]


def write_papers(folder: Path, trees: Sequence[Tree]) -> None:
    """Write the five files, each about some trees of another part of the town."""
    parts = [[_measured(tree, at) for at, tree in enumerate(trees[number::5][:24])] for number in range(5)]
    german = _text(parts[0], ";", lambda v: _number(v).replace(".", ","), "%d.%m.%Y", end="\r\n")
    american = _text(parts[1], ",", _number, "%m/%d/%y", quoting=csv.QUOTE_ALL)
    dump = _text(parts[3], "\t", _number, "%Y-%m-%d", null="\\N")
    headings = "District,Tag No,Species,Girth (cm),Height (m),Surveyed on"
    report = _text(parts[4], ",", _number, "%Y-%m-%d").partition("\n")[2]
    objects = [tree | {"surveyed_on": tree["surveyed_on"].isoformat()} for tree in parts[2]]
    for name, text, encoding in (
        ("spreadsheet.csv", german, "utf-8-sig"),
        ("contractor.csv", american, "utf-8"),
        ("app.json", json.dumps(objects, indent=2), "utf-8"),
        ("database.txt", dump, "utf-8"),
        (
            "report.csv",
            f"Street trees of Harrowmere\nas of {_DAY}\n\n{headings}\n{report}{',' * 5}\n{',' * 5}\n",
            "cp1252",
        ),
    ):
        (folder / name).write_text(text, encoding=encoding, newline="")


def _measured(tree: Tree, at: int) -> Tree:
    """A tree as it was found in November: a little thicker, one in six with no height."""
    height = None if at % 6 == 5 else tree["height_m"]
    new = {"girth_cm": round(tree["girth_cm"] + 1.5, 1), "height_m": height, "surveyed_on": _DAY}
    return {name: (tree | new)[name] for name in _NAMES}


def _number(value: Any) -> str:
    return f"{value:.1f}"


def _text(
    trees: Sequence[Tree], delimiter: str, number: Callable[[Any], str], day: str, null: str = "", end: str = "\n",
    quoting: Any = csv.QUOTE_MINIMAL,
) -> str:  # fmt: skip
    file = io.StringIO()
    writer = csv.writer(file, delimiter=delimiter, lineterminator=end, quoting=quoting)
    writer.writerow(_NAMES)
    for tree in trees:
        writer.writerow([
            null if value is None else number(value) if isinstance(value, float)
            else value.strftime(day) if isinstance(value, date) else value
            for value in tree.values()
        ])  # fmt: skip
    return file.getvalue()
