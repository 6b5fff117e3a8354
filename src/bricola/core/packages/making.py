"""Making a package: what belongs to the chosen definitions, what else they need, and which words in them are to be filled in."""

import re
from collections.abc import Callable, Iterable, Mapping

from bricola.core.definitions.base import Definition
from bricola.core.definitions.catalogue import Catalogue, Reference
from bricola.core.definitions.folder import default_path
from bricola.core.definitions.model import BackendDefinition, EnvironmentDefinition
from bricola.core.definitions.names import camel_case, kebab_case, pascal_case
from bricola.core.definitions.text import write_definition
from bricola.core.kinds.references import references_of
from bricola.core.packages.manifest import Manifest, Needed, Package, PackageParameter, PackagePart, digest
from bricola.core.problems import Kind, Problem, ProblemError, shown


def make_package(catalogue: Catalogue, chosen: Iterable[Reference], about: Mapping[str, str], parameters: Mapping[str, PackageParameter],
                 changed: Callable[[Reference], str], alone: bool = False) -> tuple[Package, dict[str, int]]:
    """A package of definitions, and of all that they need (not with `alone`); how often each parameter stands in it. `about` has `package`,
    `version`, `date`, `origin`, `description`; `parameters` are by the word that they stand for; `changed` says the day on which one was
    changed last. Raises ProblemError for what is not there, and for a word that stands nowhere."""
    found = _together(catalogue, chosen, alone)
    here = {(one.kind, one.name) for one in found}
    named = {reference for one in found for reference in references_of(one)} - here
    backends = sorted({name for kind, name in named if kind == BackendDefinition.kind})
    missing = sorted(f"{kind} {name}" for kind, name in named
                     if kind != BackendDefinition.kind and catalogue.find((kind, name)) is not None)
    texts: dict[str, str] = {}
    parts: list[PackagePart] = []
    counts = dict.fromkeys((one.name for one in parameters.values()), 0)
    for one in found:
        path, text = default_path(one), write_definition(one)
        for word, parameter in parameters.items():
            path, times = _with_places(path, word, parameter.name)
            text, more = _with_places(text, word, parameter.name)
            counts[parameter.name] += times + more
        texts[path] = text
        parts.append(PackagePart(path=path, digest=digest(text.encode()), changed=changed((one.kind, one.name))))
    for word, parameter in parameters.items():
        if not counts[parameter.name]:
            raise ProblemError(Problem("package.word", "The word stands nowhere in the parts.", place=parameter.name, found=shown(word)))
    needed = [Needed(name=name, engine=known.engine if (known := catalogue.find_backend(name)) is not None else "") for name in backends]
    manifest = Manifest(**about, parameters=tuple(parameters.values()), backends=tuple(needed),
                        definitions=tuple(missing), parts=tuple(sorted(parts, key=lambda part: part.path)))
    return Package(manifest, dict(sorted(texts.items()))), counts


def _together(catalogue: Catalogue, chosen: Iterable[Reference], alone: bool) -> list[Definition]:
    waiting, found = list(dict.fromkeys(chosen)), dict[Reference, Definition]()
    first = set(waiting)
    while waiting:
        reference = waiting.pop(0)
        definition = catalogue.find(reference)
        if definition is None:
            if reference in first:
                raise ProblemError(Problem("package.unknown", f"There is no such {reference[0]}.", Kind.MISSING, found=shown(reference[1])))
            continue
        if isinstance(definition, EnvironmentDefinition):
            raise ProblemError(Problem("package.environment", "An environment belongs to its installation, and into no package.",
                                       found=shown(definition.name)))
        if reference in found or (isinstance(definition, BackendDefinition) and reference not in first):
            continue
        found[reference] = definition
        if not alone:
            waiting += sorted(references_of(definition) - set(found))
    return sorted(found.values(), key=lambda one: (one.kind, one.name))


def _with_places(text: str, word: str, name: str) -> tuple[str, int]:
    """The text with a place for each time that a word stands in it, in whatever way it is written there."""
    forms = {camel_case(word): ":camel", pascal_case(word): ":pascal", kebab_case(word): ":kebab", word: ""}
    wanted = {form: f"<<{name}{suffix}>>" for form, suffix in forms.items() if form}
    pattern = re.compile(r"(?<![\w-])(?:" + "|".join(re.escape(one) for one in sorted(wanted, key=len, reverse=True)) + r")(?![\w-])")
    return pattern.subn(lambda found: wanted[found[0]], text)
