"""Releases: freeze a service with everything that it needs."""

import asyncio

from bricola.core.definitions.model import ServiceDefinition
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.review import Severity, review
from bricola.server.bricola import Bricola
from bricola.server.usecases.compare import breaking_changes, draft_side, released_side
from bricola.server.usecases.frozen import freeze
from bricola.server.usecases.lookup import find_service
from bricola.store import releases
from bricola.store.releases import StoredRelease


async def release(bricola: Bricola, service: str, notes: str, author: str, consent: str = "") -> StoredRelease:
    """Make the next release of a service's draft. Raises ProblemError for findings that stop it, when nothing changed
    since the newest release, and when it breaks callers and nobody consented with a reason."""
    definition = find_service(bricola.catalogue, service)
    catalogue = bricola.catalogue
    findings = await asyncio.to_thread(review, catalogue, definition)  # beside the event loop, as all that takes a while
    stops = [one.problem for one in findings if one.severity is Severity.ERROR]
    if stops:
        raise ProblemError(*stops)
    bundle, digest = await asyncio.to_thread(freeze, catalogue, definition)
    known = await bricola.storage.main(releases.releases, service)
    if known and known[0].digest == digest:
        raise ProblemError(Problem(
            "release.unchanged", f"Nothing changed in {service} since release {known[0].number}.", Kind.CONFLICT,
            place=f"service {service}", mend=f"Deploy release {known[0].number}, or change the draft first.",
        ))
    breaks = await _breaks(bricola, definition, next((one for one in known if one.version == definition.version), None))
    if breaks and not consent.strip():
        raise ProblemError(*breaks)
    number = await bricola.storage.main(releases.add_release, service, digest, bundle, notes, author, definition.version,
                                        consent.strip() if breaks else "")
    made = await bricola.storage.main(releases.find_release, service, number)
    assert made is not None  # it was stored a line above
    await bricola.changed(author, "release", f"service {service}", None,
                          {"release": number, "version": made.version, "digest": digest, "notes": notes, "consent": made.consent})
    return made


async def _breaks(bricola: Bricola, definition: ServiceDefinition, newest: StoredRelease | None) -> list[Problem]:
    """Why callers of the newest release of this major version would break, as problems with the two ways out."""
    if newest is None:
        return []
    mend = (f"Set 'version: {definition.version + 1}' in the service, for an address and a namespace of its own beside the old one;"
            f" or consent with a reason: bricola release {definition.name} --consent REASON")
    return [
        Problem("release.breaking", f"This release breaks callers of release {newest.number}: {one.message}", Kind.CONFLICT,
                place=one.place, expected=one.before, found=one.after, mend=mend)
        for one in await breaking_changes(await released_side(newest), await draft_side(bricola, definition))
    ]
