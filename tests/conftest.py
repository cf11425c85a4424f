"""What the tests share: hypothesis profiles, and a way to run rmend as a user does."""

from __future__ import annotations

import os
import sys
import threading
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import hypothesis
import pytest
from hypothesis import HealthCheck, Phase, settings

sys.dont_write_bytecode = False  # the many processes of a run are not to compile each file anew
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)

from rapid_mender.stores.sqlite import company  # noqa: E402

from . import commands, length, servers  # noqa: E402

settings.register_profile("default", deadline=None, max_examples=60, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large])
settings.register_profile("unshrunk", settings.get_profile("default"), phases=[Phase.explicit, Phase.generate])
settings.load_profile("default")


def pytest_configure(config: pytest.Config) -> None:
    """Have a folder for the run, once for all workers."""
    if not hasattr(config, "workerinput"):
        config.add_cleanup(servers.provide())


def pytest_ignore_collect(collection_path: Path, config: pytest.Config) -> bool | None:
    """Leave files without pure tests unread where only these are wanted: they answer at once."""
    return True if config.option.markexpr == "pure" and collection_path.suffix == ".py" and "mark.pure" not in collection_path.read_text() else None


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Mark each test with the servers that its parameters name. What needs none, and is not pure, is one of SQLite."""
    for item in items:
        given = getattr(item, "callspec", None)
        words = [word for value in (given.params.values() if given else ()) for word in (value if isinstance(value, tuple) else [value])]
        for kind in ("postgresql", "mariadb"):
            if any(isinstance(word, str) and word.startswith(kind) for word in words):
                item.add_marker(kind)
        if "mallory" in getattr(item, "fixturenames", ()):
            item.add_marker("postgresql")
        if not {"pure", "postgresql", "mariadb"} & {mark.name for mark in item.iter_markers()}:
            item.add_marker("sqlite")
        if hasattr(law := getattr(item, "obj", None), "hypothesis"):
            hypothesis.seed(length.SEED)(law)
    items.sort(key=lambda item: item.get_closest_marker("slow") is None)  # the longest first: none is the tail


def pytest_terminal_summary(terminalreporter: pytest.TerminalReporter) -> None:
    if length.SEED or length.LONG:
        terminalreporter.write_line(f"RMEND_TEST_SEED={length.SEED} RMEND_TEST_TIMES={length.TIMES:g}")


def pytest_runtest_setup(item: pytest.Item) -> None:
    servers.marked = {mark.name for mark in item.iter_markers()}


@pytest.fixture(autouse=True, scope="session")
def _no_company() -> Iterator[None]:
    """The threads of the test runner open no store: else every SQLite file would be opened in another process."""
    theirs = set(threading.enumerate())
    others_run = company.others_run
    company.others_run = lambda: others_run() and any(one not in theirs and one is not threading.current_thread() for one in threading.enumerate())
    yield
    company.others_run = others_run


@pytest.fixture
def rmend(tmp_path: Path) -> Callable[..., commands.Ran]:
    """Run `rmend` in a process of its own, in `tmp_path`; no run may end in a traceback."""

    def run(*words: Any, stdin: str | Path = os.devnull, stdout: str | Path | None = None, **env: str) -> commands.Ran:
        return commands.Running(words, tmp_path, stdin, stdout, env).wait()

    return run
