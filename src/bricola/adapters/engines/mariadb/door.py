"""MariaDB: a server."""

from collections.abc import Sequence
from typing import Any

from bricola.adapters.engines.door import Door, TableFunctions
from bricola.adapters.engines.mariadb import discovery, routines
from bricola.adapters.engines.mariadb.checks import MariaCheck
from bricola.adapters.engines.mariadb.sessions import MariaKind
from bricola.adapters.stages import Checker
from bricola.adapters.surroundings import Surroundings
from bricola.core.definitions.engines.mariadb import ENGINE
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import BackendDefinition, Binding
from bricola.core.kinds.kind import Probe
from bricola.core.pool.sessions import SessionKind


def _sessions(backend: BackendDefinition, binding: Binding, around: Surroundings, environment: str) -> SessionKind[Any]:
    return MariaKind(backend.name, binding, around.secrets, around.networks)


def _checker(backend: BackendDefinition, binding: Binding, endpoint: Endpoint, probes: Sequence[Probe], around: Surroundings,
             running: SessionKind[Any] | None) -> Checker:
    return MariaCheck(binding, endpoint, around, probes)


DOOR = Door(ENGINE, _sessions, _checker, TableFunctions(discovery.tables, discovery.count), routines=routines.routines)
