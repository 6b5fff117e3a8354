"""Deployments: make a release live in an environment, and take it away."""

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.review import Severity, review
from bricola.core.definitions.text import read_definition
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.shapes.model import ServiceShape
from bricola.core.shapes.resolve import resolve_service
from bricola.server.bricola import Bricola
from bricola.server.usecases.lookup import find_environment, find_service, unknown
from bricola.store import releases
from bricola.store.releases import StoredRelease


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


async def deploy(bricola: Bricola, service: str, environment: str, number: int | None, author: str) -> StoredRelease:
    """Make a release live. It is compiled and its backends are tried before anything changes; then it is
    stored and swapped in. Calls in flight end on the release before. Raises ProblemError with all that stops it."""
    place = find_environment(bricola.catalogue, environment)
    release = await find_release(bricola, service, number)
    frozen = frozen_catalogue(release)
    definition = find_service(frozen, service)
    findings = review(frozen | Catalogue(bricola.catalogue.environments()), definition, place)
    stops = [one.problem for one in findings if one.severity is Severity.ERROR]
    if stops:
        raise ProblemError(*stops)
    live = await bricola.runtime.prepare(place, definition, release.number, frozen)
    async with bricola.swapping:
        await bricola.storage.main(releases.start_deployment, environment, service, release.number, author)
        bricola.runtime.swap(live)
    return release


async def undeploy(bricola: Bricola, service: str, environment: str, author: str) -> None:
    """Take a service out of an environment. Calls in flight end in peace, later ones are told that it is gone."""
    find_environment(bricola.catalogue, environment)
    async with bricola.swapping:
        if not await bricola.storage.main(releases.end_deployment, environment, service, author):
            raise ProblemError(Problem("deployment.none", f"{service} is not deployed in {environment}.", Kind.MISSING,
                                       place=f"{environment}/{service}"))
        bricola.runtime.remove(environment, service)
