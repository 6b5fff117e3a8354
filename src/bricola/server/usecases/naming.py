"""Names that there are, for people who choose one."""

from typing import Protocol

from bricola.core.definitions.engines import ENGINES
from bricola.core.kinds.registry import runnable
from bricola.core.shapes.primitives import OFFERED
from bricola.server.usecases import credentials, people
from bricola.server.usecases.people import Ports as PeoplePorts


class Ports(PeoplePorts, credentials.Ports, Protocol):
    """What the names are read from."""


async def names(ports: Ports) -> dict[str, list[str]]:
    """Names of definitions by kind, and with them what is called by a name without being a definition: engines, primitives, roles,
    credentials, callers, operations as `Service.Operation`, and what an operation can run."""
    catalogue = ports.drafts.catalogue
    found: dict[str, list[str]] = {}
    for one in catalogue:
        found.setdefault(one.kind, []).append(one.name)
    kept = [one.name for one in await ports.credentials.known()]
    return {**{kind: sorted(each) for kind, each in found.items()}, "engine": list(ENGINES), "primitive": list(OFFERED),
            "operation": [f"{service.name}.{one.name}" for service in catalogue.services() for one in service.operations],
            "caller": sorted(one.name for one in await ports.people.known_callers()),
            "role": [one["role"] for one in await people.roles(ports)], "credential": sorted(kept), "runs": list(runnable(catalogue))}
