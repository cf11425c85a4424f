"""`rmend` and `python -m rapid_mender`."""

from __future__ import annotations

import signal
import sys


def main() -> None:
    from .cli import app
    from .cli.exits import on_sigterm, show_log
    from .stores.sqlite import company

    company.ours = True
    for stream in (sys.stdout, sys.stderr):  # a letter that the output does not have ends nothing
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="backslashreplace")

    signal.signal(signal.SIGTERM, on_sigterm)
    show_log("rapid_mender.waiting")
    app()


if __name__ == "__main__":
    main()
