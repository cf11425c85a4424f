"""`rmend` and `python -m rapid_mender`."""

from __future__ import annotations

import signal
import sys
from collections.abc import Sequence
from importlib.abc import MetaPathFinder
from types import ModuleType


class WithoutPandas(MetaPathFinder):
    """Keeps pyarrow from importing pandas where it is installed: no command needs it, and most take less time."""

    def find_spec(self, name: str, path: Sequence[str] | None, target: ModuleType | None = None) -> None:
        if name == "pandas":
            raise ModuleNotFoundError(name)


def main() -> None:
    from .cli import app
    from .cli.exits import on_sigterm, show_log
    from .stores.sqlite import company

    company.ours = True
    sys.meta_path.insert(0, WithoutPandas())
    for stream in (sys.stdout, sys.stderr):  # a letter that the output does not have ends nothing
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="backslashreplace")

    signal.signal(signal.SIGTERM, on_sigterm)
    show_log("rapid_mender.waiting")
    app()


if __name__ == "__main__":
    main()
