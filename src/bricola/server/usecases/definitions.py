"""Definitions: apply a bundle, compare, mend what the review can mend."""

import asyncio
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import asdict, dataclass, field
from typing import Any, Protocol

from bricola.api.words import ChangeAction
from bricola.core.definitions.access import AccessDefinition
from bricola.core.definitions.catalogue import Catalogue, Reference
from bricola.core.definitions.compare import FileDifference, compare_lines, compare_texts
from bricola.core.definitions.contexts import ContextList, context_misfits
from bricola.core.definitions.folder import DefinitionFile, default_path, read_bundle
from bricola.core.definitions.model import ServiceDefinition
from bricola.core.definitions.requests import RequestDefinition, locked
from bricola.core.definitions.runs import models
from bricola.core.definitions.suites import SuiteDefinition
from bricola.core.kinds.breaking import broken_by
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.testing.checking import problems_of
from bricola.server.ports.changes import Change as Transaction
from bricola.server.ports.changes import Changes, Topic
from bricola.server.ports.drafts import Drafts
from bricola.server.ports.places import Places
from bricola.server.ports.releases import Releases
from bricola.server.ports.storage import Storage
from bricola.server.usecases.bringing_up import bring_up, places_in_force
from bricola.store import definitions as stored
from bricola.store.database import Db, timestamp
from bricola.store.definitions import StoredDefinition


class Ports(Protocol):
    drafts: Drafts
    releases: Releases
    places: Places
    changes: Changes
    storage: Storage


CHANGED_MEANWHILE = "definition.changed-meanwhile"
EFFECTIVE = (ChangeAction.ADDED, ChangeAction.CHANGED, ChangeAction.REMOVED)  # actions that change something; moved and the rest do not


def is_live(kind: str) -> bool:
    """Whether a change of such a definition takes effect at once: it is part of no release."""
    return models()[kind].live


@dataclass(frozen=True)
class Change:
    """What applying does to one definition: added, changed, moved, removed, unchanged, or kept (newer here, and the
    author left it alone).

    `effective` is the moment since when a live setting is in force; empty for what waits for a release."""

    action: ChangeAction
    kind: str
    name: str
    path: str
    effective: str = ""
    lines: list[tuple[str, int | None, int | None, str]] = field(default_factory=list)


async def apply(ports: Ports, texts: dict[str, str], author: str, remove_others: bool = False,
                plan_only: bool = False, based_on: Mapping[str, int] | None = None, also: Sequence[Topic] = (),
                more: Callable[[Transaction], None] | None = None) -> list[Change]:
    """Make drafts of the files of a bundle, all or none. Environments take effect at once.

    `based_on` gives the revision that the author started from, by 'kind name'. Raises ProblemError with every
    mistake in every file, and of kind conflict when somebody saved one of them in between. `more` is stored in the same change, about
    the topics `also`.
    """
    files = await asyncio.to_thread(read_bundle, texts)
    _refuse_what_is_locked(ports.drafts.catalogue, files)
    await asyncio.to_thread(_refuse_unfit_suites, ports.drafts.catalogue, files)
    _refuse_unfit_contexts(ports.drafts.catalogue, files)
    base = _read_base(based_on)
    untouched = await _untouched(ports, files, base)
    if not remove_others:
        _refuse_taken_paths(ports.drafts.files, files)
    changes, revisions = _compare(ports.drafts.files, files, remove_others, untouched)
    if based_on is not None:  # what the author has never seen was made since; it is not theirs to remove
        base = {(kind, name): 0 for kind, name, _, text in revisions if not text} | base
    mine = {one.reference: one.text for one in files}
    if plan_only or not revisions:
        newer = _newer(ports, revisions, base)
        await ports.storage.read(lambda db: _refuse_overwriting(db, newer, base, mine))
        return changes
    before = ports.drafts.catalogue
    texts_before = {one.reference: one.text for one in ports.drafts.files}
    await ports.changes.make([Topic.DEFINITIONS, *also], _storing(revisions, author, base, mine, texts_before, more))
    await _refresh_environments(ports, before)
    now = timestamp()
    return [Change(one.action, one.kind, one.name, one.path, now if is_live(one.kind) and one.action in EFFECTIVE else "",
                   one.lines) for one in changes]


def started_from(began: Mapping[Reference, StoredDefinition], made: Iterable[Reference]) -> dict[str, int]:
    """What `apply` has to know so that nothing that was saved meanwhile is overwritten. `began` is what `ports.drafts.revisions` was when
    somebody began to make these definitions out of those that there are."""
    return {f"{kind} {name}": began[kind, name].revision if (kind, name) in began else 0 for kind, name in made}


async def breaks(ports: Ports, texts: dict[str, str], remove_others: bool = False) -> list[Problem]:
    """What these files would break elsewhere, if they became drafts."""
    files = await asyncio.to_thread(read_bundle, texts)
    before = ports.drafts.catalogue
    mine = Catalogue([one.definition for one in files])
    return await asyncio.to_thread(broken_by, before, mine if remove_others else before | mine)


def _storing(revisions: list[tuple[str, str, str, str]], author: str, base: Mapping[Reference, int], mine: Mapping[Reference, str],
             texts_before: Mapping[Reference, str], more: Callable[[Transaction], None] | None) -> Callable[[Transaction], None]:
    """The change that stores revisions, and whatever belongs to it. Raises the conflict when somebody saved one of them in between."""

    def work(change: Transaction) -> None:
        newer = stored.add_revisions(change.db, revisions, author, base)
        _refuse_overwriting(change.db, newer, base, mine)
        if newer:
            return  # both did the same
        for kind, name, _, text in revisions:
            change.note(author, "define" if text else "remove", f"{kind} {name}", texts_before.get((kind, name)), text or None)
        if more is not None:
            more(change)

    return work


def _refuse_what_is_locked(catalogue: Catalogue, files: list[DefinitionFile]) -> None:
    """What an integration request decides of a service is changed there."""
    mine = {one.reference: one.definition for one in files}
    problems: list[Problem] = []
    for one in mine.values():
        if isinstance(one, ServiceDefinition) and one.request:
            request = mine.get((RequestDefinition.kind, one.request)) or catalogue.get(RequestDefinition, one.request)
            if isinstance(request, RequestDefinition):
                problems += locked(one, request)
    if problems:
        raise ProblemError(*problems)


def _refuse_unfit_suites(catalogue: Catalogue, files: list[DefinitionFile]) -> None:
    """A suite that is saved can come true. One that is as it was stays, whatever becomes of its service: the comparison tells of it."""
    after = catalogue | Catalogue(one.definition for one in files)
    new = [one.definition for one in files if isinstance(one.definition,
                                                         SuiteDefinition) and catalogue.find(one.reference) != one.definition]
    problems = [two for one in new for two in problems_of(after, one)]
    if problems:
        raise ProblemError(*problems)


def _refuse_unfit_contexts(catalogue: Catalogue, files: list[DefinitionFile]) -> None:
    """A name that stands for nothing, or the account of another company, would stop at once what is deployed. What was wrong before can be
    mended in steps."""
    after = catalogue | Catalogue(one.definition for one in files)
    before = {one for place in catalogue.environments() for one in context_misfits(place, catalogue)}
    problems = [one for place in after.environments() for one in context_misfits(place, after) if one not in before]
    if problems:
        raise ProblemError(*problems)


def _refuse_taken_paths(drafts: list[DefinitionFile], files: list[DefinitionFile]) -> None:
    """Two definitions cannot live in one file: an export would lose one of them."""
    mine = {one.reference for one in files}
    owners = {one.path: one.reference for one in drafts if one.reference not in mine}
    problems = []
    for file in files:
        if file.path in owners:
            kind, name = owners[file.path]
            problems.append(Problem(
                "bundle.path-taken", f"This is the file of the {kind} {name}.", Kind.CONFLICT, place=file.path,
                found=f"{file.reference[0]} {file.reference[1]}",
                mend="Give the new definition a file of its own. When it takes the other's place, apply with --remove."))
    if problems:
        raise ProblemError(*problems)


async def _untouched(ports: Ports, files: list[DefinitionFile], base: Mapping[Reference, int]) -> set[Reference]:
    """What the author left as it was while somebody else changed it: the newer text stays."""
    found = set()
    for file in files:
        current, started = ports.drafts.revisions.get(file.reference), base.get(file.reference)
        if (started and current is not None and current.revision != started
                and await ports.storage.read(stored.revision_text, started) == file.text):
            found.add(file.reference)
    return found


def _compare(
    drafts: list[DefinitionFile], files: list[DefinitionFile], remove_others: bool, untouched: set[Reference]
) -> tuple[list[Change], list[tuple[str, str, str, str]]]:
    present = {one.reference: one for one in drafts}
    changes: list[Change] = []
    revisions: list[tuple[str, str, str, str]] = []
    for file in files:
        old = present.pop(file.reference, None)
        if file.reference in untouched:
            changes.append(Change(ChangeAction.KEPT, *file.reference, file.path))
            continue
        if old is None:
            action = ChangeAction.ADDED
        elif old.definition != file.definition:
            action = ChangeAction.CHANGED
        else:
            action = ChangeAction.MOVED if old.path != file.path else ChangeAction.UNCHANGED
        lines = compare_lines(old.text, file.text) if old is not None and action is ChangeAction.CHANGED else []
        changes.append(Change(action, *file.reference, file.path, lines=lines))
        if action is not ChangeAction.UNCHANGED:
            revisions.append((*file.reference, file.path, file.text))
    if remove_others:
        for reference, old in present.items():
            changes.append(Change(ChangeAction.REMOVED, *reference, old.path))
            revisions.append((*reference, old.path, ""))
    return changes, revisions


def _read_base(based_on: Mapping[str, int] | None) -> dict[Reference, int]:
    pairs = ((key.partition(" "), revision) for key, revision in (based_on or {}).items())
    return {(kind, name): revision for (kind, _, name), revision in pairs}


def _newer(ports: Ports, revisions: list[tuple[str, str, str, str]], base: Mapping[Reference, int]) -> list[StoredDefinition]:
    found = (ports.drafts.revisions.get((kind, name)) for kind, name, _, _ in revisions)
    return [one for one in found if one is not None and base.get((one.kind, one.name), one.revision) != one.revision]


def _refuse_overwriting(db: Db, newer: list[StoredDefinition], base: Mapping[Reference, int], mine: Mapping[Reference, str]) -> None:
    """Raise the conflict: who changed what in between, line by line."""
    problems = []
    for one in newer:
        if one.text == mine.get((one.kind, one.name)):
            continue  # both did the same
        started_from = stored.revision_text(db, base.get((one.kind, one.name), 0))
        lines = [f"{sign} {text}" for sign, _, _, text in compare_lines(started_from, one.text, around=0) if sign in "+-"]
        shown = "; ".join(lines[:6]) + (f"; and {len(lines) - 6} more lines" if len(lines) > 6 else "")
        problems.append(Problem(
            CHANGED_MEANWHILE, f"{one.author} changed the {one.kind} {one.name} while you were editing it.",
            Kind.CONFLICT, place=one.path, expected="the revision that you started from",
            found=f"saved at {one.at[:16].replace('T', ' ')} UTC: {shown}" if one.text else f"removed at {one.at[:16]}",
            mend="Take the newest text (bricola export), put your change into it and save again."))
    if problems:
        raise ProblemError(*problems)


async def _refresh_environments(ports: Ports, before: Catalogue) -> None:
    """A changed environment is a live setting: what is deployed there takes it up now."""
    after = ports.drafts.catalogue
    changed = {one.name for one in after.environments() if before.find_environment(one.name) != one
               or before.get(AccessDefinition, one.name) != after.get(AccessDefinition, one.name)
               or any(before.get(ContextList, key) != after.get(ContextList, key) for key in one.context)}
    now = timestamp()
    for name in changed:
        ports.places.effective[f"environment {name}"] = now
    for place in await places_in_force(ports):
        if place[0] in changed:
            await bring_up(ports, *place)


async def take_up(ports: Ports, environment: str) -> None:
    """Put into service again what is deployed in an environment, with what it may do now."""
    for place in await places_in_force(ports):
        if place[0] == environment:
            await bring_up(ports, *place)


def compare_folder(ports: Ports, texts: dict[str, str]) -> list[FileDifference]:
    """How a folder's definitions differ from the drafts, whatever the files are called: from the drafts to the folder."""
    mine = {default_path(one.definition): one.text for one in read_bundle(texts)}
    return compare_texts({default_path(one.definition): one.text for one in ports.drafts.files}, mine)


def plain_change(change: Change) -> dict[str, Any]:
    return asdict(change)
