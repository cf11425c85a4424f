"""rmend demo: the register of Harrowmere, three survey batches, and what happens to them."""

from __future__ import annotations

from typing import Annotated

import typer

from .exits import errors_in_words
from .options import AsJson


def demo(
    context: typer.Context,
    folder: Annotated[str, typer.Argument(help="Where to put the demo's files.")] = "harrowmere",
    json: AsJson = False,
) -> None:
    """Make a register of trees, and merge surveys into it.

    The town is made up. Each step is shown with the command that it runs, so that it can be repeated.
    """
    with errors_in_words():
        from ..demo.story import tell

        rmend = context.find_root().command
        tell(folder, lambda words: rmend.main(words, standalone_mode=False), json)
