"""SQLite: a file below the allowed folders, and never the service's own store."""

import sqlite3
from collections.abc import Sequence
from typing import Any

from bricola.adapters.engines.door import Door, TableFunctions
from bricola.adapters.engines.sqlite import discovery
from bricola.adapters.engines.sqlite.checks import SqliteCheck
from bricola.adapters.engines.sqlite.sessions import SqliteKind
from bricola.adapters.stages import Checker
from bricola.adapters.surroundings import Surroundings
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.engines.sqlite import ENGINE
from bricola.core.definitions.model import BackendDefinition, Binding
from bricola.core.kinds.kind import Probe
from bricola.core.pool.sessions import SessionKind

_RETURNING = (3, 35, 0)  # the release that brought RETURNING, by which keys made by the database are read


def _sessions(backend: BackendDefinition, binding: Binding, around: Surroundings, environment: str) -> SessionKind[Any]:
    for end in binding.ends:
        around.folders.find(end.address)  # refused now, not at the first call
    return SqliteKind(backend.name, around.folders, binding)


def _checker(backend: BackendDefinition, binding: Binding, endpoint: Endpoint, probes: Sequence[Probe], around: Surroundings,
             running: SessionKind[Any] | None) -> Checker:
    return SqliteCheck(endpoint, around.folders, probes)


def _missing() -> str:
    return "" if sqlite3.sqlite_version_info >= _RETURNING else f"the SQLite library is {sqlite3.sqlite_version}, older than 3.35"


DOOR = Door(ENGINE, _sessions, _checker, TableFunctions(discovery.tables, discovery.count), _missing)
