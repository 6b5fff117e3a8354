"""SQLite: a file below the data folder, and never the service's own store."""

import sqlite3
from collections.abc import Sequence
from typing import Any

from bricola.adapters.engines.door import Door, Surroundings, TableFunctions
from bricola.adapters.engines.sqlite import discovery
from bricola.adapters.engines.sqlite.checks import SqliteCheck
from bricola.adapters.engines.sqlite.sessions import SqliteKind
from bricola.adapters.stages import Checker
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.engines.sqlite import ENGINE
from bricola.core.definitions.model import BackendDefinition, Binding
from bricola.core.kinds.kind import Probe
from bricola.core.pool.sessions import SessionKind
from bricola.core.problems import Kind, Problem, ProblemError

_RETURNING = (3, 35, 0)  # the release that brought RETURNING, by which keys made by the database are read


def _sessions(backend: BackendDefinition, binding: Binding, around: Surroundings, environment: str) -> SessionKind[Any]:
    for end in binding.ends:
        if (around.data / end.address).resolve() in (around.data / "bricola.db", around.data / "calls.db", around.data / "requests.db"):
            raise ProblemError(Problem(
                "binding.own-store", "A backend cannot be Bricola's own store, which holds its people and secrets.",
                Kind.INPUT, place=f"environment {environment}, backends, {backend.name}, file", found=end.address))
    return SqliteKind(backend.name, around.data, binding)


def _checker(backend: BackendDefinition, binding: Binding, endpoint: Endpoint, probes: Sequence[Probe], around: Surroundings,
             running: SessionKind[Any] | None) -> Checker:
    return SqliteCheck(endpoint, around.data, probes)


def _missing() -> str:
    return "" if sqlite3.sqlite_version_info >= _RETURNING else f"the SQLite library is {sqlite3.sqlite_version}, older than 3.35"


DOOR = Door(ENGINE, _sessions, _checker, TableFunctions(discovery.tables, discovery.count), _missing)
