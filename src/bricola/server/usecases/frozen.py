"""Freezing a service with everything that it needs, and stored releases as definitions and shapes again."""

import asyncio
import hashlib
from collections import OrderedDict
from dataclasses import dataclass
from typing import TYPE_CHECKING

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.folder import default_path
from bricola.core.definitions.model import ServiceDefinition
from bricola.core.definitions.text import read_definition, write_definition
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.shapes.resolve import ResolvedService, resolve_service
from bricola.server.usecases.lookup import find_service, unknown
from bricola.store import releases
from bricola.store.releases import StoredRelease

if TYPE_CHECKING:
    from bricola.server.bricola import Bricola


def freeze(catalogue: Catalogue, service: ServiceDefinition) -> tuple[dict[str, str], str]:
    """The bundle of a service and its digest: SHA-256 over the canonical texts in the order of their paths."""
    bundle = {default_path(one): write_definition(one) for one in catalogue.needs(service)}
    digest = hashlib.sha256("".join(f"{path}\0{bundle[path]}\0" for path in sorted(bundle)).encode()).hexdigest()
    return bundle, digest


async def find_release(bricola: "Bricola", service: str, number: int | None) -> StoredRelease:
    """A release by its number, or the newest one."""
    known = await bricola.storage.main(releases.releases, service)
    if not known:
        find_service(bricola.catalogue, service)
        raise ProblemError(Problem("release.none", f"{service} has no release yet.", Kind.MISSING,
                                   place=f"service {service}", mend=f"Make one: bricola release {service}"))
    found = next((one for one in known if number is None or one.number == number), None)
    if found is None:
        raise ProblemError(unknown("release", str(number), [str(one.number) for one in reversed(known)]))
    return found


@dataclass(frozen=True)
class Thawed:
    """A release as definitions again, and what they resolve to."""

    catalogue: Catalogue
    definition: ServiceDefinition
    resolved: ResolvedService


_MOST_THAWED = 128
_thawed: OrderedDict[str, Thawed] = OrderedDict()  # by digest, which stands for the whole content


def _thaw(release: StoredRelease) -> Thawed:
    catalogue = Catalogue(read_definition(text, path) for path, text in release.bundle.items())
    definition = find_service(catalogue, release.service)
    made = _thawed[release.digest] = Thawed(catalogue, definition, resolve_service(definition, catalogue))
    while len(_thawed) > _MOST_THAWED:
        _thawed.popitem(last=False)
    return made


async def thaw(release: StoredRelease) -> Thawed:
    """The definitions of a release. Reading a large one takes a while, so it is done beside the event loop."""
    found = _thawed.get(release.digest)
    return found if found is not None else await asyncio.to_thread(_thaw, release)
