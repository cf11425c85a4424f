"""The demo's care book: who cares for a tree, and how it is, since when. Its table keeps versions."""

from __future__ import annotations

import csv
import random
import sqlite3
from collections.abc import Sequence
from datetime import date, timedelta
from pathlib import Path
from typing import Any

_SEED = 4021
_HEAD = ("district", "tag_no", "species", "warden", "condition", "height_m", "seen_on")
_WARDENS = ("I. Fennick", "M. Oldacre", "T. Brisley", "R. Quell")
_WORSE = {"good": "fair", "fair": "poor", "poor": "poor"}
_SPECIES = ("Ulmus glabra", "Ulmus minor", "Tilia cordata", "Acer campestre")

DDL = """CREATE TABLE care (
    care_no        INTEGER PRIMARY KEY,
    district       VARCHAR(20)  NOT NULL,
    tag_no         INTEGER      NOT NULL,
    species        VARCHAR(40),
    species_before VARCHAR(40),
    warden         VARCHAR(30),
    condition      VARCHAR(10),
    height_m       DECIMAL(4,1),
    valid_from     DATE         NOT NULL,
    valid_to       DATE,
    is_current     BOOLEAN,
    UNIQUE (district, tag_no, valid_from)
)"""
IN_FORCE = "CREATE INDEX care_in_force ON care (district, tag_no) WHERE valid_to IS NULL"

CARED: dict[str, Any] = {"district": "Northfold", "tag_no": 12}
"""The tree whose life the story shows."""
JOB = """# The care book: a change of warden or condition opens a version of a tree.
store = "sqlite:///register.db"
table = "care"
key = ["district", "tag_no"]
incoming = "care.csv"

[versions]
from = "valid_from"
to = "valid_to"
current = "is_current"
effective = "seen_on"          # the column that dates a record
late = "insert"                # a sheet that turns up late is put in its place

[columns.warden]
version = true

[columns.condition]
version = true

[columns.species]              # determined anew: the name before stays beside it
previous = "species_before"
"""


def make_table(path: Path) -> None:
    with sqlite3.connect(path) as connection:
        connection.execute(DDL)
        connection.execute(IN_FORCE)
    connection.close()


def write_batches(folder: Path) -> None:
    """The sheets of seven years in one file, in no order; and one that turns up late."""
    rng = random.Random(_SEED)
    lines: list[Sequence[Any]] = []
    for tag in range(1, 61):
        day, warden, condition = date(2019, 2, 1) + timedelta(rng.randrange(300)), rng.choice(_WARDENS), "good"
        species, height = rng.choice(_SPECIES), rng.uniform(3, 15)
        while day < date(2026, 6, 1):
            lines.append(("Northfold", tag, species, warden, condition, f"{height:.1f}", day.isoformat()))
            day += timedelta(rng.randrange(150, 700))
            height += rng.uniform(0.1, 0.9)
            warden = rng.choice(_WARDENS) if rng.random() < 0.3 else warden
            condition = _WORSE[condition] if rng.random() < 0.3 else condition
            species = rng.choice(_SPECIES) if rng.random() < 0.05 else species
    lines = [line for line in lines if line[:2] != tuple(CARED.values())]
    lines += [
        (*CARED.values(), "Ulmus glabra", "I. Fennick", "good", "10.1", "2019-03-01"),
        (*CARED.values(), "Ulmus glabra", "I. Fennick", "good", "10.4", "2020-05-06"),
        (*CARED.values(), "Ulmus glabra", "I. Fennick", "fair", "11.0", "2021-06-14"),
        (*CARED.values(), "Ulmus minor", "T. Brisley", "fair", "11.6", "2023-01-09"),
        (*CARED.values(), "Ulmus minor", "T. Brisley", "poor", "12.5", "2025-08-20"),
    ]
    rng.shuffle(lines)
    late = [(*CARED.values(), "Ulmus glabra", "R. Quell", "fair", "11.2", "2022-04-30")]
    for name, some in (("care.csv", lines), ("care-late.csv", late)):
        with open(folder / name, "w", newline="", encoding="utf-8") as file:
            writer = csv.writer(file, lineterminator="\n")
            writer.writerow(_HEAD)
            writer.writerows(some)
