"""Freezing a service with everything that it needs, and stored releases as definitions and shapes again."""

import hashlib

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.folder import default_path
from bricola.core.definitions.model import ServiceDefinition
from bricola.core.definitions.text import read_definition, write_definition
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.shapes.model import ServiceShape
from bricola.core.shapes.resolve import resolve_service
from bricola.server.bricola import Bricola
from bricola.server.usecases.lookup import find_service, unknown
from bricola.store import releases
from bricola.store.releases import StoredRelease


def freeze(catalogue: Catalogue, service: ServiceDefinition) -> tuple[dict[str, str], str]:
    """The bundle of a service and its digest: SHA-256 over the canonical texts in the order of their paths."""
    bundle = {default_path(one): write_definition(one) for one in catalogue.needs(service)}
    digest = hashlib.sha256("".join(f"{path}\0{bundle[path]}\0" for path in sorted(bundle)).encode()).hexdigest()
    return bundle, digest


async def find_release(bricola: Bricola, service: str, number: int | None) -> StoredRelease:
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


def frozen_catalogue(release: StoredRelease) -> Catalogue:
    return Catalogue(read_definition(text, path) for path, text in release.bundle.items())


def release_shape(release: StoredRelease) -> ServiceShape:
    """What callers of a release see."""
    frozen = frozen_catalogue(release)
    return resolve_service(find_service(frozen, release.service), frozen).shape
