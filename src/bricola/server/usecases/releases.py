"""Releases: freeze a service with everything that it needs."""

import asyncio
from typing import Protocol

from bricola.core.definitions.model import ServiceDefinition
from bricola.core.kinds.resolve import resolve_service
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.review import Severity, review
from bricola.core.shapes.forms import NEWEST
from bricola.server.ports.calls import Calls
from bricola.server.ports.changes import Change, Changes, Topic
from bricola.server.ports.drafts import Drafts
from bricola.server.ports.places import Places
from bricola.server.ports.releases import Releases, freeze
from bricola.server.usecases.compare import breaking_changes, draft_side, released_side
from bricola.store import releases
from bricola.store.releases import StoredRelease


class Ports(Protocol):
    drafts: Drafts
    releases: Releases
    places: Places
    changes: Changes
    calls: Calls


async def release(ports: Ports, service: str, notes: str, author: str, consent: str = "") -> StoredRelease:
    """Make the next release of a service's draft. Raises ProblemError for findings that stop it, when nothing changed
    since the newest release, and when it breaks callers and nobody consented with a reason."""
    definition = ports.drafts.service(service)
    catalogue = ports.drafts.catalogue
    findings = await asyncio.to_thread(review, catalogue, definition)  # beside the event loop, as all that takes a while
    stops = [one.problem for one in findings if one.severity is Severity.ERROR]
    if stops:
        raise ProblemError(*stops)
    bundle, digest = await asyncio.to_thread(freeze, catalogue, definition)
    contract = await asyncio.to_thread(lambda: resolve_service(definition, catalogue).kept_contract())
    newest = await ports.releases.newest_of_version(service, definition.version)
    breaks = await _breaks(ports, definition, await ports.releases.newest_served(service, definition.version))

    def work(change: Change) -> StoredRelease:
        known = releases.releases(change.db, service)
        last = releases.find_release(change.db, service)
        if last is not None and last.bundle == bundle and last.form == NEWEST:
            raise ProblemError(Problem(
                "release.unchanged", f"Nothing changed in {service} since release {last.number}.", Kind.CONFLICT,
                place=f"service {service}", mend=f"Deploy release {last.number}, or change the draft first.",
            ))
        if breaks and not consent.strip():
            raise ProblemError(*breaks)
        if next((one.number for one in known if one.version == definition.version), None) != (newest.number if newest else None):
            raise ProblemError(Problem("release.meanwhile", f"Somebody released {service} in this moment.", Kind.CONFLICT,
                                       place=f"service {service}", mend="Look at what it is, then say this again."))
        number = releases.add_release(change.db, service, digest, bundle, notes, author, definition.version,
                                      consent.strip() if breaks else "", NEWEST, contract)
        made = releases.find_release(change.db, service, number)
        assert made is not None  # it was stored a line above
        change.note(author, "release", f"service {service}", None,
                    {"release": number, "version": made.version, "digest": digest, "notes": notes, "consent": made.consent})
        return made

    return await ports.changes.make([Topic.RELEASES], work)


async def _breaks(ports: Ports, definition: ServiceDefinition, served: StoredRelease | None) -> list[Problem]:
    """Why callers of the release that was served last would break, as problems with the two ways out."""
    if served is None:
        return []
    mend = (f"Set 'version: {definition.version + 1}' in the service, for an address and a namespace of its own beside the old one;"
            f" or consent with a reason: bricola release {definition.name} --consent REASON")
    return [
        Problem("release.breaking", f"This release breaks callers of release {served.number}: {one.message}", Kind.CONFLICT,
                place=one.place, expected=one.before, found=one.after, mend=mend)
        for one in await breaking_changes(await released_side(ports, served), await draft_side(ports, definition))
    ]
