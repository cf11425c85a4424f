"""The connection to MariaDB's server, over PyMySQL. It sends no file, whatever the server asks for.

A server may answer any statement with a request for a file of the client's. Here it gets rows that are at hand, under
a name made up for them, and only while they are offered; to every other request the connection is closed. Nor does a
server get the password itself where nobody knows whose server it is.
"""

from __future__ import annotations

import secrets
import select
import struct
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from functools import cache
from typing import Any

import pyarrow as pa

_PIECE = 1 << 18
ASKED_FOR_A_FILE = -1
NO_PASSWORD = -2
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


def connect(options: Mapping[str, Any]) -> Any:
    """A connection as PyMySQL makes it. Raises PyMySQL's errors."""
    from pymysql.constants import CLIENT

    known = bool(options.get("unix_socket") or options.get("ssl_ca"))
    return _connection_class(known)(
        **options,
        charset="utf8mb4",
        use_unicode=False,
        conv={},
        autocommit=True,
        local_infile=False,  # PyMySQL itself is to send none
        client_flag=CLIENT.FOUND_ROWS | (CLIENT.LOCAL_FILES if can_offer() else 0),
        auth_plugin_map={} if known else dict.fromkeys(_PLAIN, _Refusing),
    )


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
def _connection_class(known: bool) -> Any:
    """PyMySQL's connection, which sends rows that are offered. `known`: it is known whose the server is."""
    from pymysql import connections

    if not can_offer():
        return connections.Connection

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

    class Connection(connections.Connection):  # type: ignore[misc]
        offer: Offer | None = None

        def _request_authentication(self) -> None:
            if not known and self._auth_plugin_name in _PLAIN:
                _Refusing(self).authenticate(None)
            super()._request_authentication()

        def _read_query_result(self, unbuffered: bool = False) -> Any:
            self._result = None
            result = Result(self)
            result.read()
            self._result = result
            if result.server_status is not None:
                self.server_status = result.server_status
            return result.affected_rows

    return Connection


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


class _Refusing:
    """A way of logging in that is not taken."""

    def __init__(self, connection: Any) -> None:
        del connection

    def authenticate(self, packet: Any) -> Any:
        raise _refusal(
            NO_PASSWORD,
            "the server asks for the password itself, over a connection that does not show whose server it is; "
            "give ssl_ca in the store URL",
        )


def _lost() -> Exception:
    return _refusal(_LOST, "Lost connection to MySQL server during query")


def _refusal(code: int, text: str) -> Exception:
    from pymysql.err import OperationalError

    return OperationalError(code, text)  # type: ignore[no-any-return]
