"""The engines of backends, a module each. A further engine is a module here, a line in each of the three tables below, and a folder
in `adapters/engines`."""

from collections.abc import Mapping

from bricola.core.definitions.engines import files, http, mariadb, postgresql, program_host, soap, sqlite, tn3270, tn5250
from bricola.core.definitions.engines.engine import Engine, by_word
from bricola.core.definitions.engines.places import (
    DatabaseName,
    FilePlace,
    PasswordProof,
    RequestMarks,
    ServerPlaces,
    SignOn,
    Statements,
    Writing,
)
from bricola.core.definitions.engines.terminals import TerminalBackend, TerminalPlaces
from bricola.core.definitions.engines.web import ServiceCalls

ENGINES: Mapping[str, Engine] = by_word((sqlite.ENGINE, postgresql.ENGINE, mariadb.ENGINE, tn3270.ENGINE, tn5250.ENGINE, soap.ENGINE,
                                         http.ENGINE, files.ENGINE, program_host.ENGINE))


class BackendParts(TerminalBackend):
    """What engines add to the definition of a backend."""


class BindingParts(
    ServiceCalls, Statements, TerminalPlaces, RequestMarks, Writing, PasswordProof, SignOn, DatabaseName, ServerPlaces, FilePlace
):
    """What engines add to a binding. The last is written first."""
