"""In which state a service is where it is deployed: the worst of all that its calls need, with what ails it.

One place works it out, and overview, command line, metrics, readiness and the pages for callers say the same. It looks at what is in
memory only, so it is as new as the breakers of the pools.
"""

import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

from bricola.api.words import PlaceState
from bricola.core.pool.states import PoolState
from bricola.core.problems import ProblemError
from bricola.core.serving.live import LiveService
from bricola.server.kinds.kind import KindServer
from bricola.server.ports.changes import Changes
from bricola.server.ports.credentials import Credentials
from bricola.server.ports.drafts import Drafts
from bricola.server.ports.films import Films
from bricola.server.ports.places import LivePlace, Places


class Ports(Protocol):
    drafts: Drafts
    places: Places
    films: Films
    changes: Changes
    credentials: Credentials
    kinds: Sequence[KindServer]


@dataclass(frozen=True)
class Ail:
    """Something that a service needs and that is not as it should be. `inner` is for owners."""

    part: str  # what it is: deployment, pool, credential, film
    name: str
    state: PlaceState
    words: str
    mend: str = ""
    inner: str = ""

    def as_dict(self, for_owners: bool = True) -> dict[str, str]:
        found = {"part": self.part, "name": self.name, "state": str(self.state), "words": self.words, "mend": self.mend}
        return found | ({"inner": self.inner} if for_owners and self.inner else {})


@dataclass(frozen=True)
class Soundness:
    """The state of a service at a place, with what ails it, the worst first."""

    state: PlaceState
    ails: tuple[Ail, ...] = ()


_WORSE = {state: index for index, state in enumerate((PlaceState.SERVING, PlaceState.AT_RISK, PlaceState.STOPPED, PlaceState.FAULTING))}
_POOLS = {
    PoolState.AT_RISK: (PlaceState.AT_RISK, "Some endpoints of its pool do not answer."),
    PoolState.FAULTING: (PlaceState.FAULTING, "No endpoint of its pool answers."),
    PoolState.STOPPED: (PlaceState.STOPPED, "Its pool is stopped."),
    PoolState.RETIRED: (PlaceState.STOPPED, "Its pool is retired."),
    PoolState.CLOSED: (PlaceState.STOPPED, "Its pool is closed."),
}


def soundness(ports: Ports, environment: str, segment: str) -> Soundness:
    """Of what is deployed at a place; 'not deployed' where nothing is."""
    down = ports.places.down(environment, segment)
    if down is not None:
        return Soundness(PlaceState.FAULTING, (_down(segment, down),))
    place = ports.places.place(environment, segment)
    if place is None:
        return Soundness(PlaceState.NOT_DEPLOYED)
    if place.retirement is not None and time.time() >= place.retirement.ends:
        return Soundness(PlaceState.ENDED, (Ail("deployment", segment, PlaceState.ENDED, f"It ended on {place.retirement.day}.",
                                               f"Take it away: bricola undeploy {place.main.name} {environment}"),))
    ails = sorted(_ails(ports, environment, place), key=lambda one: -_WORSE[one.state])
    return Soundness(ails[0].state if ails else PlaceState.SERVING, tuple(ails))


def _down(segment: str, error: ProblemError) -> Ail:
    problem = error.problem
    return Ail("deployment", segment, PlaceState.FAULTING, problem.sentence(), problem.mend, problem.inner)


def _ails(ports: Ports, environment: str, place: LivePlace) -> Iterator[Ail]:
    services = [one for one, _ in place.parts]
    for name, pool in {name: pool for one in services for name, pool in one.pools.items()}.items():
        found = _POOLS.get(pool.state)
        if found is not None:
            reasons = "; ".join(f"{one.name}: {one.reason}" for one in pool.endpoints if one.reason)
            yield Ail("pool", name, *found, f"Look at it: bricola pools show {environment} {name}", reasons)
    yield from _credentials(ports, environment, services)
    yield from _sources(ports, environment, services)


def _credentials(ports: Ports, environment: str, services: Sequence[LiveService]) -> Iterator[Ail]:
    definition = ports.drafts.catalogue.find_environment(environment)
    for backend in sorted({name for one in services for name in one.pools}):
        binding = definition.binding(backend) if definition is not None else None
        if binding is None or not binding.credential:
            continue
        lack = ports.credentials.vault.lack(binding.credential)
        if lack:  # sessions that are open go on; no other can be opened
            yield Ail("credential", binding.credential, PlaceState.AT_RISK, f"The credential for {backend} {lack}.",
                      f"Replace it: bricola credentials rotate {binding.credential}")


def _sources(ports: Ports, environment: str, services: Sequence[LiveService]) -> Iterator[Ail]:
    """What is known to be wrong with the sources themselves, like screens that are not as they were filmed."""
    for name in sorted({one.name for one in services}):
        definition = ports.drafts.catalogue.find_service(name)
        for kind, source in dict.fromkeys(one.source for one in definition.operations) if definition is not None else ():
            owner = next((one for one in ports.kinds if one.kind.word == kind), None)
            found = owner.unsound(ports, source, environment) if owner is not None and owner.unsound is not None else None
            if found is not None:
                yield Ail(found.part, source, PlaceState.AT_RISK, found.words, found.mend, found.inner)


def plain(found: Soundness) -> dict[str, Any]:
    return {"state": found.state, "ails": [one.as_dict() for one in found.ails]}
