"""The demo's story: each step with the command that it runs, so that a reader can repeat it."""

from __future__ import annotations

import contextlib
import io
import json
import os
import shlex
import sys

from .data import STORY_TREE, make

STEPS: list[tuple[str, list[str]]] = [
    (
        "The spring survey has come in as a CSV file. What would it do? A preview writes nothing.",
        ["preview", "{folder}/survey-1.toml"],
    ),
    ("That is what we expect, so merge it. Bad records do not stop it.", ["merge", "{folder}/survey-1.toml"]),
    (
        "The same batch once more: every good record is skipped, and the file is not touched.",
        ["merge", "{folder}/survey-1.toml"],
    ),
    (
        "The summer survey comes from the crews' app: JSON Lines, other names, a record sent again.",
        ["merge", "{folder}/survey-2.toml"],
    ),
    ("The autumn survey is a Parquet file with measurements only.", ["merge", "{folder}/survey-3.toml"]),
    ("All batches so far.", ["batches", "{folder}/survey-1.toml"]),
    (
        "And one tree, which every survey found changed.",
        ["history", "{folder}/survey-1.toml", "--key", "district={district}", "--key", "tag_no={tag_no}"],
    ),
]


def tell(folder: str, as_json: bool = False) -> None:
    """Make the demo's files in `folder`, and run its steps."""
    from ..cli import app

    make(folder)
    told = []
    if not as_json:
        print(f"The street-tree register of Harrowmere is in {folder}: register.db, three surveys and their job files.")
    for text, command in STEPS:
        words = [word.format(folder=folder.rstrip("/"), **STORY_TREE) for word in command]
        shown = " ".join(["rmend", *map(_quoted, words)])
        out = io.StringIO()
        if as_json:
            with contextlib.redirect_stdout(out):
                app([*words, "--json"], standalone_mode=False)
            told.append({"text": text, "command": shown, "output": json.loads(out.getvalue())})
        else:
            _head(text, shown)
            app(words, standalone_mode=False)
            _show_rejects(words, folder)
    if as_json:
        print(json.dumps({"folder": os.path.abspath(folder), "steps": told}, ensure_ascii=False, indent=2))


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


def _show_rejects(words: list[str], folder: str) -> None:
    """After the first merge, the file of rejects as it stands."""
    path = os.path.join(folder, "survey-1.rejects.csv")
    if words[0] == "merge" and words[1].endswith("survey-2.toml") and os.path.exists(path):
        _head("These were the rejects of the spring survey, as they came, with where and why.", f"cat {path}")
        with open(path, encoding="utf-8") as file:
            print(file.read().rstrip())
