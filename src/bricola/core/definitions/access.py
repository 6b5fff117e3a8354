"""Who may call what, in one environment: a live setting of its own, so that no release is needed to let somebody in or out.

The grants of a service hold as they are said for its environment, as soon as they are said there. Until then those in the service itself
hold, as they are in the release: what an environment begins with.
"""

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Annotated, ClassVar, Literal

from bricola.core.definitions.base import Definition, Line, Name, Refers
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.model import ServiceDefinition
from bricola.core.definitions.runs import add_kind

Grant = Literal["all"] | tuple[str, ...]  # operations
Grants = Mapping[str, Grant]  # by role


class AccessDefinition(Definition):
    """`name` is the environment; `services` are by their place there, the name and from the second major version on `Name-v2`."""

    kind: ClassVar[str] = "access"
    live: ClassVar[bool] = True
    folder: ClassVar[str] = "access"
    name: Annotated[Name, Refers("environment")]
    """The environment."""
    description: Line = ""
    """Why it is so."""
    services: dict[str, dict[Name, Grant]] = {}
    """For each service and role the operations, or all."""


add_kind(AccessDefinition)


def granted_in(catalogue: Catalogue, environment: str, segment: str) -> Grants | None:
    """The grants that an environment itself says for a service; None where it says none."""
    access = catalogue.get(AccessDefinition, environment)
    return access.services.get(segment) if access is not None else None


def with_grants(service: ServiceDefinition, grants: Grants | None) -> ServiceDefinition:
    """The service with the grants of an environment; None leaves its own."""
    return service if grants is None else service.model_copy(update={"access": dict(grants)})


@dataclass(frozen=True)
class AccessChange:
    """A right that a role gets or loses in an environment."""

    environment: str
    service: str  # as it stands in addresses
    operation: str
    role: str
    gained: bool

    @property
    def sentence(self) -> str:
        return f"{self.role} {'may' if self.gained else 'may no longer'} call {self.operation} of {self.service} in {self.environment}."


def access_changes(before: Catalogue, after: Catalogue, find: Callable[[str, str], ServiceDefinition | None]) -> Iterator[AccessChange]:
    """Every right that changes with the grants of environments, by service and operation. `find` gives what stands in an environment at a
    segment."""
    environments = dict.fromkeys(one.name for each in (before, after) for one in each.all_of(AccessDefinition))
    for name in environments:
        old, new = before.get(AccessDefinition, name), after.get(AccessDefinition, name)
        if old == new:
            continue
        segments = dict.fromkeys([*(old.services if old is not None else ()), *(new.services if new is not None else ())])
        for segment in segments:
            service = find(name, segment)
            if service is not None:
                yield from _of_service(service, before, after, name, segment)


def _of_service(service: ServiceDefinition, before: Catalogue, after: Catalogue, environment: str, segment: str) -> Iterator[AccessChange]:
    was = with_grants(service, granted_in(before, environment, segment))
    becomes = with_grants(service, granted_in(after, environment, segment))
    for one in service.operations:
        old, new = was.roles_for(one.name), becomes.roles_for(one.name)
        for role in sorted(old ^ new):
            yield AccessChange(environment, segment, one.name, role, role in new)
