"""Definitions: apply a bundle, export, review."""

import asyncio
from dataclasses import dataclass

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.folder import DefinitionFile, read_bundle
from bricola.core.definitions.model import EnvironmentDefinition
from bricola.core.definitions.review import Finding, review
from bricola.server.bricola import Bricola
from bricola.server.usecases.lookup import find_environment, find_service
from bricola.store import definitions, releases


@dataclass(frozen=True)
class Change:
    """What applying does to one definition: added, changed, moved, removed or unchanged."""

    action: str
    kind: str
    name: str
    path: str


async def apply(bricola: Bricola, texts: dict[str, str], author: str, remove_others: bool = False,
                plan_only: bool = False) -> list[Change]:
    """Make drafts of the files of a bundle, all or none. Environments take effect at once.

    Raises ProblemError with every mistake in every file.
    """
    files = await asyncio.to_thread(read_bundle, texts)
    changes, revisions = _compare(bricola.drafts, files, remove_others)
    if plan_only or not revisions:
        return changes
    await bricola.storage.main(definitions.add_revisions, revisions, author)
    before = bricola.catalogue
    await bricola.load_drafts()
    await _refresh_environments(bricola, before)
    return changes


def _compare(
    drafts: list[DefinitionFile], files: list[DefinitionFile], remove_others: bool
) -> tuple[list[Change], list[tuple[str, str, str, str]]]:
    present = {one.reference: one for one in drafts}
    changes: list[Change] = []
    revisions: list[tuple[str, str, str, str]] = []
    for file in files:
        old = present.pop(file.reference, None)
        if old is None:
            action = "added"
        elif old.definition != file.definition:
            action = "changed"
        else:
            action = "moved" if old.path != file.path else "unchanged"
        changes.append(Change(action, *file.reference, file.path))
        if action != "unchanged":
            revisions.append((*file.reference, file.path, file.text))
    if remove_others:
        for reference, old in present.items():
            changes.append(Change("removed", *reference, old.path))
            revisions.append((*reference, old.path, ""))
    return changes, revisions


async def _refresh_environments(bricola: Bricola, before: Catalogue) -> None:
    """A changed environment is a live setting: what is deployed there takes it up now."""
    changed = {one.name for one in bricola.catalogue.environments() if before.find_environment(one.name) != one}
    for deployment in await bricola.storage.main(releases.deployments, in_force=True, limit=1_000_000):
        if deployment.environment in changed:
            await bricola.bring_up(deployment.environment, deployment.service, deployment.release)


def review_service(bricola: Bricola, service: str, environment: str = "") -> list[Finding]:
    """The findings of a draft; with an environment, also of running it there."""
    definition = find_service(bricola.catalogue, service)
    place: EnvironmentDefinition | None = find_environment(bricola.catalogue, environment) if environment else None
    return review(bricola.catalogue, definition, place)
