"""Holding a package against an installation: every mismatch first, each with what may be done about it, all in one action."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from datetime import date
from typing import Any

from bricola.core.definitions.base import Definition
from bricola.core.definitions.catalogue import Catalogue, Reference
from bricola.core.definitions.engines import ENGINES
from bricola.core.definitions.folder import read_bundle
from bricola.core.definitions.model import BackendDefinition, ServiceDefinition
from bricola.core.definitions.names import kebab_case
from bricola.core.kinds.breaking import broken_by
from bricola.core.kinds.references import references_of, renamed
from bricola.core.kinds.registry import find_kind, kind_of
from bricola.core.packages.manifest import Package, filled
from bricola.core.problems import Problem, ProblemError, shown

_OLD_DAYS = 365
KEEP, REPLACE, RENAME, DEFINE = "keep", "replace", "rename", "define"


@dataclass(frozen=True)
class Mismatch:
    """Something that does not fit here. `id` names it in a choice; `options` are what may be done (none: nothing has to be chosen),
    `proposal` what aligning does, `chosen` what somebody said. `stops`: nothing that can be chosen mends it."""

    id: str
    code: str
    message: str
    expected: str = ""
    found: str = ""
    options: tuple[str, ...] = ()
    proposal: str = ""
    chosen: str = ""
    stops: bool = False

    @property
    def use(self) -> str:
        return self.chosen or self.proposal

    def as_dict(self) -> dict[str, Any]:
        return {"id": self.id, "code": self.code, "message": self.message, "expected": self.expected, "found": self.found,
                "options": list(self.options), "proposal": self.proposal, "chosen": self.chosen, "stops": self.stops}


@dataclass(frozen=True)
class Fitted:
    """One part: what it becomes here. `state` is new, same (it is here already), kept (ours stays), replaces, renamed."""

    kind: str
    name: str
    becomes: str
    changed: str
    days: int
    state: str
    hollow: str = ""  # why it does almost nothing, where it does

    def as_dict(self) -> dict[str, Any]:
        return {"kind": self.kind, "name": self.name, "becomes": self.becomes, "changed": self.changed, "days": self.days,
                "state": self.state, "hollow": self.hollow}


@dataclass(frozen=True)
class Here:
    """What an installation knows: its drafts, when each was changed last, which version of a package it took in, whether a part of it was
    changed since (by reference), and today."""

    catalogue: Catalogue
    changed: Callable[[Reference], str]
    version: str
    untouched: frozenset[Reference]
    today: date


@dataclass
class Fit:
    """The whole: parts, mismatches, and the definitions that come out of it."""

    parts: list[Fitted] = field(default_factory=list)
    mismatches: list[Mismatch] = field(default_factory=list)
    definitions: list[Definition] = field(default_factory=list)

    @property
    def open(self) -> list[Mismatch]:
        return [one for one in self.mismatches if one.options and not one.chosen]


def fit(package: Package, values: Mapping[str, str], choices: Mapping[str, str], here: Here) -> Fit:
    """What taking a package in would do. Raises ProblemError where it cannot be read, or a parameter is missing."""
    parts = filled(package, values)
    files = read_bundle({path: one.text for path, one in parts.items()})
    days = {path: one.changed for path, one in parts.items()}
    found = Fit()
    _version(package, here, found)
    names: dict[Reference, str] = {}
    dropped: set[Reference] = set()
    states: dict[Reference, str] = {}
    for file in files:
        states[file.reference] = _taken(file.definition, days[file.path], choices, here, found, names, dropped)
    mine = {file.reference for file in files}
    _backends(package, choices, here, found, names)
    made: dict[Reference, Definition] = {}
    for file in files:
        if file.reference in dropped:
            continue
        one = renamed(file.definition, names)
        if isinstance(one, ServiceDefinition):
            one = _namespace(one, file.definition.name, choices, here, found)
        made[file.reference] = one
    for file in files:
        kind = kind_of(file.definition)
        hollow = kind.hollow(file.definition) if kind is not None else _stubs(file.definition)
        age = (here.today - date.fromisoformat(days[file.path])).days
        becomes = made[file.reference].name if file.reference in made else file.definition.name
        found.parts.append(Fitted(file.definition.kind, file.definition.name, becomes, days[file.path], age, states[file.reference],
                                  hollow))
        if hollow:
            found.mismatches.append(Mismatch(f"{file.definition.kind} {file.definition.name}", "package.hollow", hollow))
        if age > _OLD_DAYS:
            found.mismatches.append(Mismatch(f"{file.definition.kind} {file.definition.name}", "package.old",
                                             "The part has not been changed for a long time.", f"changed within {_OLD_DAYS} days",
                                             f"{days[file.path]}, {age} days ago"))
    found.definitions += [one for reference, one in made.items() if states[reference] not in ("same", "kept")]
    _missing(found, mine, names, here)
    return found


def problems_after(found: Fit, catalogue: Catalogue) -> list[Problem]:
    """What would not fit together once the definitions are here; takes as long as looking at everything twice."""
    return broken_by(catalogue, catalogue | Catalogue(found.definitions))


def _version(package: Package, here: Here, found: Fit) -> None:
    manifest = package.manifest
    if here.version and _numbers(here.version) > _numbers(manifest.version):
        found.mismatches.append(Mismatch(f"package {manifest.package}", "package.older", "A newer version was taken in before.",
                                         f"{here.version} or newer", manifest.version))


def _numbers(version: str) -> list[int]:
    return [int(one) for one in version.split(".")]


def _taken(definition: Definition, changed: str, choices: Mapping[str, str], here: Here, found: Fit, names: dict[Reference, str],
           dropped: set[Reference]) -> str:
    """Whether its name is free here; what becomes of it."""
    reference = definition.kind, definition.name
    other = here.catalogue.find(reference)
    if other is None:
        return "new"
    if other == definition:
        return "same"
    ours = here.changed(reference)
    age = f"changed {ours}; the part {changed}" if ours else f"the part is of {changed}"
    known = reference in here.untouched  # it came from this package, and nobody changed it since
    mismatch = Mismatch(" ".join(reference), "package.taken", f"There is another {definition.kind} of this name here.",
                        "a free name", f"{shown(definition.name)}, {age}", (RENAME, REPLACE, KEEP), REPLACE if known else RENAME)
    chosen = choices.get(mismatch.id, "")
    if chosen.partition(" ")[0] in mismatch.options:
        mismatch = replace(mismatch, chosen=chosen)
    found.mismatches.append(mismatch)
    action, _, wanted = mismatch.use.partition(" ")
    if action == KEEP:
        dropped.add(reference)
        return "kept"
    if action == REPLACE:
        return "replaces"
    names[reference] = wanted or _free(reference, here)
    return "renamed"


def _free(reference: Reference, here: Here) -> str:
    kind, name = reference
    joint = "" if kind in ("service", "type", "record") else "-"
    return next(one for one in (f"{name}{joint}{number}" for number in range(2, 10_000)) if here.catalogue.find((kind, one)) is None)


def _backends(package: Package, choices: Mapping[str, str], here: Here, found: Fit, names: dict[Reference, str]) -> None:
    """Backends that the parts use and that are not here, or are of another family."""
    for one in package.manifest.backends:
        known = here.catalogue.find_backend(one.name)
        family = ENGINES[one.engine].family if one.engine in ENGINES else None
        if known is not None and (family is None or known.about.family is family):
            continue
        like = [other.name for other in here.catalogue.all_of(BackendDefinition) if family is None or other.about.family is family]
        define = (DEFINE,) if known is None and one.engine in ENGINES and ENGINES[one.engine].backend is None else ()
        options = (*(f"use {other}" for other in like), *define)
        message = "The package uses a backend that is not here." if known is None else "The backend of this name is of another family here."
        proposal = f"use {like[0]}" if len(like) == 1 else next(iter((*define, *options)), "")
        mismatch = Mismatch(f"backend {one.name}", "package.backend", message, f"{one.name}, {one.engine or 'a backend'}",
                            known.engine if known is not None else f"of its family: {', '.join(like) or 'none'}", options, proposal,
                            stops=not options)
        if choices.get(mismatch.id, "") in options:
            mismatch = replace(mismatch, chosen=choices[mismatch.id])
        found.mismatches.append(mismatch)
        if mismatch.use == DEFINE:
            found.definitions.append(BackendDefinition(name=one.name, engine=one.engine))
        if mismatch.use.startswith("use "):
            names[BackendDefinition.kind, one.name] = mismatch.use.removeprefix("use ")


def _namespace(service: ServiceDefinition, original: str, choices: Mapping[str, str], here: Here, found: Fit) -> ServiceDefinition:
    """A namespace is one service's: another one here must not have it; and all here begin alike."""
    if service.contract:
        return service
    others = {one.target_namespace: one.name for one in here.catalogue.services() if one.name != service.name and not one.contract}
    base = namespace_base(here.catalogue, service.name)
    wanted = f"{base}{kebab_case(service.name)}" if base else ""
    owner = others.get(service.target_namespace)
    differs = bool(base) and not service.target_namespace.startswith(base)
    if owner is None and not differs:
        return service
    expected = f"a namespace of its own, like {wanted or 'urn:…'}" if owner is not None else f"one that begins with {base}, as all here do"
    mismatch = Mismatch(f"namespace {service.name}", "package.namespace",
                        f"The service {owner} has this namespace already." if owner is not None else "The namespace is of another place.",
                        expected, service.target_namespace, (f"use {wanted}" if wanted else "derive", KEEP),
                        f"use {wanted}" if wanted else "derive")
    chosen = choices.get(mismatch.id, "")
    if chosen in mismatch.options or chosen.startswith("use "):
        mismatch = replace(mismatch, chosen=chosen)
    found.mismatches.append(mismatch)
    if mismatch.use == KEEP:
        return service
    return service.model_copy(update={"namespace": mismatch.use.removeprefix("use ") if mismatch.use != "derive" else ""})


def namespace_base(catalogue: Catalogue, but: str = "") -> str:
    """How most namespaces here begin, up to the service's own part; '' where there is no such rule. `but` is a service that is not
    counted."""
    namespaces = [one.namespace for one in catalogue.services() if one.namespace and not one.contract and one.name != but]
    bases = [one[:max(one.rfind(":"), one.rfind("/")) + 1] for one in namespaces]
    counts = sorted(((bases.count(one), one) for one in dict.fromkeys(bases)), reverse=True)
    return counts[0][1] if counts and counts[0][0] >= 2 and counts[0][0] * 2 > len(bases) else ""


def _stubs(definition: Definition) -> str:
    """The operations of a service that answer samples only."""
    if not isinstance(definition, ServiceDefinition):
        return ""
    names = [one.name for one in definition.operations if (kind := find_kind(one.source[0])) is not None and kind.stubs]
    return f"{', '.join(names)} {'is a stub' if len(names) == 1 else 'are stubs'}, and answer samples." if names else ""


def _missing(found: Fit, mine: set[Reference], names: Mapping[Reference, str], here: Here) -> None:
    """What the parts name, and nobody has."""
    there = {(one.kind, one.name) for one in found.definitions} | {(one.kind, one.name) for one in here.catalogue} | mine
    told = {one.id for one in found.mismatches if one.code == "package.backend"}
    for definition in found.definitions:
        for kind, name in sorted(references_of(definition) - there):
            if f"{kind} {name}" in told or kind in ("type", "record", "backend"):
                continue  # a name of a type may be a built-in one; what is wrong with it is told with what would not fit together
            found.mismatches.append(Mismatch(f"{kind} {name}", "package.missing", f"{definition.kind} {definition.name} needs it, and it "
                                             "is neither here nor in the package.", f"a {kind} {name}", "none", stops=True))


def need_choices(found: Fit) -> None:
    """Raises ProblemError while something has to be chosen, or cannot be mended."""
    wrong = [*found.open, *(one for one in found.mismatches if one.stops)]
    if wrong:
        raise ProblemError(*(Problem(one.code, one.message, place=one.id, expected=one.expected, found=one.found,
                                     mend=f"Align it ('{one.proposal}'), or choose {' or '.join(one.options)}." if one.options else "")
                             for one in wrong))
