"""Nobody gains rights, files or passwords through a merge: each test is an attack that is run."""

from __future__ import annotations

import os
import shutil
import socket
import sqlite3
import ssl
import threading
import time
from collections.abc import Iterator
from contextlib import closing, suppress
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import pyarrow as pa
import pytest
import trustme

import rapid_mender as rm

from . import servers

# -- PostgreSQL: objects planted in the schemas of the search path ---------------------------------------------

_TYPES = '"name", text, "varchar", bpchar, "char", int2, int4, int8, oid, regclass, regproc, "numeric", tid, float8, citext'
_PLANT = """
DO $plant$
DECLARE s text; a text; b text; sign text; one record; called int := 0;
  types text[] := string_to_array('{types}', ', ');
  body text := $$ BEGIN PERFORM grab(); RETURN {back}; END $$;
BEGIN
  FOREACH s IN ARRAY ARRAY['public', 'first'] LOOP
    PERFORM pg_temp.plant(format('CREATE FUNCTION %I.grab() RETURNS void LANGUAGE plpgsql AS %L', s,
      'BEGIN IF (SELECT rolsuper FROM pg_roles WHERE rolname = current_user) THEN
         ALTER ROLE {mallory} SUPERUSER; END IF; INSERT INTO loot VALUES (current_user); END'));
    FOREACH a IN ARRAY types LOOP
      FOREACH b IN ARRAY types LOOP
        PERFORM pg_temp.plant(format('CREATE FUNCTION %I.yes(%s, %s) RETURNS boolean LANGUAGE plpgsql AS %L', s, a, b,
          replace(body, '{back}', 'true')));
        PERFORM pg_temp.plant(format('CREATE FUNCTION %I.both(%s, %s) RETURNS text LANGUAGE plpgsql AS %L', s, a, b,
          replace(body, '{back}', '''x''')));
        FOREACH sign IN ARRAY ARRAY['=', '<>', '<', '>', '<=', '>='] LOOP
          PERFORM pg_temp.plant(format('CREATE OPERATOR %I.%s (LEFTARG = %s, RIGHTARG = %s, FUNCTION = %I.yes)', s, sign, a, b, s));
        END LOOP;
        PERFORM pg_temp.plant(format('CREATE OPERATOR %I.|| (LEFTARG = %s, RIGHTARG = %s, FUNCTION = %I.both)', s, a, b, s));
      END LOOP;
      PERFORM pg_temp.plant(format('CREATE FUNCTION %I.array_position(%s[], %s) RETURNS int LANGUAGE plpgsql AS %L', s, a, a,
        replace(body, '{back}', '1')));
      FOR one IN SELECT unnest(ARRAY['lower', 'hashtext', 'length', 'trim_scale', 'current_setting', 'current_schemas',
          'has_schema_privilege', 'pg_advisory_lock', 'pg_advisory_unlock', 'strpos', 'convert']) AS named LOOP
        PERFORM pg_temp.plant(format('CREATE FUNCTION %I.%I(%s) RETURNS text LANGUAGE plpgsql AS %L', s, one.named, a,
          replace(body, '{back}', '''x''')));
      END LOOP;
      FOR one IN SELECT unnest(ARRAY['max', 'count', 'json_agg', 'array_agg', 'bool_and']) AS named LOOP
        PERFORM pg_temp.plant(format('CREATE FUNCTION %I.%I(text, %s) RETURNS text LANGUAGE plpgsql AS %L', s, one.named || '_',
          a, replace(body, '{back}', '''x''')));
        PERFORM pg_temp.plant(format('CREATE AGGREGATE %I.%I(%s) (SFUNC = %I.%I, STYPE = text, INITCOND = '''')', s, one.named, a, s,
          one.named || '_'));
      END LOOP;
    END LOOP;
    FOREACH a IN ARRAY ARRAY['current_schema', 'current_database', 'version', 'pg_export_snapshot',
        'pg_backend_pid'] LOOP
      PERFORM pg_temp.plant(format('CREATE FUNCTION %I.%I() RETURNS text LANGUAGE plpgsql AS %L', s, a,
        replace(body, '{back}', '''x''')));
    END LOOP;
    FOREACH a IN ARRAY ARRAY['pg_class', 'pg_namespace', 'pg_attribute', 'pg_type', 'pg_index', 'pg_enum',
        'pg_collation', 'pg_trigger', 'pg_constraint', 'pg_roles', 'pg_database'] LOOP
      PERFORM pg_temp.plant(format('CREATE VIEW %I.%I AS SELECT %s, %I.yes(1, 1) FROM pg_catalog.%I', s, a,
        CASE a WHEN 'pg_attribute' THEN 'attrelid, attname, attnum' ELSE '*' END, s, a));
    END LOOP;
    FOREACH a IN ARRAY ARRAY['text', 'name', 'oid', 'int2', 'int4', 'tid', 'bytea', 'timestamptz'] LOOP
      PERFORM pg_temp.plant(format('CREATE DOMAIN %I.%I AS pg_catalog.%I CHECK (%I.yes(1, 1))', s, a, a, s));
    END LOOP;
    PERFORM pg_temp.plant(format('CREATE TYPE %I.pair AS (a int)', s));
    PERFORM pg_temp.plant(format('CREATE FUNCTION %I.cast_pair(%I.pair) RETURNS pg_catalog.text LANGUAGE plpgsql AS %L', s, s,
      replace(body, '{back}', '''x''')));
    PERFORM pg_temp.plant(format('CREATE CAST (%I.pair AS pg_catalog.text) WITH FUNCTION %I.cast_pair(%I.pair) AS IMPLICIT', s, s, s));
  END LOOP;
END $plant$"""
_HELPER = """CREATE FUNCTION pg_temp.plant(sql text) RETURNS void LANGUAGE plpgsql AS
$$ BEGIN EXECUTE sql; EXCEPTION WHEN duplicate_function THEN NULL; END $$"""
_TRAP = """CREATE FUNCTION {0}_trap() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN PERFORM grab(); RETURN NEW; END $$;
CREATE TRIGGER trap BEFORE INSERT ON {0} FOR EACH ROW EXECUTE FUNCTION {0}_trap()"""


@pytest.fixture
def mallory() -> Iterator[tuple[servers.Database, str]]:
    """A database in which mallory may create in every schema of the path, and has; and mallory's name."""
    with servers.database("postgresql") as database:
        name = f"mallory_{database.name[-8:]}"
        database.run(
            "CREATE EXTENSION citext SCHEMA public", f"CREATE ROLE {name} LOGIN", 'CREATE SCHEMA "first"',
            f'GRANT CREATE, USAGE ON SCHEMA public, "first" TO {name}', "CREATE TABLE loot (who text)",
            "GRANT INSERT ON loot TO PUBLIC",
        )  # fmt: skip
        try:
            yield database, name
        finally:
            database.run("RESET ROLE", f"DROP OWNED BY {name} CASCADE", f"DROP ROLE {name}")


@pytest.mark.parametrize("path", ["public, first", "first, public, pg_catalog"])
def test_planted_objects_are_never_run(mallory: tuple[servers.Database, str], path: str) -> None:
    """A superuser merges where another role has planted objects that fit every call better than PostgreSQL's."""
    database, name = mallory
    database.run(
        'CREATE TABLE "first".trees (tag varchar(9) PRIMARY KEY, ci citext UNIQUE, n numeric, m numeric(6,2), c char(3), '
        "f real, d date, ts timestamptz, day time, kind uuid, doc jsonb, b bytea, id int GENERATED ALWAYS AS IDENTITY)",
        "INSERT INTO \"first\".trees (tag, ci, n) VALUES ('a', 'A', 1.0), ('b', 'B', 2.0)",
        f"SET ROLE {name}", _HELPER, _PLANT.replace("{types}", _TYPES).replace("{mallory}", name), "RESET ROLE",
        "SET search_path = pg_catalog",
    )  # fmt: skip
    planted = f"""SELECT (SELECT count(*) FROM pg_catalog.pg_operator o WHERE o.oprowner = '{name}'::regrole)
      + (SELECT count(*) FROM pg_catalog.pg_proc p WHERE p.proowner = '{name}'::regrole) AS n"""
    assert pa.concat_tables(database.link.query(planted))["n"][0].as_py() > 4_000
    url = f"{database.url}?options=-csearch_path%3D{path.replace(' ', '').replace(',', '%2C')}"
    store = rm.PostgreSQLStore(url)
    record = {
        "n": "7.50", "m": 1.5, "c": "x", "f": 0.1, "d": "2026-02-03", "ts": "2026-02-03T04:05:06Z", "day": "04:05:06",
        "kind": "6f9619ff-8b86-d011-b42d-00c04fc964ff", "doc": '{"a": 1}', "b": b"\0",
    }  # fmt: skip
    for table, key in (("first.trees", "tag"), ("trees", "ci")):
        job = rm.Job(store=store, table=table, key=key, missing="delete")
        assert not rm.check(job).problems
        for count in (3, 300):
            batch = [{"tag": f"t{n}", "ci": f"C{n}", **record} for n in range(count)]
            batch[0]["n"] = None
            rm.preview(job, batch)
            rm.merge(job, batch)
            assert rm.merge(job, batch).counts["skip"] == count
            rm.explain(job, batch, key={key: batch[0][key]})
    assert rm.history(store, "trees", key={"ci": "c2"}, column="n", batch=1).num_rows == 0
    assert rm.history(store, "trees", action="delete").num_rows == 299
    assert rm.batches(store).num_rows >= 2
    store.close()
    found = f"SELECT (SELECT count(*) FROM public.loot) AS loot, rolsuper FROM pg_catalog.pg_roles WHERE rolname = '{name}'"
    assert pa.concat_tables(database.link.query(found)).to_pylist() == [{"loot": 0, "rolsuper": False}]


@pytest.mark.parametrize("planted", ["trees_history", "rmend_batches", "refused", "a view", "row security"])
def test_tables_of_ours_that_another_role_made_are_not_touched(mallory: tuple[servers.Database, str], planted: str) -> None:
    database, name = mallory
    database.run("CREATE TABLE trees (tag int PRIMARY KEY, v int CHECK (v < 9))")
    store = rm.PostgreSQLStore(database.url)
    job = rm.Job(store=store, table="trees", key="tag", rejects={"table": "refused"})
    batch = [{"tag": 1, "v": 1}, {"tag": 2, "v": 10}]
    rm.merge(job, batch)  # what is to be planted has the right columns
    shown = "rmend_batches" if planted in ("a view", "row security") else planted
    database.run(f"CREATE TABLE kept AS SELECT * FROM {shown}", f"DROP TABLE {shown}", f"GRANT SELECT ON kept TO {name}")
    grab = "CREATE FUNCTION grab() RETURNS int LANGUAGE sql AS 'INSERT INTO loot VALUES (current_user); SELECT 1'"
    kind = "VIEW" if planted == "a view" else "TABLE"
    database.run(f"SET ROLE {name}", grab, f"CREATE {kind} {shown} AS SELECT *, grab() AS g FROM kept WHERE grab() = 1")
    if kind == "TABLE":
        database.run(*_TRAP.format(shown).split(";\n"))
    if planted == "row security":
        database.run(f"ALTER TABLE {shown} ENABLE ROW LEVEL SECURITY", f"CREATE POLICY p ON {shown} USING (grab() = 1)")
    database.run("RESET ROLE", "DELETE FROM loot")
    calls: list[Any] = [lambda: rm.merge(job, [{"tag": 3, "v": 3}, {"tag": 4, "v": 10}])]
    reads: list[Any] = [lambda: rm.batches(store), lambda: rm.history(store, "trees")]
    calls += reads[:1] if planted in ("a view", "row security") else []
    for call in calls:
        with pytest.raises(rm.StoreError, match=f"{shown} belongs to {name}.*ALTER TABLE .* OWNER TO"):
            call()
    for read in [] if len(calls) > 1 else reads:  # nothing runs when a plain table is read
        read()
    counted = "SELECT (SELECT count(*) FROM loot) AS loot, (SELECT count(*) FROM trees) AS trees"
    assert pa.concat_tables(database.link.query(counted)).to_pylist() == [{"loot": 0, "trees": 1}]
    database.run(f"ALTER {kind} {shown} OWNER TO postgres")
    store.close()


# -- MariaDB: a server that is false ---------------------------------------------------------------------------


class FalseServer:
    """Stands between us and a real server, and asks for a file when a statement has `sign` in it; or, without one,
    for the password in a way of its own when we log in."""

    def __init__(self, real: int, sign: bytes | None, wanted: str) -> None:
        self.real, self.sign, self.wanted = real, sign, wanted
        self.tls: ssl.SSLContext | None = None
        """With what it answers who wants TLS."""
        self.greets = b""
        """The way that it asks for with its greeting already."""
        self.asked, self.got, self.heard = 0, b"", b""
        self._listening = socket.create_server(("127.0.0.1", 0))
        self.port = self._listening.getsockname()[1]
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self) -> None:
        with suppress(OSError):
            while True:
                client = self._listening.accept()[0]
                threading.Thread(target=self._talk, args=(client,), daemon=True).start()

    def _talk(self, client: socket.socket) -> None:
        with suppress(OSError, ConnectionError), client, socket.create_connection(("127.0.0.1", self.real)) as server:
            if self.tls is not None:
                with self._wrapped(client, server) as secured:
                    self._listen(secured, server)
                return
            threading.Thread(target=self._pass_on, args=(server, client), daemon=True).start()
            self._listen(client, server)

    def _listen(self, client: socket.socket, server: socket.socket) -> None:
        while packet := self._packet(client):
            number, body = packet[3], packet[4:]
            self.heard += packet
            self.got += packet if self.greets else b""
            if self.sign is not None and body[:1] == b"\x03" and self.sign in body:
                self._ask(client, number, b"\xfb" + self.wanted.encode())
            elif self.sign is None and number == (1 if self.tls is None else 2):
                self._ask(client, number, b"\xfe" + self.wanted.encode() + b"\0" + b"x" * 20 + b"\0")
            else:
                server.sendall(packet)
        server.shutdown(socket.SHUT_RDWR)

    def _wrapped(self, client: socket.socket, server: socket.socket) -> socket.socket:
        """Greet as the real server does, and say that TLS is spoken here, whatever that one says."""
        greeting = bytearray(self._packet(server))
        at = greeting.index(b"\0", 5) + 1 + 4 + 8 + 1  # behind the version, the number, and the salt
        greeting[at + 1] |= 0x08
        if self.greets:
            self.asked += 1
            greeting = greeting[: greeting.rindex(b"\0", 0, -1) + 1] + self.greets + b"\0"
            greeting[:3] = (len(greeting) - 4).to_bytes(3, "little")
        client.sendall(greeting)
        self.heard += self._packet(client)
        assert self.tls is not None
        return self.tls.wrap_socket(client, server_side=True)

    def _ask(self, client: socket.socket, number: int, question: bytes) -> None:
        self.asked += 1
        client.sendall(len(question).to_bytes(3, "little") + bytes([number + 1]) + question)
        client.settimeout(2)
        while answer := self._packet(client):
            self.got += answer[4:]

    @staticmethod
    def _packet(source: socket.socket) -> bytes:
        def exactly(count: int) -> bytes:  # TLS knows no MSG_WAITALL
            data = b""
            while len(data) < count and (more := source.recv(count - len(data))):
                data += more
            return data

        head = exactly(4)
        return head + exactly(int.from_bytes(head[:3], "little")) if len(head) == 4 else b""

    @staticmethod
    def _pass_on(server: socket.socket, client: socket.socket) -> None:
        with suppress(OSError):
            while data := server.recv(1 << 16):
                client.sendall(data)

    def close(self) -> None:
        self._listening.close()


@pytest.mark.mariadb
@pytest.mark.parametrize(
    "sign", [b"SET SESSION sql_mode", b"max_allowed_packet", b"START TRANSACTION", b"information_schema",
             b"GET_LOCK", b"CREATE TEMPORARY", b"LOAD DATA", b"SHOW WARNINGS", b"INSERT INTO", b"COMMIT"]
)  # fmt: skip
def test_a_false_server_gets_no_file(sign: bytes, tmp_path: Path) -> None:
    (tmp_path / "secret").write_text("the keys of the house")
    with servers.database("mariadb") as database:
        database.run("CREATE TABLE t (id bigint PRIMARY KEY, v bigint)")
        real = urlsplit(database.url).port or 3306
        server = FalseServer(real, sign, str(tmp_path / "secret"))
        try:
            job = rm.Job(store=database.url.replace(f":{real}/", f":{server.port}/"), table="t", key="id")
            with pytest.raises(rm.StoreError, match=r"asked for the file .*secret.* of this machine, and was refused"):
                rm.merge(job, [{"id": n, "v": n} for n in range(500)])
        finally:
            server.close()
        assert server.asked
        assert b"house" not in server.got
        honest = rm.Job(store=database.url, table="t", key="id")
        assert rm.merge(honest, [{"id": 1}]).counts["insert"] == 1


_AUTHORITY, _OTHER = trustme.CA(), trustme.CA()


@pytest.mark.mariadb
@pytest.mark.parametrize("greets", [False, True])
@pytest.mark.parametrize("way", ["mysql_clear_password", "dialog", "sha256_password", "caching_sha2_password", "mysql_old_password"])
def test_a_false_server_gets_no_password(way: str, greets: bool, tmp_path: Path) -> None:
    """Nor does one that greets with the question, over TLS that shows nothing, where the URL has a certificate of one's own."""
    own = _OTHER.issue_cert("127.0.0.1")
    own.private_key_and_cert_chain_pem.write_to_path(tmp_path / "own.pem")
    with servers.database("mariadb") as database:
        real = urlsplit(database.url).port or 3306
        server = FalseServer(real, None, way)
        url = database.url.replace("root@", "root:s3cret-w0rd@").replace(f":{real}/", f":{server.port}/")
        if greets:
            server.greets, server.tls = way.encode(), ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
            own.configure_cert(server.tls)
            url += f"?ssl_cert={tmp_path / 'own.pem'}"
        try:
            with pytest.raises(rm.StoreError, match="asks for the password itself") as error:
                rm.preview(rm.Job(store=url, table="t", key="id"), [{"id": 1}])
        finally:
            server.close()
        assert server.asked
        assert b"s3cret" not in server.got
        assert "s3cret" not in str(error.value)


_SHOWN = {
    "no TLS": (None, "does not speak TLS"),
    "another authority's": (_OTHER.issue_cert("127.0.0.1"), "does not show whose it is"),
    "another host's": (_AUTHORITY.issue_cert("elsewhere.example"), "does not show whose it is"),
    "its own": (_AUTHORITY.issue_cert("127.0.0.1"), ""),
}


@pytest.mark.mariadb
@pytest.mark.parametrize("way", ["mysql_clear_password", "dialog", "sha256_password", "caching_sha2_password", "mysql_old_password", "one_nobody_knows"])
@pytest.mark.parametrize("shown", _SHOWN)
def test_a_server_that_shows_no_certificate_gets_nothing(shown: str, way: str, tmp_path: Path) -> None:
    """With ssl_ca in the URL; a server that shows a right one may ask for the password."""
    _AUTHORITY.cert_pem.write_to_path(tmp_path / "ca.pem")
    certificate, said = _SHOWN[shown]
    with servers.database("mariadb") as database:
        real = urlsplit(database.url).port or 3306
        server = FalseServer(real, None, way)
        if certificate is not None:
            server.tls = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
            certificate.configure_cert(server.tls)
        url = database.url.replace("root@", "root:s3cret-w0rd@").replace(f":{real}/", f":{server.port}/") + f"?ssl_ca={tmp_path / 'ca.pem'}"
        try:
            with pytest.raises(rm.StoreError, match=said or None) as error:
                rm.preview(rm.Job(store=url, table="t", key="id"), [{"id": 1}])
            if shown == "another host's":
                with pytest.raises(rm.StoreError) as error:
                    rm.preview(rm.Job(store=f"{url}&ssl_check_hostname=false", table="t", key="id"), [{"id": 1}])
        finally:
            server.close()
        trusted = shown in ("its own", "another host's")
        assert (b"s3cret" in server.got) == (trusted and way in ("mysql_clear_password", "sha256_password"))
        assert b"root" not in server.heard or trusted
        assert "s3cret" not in str(error.value)


@pytest.mark.mariadb
def test_tls_to_a_real_server(tmp_path: Path) -> None:
    _AUTHORITY.cert_pem.write_to_path(tmp_path / "ca.pem")
    (certificate, _) = _SHOWN["its own"]
    assert certificate is not None
    certificate.private_key_pem.write_to_path(tmp_path / "key.pem")
    for number, blob in enumerate(certificate.cert_chain_pems):
        blob.write_to_path(tmp_path / "cert.pem", append=number > 0)
    private = servers.Private("mariadb", *(f"--ssl-{name}={tmp_path / f'{name}.pem'}" for name in ("ca", "cert", "key")), "--require-secure-transport=ON")
    try:
        private.start(f"?ssl_ca={tmp_path / 'ca.pem'}")
        with servers.database("mariadb", f"{private.url}?ssl_ca={tmp_path / 'ca.pem'}") as database:
            database.run("CREATE TABLE t (id bigint PRIMARY KEY, v bigint)", "CREATE USER eve IDENTIFIED BY 'pä55wörd€→'", "GRANT ALL ON *.* TO eve")
            job = rm.Job(store=database.url.replace("root@", "eve:p%C3%A455w%C3%B6rd%E2%82%AC%E2%86%92@"), table="t", key="id")
            assert rm.merge(job, [{"id": n, "v": n} for n in range(500)]).counts["insert"] == 500
            assert database.link.ask("SHOW STATUS LIKE 'Ssl_cipher'")[0]["Value"]
            with pytest.raises(rm.StoreError, match="Access denied"):
                rm.preview(rm.Job(store=database.url.replace("root@", "eve:p%C3%A4@"), table="t", key="id"), [{"id": 1}])
    finally:
        private.remove()


# -- folders that others may write to -------------------------------------------------------------------------


@pytest.fixture
def parts(tmp_path: Path) -> Iterator[tuple[Path, Any]]:
    """A folder in which files follow a table; and what syncs it."""
    store = rm.MemoryStore({"t": pa.table({"id": pa.array([], pa.int64()), "v": pa.array([], pa.int64())})})
    job = rm.Job(store=store, table="t", key="id")
    rm.merge(job, [{"id": n, "v": n} for n in range(3)])

    def sync() -> Any:
        rm.merge(job, [{"id": 0, "v": rm.history(store, "t").num_rows}])
        return rm.sync(store, "t", follower="files", to_folder=str(tmp_path / "parts"))

    sync()
    (tmp_path / "precious").write_text("the keys of the house")
    yield tmp_path / "parts", sync
    assert (tmp_path / "precious").read_text() == "the keys of the house"
    assert sorted(one.name for one in tmp_path.iterdir()) == ["parts", "precious"]


_AT = '"position": 4, "batch_no": 2, "follower": "files", "table": "t"'
_NAMES = (
    '"../precious"', '"/../../precious"', '"..//../precious"', '"."', '"sub/000000000001-000000000004.events.jsonl"', "null", "7",
    '["a"]', '".rmend.json"', '"000000000001-000000000004.events.jsonl\\u0000"',
)  # fmt: skip
_STATES = [
    "", "\x00", "nothing", "[]", "7", "null", '"' + "x" * 100_000 + '"', "[" * 60_000,
    *("{" + _AT.replace("4", at) + "}" for at in ("4" * 5_000, "-1", "99", "9" * 19, "null", "4.0", "true")),
    '{"next": "000000000001-000000000004.events.jsonl", ' + _AT + "}",
    *(f'{{{_AT}, "next": "x.events.jsonl", "then": {then}}}' for then in ("7", "null", "[]", f"{{{_AT}}}")),
    *(f'{{{_AT}, "next": {name}, "then": {{{_AT}}}}}' for name in _NAMES),
]  # fmt: skip


@pytest.mark.parametrize("at", range(len(_STATES)))
def test_a_state_of_any_content_ends_in_words(parts: tuple[Path, Any], at: int) -> None:
    folder, sync = parts
    (folder / ".rmend.json").write_text(_STATES[at])
    before = sorted(one.name for one in folder.iterdir())
    with pytest.raises(rm.Error, match="take another folder"):
        sync()
    assert sorted(one.name for one in folder.iterdir()) == before
    (folder / ".rmend.json").write_bytes(b"\xff\xfe{}")
    with pytest.raises(rm.Error, match="take another folder"):
        sync()


_PLANTS: dict[str, Any] = {
    "link": lambda path, to: path.symlink_to(to),
    "link that leads nowhere": lambda path, to: path.symlink_to(to.parent / "made"),
    "hard link": lambda path, to: path.hardlink_to(to), "folder": lambda path, to: (path.mkdir(), (path / "x").touch()),
    "pipe": lambda path, to: os.mkfifo(path), "relative link": lambda path, to: path.symlink_to("../precious"),
}  # fmt: skip


@pytest.mark.parametrize("plant", _PLANTS)
@pytest.mark.parametrize(
    "name", [".rmend.json", ".rmend.json.new", ".rmend.lock", ".000000000005-000000000005.events.jsonl", "000000000005-000000000005.events.jsonl"]
)
def test_nothing_outside_of_a_folder_is_written(parts: tuple[Path, Any], name: str, plant: str) -> None:
    folder, sync = parts
    there = folder / name
    there.unlink(missing_ok=True)
    _PLANTS[plant](there, folder.parent / "precious")
    with suppress(rm.Error):
        sync()
    if plant == "hard link" and name == ".rmend.lock":
        return  # nothing is written to it
    assert not there.is_symlink() or name in (".rmend.json", ".rmend.lock")


# -- what nobody would write, and somebody may ----------------------------------------------------------------


def _trees() -> rm.MemoryStore:
    return rm.MemoryStore({"t": pa.table({"id": pa.array([1], pa.int64()), "v": pa.array(["a"]), "n": pa.array([1], pa.int64())})})


@pytest.mark.slow
def test_columns_in_thousands_take_their_time_once_each() -> None:
    """Four times as many take four times as long, not sixteen; 100,000 are refused in words."""
    job = rm.Job(store=_trees(), table="t", key="id")
    took = []
    for count in (4_000, 16_000):
        times = []
        for _ in range(3):
            began = time.process_time()
            with pytest.raises(rm.JobError, match="fits no column"):
                rm.preview(job, [{"id": 1, **{f"column {n}": 1 for n in range(count)}}])
            times.append(time.process_time() - began)
        took.append(min(times))
    assert took[1] < 8 * took[0] + 0.2, took
    with pytest.raises(rm.JobError, match="100,001 columns, and 32,768 are taken"):
        rm.preview(job, pa.table({"id": [1], **{f"c{n}": [1] for n in range(100_000)}}))


_DIGITS = "9" * 5_000
_WHENS = [
    "incoming.v = '\ud800'", 'incoming."\ud800" = 1', "incoming.v LIKE '\ud800%'", f"incoming.n = {_DIGITS}", f"incoming.n = -{_DIGITS}",
    f"incoming.n = 1e{_DIGITS}", f"incoming.n IN ({_DIGITS})", f"incoming.v = SUBSTRING(incoming.v, {_DIGITS})", f"ROUND(incoming.n, {_DIGITS}) = 1",
    f"CAST(incoming.v AS DECIMAL({_DIGITS},2)) = 1",
]  # fmt: skip


@pytest.mark.parametrize("at", range(len(_WHENS)))
def test_odd_texts_in_rules_end_in_words(at: int) -> None:
    for options in ({"when": _WHENS[at]}, {"when": "true", "because": f"\ud800 {at}"}):
        job = rm.Job(store=_trees(), table="t", key="id", rules=[rm.Rule(decide="reject", **options)])
        with pytest.raises(rm.JobError, match="rule 1"):
            rm.preview(job, [{"id": 1}])


@pytest.mark.parametrize("path", ["a\0.csv", "a\0*.csv", "a\ud800.csv"])
def test_odd_paths_end_in_words(path: str) -> None:
    store = _trees()
    rm.merge(rm.Job(store=store, table="t", key="id"), [{"id": 2}])
    for call in (
        lambda: rm.preview(rm.Job(store=store, table="t", key="id"), path),
        lambda: rm.merge(rm.Job(store=store, table="t", key="id", rejects=path), [{"id": None}]),
        lambda: rm.sync(store, "t", follower="f", to_folder=path),
    ):  # fmt: skip
        with pytest.raises(rm.Error, match="no path"):
            call()
    with pytest.raises(rm.Error, match=r"not TOML|no job file"):
        rm.Job.load(path)


_ALTERED: dict[str, list[tuple[str, str]]] = {  # our tables, and what somebody sets in them
    "rmend_batches": [
        ("table_name", "x'00ff'"), ("first_change", "NULL"), ("first_change", "-1"), ("last_change", "NULL"), ("last_change", "''"),
        ("last_change", "9223372036854775807"), ("started_at", "''"), ("status", "'x'"), ("undoes", "'5'"), ("figures", "'[5]'"), ("kind", "'x'"),
        ("seal", "'{'"), ("kind", "NULL"),
    ],
    "rmend_details": [
        *(("detail", f"'{one}'") for one in ("pruned", "began", "pause", "resume", "mended", "versions", "origin", "x")),
        ("change_no", "'x'"), ("batch_no", "-1"),
        ("name", "x'00ff'"), ("name", "NULL"), ("item", "''"), ("at_time", "''"),
        ("row_count", "-1"), ("table_name", "x'00ff'"), ("of_batch", "1e300"),
    ],
    "t_history": [("changed_at", "''"), ("batch_no", "'x'"), ("action", "'x'"), ("changed", "'[['"), ("old_v", "x'00ff'"), ("new_id", "NULL")],
    "rmend_followers": [("position", "NULL"), ("table_name", "NULL"), ("held_by", "'{'"), ("moved_at", "''")],
    "rmend_captures": [
        ("options", "'[]'"), ("options", "'{\"when\": 5}'"), ("known", "'7'"), ("known", "'{\"columns\": 5}'"), ("known", "'{\"triggers\": \"x\"}'"),
        ("since", "''"),
        ("position", "NULL"), ("table_name", "NULL"), ("token", "NULL"), ("position", "''"),
    ],
}  # fmt: skip


@pytest.mark.slow
@pytest.mark.parametrize("table", _ALTERED)
def test_altered_tables_of_ours_end_in_words(table: str, tmp_path: Path) -> None:
    """Whatever somebody writes into them, whatever is called then: an answer, or an error of ours."""
    base, path = tmp_path / "base.db", tmp_path / "r.db"
    with closing(sqlite3.connect(base)) as connection:
        connection.execute("CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT)")
    url = f"sqlite:///{base}"
    rm.merge(rm.Job(store=url, table="t", key="id"), [{"id": n, "v": "a"} for n in range(4)])
    rm.merge(rm.Job(store=url, table="t", key="id"), [{"id": 1, "v": "b"}])
    rm.capture(url, "t")
    with rm.Follower(url, "t", "f") as follower:
        list(follower.changes())
        follower.acknowledge()
    url = f"sqlite:///{path}"
    job = rm.Job(store=url, table="t", key="id")
    calls: list[Any] = [
        lambda: rm.batches(url), lambda: rm.history(url, "t"), lambda: rm.history(url, "t", key={"id": 1}),
        lambda: rm.verify(url, "t"), lambda: rm.as_of(url, "t", batch=1),
        lambda: rm.undo(url, 2, preview=True), lambda: rm.undo(url, since_batch=2, preview=True), lambda: rm.prune(url, "t", before_batch=2, preview=True),
        lambda: rm.captures(url), lambda: rm.followers_of(url), lambda: rm.check(job), lambda: list(rm.Follower(url, "t", "f").changes()),
        lambda: rm.merge(job, [{"id": 1, "v": "q"}]), lambda: rm.refresh_capture(url, "t"),
        lambda: rm.pause_capture(url, "t"), lambda: rm.resume_capture(url, "t", mend=True),
        lambda: rm.stop_capture(url, "t"),
    ]  # fmt: skip
    for column, value in _ALTERED[table]:
        for ending in ("", "-wal", "-shm"):
            path.with_name(path.name + ending).unlink(missing_ok=True)
        shutil.copy(base, path)
        with closing(sqlite3.connect(path)) as connection, connection:
            connection.execute("PRAGMA ignore_check_constraints = 1")
            with suppress(sqlite3.IntegrityError):
                connection.execute(f"UPDATE OR IGNORE {table} SET {column} = {value}")
        for call in calls:
            with suppress(rm.Error):
                call()
