"""The connection to MariaDB's server, over PyMySQL. It sends no file, whatever the server asks for.

A server may answer any statement with a request for a file of the client's. Here it gets rows that are at hand, under
a name made up for them, and only while they are offered; to every other request the connection is closed. Nor does a
server get the password itself where nobody knows whose server it is: it is known by a certificate that holds, or where
the server is reached over its socket.
"""

from __future__ import annotations

import secrets
import select
import ssl
import struct
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from functools import cache
from typing import Any

import pyarrow as pa

_PIECE = 1 << 18
ASKED_FOR_A_FILE = -1
NO_PASSWORD = -2
NO_TLS = -3
_LOST = 2013
_HEADER = struct.Struct("<I")
_FULL = 0xFFFFFF  # bytes of a packet that is followed by one that goes with it
_NULL, _EIGHT, _ERROR = 251, 254, 255
_WIDTHS = {252: 2, 253: 3, 254: 8}
"""The first byte of a text: its length, or by how many bytes that follows."""
_PLAIN = ("mysql_clear_password", "dialog", "sha256_password", "caching_sha2_password", "mysql_old_password")
"""Ways of logging in that give a server the password, or as good as that."""


class Offer:
    """Rows that may be sent once, under a name that nobody can know before."""

    def __init__(self, data: pa.Buffer | bytes) -> None:
        self.name = f"rmend-{secrets.token_hex(16)}"
        self.data = memoryview(data)


@contextmanager
def offered(connection: Any, data: pa.Buffer | bytes) -> Iterator[str]:
    """Let the server ask for `data` within the block. Gives the name by which it does."""
    connection.offer = Offer(data)
    try:
        yield connection.offer.name
    finally:
        connection.offer = None


def connect(options: Mapping[str, Any], tls: TLS, several: bool = False) -> Any:
    """A connection as PyMySQL makes it; `several`: a message may have several statements. Raises PyMySQL's errors."""
    from pymysql.constants import CLIENT

    flags = CLIENT.FOUND_ROWS | (CLIENT.LOCAL_FILES if can_offer() else 0)

    return _connection_class()(
        tls,
        **options,
        charset="utf8mb4",
        use_unicode=False,
        conv={},
        autocommit=True,
        local_infile=False,  # PyMySQL itself is to send none
        client_flag=flags | (CLIENT.MULTI_STATEMENTS if several else 0),
    )


@dataclass(frozen=True)
class TLS:
    """What a store URL says of the certificates."""

    ca: str | None = None
    """The file of those that the server's is held against."""
    cert: str | None = None
    """The file of one's own."""
    key: str | None = None
    check_hostname: bool = True

    def context(self) -> ssl.SSLContext | None:
        """What PyMySQL makes of it differs from version to version, down to no check at all. None if nothing is said of
        TLS. Raises PyMySQL's OperationalError if a file cannot be read."""
        if not (self.ca or self.cert or self.key):
            return None
        try:
            made = ssl.create_default_context(cafile=self.ca) if self.ca else _unchecked()
            made.verify_flags &= ~getattr(ssl, "VERIFY_X509_STRICT", 0)  # servers make certificates that are not strict
            made.check_hostname = bool(self.ca) and self.check_hostname
            if self.cert or self.key:
                made.load_cert_chain(self.cert or self.key or "", self.key)
        except OSError as error:
            files = ", ".join(f"{name} {file!r}" for name, file in vars(self).items() if isinstance(file, str))
            raise _refusal(NO_TLS, f"the certificates cannot be read ({files}): {error}") from error
        return made


def _unchecked() -> ssl.SSLContext:
    """TLS where the server offers it, and its certificate is held against nothing."""
    made = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    made.check_hostname = False
    made.verify_mode = ssl.CERT_NONE
    return made


@cache
def can_offer() -> bool:
    """Whether this PyMySQL lets us answer a request for rows ourselves; else they go in statements."""
    from pymysql import connections

    needed = (
        (connections.MySQLResult, "_read_load_local_packet"), (connections.MySQLResult, "_read_ok_packet"),
        (connections.Connection, "_read_query_result"), (connections.Connection, "_rfile"),
        (connections.MySQLResult, "_read_rowdata_packet"), (connections, "LoadLocalPacketWrapper"),
        (connections, "MysqlPacket"),
    )  # fmt: skip
    return all(hasattr(place, name) for place, name in needed)


@cache
def _connection_class() -> Any:
    """PyMySQL's connection, which sends rows that are offered, and no password to who does not show whose it is."""
    from pymysql import connections
    from pymysql.constants import CLIENT

    class Connection(connections.Connection):  # type: ignore[misc]
        def __init__(self, tls: TLS, **options: Any) -> None:
            self._needs_tls, self._checks = tls.context(), bool(tls.ca)
            given = {} if self._needs_tls is None else {"ssl": self._needs_tls}
            super().__init__(**options, **given)

        def _create_ssl_ctx(self, sslp: Any) -> ssl.SSLContext:
            """PyMySQL's own would read all certificates of the system for each connection, and check none."""
            return super()._create_ssl_ctx(sslp) if sslp else _unchecked()

        def _request_authentication(self) -> None:
            """Goes on after the greeting of the server, before anything is sent."""
            speaks_tls = bool(self.server_capabilities & CLIENT.SSL)
            if self._needs_tls is not None and not speaks_tls:
                raise _refusal(NO_TLS, "the server does not speak TLS, and the store URL asks for it")
            if self._auth_plugin_name in _PLAIN and not (self.unix_socket or (self._checks and speaks_tls)):
                raise _no_password()
            try:
                super()._request_authentication()
            except ssl.SSLError as error:
                raise _refusal(NO_TLS, f"the server does not show whose it is: {error}") from error

        def _process_auth(self, plugin_name: Any, *rest: Any) -> Any:
            """Goes on where the server asks for another way of logging in."""
            name = plugin_name.decode(errors="replace") if isinstance(plugin_name, bytes) else str(plugin_name)
            shown = self.unix_socket or (self._checks and getattr(self._sock, "context", None) is self._needs_tls)
            if name in _PLAIN and not shown:
                raise _no_password()
            return super()._process_auth(plugin_name, *rest)

    if not can_offer():
        return Connection

    class Result(connections.MySQLResult):  # type: ignore[misc]
        connection: Any

        def _read_load_local_packet(self, first_packet: Any) -> None:
            connection = self.connection
            name = bytes(connections.LoadLocalPacketWrapper(first_packet).filename).decode(errors="replace")
            offer, connection.offer = connection.offer, None
            if offer is None or offer.name != name:
                connection._force_close()
                raise _refusal(
                    ASKED_FOR_A_FILE, f"the server asked for the file {name!r} of this machine, and was refused it"
                )
            for start in range(0, len(offer.data), _PIECE):
                if select.select([connection._sock], [], [], 0)[0]:
                    break  # it has already answered: with an error
                connection.write_packet(offer.data[start : start + _PIECE])
            connection.write_packet(b"")
            self._read_ok_packet(connection._read_packet())

        def _read_rowdata_packet(self) -> None:
            """Rows of one text each, which PyMySQL takes several times as long for: they are many."""
            connection = self.connection
            if self.field_count != 1 or connection._rfile is None:
                super()._read_rowdata_packet()
                return
            rows: list[tuple[bytes | None]] = []
            try:
                last, number = _read_texts(connection._rfile.read, rows)
            except BaseException:
                connection._force_close()
                raise
            connection._next_seq_id = (number + 1) % 256
            packet = connections.MysqlPacket(last, connection.encoding)
            if packet.is_error_packet():
                packet.raise_for_error()
            if not self._check_packet_is_eof(packet):
                connection._force_close()
                raise _lost()
            self.connection = None
            self.affected_rows, self.rows = len(rows), tuple(rows)

    class Offering(Connection):
        offer: Offer | None = None

        def _read_query_result(self, unbuffered: bool = False) -> Any:
            self._result = None
            result = Result(self)
            result.read()
            self._result = result
            if result.server_status is not None:
                self.server_status = result.server_status
            return result.affected_rows

    return Offering


def _read_texts(read: Callable[[int], bytes], rows: list[tuple[bytes | None]]) -> tuple[bytes, int]:
    """Read packets of one text each, up to the one that is none: what is in that, and its number."""
    append, unpack, before = rows.append, _HEADER.unpack, list[bytes]()
    while True:
        header = read(4)
        size = unpack(header)[0] & _FULL if len(header) == 4 else _FULL + 1
        data = read(size)
        if len(data) < size or not (data or before):
            raise _lost()
        if size == _FULL or before:
            before.append(data)
            if size == _FULL:  # it goes on in the next packet
                continue
            data = b"".join(before)
            before.clear()
        first = data[0]
        if first < _NULL:
            append((data[1:],))
        elif first == _NULL:
            append((None,))
        elif first == _ERROR or (first == _EIGHT and len(data) < 9):
            return data, header[3]
        else:
            append((data[1 + _WIDTHS[first] :],))


def _no_password() -> Exception:
    return _refusal(
        NO_PASSWORD,
        "the server asks for the password itself, over a connection that does not show whose server it is; "
        "give ssl_ca in the store URL",
    )


def _lost() -> Exception:
    return _refusal(_LOST, "Lost connection to MySQL server during query")


def _refusal(code: int, text: str) -> Exception:
    from pymysql.err import OperationalError

    return OperationalError(code, text)  # type: ignore[no-any-return]
