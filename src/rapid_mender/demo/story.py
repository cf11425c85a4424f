"""The demo's story: each step with the command that it runs, so that a reader can repeat it."""

from __future__ import annotations

import contextlib
import io
import json
import os
import shlex
import subprocess
import sys
from collections.abc import Callable
from typing import Any

from .care import CARED
from .data import STORY_TREE, TALL_TREE, edit_behind, make

DESK = ["--actor", "(SELECT clerk FROM desk)", "--application", "(SELECT program FROM desk)"]
STEPS: list[tuple[str, list[str]]] = [
    ("The spring survey has come in as a CSV file. Is its job in order?", ["check", "{folder}/survey-1.toml"]),
    ("What would it do? A preview writes nothing.", ["preview", "{folder}/survey-1.toml"]),
    (
        "One tree is said to be 95 m tall. Why is it rejected?",
        ["explain", "{folder}/survey-1.toml", "--key", "district={tall[district]}", "--key", "tag_no={tall[tag_no]}"],
    ),
    ("That is right, so merge it. Bad records do not stop it.", ["merge", "{folder}/survey-1.toml"]),
    (
        "The same batch once more: every good record is skipped, and the table is as it was.",
        ["merge", "{folder}/survey-1.toml"],
    ),
    (
        "A crew remembers what it meant by 'ca. 90'. Mended by hand, the rejects can be merged as they are.",
        ["merge", "{folder}/survey-1.toml", "{folder}/survey-1.mended.csv"],
    ),
    (
        "A public map follows the register, with names of its own and without the wardens. First it is filled.",
        ["sync", "{folder}/map.toml"],
    ),
    (
        "The summer survey comes from the crews' app, with names of its own. A job for it can be drafted.",
        ["draft", "sqlite:///{folder}/register.db", "trees", "{folder}/survey-2.jsonl", "--out", "{folder}/draft.toml"],
    ),
    (
        "The job for it that we use takes corrected records, and marks trees as felled where a stump was found.",
        ["merge", "{folder}/survey-2.toml"],
    ),
    ("The autumn survey is a Parquet file with measurements only.", ["merge", "{folder}/survey-3.toml"]),
    (
        "A full copy of one district: trees that are not in it any more are marked. How many of which kind are that?",
        ["preview", "{folder}/census.toml", "--by", "felled"],
    ),
    ("Five, and nothing else happens. Merge it.", ["merge", "{folder}/census.toml"]),
    ("All batches so far.", ["batches", "{folder}/survey-1.toml"]),
    (
        "And one tree, which every survey found changed.",
        ["history", "{folder}/survey-1.toml", "--key", "district={district}", "--key", "tag_no={tag_no}"],
    ),
    ("In winter a new crew measures heights. Its batch lands.", ["merge", "{folder}/survey-4.toml"]),
    (
        "Trees that have grown to three times their height? The crew measured in feet.",
        ["history", "{folder}/survey-4.toml", "--batch", "7", "--column", "height_m", "--limit", "4"],
    ),
    ("Can the batch be taken back?", ["undo", "{folder}/survey-4.toml", "7", "--preview"]),
    ("Take it back. That is a batch too.", ["undo", "{folder}/survey-4.toml", "7"]),
    (
        "The map follows: of each tree what all changes since come to. The heights in feet never reach it.",
        ["sync", "{folder}/map.toml"],
    ),
    ("A folder of files follows too, for whoever reads files.", ["sync", "{folder}/files.toml"]),
    (
        "And a program of ten lines: each time that it runs, it goes on from where it was.",
        ["python", "{folder}/follow.py"],
    ),
    ("Who follows the register, and how far behind?", ["followers", "sqlite:///{folder}/register.db"]),
    ("Do the history and the table say the same?", ["verify", "{folder}/survey-4.toml"]),
    (
        "Now somebody edits a tree in the table itself, without a word to the history. It is found.",
        ["verify", "{folder}/survey-4.toml"],
    ),
    (
        "So the map could not follow. Held against the register, it differs there.",
        ["sync", "{folder}/map.toml", "--compare"],
    ),
    ("Merge what differs, and follow from there.", ["sync", "{folder}/map.toml", "--mend"]),
    (
        "That is not to happen again: from now on whatever any program writes to the register is captured.",
        ["capture", "start", "sqlite:///{folder}/register.db", "trees", *DESK],
    ),
    ("The office edits the register with a program of its own.", ["python", "{folder}/clerk.py"]),
    (
        "The history has it, with the names of the clerk and of the program.",
        ["history", "{folder}/survey-4.toml", "--application", "Tree Ledger 2", "--limit", "5"],
    ),
    ("The map follows.", ["sync", "{folder}/map.toml"]),
    ("What is captured, and how much?", ["capture", "list", "sqlite:///{folder}/register.db"]),
    (
        "And if the clerk was wrong?",
        ["undo", "{folder}/survey-4.toml", "--table", "trees", "--application", "Tree Ledger 2", "--preview"],
    ),
    (
        "The care book keeps versions: who cared for a tree, and how it was, since when. Seven years' sheets come in.",
        ["merge", "{folder}/care.toml"],
    ),
    (
        "A sheet from 2022 turns up late. What would it do?",
        ["preview", "{folder}/care.toml", "{folder}/care-late.csv"],
    ),
    ("That is its place.", ["merge", "{folder}/care.toml", "{folder}/care-late.csv"]),
    (
        "The life of that tree.",
        ["history", "{folder}/care.toml", "--life", "district={cared[district]}", "--life", "tag_no={cared[tag_no]}"],
    ),
    ("Do all spans fit together?", ["check", "{folder}/care.toml", "--spans"]),
]


def tell(folder: str, run: Callable[[list[str]], object], as_json: bool = False) -> None:
    """Make the demo's files in `folder`, and run its steps: `run` takes the words of a command."""
    make(folder)
    told = []
    if not as_json:
        print(f"The street-tree register of Harrowmere is in {folder}: register.db, four surveys and their job files.")
    for text, command in STEPS:
        words = [word.format(folder=folder.rstrip("/"), tall=TALL_TREE, cared=CARED, **STORY_TREE) for word in command]
        if words[-1].endswith("survey-1.mended.csv"):
            _mend(folder, quiet=as_json)
        if text.startswith("Now somebody edits"):
            edit_behind(folder)
        if words[0] == "draft":
            words.append("--force")
        program = words[0] == "python"
        shown = " ".join([*([] if program else ["rmend"]), *map(_quoted, words)])
        if as_json:
            output = {"lines": _printed(words).splitlines()} if program else _document(run, words)
            told.append({"text": text, "command": shown, "output": output})
            continue
        _head(text, shown)
        if program:
            print(_printed(words).rstrip())
        else:
            run(words)
    if as_json:
        print(json.dumps({"folder": os.path.abspath(folder), "steps": told}, ensure_ascii=False, indent=2))


def _printed(words: list[str]) -> str:
    """What a program of the demo's prints."""
    return subprocess.run([sys.executable, *words[1:]], capture_output=True, text=True, check=True).stdout


def _document(run: Callable[[list[str]], object], words: list[str]) -> Any:
    """What a command says to programs."""
    out = io.StringIO()
    with contextlib.redirect_stdout(out):
        run([*words, "--json"])
    return json.loads(out.getvalue())


def _quoted(word: str) -> str:
    """A word as a person would type it: in double quotes where it has an apostrophe."""
    return f'"{word}"' if "'" in word and not set(word) & set('"$`\\!') else shlex.quote(word)


def _head(text: str, command: str) -> None:
    from rich.console import Console

    console = Console(width=None if sys.stdout.isatty() else 120, highlight=False)
    console.print()
    console.rule(style="dim")
    console.print(text, style="bold")
    console.print(f"$ {command}", style="cyan", markup=False, soft_wrap=True)
    console.print()
    sys.stdout.flush()


def _mend(folder: str, quiet: bool) -> None:
    """What a person would do in an editor."""
    path = os.path.join(folder, "survey-1.rejects.csv")
    with open(path, encoding="utf-8") as file:
        text = file.read()
    if not quiet:
        _head("These are the rejects, as they came, with where and why.", f"cat {path}")
        print(text.rstrip())
    with open(os.path.join(folder, "survey-1.mended.csv"), "w", encoding="utf-8") as file:
        file.write(text.replace("ca. 90", "90.0"))
