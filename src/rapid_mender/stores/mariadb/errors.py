"""MariaDB's errors in our words: what is to be tried again, what a row is refused for, what is to be mended."""

from __future__ import annotations

import re
import struct
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from ...errors import StoreError
from ..contract import Conflict, Forbidden, Refused
from ..sql.link import Lost
from .wire import ASKED_FOR_A_FILE, NO_PASSWORD, NO_TLS

_RETRY = (1213, 1205, 1020, 1050, 1412)
"""A deadlock, a lock wait time-out, a row that was read and has changed, a table that another merge made, also while a
snapshot was held."""
_UNIQUE, _REFERS = (1062, 1586), (1216, 1217, 1451, 1452)
_REFUSALS = (
    1048, 1062, 1169, 1216, 1217, 1263, 1264, 1265, 1292, 1364, 1365, 1366, 1367, 1369, 1406, 1411, 1416, 1425, 1441,
    1451, 1452, 1526, 1557, 1586, 1644, 1690, 1748, 1761, 1762, 1903, 1906, 1977, 3819, 4025, 4078,
)  # fmt: skip
_RIGHTS = (1044, 1142, 1143, 1227, 1370)
_GONE = (2002, 2003, 2006, 2013, 2055, 1053, 1927, 0, 1152, 1158, 1159, 1160, 1161, 1184)
_MENDS = {
    1045: "check the user and the password in the store URL",
    1698: "check the user and the password in the store URL",
    1049: "check its name in the store URL, or create it",
    1040: "raise max_connections, or merge when fewer programs are connected",
    1969: "the run was undone; raise statement_timeout in the store URL, or set commit_every",
    1118: "a row of the history has every column twice; make long text columns TEXT, or set history = false",
    1153: "raise max_allowed_packet on the server",
    1114: "free some room on the server's disk and run again",
}


@contextmanager
def translated(where: str, state: Callable[[], str] = lambda: "", sql: str = "") -> Iterator[None]:
    """Raise what the driver raises within as one of our errors. `state` asks for the SQLSTATE of an error; `sql`
    is the statement."""
    import pymysql

    try:
        yield
    except (pymysql.Error, OSError) as error:
        raise _in_words(where, error, state, sql) from error
    except RuntimeError as error:  # PyMySQL lacks a package
        raise StoreError(f"{where}: the driver cannot go on with what the server asks for: {error}") from error
    except UnicodeEncodeError as error:
        raise StoreError(f"{where}: half of a character cannot be sent: {error}") from error
    except (struct.error, IndexError, AssertionError, ValueError, TypeError, AttributeError) as error:
        raise StoreError(f"{where}: what the server answers cannot be understood; what answers there?") from error


def _in_words(where: str, error: Exception, state: Callable[[], str], sql: str) -> StoreError:
    code = error.args[0] if error.args and isinstance(error.args[0], int) else 0
    text = str(error.args[1]) if len(error.args) > 1 else str(error) or "the connection is closed"
    if code in _RETRY:
        return Conflict(f"{where}: another program wrote the same rows meanwhile ({text})")
    if code in _REFUSALS:
        key = re.search(r"for key '(.*)'", text)  # to the last quote: a name may have some in it
        # which row of a statement it was says nothing to people who sent another batch
        reason = re.sub(r" at row \d+$", "", text)
        return Refused(
            where, reason, key[1].split(".")[-1] if key else "", unique=code in _UNIQUE, refers=code in _REFERS
        )
    if code == NO_TLS:
        return StoreError(f"{where}: {text}; nothing was sent")
    if code in (ASKED_FOR_A_FILE, NO_PASSWORD):
        return StoreError(f"{where}: {text}; the connection was closed, and what was not committed is undone")
    if code in _RIGHTS:
        return Forbidden(f"{where}: {text}; {_grant(text, sql.startswith('CREATE TEMPORARY'))}")
    if code in _GONE or isinstance(error, OSError):
        return Lost(
            f"{where}: there is no connection ({text}); what was not committed is undone; "
            "run again when the server answers"
        )
    if code not in _MENDS and _is_own(state()):
        return Refused(where, text)
    if code in _MENDS:
        return StoreError(f"{where}: {text}; {_MENDS[code]}")
    return StoreError(f"{where}: the database refused: {text}")


def _is_own(state: str) -> bool:
    """Whether a SQLSTATE is that of a trigger or another routine, which says no in a way of its own."""
    return bool(state) and (state[:2] in ("02", "22", "23", "44", "45") or state[0] not in "0123456789HX")


def _grant(text: str, temporary: bool) -> str:
    on_table = re.search(r"(\S+(?: \S+)?) command denied to user (\S+) for table (\S+)", text)
    if on_table:
        return f"GRANT {on_table[1]} ON {on_table[3]} TO {on_table[2]}"
    right = "CREATE TEMPORARY TABLES" if temporary else "SELECT"
    on_database = re.search(r"Access denied for user (\S+) to database '([^']*)'", text)
    if on_database:
        return f"GRANT {right} ON `{on_database[2]}`.* TO {on_database[1]}"
    return "docs/servers.md lists the rights that a merge needs"
