"""Which URL opens which store, and what of a URL may be shown."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from importlib import import_module
from urllib.parse import quote, unquote

from ..core.names import closest
from ..errors import JobError, StoreError
from .contract import Store
from .given import as_store, file_of

_SCHEMES = {
    "sqlite": ("sqlite.store", "SQLiteStore"),
    "postgresql": ("postgresql.store", "PostgreSQLStore"),
    "mariadb": ("mariadb.store", "MariaDBStore"),
}
_OTHERS = {"mysql": "mariadb", "maria": "mariadb", "postgres": "postgresql", "pg": "postgresql", "file": "sqlite"}
"""What the stores are called elsewhere."""

_LOGIN = re.compile(r"((?:[A-Za-z][A-Za-z0-9+.-]*:/*|/*)[^/@:?#]*):.*@", re.DOTALL)  # a password may have an @ in it
_SECRET = re.compile(r"((?:^|[?&;/+=\s])[^=&;?/+\s]*(?:pass|pwd|secret|token)[^=&;?]*=).*", re.DOTALL | re.IGNORECASE)
_HOSTS = re.compile(r"(?:(?:\[[^]]*\]|[^:,\[\]]*)(?::[0-9]*)?(?:,|$))*")
_PLACE = re.compile(r"([A-Za-z][A-Za-z0-9+.-]*:/*)([^/?#]*)(.*)", re.DOTALL)


def without_password(url: str) -> str:
    """A URL as it may be shown, also one that is not well formed."""
    shown = _masked(url)
    plain = unquote(shown)
    return shown if _masked(plain) == plain else _masked(plain)  # what is hidden may be spelt with %3A, or %20


def _masked(url: str) -> str:
    if file_of(url) is not None:
        return url
    shown = _SECRET.sub(r"\1***", _LOGIN.sub(r"\1:***@", url))
    match = _PLACE.fullmatch(shown)
    if match and "@" not in match[2] and not _HOSTS.fullmatch(match[2]):  # what should be a port is a password
        return f"{match[1]}{match[2].partition(':')[0]}:***"
    if "://" not in shown and ":***@" not in shown and ":" in shown:
        return f"{shown.partition(':')[0]}:***"
    return shown


def path_shown(path: str) -> str:
    """A path as it may be shown: somebody may have given the address of a store in its place."""
    return without_password(path) if "://" in path or _LOGIN.search(path) or _SECRET.search(path) else path


@dataclass(frozen=True)
class Address:
    """What the URL of a database server says. `hosts` may be several, each with a port, divided by commas."""

    scheme: str
    user: str | None
    password: str | None
    hosts: str
    database: str
    query: tuple[tuple[str, str], ...]

    @classmethod
    def of_url(cls, url: str) -> Address:
        """Take a URL apart. Raises JobError, without what may be a password, if it cannot be."""
        scheme, _, rest = url.partition("://")
        sample = f"{scheme}://user:password@host/database"
        before, mark, query = rest.partition("?")
        authority, _, path = before.partition("/")
        if "@" not in authority and "@" in rest and not _HOSTS.fullmatch(authority):
            authority, _, after = rest.rpartition("@")  # the password has a /, a ? or a # in it
            hosts, mark, query = after.partition("?")
            hosts, _, path = hosts.partition("/")
            authority = f"{authority}@{hosts}"
        login, at, hosts = authority.rpartition("@")
        if not _HOSTS.fullmatch(hosts) or "#" in path:
            raise JobError(
                f"{without_password(url)!r} cannot be read: write {sample}, and in a password %40 for @, %2F for /, "
                "%3F for ?, %23 for #, %25 for %"
            )
        user, colon, password = login.partition(":")
        pairs = []
        for part in query.split("&") if mark else ():
            name, equals, value = part.partition("=")
            if part and not equals:
                raise JobError(
                    f"{without_password(url.partition('?')[0])!r}: after the ? come NAME=VALUE, divided by &, and "
                    "something else is there; in a value write %26 for &"
                )
            if part:
                pairs.append((unquote(name), unquote(value)))
        said = [unquote(one) for one in (user, hosts, path)]
        if any(_SECRET.search(one) for one in (*said, *(value for _, value in pairs))):
            raise JobError(
                f"{without_password(unquote(url))!r} has a password where none belongs: write {sample}, or it in the "
                "environment"
            )
        if any("\0" in unquote(one) for one in (user, password, hosts, path, query)):
            raise JobError(f"{without_password(url)!r} has %00 in it, which no server takes")
        return cls(
            scheme, unquote(user) if at else None, unquote(password) if colon else None, hosts, unquote(path),
            tuple(pairs),
        )  # fmt: skip

    def spelled(self, secret: bool) -> str:
        """The URL again, without what comes after the question mark; `secret`: with the password."""
        login = ""
        if self.user is not None:
            password = "" if self.password is None else ":" + (quote(self.password, safe="") if secret else "***")
            user = self.user
            if not secret and ":" in user:  # a password that was written as part of it
                user, password = user.partition(":")[0], ":***"
            login = f"{quote(user, safe='')}{password}@"
        return f"{self.scheme}://{login}{self.hosts}{'/' if self.database else ''}{quote(self.database, safe='')}"


def with_variable(url: str, name: str) -> str:
    """The URL of a database server with ${name} for its password, if it has one; and $${ for ${ elsewhere."""
    address, variable = Address.of_url(url), f"${{{name}}}"
    query = [(n, None if _SECRET.match(f"?{n}=") else v) for n, v in address.query]
    listed = "&".join(f"{quote(n)}={variable if v is None else quote(v, safe='')}" for n, v in query)
    shown = address.spelled(False).replace("${", "$${")
    if address.password is not None:
        login, _, rest = shown.rpartition(":***@")
        shown = f"{login}:{variable}@{rest}"
    return f"{shown}?{listed}" if listed else shown


def open_store(store: str | Store) -> Store:
    """The store that a URL, a path or what `as_store` knows names; a Store is given back as it is."""
    store = as_store(store)
    if isinstance(store, Store):
        return store
    if not isinstance(store, str):
        raise JobError("a store is a URL, a path or a Store, not None")
    scheme, separator, rest = store.partition("://")
    if not separator:
        raise JobError(
            f"{without_password(store)!r} is not a store URL; write for example 'sqlite:///register.db' for a file in "
            "this folder, 'sqlite:////data/register.db' for a file anywhere"
        )
    if scheme not in _SCHEMES:
        hint = _OTHERS.get(scheme.lower().partition("+")[0]) or closest(scheme.lower().partition("+")[0], _SCHEMES)
        mend = f"did you mean {without_password(f'{hint}://{rest}')!r}?" if hint else f"there are {', '.join(_SCHEMES)}"
        raise JobError(f"no store is called {without_password(scheme)!r}; {mend}")
    module, name = _SCHEMES[scheme]
    kind = getattr(import_module(f".{module}", __package__), name)
    return kind.of_url(store)  # type: ignore[no-any-return]


@contextmanager
def opened(store: str | Store) -> Iterator[Store]:
    """The store that a URL names, closed at the end; a Store is given back as it is, and stays open."""
    opened_store = open_store(store)
    try:
        yield opened_store
    finally:
        if opened_store is not store:
            with suppress(StoreError):  # what was done is done
                opened_store.close()
