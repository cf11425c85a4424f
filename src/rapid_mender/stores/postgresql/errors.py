"""PostgreSQL's errors in our words: what is to be tried again, what a row is refused for, what is to be mended."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import pyarrow as pa

from ...errors import StoreError
from ..contract import Conflict, Forbidden, Refused
from ..sql.link import Lost

_RETRY = ("40001", "40P01")  # serialization failure, deadlock
_CLASSES = (
    "00 01 02 03 08 09 0A 0B 0F 0L 0P 0Z 20 21 22 23 24 25 26 27 28 2B 2D 2F 34 38 39 3B 3D 3F 40 42 44 53 54 55 57 "
    "58 72 F0 HV P0 XX"
)
"""The classes of SQLSTATE that PostgreSQL has itself; a trigger may have others."""
_GRANTS = (
    (r"permission denied to create temporary tables in database (\S+)", "GRANT TEMPORARY ON DATABASE {0} TO {user}"),
    (r"permission denied for schema (\S+)", "GRANT {use} ON SCHEMA {0} TO {user}"),
    (r"permission denied for sequence (\S+)", "GRANT USAGE ON SEQUENCE {0} TO {user}"),
    (r"permission denied for (?:table|view) (\S+)", "GRANT {right} ON {0} TO {user}"),
    (r"must be owner of (?:table|relation|view) (\S+)", "let the owner of {0} merge once, or make {user} its owner"),
)
_NO_LOGIN = re.compile(
    r'authentication failed|^role ".*" does not exist$|no pg_hba.conf entry|is not permitted to log in'
)
_MENDS = (
    ("53100", "free some room on the server's disk and run again"),
    ("No space left on device", "free some room on the server's disk and run again"),
    ("53200", "the server has too little memory; lower its work_mem, or set commit_every"),
    ("53300", "raise max_connections, or merge when fewer programs are connected"),
    ("too many clients", "raise max_connections, or merge when fewer programs are connected"),
    ("remaining connection slots", "raise max_connections, or merge when fewer programs are connected"),
)
_GONE = (
    "server closed the connection", "no connection to the server", "terminating connection", "connection to server",
    "could not connect", "Connection refused", "SSL SYSCALL", "bad connection",
)  # fmt: skip


@contextmanager
def translated(where: str, sql: str = "SELECT") -> Iterator[None]:
    """Raise what the driver raises within as one of our errors. `sql` is the statement, or its first word."""
    import adbc_driver_manager

    try:
        yield
    except (adbc_driver_manager.Error, pa.ArrowException, OSError, UnicodeEncodeError) as error:
        raise _in_words(where, error, sql.split(maxsplit=1)[0]) from error


def _in_words(where: str, error: Any, verb: str) -> StoreError:
    text = re.sub(r"^[A-Z_]+: (\[libpq\] )?", "", str(error))
    told = {name: value.decode(errors="replace") for name, value in getattr(error, "details", None) or ()}
    told = {name.decode() if isinstance(name, bytes) else name: value for name, value in told.items()}
    state = getattr(error, "sqlstate", None) or told.get("PG_DIAG_SQLSTATE") or ""
    what = told.get("PG_DIAG_MESSAGE_PRIMARY")
    if what is None:
        match = re.search(r"(?:ERROR|FATAL):  (.*?)(?:\n|$)", text)
        what = match[1] if match else re.sub(r"\. SQLSTATE: \w+$", "", text).strip()
    what = " ".join(what.split()).removeprefix("Failed to connect: ")
    detail = told.get("PG_DIAG_MESSAGE_DETAIL", "").rstrip(".")
    if state in _RETRY or "could not serialize access" in what:
        return Conflict(f"{where}: another program changed the same rows meanwhile ({what})")
    if _refuses_a_row(state, what, told.get("PG_DIAG_CONTEXT", "")):
        constraint = told.get("PG_DIAG_CONSTRAINT_NAME", "")
        return Refused(
            where,
            f"{what}: {detail}" if detail else what,
            constraint,
            unique=state == "23505",
            refers=state == "23503",
            excludes=state == "23P01",
        )
    if state in ("42P07", "42710"):
        return Conflict(f"{where}: another merge made the same table meanwhile ({what})")
    if state == "42501" or what.startswith(("permission denied", "must be owner")):
        return Forbidden(f"{where}: {what}; {_grant(where, what, verb)}")
    if state == "57014" or what.startswith("canceling statement"):
        mend = "raise statement_timeout in the store URL, or set commit_every"
        return StoreError(f"{where}: {what}; the run was undone; {mend}")
    for sign, mend in _MENDS:
        if state == sign or sign in what:
            return StoreError(f"{where}: {what}; {mend}")
    if match := re.fullmatch(r'database "(.*)" does not exist', what):
        return StoreError(f"{where}: there is no database {match[1]!r}; check its name in the store URL, or create it")
    if "could not translate host name" in what:
        return Lost(f"{where}: {what.partition(': ')[0]}; check the host in the store URL, and the network")
    if state[:2] == "28" or "no password supplied" in text or _NO_LOGIN.search(what):
        return StoreError(f"{where}: {what}; check the user and the password in the store URL")
    if state[:2] in ("08", "57") or (not state and any(sign in text for sign in _GONE)):
        return Lost(
            f"{where}: there is no connection ({what}); what was not committed is undone; "
            "run again when the server answers"
        )
    return StoreError(f"{where}: the database refused: {what}{f': {detail}' if detail else ''}")


def _refuses_a_row(state: str, what: str, context: str) -> bool:
    """Whether an error is about the row that is written: a constraint, a type, a limit, or a trigger that says no."""
    if state[:2] in ("22", "23", "27", "38", "39", "44", "P0") or context.split("\n")[0].endswith("RAISE"):
        return True
    if state == "54000" or (state == "42501" and "row-level security" in what):  # an index row or a row too large
        return True
    return len(state) == 5 and state[:2] not in _CLASSES


def _grant(where: str, what: str, verb: str) -> str:
    user = re.search(r"://([^@/:]+)[^@/]*@", where)
    right = {"INSERT": "INSERT", "UPDATE": "UPDATE", "DELETE": "DELETE", "LOCK": "UPDATE"}.get(verb, "SELECT")
    for pattern, mend in _GRANTS:
        if match := re.search(pattern, what):
            name, whom = match[1].strip('"'), user[1] if user else "this user"
            return mend.format(name, user=whom, right=right, use="CREATE" if verb == "CREATE" else "USAGE")
    return "docs/servers.md lists the rights that a merge needs"
