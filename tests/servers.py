"""Database servers for the tests."""

from __future__ import annotations

import atexit
import uuid
from functools import lru_cache

from rapid_mender.stores.mariadb import MariaDBStore
from rapid_mender.stores.mariadb_link import MariaDBLink
from rapid_mender.stores.postgresql import PostgreSQLStore
from rapid_mender.stores.postgresql_link import PostgreSQLLink


@lru_cache
def postgresql() -> tuple[PostgreSQLStore, PostgreSQLLink]:
    """A database of this process's own, in whose schema `contract` tables are made. Dropped at the end."""
    base = "postgresql://postgres@127.0.0.1:5432"
    name = f"rmend_test_{uuid.uuid4().hex[:12]}"
    admin = PostgreSQLStore(f"{base}/postgres")
    link = admin.connect()
    link.run(f"CREATE DATABASE {name}")
    store = PostgreSQLStore(f"{base}/{name}?options=-csearch_path%3Dcontract%20-csynchronous_commit%3Doff")

    own = store.connect()

    def drop() -> None:
        own.close()
        store.close()
        link.run(f"DROP DATABASE {name} WITH (FORCE)")
        link.close()

    atexit.register(drop)
    return store, own


@lru_cache
def mariadb() -> tuple[MariaDBStore, MariaDBLink]:
    """A database of this process's own. Dropped at the end."""
    base = "mariadb://root@127.0.0.1:3306"
    name = f"rmend_test_{uuid.uuid4().hex[:12]}"
    link = MariaDBStore(f"{base}/test").connect()
    link.run(f"CREATE DATABASE {name}")
    store = MariaDBStore(f"{base}/{name}")
    own = store.connect()

    def drop() -> None:
        own.close()
        store.close()
        link.run(f"DROP DATABASE {name}")
        link.close()

    atexit.register(drop)
    return store, own
