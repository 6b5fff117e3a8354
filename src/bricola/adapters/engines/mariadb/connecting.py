"""Signing on to MariaDB servers: one connection with its settings, and a password that is shown to be known and never said."""

import contextlib
import socket
import ssl
from collections.abc import Sequence
from typing import Any

import pymysql
from pymysql.constants import CLIENT, ER, FIELD_TYPE

from bricola.adapters.addresses import host_and_port
from bricola.adapters.networks import Networks
from bricola.adapters.secrets import Secret
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import Binding

DEFAULT_PORT = 3306
OLDEST_VERSION = (10, 5)  # from which INSERT … RETURNING is there
MODES = "ANSI_QUOTES,STRICT_ALL_TABLES,ERROR_FOR_DIVISION_BY_ZERO,NO_ENGINE_SUBSTITUTION,PIPES_AS_CONCAT"
_RESET_CONNECTION = 0x1F  # COM_RESET_CONNECTION (MariaDB client/server protocol), from version 10.2.4 on
_PROOFS = ("", "mysql_native_password", "client_ed25519")  # ways to sign on in which a challenge is answered
_REFUSED = (ER.ACCESS_DENIED_ERROR, ER.DBACCESS_DENIED_ERROR, 1698)

_Driver: Any = pymysql.connections.Connection  # whose stubs leave out what happens at the sign-on
Connection = Any  # pymysql.connections.Connection, which is generic for type checkers only


def is_refusal(error: Exception) -> bool:
    """Whether the server answered and said no to the sign-on."""
    return isinstance(error, pymysql.Error) and bool(error.args) and error.args[0] in _REFUSED


def said(error: Exception) -> str:
    return str(error.args[-1]) if error.args else str(error)


# The bits of a BIT column are a number, the first bit the highest; the driver would give the bytes.
_CONVERSIONS = {**pymysql.converters.conversions, FIELD_TYPE.BIT: lambda data: int.from_bytes(data, "big")}


def connect(binding: Binding, endpoint: Endpoint, secret: Secret, networks: Networks) -> Connection:
    """One connection with its settings. Blocks; raises pymysql.Error or OSError, and ProblemError where it may not connect."""
    host, port = host_and_port(endpoint.address, DEFAULT_PORT)
    seconds = binding.limits.seconds
    weak = binding.password_as == "asked" or binding.tls == "verify"
    connection: Connection = (_Driver if weak else _ProofOnly)(
        host=host, port=port, user=secret.user or None, password=secret.value or "", database=binding.database or None,
        charset="utf8mb4", autocommit=True, connect_timeout=int(max(1, binding.pool.connect_timeout)), read_timeout=int(seconds) + 5,
        write_timeout=int(seconds) + 5, client_flag=CLIENT.FOUND_ROWS, program_name="bricola", defer_connect=True,
        conv=_CONVERSIONS,
        **_tls(binding))
    try:
        connection.connect(_socket(networks.addresses(host, port), port, max(1.0, binding.pool.connect_timeout)))
        _set_up(connection, binding)
    except (pymysql.Error, OSError):
        if connection.open:
            connection.close()
        raise
    return connection


def _set_up(connection: Connection, binding: Binding, *more: str) -> None:
    """The settings of a session, with more of them before."""
    seconds = binding.limits.seconds
    settings = [*more, f"SESSION sql_mode='{MODES}'", "SESSION time_zone='+00:00'", f"SESSION max_statement_time={seconds:g}"]
    with connection.cursor() as cursor:
        cursor.execute(f"SET {', '.join(settings)}")
        if binding.read_only:
            cursor.execute("SET SESSION TRANSACTION READ ONLY")


def forget(connection: Connection, binding: Binding) -> None:
    """Roll back what is open, take away all that statements left on the session (variables, temporary tables, locks, settings), and set it
    up again. Blocks; raises pymysql.Error or OSError."""
    connection._execute_command(_RESET_CONNECTION, "")
    connection._read_ok_packet()
    _set_up(connection, binding, "NAMES utf8mb4", "SESSION autocommit=1")


def _socket(addresses: Sequence[str], port: int, seconds: float) -> socket.socket:
    """To the first address that takes the connection. Raises OSError."""
    for address in addresses[:-1]:
        with contextlib.suppress(OSError):
            return socket.create_connection((address, port), seconds)
    return socket.create_connection((addresses[-1], port), seconds)


class _ProofOnly(_Driver):  # type: ignore[misc]
    """Shows that it knows the password, and never says it. Which way is taken, the server asks: with its greeting and again later."""

    def _get_server_information(self) -> None:
        super()._get_server_information()
        self._require_proof(self._auth_plugin_name)

    def _process_auth(self, plugin_name: bytes, *rest: Any) -> Any:
        self._require_proof(plugin_name.decode("ascii", "replace"))
        return super()._process_auth(plugin_name, *rest)

    def _require_proof(self, way: str) -> None:
        if way not in _PROOFS:
            raise pymysql.OperationalError(ER.ACCESS_DENIED_ERROR, "the server asks for the password in a way that tells it, and "
                                           "'password_as: proof' of the binding does not")


def _tls(binding: Binding) -> dict[str, Any]:
    if binding.tls == "off":
        return {"ssl_disabled": True}
    context = ssl.create_default_context()
    if binding.tls == "encrypt":
        context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    return {"ssl": context}
