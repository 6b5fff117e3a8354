"""Where a backend is and what may be done there: the parts that bindings of several engines share."""

from typing import Annotated, Literal
from urllib.parse import urlsplit

from pydantic import Field as Described

from bricola.core.definitions.base import Frozen, Name, NamedPart, NamedParts, Refers


class Endpoint(NamedPart):
    """One address of a backend. The lowest `priority` that answers is used; `weight` shares within one priority."""

    name: Name
    address: str = ""
    """host:port, or the path of a file."""
    weight: int = Described(1, ge=1, le=1000)
    """Its share among those of the same priority."""
    priority: int = Described(1, ge=1, le=100)
    """The lowest that answers is used."""


class StatementLimits(Frozen):
    """Bounds of one statement, whoever wrote it: seconds, rows and bytes of its result."""

    seconds: float = Described(30.0, gt=0, le=3600)
    """The most seconds of a statement."""
    rows: int = Described(100_000, ge=1)
    """The most rows of a result."""
    bytes: int = Described(64_000_000, ge=1000)
    """The most bytes of a result."""


class FilePlace(Frozen):
    """A file, by its path below the folders that the operator allows: the service's data folder, unless he names others."""

    file: str = ""
    """Its path below the folders that the operator allows."""


class FilePlaces(Frozen):
    """Several places, each an endpoint: of a file its address is the path."""

    endpoints: NamedParts[Endpoint] = ()
    """Several places, each with its path."""


class ServerPlaces(Frozen):
    """A server at an `address`, or at several `endpoints`."""

    address: str = ""
    """host:port, or a web address."""
    endpoints: NamedParts[Endpoint] = ()
    """Several addresses, by name."""


class DatabaseName(Frozen):
    database: str = ""
    """Which database of the server."""


class SignOn(Frozen):
    """As whom Bricola signs on, by the name of a `credential`, and how the way there is protected."""

    credential: Annotated[str, Refers("credential")] = ""
    """As whom Bricola signs on."""
    tls: Literal["off", "encrypt", "verify"] = "off"
    """Whether the way there is encrypted, and the other side's certificate verified."""


class PasswordProof(Frozen):
    """How Bricola shows that it knows the password of a database.

    | password_as | |
    | --- | --- |
    | proof | by SCRAM (RFC 5802) or the server's challenge, or in any way once the server's certificate is verified (`tls: verify`) |
    | asked | in the way that whatever answers there asks for, the password itself included |
    """

    password_as: Literal["proof", "asked"] = "proof"
    """Whether the password itself may be sent where the other side asks for it."""


class Writing(Frozen):
    """With `read_only` nothing can be written, and operations that write cannot be deployed there."""

    read_only: bool = False
    """Whether nothing can be written through it."""


class RequestMarks(Frozen):
    """`requests` names a table for marks of repeatable requests: columns id (64 characters, the key), expires (whole number), answer
    (text)."""

    requests: str = ""
    """A table for the marks of repeatable requests."""


class Statements(Frozen):
    limits: StatementLimits = StatementLimits()
    """Bounds of one statement."""


def path_fault(path: str) -> str:
    """Why a path is not one below a folder, in words; '' when it is."""
    if path[:1] in ("/", "\\", "~") or path[1:2] == ":":
        return "The path is absolute."
    if ".." in path.replace("\\", "/").split("/"):
        return "The path leads out of its folder."
    return "This is not a path of a file." if not path or any(one in path for one in "\0\\:") or path[0] == "?" else ""


WHERE = frozenset((*FilePlace.model_fields, *ServerPlaces.model_fields))  # settings that say where a backend is


def presented_at(address: str) -> str:
    """The host and port of an address, web addresses included; what else stands in it changes nobody's identity."""
    parts = urlsplit(address if "://" in address else f"//{address}")
    try:
        port = parts.port or {"https": 443, "http": 80}.get(parts.scheme)
    except ValueError:
        return address.lower()
    return f"{(parts.hostname or '').lower()}:{port}" if port else (parts.hostname or address).lower()
