"""The demo's data: the street-tree register of Harrowmere, a made-up town, and three survey batches."""

from __future__ import annotations

import csv
import json
import os
import random
import re
import sqlite3
from datetime import date, timedelta
from pathlib import Path
from typing import Any

from ..errors import JobError
from .care import JOB, make_table, write_batches
from .papers import PAPERS, write_papers

_SEED = 2077
_TREES = 2_000
_DISTRICTS = ("Old Quay", "Mere End", "Tanner's Row", "Northfold", "Saltgate", "Orchard Hill")
_SPECIES = (
    "Acer campestre", "Alnus glutinosa", "Betula pendula", "Carpinus betulus", "Fagus sylvatica", "Prunus avium",
    "Quercus robur", "Sorbus aucuparia", "Tilia cordata", "Ulmus glabra",
)  # fmt: skip
_WARDENS = ("I. Fennick", "M. Oldacre", "T. Brisley", "R. Quell")
_CONDITIONS = ("good", "good", "good", "fair", "fair", "poor")
_SURVEYED = ("girth_cm", "height_m", "condition", "warden", "surveyed_on")

DDL = """CREATE TABLE trees (
    district    VARCHAR(20)  NOT NULL,
    tag_no      INTEGER      NOT NULL,
    species     VARCHAR(40)  NOT NULL,
    girth_cm    DECIMAL(5,1),
    height_m    DECIMAL(4,1),
    condition   VARCHAR(10)  NOT NULL DEFAULT 'good',
    warden      VARCHAR(30),
    planted_on  DATE,
    surveyed_on DATE         NOT NULL,
    felled      BOOLEAN      NOT NULL DEFAULT 0,
    PRIMARY KEY (district, tag_no)
)"""

TALL_TREE: dict[str, Any] = {"district": "Old Quay", "tag_no": 190}
"""A tree that the spring survey finds impossibly tall."""
EDITED_TREE: dict[str, Any] = {"district": "Mere End", "tag_no": 1}
"""A tree that somebody edits behind the history's back."""
STORY_TREE: dict[str, Any] = {"district": "Tanner's Row", "tag_no": 12}
"""The tree that every survey finds changed, and whose history the story shows."""

FILES = (
    "register.db", "survey-1.csv", "survey-2.jsonl", "survey-3.parquet", "census.csv", "survey-4.csv", "care.csv",
    "care-late.csv", *PAPERS,
)  # fmt: skip
PARTS = "changes"
"""The folder of the files that follow."""
LATER = ("survey-1.mended.csv", "draft.toml", "map.db")
"""Files that the story makes on its way."""
JOBS = {
    "survey-1.toml": """# The spring survey: a CSV file whose columns have the register's own names.
store = "sqlite:///register.db"
table = "trees"
key = ["district", "tag_no"]
incoming = "survey-1.csv"
order = "surveyed_on"          # an old survey does not undo a newer one

[columns.height_m]
tolerance = 0.1                # a hand's breadth is no news

[columns.species]
ignore_case = true

[columns.warden]
null = "keep"                  # some crews leave it blank

[[rules]]
decide = "reject"
when = "incoming.height_m > 60"
because = "{incoming.height_m} m is taller than any tree in Harrowmere"

[[rules]]
decide = "skip"
when = "matched AND existing.felled"
because = "the tree was felled"
""",
    "survey-2.toml": """# The summer survey: JSON Lines from the crews' app, which has its own names for things.
store = "sqlite:///register.db"
table = "trees"
key = ["district", "tag_no"]
incoming = "survey-2.jsonl"
duplicates = "last"            # the app sends a record again when it was corrected
rejects = "survey-2.rejects.jsonl"
ignore = ["crew"]
delete = "mark"                # a felled tree stays in the register
mark = {felled = true}

[rename]
area = "district"
tag = "tag_no"
girth = "girth_cm"
height = "height_m"
day = "surveyed_on"

[[rules]]
decide = "delete"
when = "incoming.condition = 'stump'"
because = "{incoming.crew} found a stump"
""",
    "survey-3.toml": """# The autumn survey: a Parquet file, only what was measured. It makes no new trees.
store = "sqlite:///register.db"
table = "trees"
key = ["district", "tag_no"]
incoming = "survey-3.parquet"
allow = "update"
""",
    "survey-4.toml": """# The winter survey: a new crew, heights only.
store = "sqlite:///register.db"
table = "trees"
key = ["district", "tag_no"]
incoming = "survey-4.csv"
allow = "update"
seal = true                    # from here on nobody changes the past unseen
""",
    "map.toml": """# The public map: it follows the register, with names of its own and without the wardens.
follower = "public-map"
store = "sqlite:///register.db"
table = "trees"
to_store = "sqlite:///map.db"
to_table = "map_trees"
ignore = ["warden", "planted_on"]

[rename]
tag_no = "number"
girth_cm = "girth"
height_m = "height"
surveyed_on = "seen_on"
""",
    "files.toml": """# A folder that follows the register: a file a run, a CloudEvent a line.
follower = "files"
store = "sqlite:///register.db"
table = "trees"
to_folder = "changes"
""",
    "follow.py": '''"""Prints what changes in the register. Run it again, and it goes on from there."""

from pathlib import Path

import rapid_mender as rm

with rm.Follower(f"sqlite:///{Path(__file__).with_name('register.db')}", "trees", "printer") as follower:
    for changes in follower.changes(limit=6):
        for one in changes.to_pylist():
            heights = f"{one['old_height_m']} m, then {one['new_height_m']} m"
            print(one["change_no"], one["action"], one["new_district"], one["new_tag_no"], heights, sep="  ")
        follower.acknowledge()
''',
    "clerk.py": '''"""The office's own program: it edits the register itself, and notes there who is at work."""

import sqlite3
from pathlib import Path

register = sqlite3.connect(Path(__file__).with_name("register.db"))
with register:
    register.execute("UPDATE desk SET program = 'Tree Ledger 2', clerk = 'Ines'")
    register.execute("UPDATE trees SET warden = 'R. Quell' WHERE district = 'Saltgate' AND tag_no IN (7, 8)")
    register.execute("UPDATE trees SET condition = 'poor' WHERE district = 'Saltgate' AND tag_no BETWEEN 10 AND 12")
    planted = "'Saltgate', 900, 'Acer campestre', '2026-12-09'"
    register.execute(f"INSERT INTO trees (district, tag_no, species, surveyed_on) VALUES ({planted})")
    register.execute("UPDATE desk SET program = NULL, clerk = NULL")
register.close()
print("The clerk has gone home.")
''',
    "census.toml": """# A full copy of one district: trees that do not come any more were felled.
store = "sqlite:///register.db"
table = "trees"
key = ["district", "tag_no"]
incoming = "census.csv"
missing = "delete"
scope = "district = 'Saltgate' AND NOT felled"
delete = "mark"
mark = {felled = true}
max_deletes = "5%"
""",
    "care.toml": JOB,
}

Tree = dict[str, Any]


def make(folder: str | os.PathLike[str]) -> None:
    """Write the register, the batches and their job files into a folder.

    Raises JobError if the folder holds files of anybody else.
    """
    path = Path(folder)
    batches = ("survey-1", "survey-2", "survey-3", "survey-4", "census", "care")
    ours = {*FILES, *LATER, *JOBS, *(f"{name}.rejects.{end}" for name in batches for end in ("csv", "jsonl"))}
    if path.exists() and not path.is_dir():
        raise JobError(f"{path} is a file; name a folder for the demo")
    there = {entry.name for entry in path.iterdir()} if path.exists() else set()
    parts = list((path / PARTS).iterdir()) if (path / PARTS).is_dir() else []
    if all(re.fullmatch(r"[0-9]+-[0-9]+\.events\.jsonl|\.rmend\.(json|lock)", part.name) for part in parts):
        there.discard(PARTS)
    ours |= {name for name in there if re.sub(r"\.rejects\.\d+\.", ".rejects.", name) in ours}  # of earlier runs
    others = sorted(there - ours)
    if others:
        raise JobError(f"the folder {path} has other files in it ({others[0]}); name another folder for the demo")
    try:
        path.mkdir(parents=True, exist_ok=True)
        for old in (*parts, *(path / name for name in ours)):
            old.unlink(missing_ok=True)
        rng = random.Random(_SEED)
        trees = _register(rng)
        _write_register(path / "register.db", trees)
        (path / "map.db").touch()
        _write_survey_1(path / "survey-1.csv", _survey(rng, trees, date(2026, 4, 20), 420, 30))
        _write_survey_2(path / "survey-2.jsonl", _survey(rng, trees, date(2026, 7, 6), 300, 20))
        _write_survey_3(path / "survey-3.parquet", _survey(rng, trees, date(2026, 10, 12), 260, 0))
        _write_census(path / "census.csv", [tree for tree in trees.values() if tree["district"] == "Saltgate"])
        _write_survey_4(path / "survey-4.csv", trees)
        make_table(path / "register.db")
        write_batches(path)
        write_papers(path, [tree for tree in trees.values() if not tree["felled"]])
        for name, text in JOBS.items():
            (path / name).write_text(text)
    except OSError as error:
        raise JobError(f"the demo cannot be written to {path}: {error}") from error


def _register(rng: random.Random) -> dict[tuple[str, int], Tree]:
    trees: dict[tuple[str, int], Tree] = {}
    for number in range(_TREES):
        district = _DISTRICTS[number % len(_DISTRICTS)]
        tag = number // len(_DISTRICTS) + 1
        trees[district, tag] = _tree(rng, district, tag, date(2025, 9, 1) + timedelta(days=rng.randrange(60)))
    return trees


def _tree(rng: random.Random, district: str, tag: int, surveyed: date) -> Tree:
    girth = round(rng.uniform(20, 320), 1)
    return {
        "district": district,
        "tag_no": tag,
        "species": rng.choice(_SPECIES),
        "girth_cm": girth,
        "height_m": round(2 + girth / 14 + rng.uniform(0, 4), 1),
        "condition": rng.choice(_CONDITIONS),
        "warden": rng.choice(_WARDENS),
        "planted_on": date(1950, 1, 1) + timedelta(days=rng.randrange(25_000)),
        "surveyed_on": surveyed,
        "felled": False,
    }


def _survey(rng: random.Random, trees: dict[tuple[str, int], Tree], day: date, met: int, new: int) -> list[Tree]:
    """A survey of `met` known trees and `new` ones. Four in ten of the known are as the register has them."""
    story = (STORY_TREE["district"], STORY_TREE["tag_no"])
    keys = [story, *(key for key in rng.sample(sorted(trees), met - 1) if key != story)]
    records = []
    for place, key in enumerate(keys):
        tree = dict(trees[key])
        if not place or rng.random() < 0.6:
            tree["girth_cm"] = round(tree["girth_cm"] + rng.uniform(0.3, 4), 1)
            tree["surveyed_on"] = day + timedelta(days=rng.randrange(5))
            if not place or rng.random() < 0.5:
                tree["height_m"] = round(tree["height_m"] + rng.choice((0.1, 0.2, 0.3, 0.5)), 1)
            if rng.random() < 0.1:
                tree["condition"] = rng.choice(("fair", "poor"))
        trees[key] = tree
        records.append(dict(tree))
    for number in range(new):
        district = _DISTRICTS[number % len(_DISTRICTS)]
        tag = 1 + max(t for d, t in trees if d == district)
        trees[district, tag] = _tree(rng, district, tag, day)
        records.append(dict(trees[district, tag]))
    rng.shuffle(records)
    return records


def _write_register(path: Path, trees: dict[tuple[str, int], Tree]) -> None:
    rows = [tuple(v.isoformat() if isinstance(v, date) else v for v in tree.values()) for tree in trees.values()]
    with sqlite3.connect(path) as connection:
        connection.execute(DDL)
        connection.execute("CREATE TABLE desk (program VARCHAR(30), clerk VARCHAR(30))")
        connection.execute("INSERT INTO desk VALUES (NULL, NULL)")
        connection.executemany(f"INSERT INTO trees VALUES ({', '.join('?' * 10)})", rows)
    connection.close()


def _write_survey_1(path: Path, records: list[Tree]) -> None:
    """As CSV. Some crews make mistakes: an impossible height, a date that is none, a tag used twice, no tag.

    Some write the species in capitals, or leave the warden blank; some papers lay about for two years.
    """
    columns = [name for name in records[0] if name != "felled"]
    lines = [[record[name] for name in columns] for record in records]
    at = {name: columns.index(name) for name in columns}
    lines[40][at["height_m"]] = 1200
    tall = next(line for line in lines if [line[0], line[1]] == list(TALL_TREE.values()))
    tall[at["height_m"]] = 95
    for number in (11, 12, 13):
        lines[number][at["species"]] = lines[number][at["species"]].upper()
        lines[number + 10][at["warden"]] = ""
        lines[number + 20][at["surveyed_on"]] = f"2024-05-{number}"
    lines[95][at["surveyed_on"]] = "31.06.2026"
    lines[120][at["tag_no"]] = ""
    lines[200][at["girth_cm"]] = "ca. 90"
    twice = list(lines[260])
    twice[at["species"]] = "Tilia cordata" if twice[at["species"]] != "Tilia cordata" else "Fagus sylvatica"
    lines.insert(300, twice)
    with open(path, "w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow(columns)
        writer.writerows(lines[:350])
        file.write(f"{_DISTRICTS[3]},77,Ulmus glabra,torn page\n")
        writer.writerows(lines[350:])


def _write_survey_2(path: Path, records: list[Tree]) -> None:
    """As JSON Lines, in the words of the crews' app; one record comes again, corrected; one line is cut off."""
    lines = []
    for number, record in enumerate(records):
        lines.append(
            {
                "crew": f"crew {number % 3 + 1}", "area": record["district"], "tag": record["tag_no"],
                "species": record["species"], "girth": record["girth_cm"], "height": record["height_m"],
                "condition": record["condition"], "warden": record["warden"], "day": record["surveyed_on"].isoformat(),
            }
        )  # fmt: skip
    lines.append(lines[10] | {"height": round(lines[10]["height"] + 1, 1)})
    lines[150]["height"] = None
    lines[60]["condition"] = None
    for number in (30, 31, 32):
        lines[number]["condition"] = "stump"
    texts = [json.dumps(line) for line in lines]
    texts[220] = texts[220][:60]
    path.write_text("\n".join(texts) + "\n", encoding="utf-8")


def _write_survey_3(path: Path, records: list[Tree]) -> None:
    import pyarrow as pa
    import pyarrow.parquet as pq

    columns = ("district", "tag_no", *_SURVEYED)
    pq.write_table(pa.table({name: [record[name] for record in records] for name in columns}), path)


def _write_census(path: Path, trees: list[Tree]) -> None:
    """Every tree of a district, but for four that are not there any more."""
    columns = ("district", "tag_no", "species")
    with open(path, "w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow(columns)
        writer.writerows([tree[name] for name in columns] for place, tree in enumerate(trees) if place % 80 != 7)


def _write_survey_4(path: Path, trees: dict[tuple[str, int], Tree]) -> None:
    """The heights of one district, by a crew that measures in feet."""
    met = [tree for tree in trees.values() if tree["district"] == "Mere End" and not tree["felled"]][:60]
    with open(path, "w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow(("district", "tag_no", "height_m", "surveyed_on"))
        writer.writerows(
            (tree["district"], tree["tag_no"], round(tree["height_m"] * 3.281, 1), "2026-12-01") for tree in met
        )


def edit_behind(folder: str | os.PathLike[str]) -> None:
    """Change a tree as another program would: without a word to the history."""
    with sqlite3.connect(Path(folder) / "register.db") as connection:
        key = tuple(EDITED_TREE.values())
        connection.execute("UPDATE trees SET height_m = 99 WHERE district = ? AND tag_no = ?", key)
    connection.close()
