"""Releases: freeze a service with everything that it needs."""

import hashlib

from bricola.core.contracts.compatibility import Verdict, compare_contracts
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.folder import default_path
from bricola.core.definitions.model import ServiceDefinition
from bricola.core.definitions.text import write_definition
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.review import Severity, review
from bricola.core.shapes.resolve import resolve_service
from bricola.server.bricola import Bricola
from bricola.server.usecases.frozen import release_shape
from bricola.server.usecases.lookup import find_service
from bricola.store import releases
from bricola.store.releases import StoredRelease


def freeze(catalogue: Catalogue, service: ServiceDefinition) -> tuple[dict[str, str], str]:
    """The bundle of a service and its digest: SHA-256 over the canonical texts in the order of their paths."""
    bundle = {default_path(one): write_definition(one) for one in catalogue.needs(service)}
    digest = hashlib.sha256("".join(f"{path}\0{bundle[path]}\0" for path in sorted(bundle)).encode()).hexdigest()
    return bundle, digest


async def release(bricola: Bricola, service: str, notes: str, author: str, consent: str = "") -> StoredRelease:
    """Make the next release of a service's draft. Raises ProblemError for findings that stop it, when nothing changed
    since the newest release, and when it breaks callers and nobody consented with a reason."""
    definition = find_service(bricola.catalogue, service)
    stops = [one.problem for one in review(bricola.catalogue, definition) if one.severity is Severity.ERROR]
    if stops:
        raise ProblemError(*stops)
    bundle, digest = freeze(bricola.catalogue, definition)
    known = await bricola.storage.main(releases.releases, service)
    if known and known[0].digest == digest:
        raise ProblemError(Problem(
            "release.unchanged", f"Nothing changed in {service} since release {known[0].number}.", Kind.CONFLICT,
            place=f"service {service}", mend=f"Deploy release {known[0].number}, or change the draft first.",
        ))
    breaks = _breaks(bricola, definition, [one for one in known if one.version == definition.version])
    if breaks and not consent.strip():
        raise ProblemError(*breaks)
    number = await bricola.storage.main(releases.add_release, service, digest, bundle, notes, author, definition.version,
                                        consent.strip() if breaks else "")
    made = await bricola.storage.main(releases.find_release, service, number)
    assert made is not None  # it was stored a line above
    await bricola.changed(author, "release", f"service {service}", None,
                          {"release": number, "version": made.version, "digest": digest, "notes": notes, "consent": made.consent})
    return made


def _breaks(bricola: Bricola, definition: ServiceDefinition, known: list[StoredRelease]) -> list[Problem]:
    """Why callers of the newest release of this major version would break, as problems with the two ways out."""
    if not known:
        return []
    changes = compare_contracts(release_shape(known[0]), resolve_service(definition, bricola.catalogue).shape)
    mend = (f"Set 'version: {definition.version + 1}' in the service, for an address and a namespace of its own beside the old one;"
            f" or consent with a reason: bricola release {definition.name} --consent REASON")
    return [
        Problem("release.breaking", f"This release breaks callers of release {known[0].number}: {one.message}", Kind.CONFLICT,
                place=one.place, expected=one.before, found=one.after, mend=mend)
        for one in changes if one.verdict is Verdict.BREAKING
    ]
