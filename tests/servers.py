"""Database servers for the tests: private ones of installed binaries, which are installed where that is allowed.

A run has a folder, in memory where there is room. Its workers share one server of each kind, which starts when a test
first wants it, listens on loopback, writes nothing to disk for safety's sake, and ends with the run, however that ends.
"""

from __future__ import annotations

import atexit
import fcntl
import getpass
import os
import shutil
import socket
import subprocess
import sys
import tempfile
import time
import uuid
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from functools import lru_cache
from pathlib import Path
from typing import Any

import rapid_mender as rm
from rapid_mender.stores.contract import Store
from rapid_mender.stores.urls import open_store

_RUNNING = {
    "postgresql": [f"postgresql://{user}@127.0.0.1:5432/postgres" for user in ("postgres", getpass.getuser())],
    "mariadb": ["mariadb://root@127.0.0.1:3306/mysql"],
}
_BINARIES = {"postgresql": ("initdb", "pg_ctl"), "mariadb": ("mariadb-install-db", "mariadbd")}
_PACKAGES = {"postgresql": "postgresql", "mariadb": "mariadb-server"}
_TUNED = {
    "postgresql": ("-c fsync=off -c full_page_writes=off -c synchronous_commit=off -c max_wal_size=4GB -c checkpoint_timeout=1h",),
    "mariadb": (
        "--innodb-doublewrite=0", "--innodb-flush-log-at-trx-commit=0", "--innodb-flush-method=nosync", "--sync-frm=0", "--max-connections=500",
        "--character-set-server=utf8mb4", "--collation-server=utf8mb4_general_ci",
    ),
}  # fmt: skip
_MEMORY, _ROOM = Path("/dev/shm"), 4 << 30
_RUN = "RMEND_TEST_RUN"
marked: set[str] | None = None
"""The marks of the test that runs: it may only use the servers that they name."""
_FOLDERS = ("/usr/lib/postgresql/*/bin", "/usr/pgsql-*/bin", "/opt/homebrew/opt/*/bin", "/usr/local/opt/*/bin", "/usr/sbin")


class NoServer(Exception):
    """There is no server, and none can be had."""


def provide() -> Callable[[], None]:
    """Make the folder of a run, where its temporary files go too. The function that is returned ends the run: its servers
    are stopped, and the folder removed. A process of its own does that, also when this one is killed."""
    roomy = _MEMORY.is_dir() and os.access(_MEMORY, os.W_OK) and shutil.disk_usage(_MEMORY).free > _ROOM
    folder = Path(tempfile.mkdtemp(prefix="rmend-tests-", dir=_MEMORY if roomy else None))
    folder.chmod(0o755)  # PostgreSQL runs as another user
    (folder / "tmp").mkdir()
    os.environ |= {_RUN: str(folder), "TMPDIR": str(folder / "tmp")}
    tempfile.tempdir = None
    keeper = subprocess.Popen([sys.executable, str(Path(__file__).with_name("keeper.py")), str(folder)], stdin=subprocess.PIPE, start_new_session=True)

    def end() -> None:
        assert keeper.stdin is not None
        keeper.stdin.close()
        keeper.wait()

    return end


@lru_cache
def address(kind: str) -> str:
    """The URL of the server that the run has: the one that `RMEND_TEST_<KIND>` names; with `RMEND_TEST_SERVERS=running`
    one that the machine runs; else its own, which is started if it is not yet. Raises NoServer, with what was tried."""
    given = os.environ.get(f"RMEND_TEST_{kind.upper()}")
    if given or os.environ.get("RMEND_TEST_SERVERS") == "running":
        tried = [given] if given else _RUNNING[kind]
        if (url := next(filter(_answers, tried), None)) is None:
            raise NoServer(f"no {kind} server answers at {' or '.join(tried)}")
        return url
    run = Path(os.environ[_RUN])
    told, failed = run / f"{kind}.url", run / f"{kind}.failed"
    with (run / f"{kind}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if failed.exists():
            raise NoServer(failed.read_text())
        if not told.exists():
            try:
                server = Private(kind, *_TUNED[kind])
                server.start()
            except NoServer as error:
                failed.write_text(str(error))
                raise
            told.write_text(server.url)
        return told.read_text()


def _answers(url: str) -> bool:
    try:
        open_store(url).connect().close()  # type: ignore[attr-defined]
    except rm.StoreError:
        return False
    return True


def _binary(kind: str, name: str) -> str:
    """Where a program is. Installs it where that is allowed."""
    for _ in range(2):
        found = shutil.which(name)
        if found is None:
            found = next((str(path) for folder in _FOLDERS for path in Path("/").glob(f"{folder[1:]}/{name}")), None)
        if found is not None:
            return found
        if shutil.which("apt-get") is None or os.geteuid() != 0:
            break
        for words in (["update", "-q"], ["install", "-y", "-q", "--no-install-recommends", _PACKAGES[kind]]):
            subprocess.run(["apt-get", *words], check=False, capture_output=True, env=os.environ | {"DEBIAN_FRONTEND": "noninteractive"})
    raise NoServer(
        f"the tests need a {kind} server: {name} is not installed, and cannot be installed here. Install "
        f"{_PACKAGES[kind]}, or set RMEND_TEST_{kind.upper()} to a store URL, or RMEND_TEST_SERVERS to running"
    )


class Private:
    """A server of the tests' own, which can be stopped at once."""

    def __init__(self, kind: str, *options: str) -> None:
        """`options`: more for the program of the server."""
        self.kind, self.options = kind, options
        self.folder = Path(tempfile.mkdtemp(prefix=f"{kind}-", dir=os.environ[_RUN]))
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]
        self._bin = {name: _binary(kind, name) for name in _BINARIES[kind]}
        self._process: subprocess.Popen[bytes] | None = None
        # MariaDB clears its folder for temporary tables when it starts: another server's must be another
        self._env = os.environ | {"TMPDIR": str(self.folder)}
        data = str(self.folder / "data")
        if kind == "postgresql":
            self._as = self._user("postgres")
            self._run(self._bin["initdb"], "-D", data, "-U", "postgres", "-A", "trust", "--no-sync")
        else:
            self._as = []
            self._run(self._bin["mariadb-install-db"], "--no-defaults", f"--datadir={data}", "--user=root",
                      "--auth-root-authentication-method=normal", "--skip-test-db")  # fmt: skip

    def _user(self, name: str) -> list[str]:
        """PostgreSQL does not run as root."""
        if os.geteuid() != 0:
            return []
        shutil.chown(self.folder, name, name)
        return ["runuser", "-u", name, "--"]

    def _run(self, *words: str) -> None:
        done = subprocess.run([*self._as, *words], capture_output=True, text=True, cwd=self.folder, check=False,
                              env=self._env)  # fmt: skip
        if done.returncode:
            raise NoServer(f"{' '.join(words)} failed: {done.stdout[-500:]} {done.stderr[-500:]}")

    @property
    def url(self) -> str:
        user, database = ("postgres", "postgres") if self.kind == "postgresql" else ("root", "mysql")
        return f"{self.kind}://{user}@127.0.0.1:{self.port}/{database}"

    def start(self, query: str = "") -> None:
        """`query`: what its URL needs at the end."""
        data, log = self.folder / "data", self.folder / "log"
        if self.kind == "postgresql":
            options = " ".join([f"-p {self.port} -c listen_addresses=127.0.0.1 -k {self.folder}", *self.options])
            words = [self._bin["pg_ctl"], "-D", str(data), "-o", options, "-l", str(log), "-w", "start"]
            # not _run: the server would keep the pipe
            if subprocess.run([*self._as, *words], cwd=self.folder, check=False, stdout=-3, stderr=-3).returncode:
                raise NoServer(f"PostgreSQL did not start: {log.read_text()[-800:] if log.exists() else ''}")
        else:
            words = [self._bin["mariadbd"], "--no-defaults", f"--datadir={data}", f"--port={self.port}", "--user=root",
                     "--bind-address=127.0.0.1", f"--socket={self.folder}/socket",
                     f"--pid-file={self.folder}/pid", *self.options]  # fmt: skip
            with log.open("ab") as out:
                self._process = subprocess.Popen(words, stdout=out, stderr=out, cwd=self.folder, env=self._env, start_new_session=True)
        for _ in range(300):
            if _answers(self.url + query):
                return
            time.sleep(0.1)
        raise NoServer(f"the private {self.kind} server did not start: {log.read_text()[-800:]}")

    def stop(self) -> None:
        """Stop at once, in the middle of whatever it does."""
        if self.kind == "postgresql":
            self._run(self._bin["pg_ctl"], "-D", str(self.folder / "data"), "-m", "immediate", "stop")
        elif self._process is not None:
            self._process.kill()
            self._process.wait()

    def remove(self) -> None:
        with suppress(NoServer):
            self.stop()
        shutil.rmtree(self.folder, ignore_errors=True)


_free: dict[str, list[str]] = {}
"""Names of databases that were dropped, by server. They come again: what a driver knows of a database is kept by its URL, and
takes PostgreSQL's three times as long to learn as a database takes to make."""


class Database:
    """A database of this process's own, dropped at the end."""

    def __init__(self, base: str, options: str = "") -> None:
        self._names = _free.setdefault(base, [])
        self.name = self._names.pop() if self._names else f"rmend_test_{uuid.uuid4().hex[:12]}"
        self.kind = base.partition("://")[0]
        self._admin: Any = open_store(base)
        admin = self._admin.connect()
        admin.run(f"CREATE DATABASE {self.name}")
        admin.close()
        before, mark, query = base.partition("?")
        self.url = f"{before.rsplit('/', 1)[0]}/{self.name}{options or mark + query}"
        self.store: Store = open_store(self.url)
        self.link: Any = self.store.connect()  # type: ignore[attr-defined]
        """A connection of the tests' own, which commits each statement."""

    def run(self, *statements: str) -> None:
        for statement in statements:
            self.link.run(statement)

    def cut_others(self) -> None:
        """End every other connection to the database."""
        if self.kind == "postgresql":
            others = "FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()"
            self.run(f"SELECT pg_terminate_backend(pid) {others}")
        else:
            others = "FROM information_schema.PROCESSLIST WHERE ID <> CONNECTION_ID() AND DB = DATABASE()"
            for row in self.link.ask(f"SELECT ID AS id {others}"):
                with suppress(rm.StoreError):  # it may have ended by itself
                    self.run(f"KILL {row['id']}")

    def drop(self) -> None:
        with suppress(rm.StoreError):
            self.link.close()
            self.store.close()
            admin = self._admin.connect()
            admin.run(f"DROP DATABASE {self.name}{' WITH (FORCE)' if self.kind == 'postgresql' else ''}")
            admin.close()
            self._admin.close()
            self._names.append(self.name)


def _check_marks(kind: str) -> None:
    assert marked is None or kind in marked, f"mark this test with @pytest.mark.{kind}, so that it is left out where that is not wanted"


def contract(kind: str) -> Database:
    """The database in which the contract is held: on PostgreSQL in the schema `contract`."""
    _check_marks(kind)
    return _contract(kind)


@lru_cache
def _contract(kind: str) -> Database:
    options = "?options=-csearch_path%3Dcontract%20-csynchronous_commit%3Doff" if kind == "postgresql" else ""
    database = Database(address(kind), options)
    atexit.register(database.drop)
    return database


@contextmanager
def database(kind: str, base: str | None = None) -> Iterator[Database]:
    """A database for one test."""
    _check_marks(kind)
    made = Database(base or address(kind))
    try:
        yield made
    finally:
        made.drop()
