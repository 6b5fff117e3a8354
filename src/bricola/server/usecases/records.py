"""For people who test: keys to pick as inputs, and an answer beside what it came from. What that is, each kind of source knows."""

from collections.abc import Sequence
from contextlib import AbstractAsyncContextManager
from typing import Any, Protocol

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.kinds.kind import ResolvedOperation
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.serving.live import LiveService
from bricola.core.shapes.model import Element, Record
from bricola.server.kinds.kind import KindServer, Visit
from bricola.server.ports.drafts import Drafts, unknown
from bricola.server.ports.places import Places
from bricola.server.ports.releases import Releases
from bricola.server.usecases.services import not_deployed

MOST_KEYS = 50


class Ports(Protocol):
    kinds: Sequence[KindServer]
    drafts: Drafts
    releases: Releases
    places: Places


async def keys(ports: Ports, environment: str, service: str, operation: str, name: str, search: str, limit: int) -> dict[str, Any]:
    """Real keys for an input that holds the key of something: those that begin with, or whose texts contain, the search."""
    found, catalogue = await live_operation(ports, environment, service, operation)
    element = _input(found.shape.input, name)
    owner = next((one for one in ports.kinds if one.keys is not None and element is not None and element.key_of
                  and (one.kind.word, element.key_of) in catalogue), None)
    if element is None or owner is None or owner.keys is None:
        pickable = [path for path, one in _inputs(found.shape.input) if one.key_of]
        raise ProblemError(Problem(
            "records.input", "This input does not hold the key of an object.", place=f"{operation}/{name}",
            expected="an operation with such an input", choices=tuple(pickable), found=shown(name)))
    return await owner.keys(element.key_of, catalogue, search, limit, visits(ports, environment, catalogue))


def visits(ports: Ports, environment: str, catalogue: Catalogue) -> Visit:
    place = ports.drafts.environment(environment)

    def visit(backend: str) -> AbstractAsyncContextManager[Any]:
        return ports.places.visit(place, backend, catalogue)

    return visit


def _inputs(record: Record, path: str = "", around: tuple[str, ...] = ()) -> list[tuple[str, Element]]:
    found = []
    for one in record.slots:
        found.append((f"{path}{one.name}", one))
        if isinstance(one.type, Record) and (not one.type.id or one.type.id not in around):
            found += _inputs(one.type, f"{path}{one.name}.", (*around, one.type.id))
    return found


def _input(record: Record, path: str) -> Element | None:
    return next((one for name, one in _inputs(record) if name == path), None)


async def live_operation(ports: Ports, environment: str, service: str, operation: str) -> tuple[ResolvedOperation, Catalogue]:
    live = ports.places.find(environment, service)
    if live is None:
        raise ProblemError(not_deployed(service, environment))
    return await operation_of(ports, live, operation)


async def operation_of(ports: Ports, live: LiveService, operation: str) -> tuple[ResolvedOperation, Catalogue]:
    """What an operation of a release is made of."""
    frozen = await ports.releases.thaw(await ports.releases.find(live.name, live.release))
    found = next((one for one in frozen.resolved.operations if one.shape.name == operation), None)
    if found is None:
        raise ProblemError(unknown("operation", operation, [one.shape.name for one in frozen.resolved.operations]))
    return found, frozen.catalogue


async def compare(
    ports: Ports, environment: str, service: str, operation: str, values: dict[str, Any], answer: dict[str, Any]
) -> dict[str, Any]:
    """What was answered (or, for a write, sent) beside what is stored now."""
    live = ports.places.find(environment, service)
    if live is None:
        raise ProblemError(not_deployed(service, environment))
    return await compare_live(ports, live, operation, values, answer)


async def compare_live(ports: Ports, live: LiveService, operation: str, values: dict[str, Any], answer: dict[str, Any]) -> dict[str, Any]:
    """The same of a release, live or not."""
    found, catalogue = await operation_of(ports, live, operation)
    if found.ways is not None:
        raise ProblemError(Problem("records.mapped", "The answer was mapped to somebody else's contract, so it is not laid beside rows.",
                                   place=operation, mend="Compare an operation that publishes the same source with a contract of its own."))
    owner = next((one for one in ports.kinds if one.kind.word == found.kind.word), None)
    if owner is None or owner.beside is None:
        words, mend = owner.nothing_beside if owner is not None else KindServer.nothing_beside
        raise ProblemError(Problem("records.derived", words, Kind.INPUT, place=operation, mend=mend))
    return await owner.beside(found, values, answer, visits(ports, live.environment, catalogue))
