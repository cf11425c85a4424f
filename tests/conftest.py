"""What the tests share: hypothesis profiles, and a way to run rmend as a user does."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

import pytest
from hypothesis import HealthCheck, Phase, settings

from rapid_mender.stores.sqlite import company

from . import servers

settings.register_profile("default", deadline=None, max_examples=60, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large])
settings.register_profile("unshrunk", settings.get_profile("default"), phases=[Phase.explicit, Phase.generate])
settings.load_profile("default")


def pytest_configure(config: pytest.Config) -> None:
    """Have a folder for the run, once for all workers."""
    if not hasattr(config, "workerinput"):
        config.add_cleanup(servers.provide())


@pytest.fixture(autouse=True, scope="session")
def _no_company() -> Iterator[None]:
    """The threads of the test runner open no store: else every SQLite file would be opened in another process."""
    theirs = set(threading.enumerate())
    others_run = company.others_run
    company.others_run = lambda: others_run() and any(one not in theirs and one is not threading.current_thread() for one in threading.enumerate())
    yield
    company.others_run = others_run


@dataclass
class Ran:
    code: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        return json.loads(self.out)


@pytest.fixture
def rmend(tmp_path: Any) -> Callable[..., Ran]:
    """Run `rmend` in a process of its own, in `tmp_path`; no run may end in a traceback."""

    def run(*words: Any, **env: str) -> Ran:
        command = [sys.executable, "-m", "rapid_mender", *map(str, words)]
        done = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, timeout=120, env=os.environ | env, check=False)
        assert "Traceback" not in done.stderr, done.stderr
        return Ran(done.returncode, done.stdout, done.stderr)

    return run
