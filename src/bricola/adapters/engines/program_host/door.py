"""The door to program hosts."""

from collections.abc import Sequence
from typing import Any

from bricola.adapters.engines.door import Door
from bricola.adapters.engines.program_host.checks import ProgramHostCheck
from bricola.adapters.engines.program_host.sessions import ProgramHostKind
from bricola.adapters.stages import Checker
from bricola.adapters.surroundings import Surroundings
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.engines.program_host import ENGINE
from bricola.core.definitions.model import BackendDefinition, Binding
from bricola.core.kinds.kind import Probe
from bricola.core.pool.sessions import SessionKind


def _sessions(backend: BackendDefinition, binding: Binding, around: Surroundings, environment: str) -> SessionKind[Any]:
    return ProgramHostKind(backend.name, binding, around)


def _checker(backend: BackendDefinition, binding: Binding, endpoint: Endpoint, probes: Sequence[Probe], around: Surroundings,
             running: SessionKind[Any] | None) -> Checker:
    return ProgramHostCheck(binding, endpoint, around, probes, ProgramHostKind(backend.name, binding, around))


DOOR = Door(ENGINE, _sessions, _checker)
