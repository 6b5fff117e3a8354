"""Packages: made of drafts, kept, looked at, and taken in as drafts."""

import asyncio
import base64
import binascii
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, date, datetime
from typing import Any, Protocol

from bricola.adapters.parts import zip_files
from bricola.core.contracts.pack import pack
from bricola.core.definitions.catalogue import Reference
from bricola.core.definitions.folder import default_path
from bricola.core.definitions.text import write_definition
from bricola.core.packages.fitting import Fit, Here, fit, need_choices, problems_after
from bricola.core.packages.making import make_package
from bricola.core.packages.manifest import Package, PackageParameter, digest, read_package
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.server.ports.changes import Change, Topic
from bricola.server.settings import Settings
from bricola.server.usecases import definitions
from bricola.server.usecases.definitions import Ports as DefinitionPorts
from bricola.store import packages as stored
from bricola.store.database import timestamp

_MOST_BYTES = 20 * 2**20


class Ports(DefinitionPorts, Protocol):
    settings: Settings


@dataclass(frozen=True)
class Source:
    """Which package: a zip in base64, or the name of one that is kept, with a version or the one kept last."""

    content: str = ""
    name: str = ""
    version: str = ""


@dataclass(frozen=True)
class Wish:
    """What somebody wants of it: values of its parameters, what is done about mismatches by their ids; `align` takes the proposals for all
    others."""

    values: Mapping[str, str] = field(default_factory=dict)
    choices: Mapping[str, str] = field(default_factory=dict)
    align: bool = False


async def make(ports: Ports, chosen: Sequence[str], about: Mapping[str, str], parameters: Mapping[str, Mapping[str, str]], alone: bool,
               keep_it: bool, author: str) -> dict[str, Any]:
    """A package of drafts ('kind name'), and of what they need. Answers its zip in base64, and how often each parameter stands in it."""
    references = [(kind, name) for kind, _, name in (one.partition(" ") for one in chosen)]
    told = {"origin": ports.settings.organisation, "date": f"{datetime.now(UTC):%Y-%m-%d}"} | dict(about)
    wanted = {word: PackageParameter.model_validate({"sample": word, **one}) for word, one in parameters.items()}
    package, counts = await asyncio.to_thread(make_package, ports.drafts.catalogue, references, told, wanted, _changed(ports), alone)
    zipped = pack(package.files)
    if keep_it:
        await _keep(ports, package, zipped, author)
    return _told(package) | {"content": base64.b64encode(zipped).decode(), "counts": counts}


async def keep(ports: Ports, content: str, author: str) -> dict[str, Any]:
    """Keep a package, to be used as often as one likes; it is read first."""
    zipped = _decoded(content)
    package = await asyncio.to_thread(_read, zipped)
    await _keep(ports, package, zipped, author)
    return _told(package)


async def _keep(ports: Ports, package: Package, zipped: bytes, author: str) -> None:
    one, row = package.manifest, _row(package, author)

    def work(change: Change) -> None:
        stored.keep(change.db, row, zipped)
        change.note(author, "keep", f"package {one.package}", None, one.version)

    await ports.changes.make([Topic.DEFINITIONS], work)


def _row(package: Package, author: str) -> stored.StoredPackage:
    one = package.manifest
    return stored.StoredPackage(one.package, one.version, one.date, one.origin, one.description, timestamp(), author)


async def drop(ports: Ports, name: str, version: str, author: str) -> None:
    """Keep a version no more. What came out of it stays."""
    def work(change: Change) -> None:
        if not stored.drop(change.db, name, version):
            raise _unknown(name, version)
        change.note(author, "drop", f"package {name}", version, None)

    await ports.changes.make([Topic.DEFINITIONS], work)


async def listed(ports: Ports) -> list[dict[str, Any]]:
    """The packages that are kept, with their parameters, and what came out of each: as it was taken in, or changed since."""
    rows = await ports.storage.read(stored.packages)
    parts = await ports.storage.read(stored.parts)
    now = {one.reference: digest(one.text.encode()) for one in ports.drafts.files}
    found = []
    for row in rows:
        package = await asyncio.to_thread(_read, await content_of(ports, row.name, row.version))
        found.append(_told(package) | {"kept_at": row.kept_at, "author": row.author, "made_here": [
            {"kind": one.kind, "name": one.name, "taken_at": one.taken_at, "author": one.author, "state": _state(one, now)}
            for one in parts if (one.package, one.version) == (row.name, row.version)]})
    return found


def _state(part: stored.StoredPart, now: Mapping[Reference, str]) -> str:
    known = now.get((part.kind, part.name))
    return "removed" if known is None else "as it came" if known == part.digest else "changed since"


async def content_of(ports: Ports, name: str, version: str = "") -> bytes:
    """The zip of one that is kept. Raises ProblemError when there is none."""
    found = await ports.storage.read(stored.content, name, version)
    if found is None:
        raise _unknown(name, version)
    return found


def _unknown(name: str, version: str) -> ProblemError:
    return ProblemError(Problem("package.unknown", "No such package is kept here.", Kind.MISSING, found=f"{name} {version}".strip()[:120],
                                mend="bricola packages lists those that are."))


async def plan(ports: Ports, source: Source, wish: Wish) -> dict[str, Any]:
    """Everything that taking it in would do, with every mismatch; nothing is changed."""
    package, found = await _fitted(ports, source, wish)
    after = await asyncio.to_thread(problems_after, found, ports.drafts.catalogue)
    return _answer(package, found, False) | {"problems": [one.as_dict() for one in after[:50]]}


async def take_in(ports: Ports, source: Source, wish: Wish, author: str) -> dict[str, Any]:
    """Make drafts of its parts, aligned as was chosen. Raises ProblemError while something has to be chosen."""
    package, found = await _fitted(ports, source, wish)
    if not wish.align:
        need_choices(found)
    elif any(one.stops for one in found.mismatches):
        need_choices(Fit(mismatches=[one for one in found.mismatches if one.stops]))
    manifest = package.manifest
    paths = {one.reference: one.path for one in ports.drafts.files}
    texts = {paths.get((one.kind, one.name), default_path(one)): write_definition(one) for one in found.definitions}
    digests = [(one.kind, one.name, digest(write_definition(one).encode())) for one in found.definitions]
    zipped = _decoded(source.content) if source.content else b""
    row = _row(package, author)

    def more(change: Change) -> None:
        if zipped:
            stored.keep(change.db, row, zipped)
        stored.took(change.db, digests, manifest.package, manifest.version, author)
        change.note(author, "take in", f"package {manifest.package}", None, manifest.version)

    changes = await definitions.apply(ports, texts, author, more=more) if texts else []
    if zipped and not any(one.action in definitions.EFFECTIVE for one in changes):
        await _keep(ports, package, zipped, author)
    after = await asyncio.to_thread(problems_after, Fit(), ports.drafts.catalogue)
    return _answer(package, found, True) | {"problems": [one.as_dict() for one in after[:50]],
                                            "changes": [definitions.plain_change(one) | {"lines": []} for one in changes]}


async def _fitted(ports: Ports, source: Source, wish: Wish) -> tuple[Package, Fit]:
    zipped = _decoded(source.content) if source.content else await content_of(ports, source.name, source.version)
    package = await asyncio.to_thread(_read, zipped)
    name = package.manifest.package
    kept = [one.version for one in await ports.storage.read(stored.packages) if one.name == name]
    parts = await ports.storage.read(stored.parts, name)
    now = {one.reference: digest(one.text.encode()) for one in ports.drafts.files}
    untouched = frozenset((one.kind, one.name) for one in parts if now.get((one.kind, one.name)) == one.digest)
    newest = max((*kept, *(one.version for one in parts)), key=lambda one: [int(part) for part in one.split(".")], default="")
    here = Here(ports.drafts.catalogue, _changed(ports), newest, untouched, datetime.now(UTC).date())
    return package, await asyncio.to_thread(fit, package, wish.values, wish.choices, here)


def _changed(ports: Ports) -> Callable[[Reference], str]:
    """The day on which a draft was changed last."""
    def changed(reference: Reference) -> str:
        known = ports.drafts.revisions.get(reference)
        return known.at[:10] if known is not None else f"{datetime.now(UTC):%Y-%m-%d}"

    return changed


def _decoded(content: str) -> bytes:
    try:
        found = base64.b64decode(content, validate=True)
    except binascii.Error:
        raise ProblemError(Problem("package.base64", "The content of the package is no base64.")) from None
    if len(found) > _MOST_BYTES:
        raise ProblemError(Problem("package.size", "The package is too large.", Kind.TOO_LARGE,
                                   expected=f"at most {_MOST_BYTES // 2**20} MiB"))
    return found


def _read(zipped: bytes) -> Package:
    return read_package(zip_files(zipped, (".yaml",)))


def _told(package: Package) -> dict[str, Any]:
    one = package.manifest
    today = datetime.now(UTC).date()
    return {"name": one.package, "version": one.version, "date": one.date, "days": (today - date.fromisoformat(one.date)).days,
            "origin": one.origin, "description": one.description,
            "parameters": [{"name": two.name, "kind": two.kind, "description": two.description, "sample": two.sample}
                           for two in one.parameters],
            "backends": [{"name": two.name, "engine": two.engine} for two in one.backends], "definitions": list(one.definitions),
            "files": [part.path for part in one.parts]}


def _answer(package: Package, found: Fit, applied: bool) -> dict[str, Any]:
    return _told(package) | {"applied": applied, "parts": [one.as_dict() for one in found.parts],
                             "mismatches": [one.as_dict() for one in found.mismatches],
                             "texts": {default_path(one): write_definition(one) for one in found.definitions}, "changes": []}


