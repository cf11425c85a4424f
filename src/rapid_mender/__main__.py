"""`rmend` and `python -m rapid_mender`."""

from __future__ import annotations


def main() -> None:
    from .cli import app
    from .stores import company

    company.ours = True

    app()


if __name__ == "__main__":
    main()
