"""All kinds of source that are loaded, and what everybody asks of them together."""

from collections.abc import Iterable, Iterator
from typing import Any

from bricola.core.definitions.base import Definition
from bricola.core.definitions.catalogue import Catalogue, Reference
from bricola.core.definitions.model import BackendDefinition, Operation, ServiceDefinition
from bricola.core.definitions.outside import ContractDefinition
from bricola.core.definitions.parts import RecordDefinition, TypeDefinition, TypedPart
from bricola.core.definitions.runs import add_kind, remove_kind
from bricola.core.definitions.suites import SuiteDefinition
from bricola.core.kinds.kind import SourceKind

_KINDS: dict[str, SourceKind[Any]] = {}


def register(kind: SourceKind[Any]) -> None:
    """Make a kind known. Again: the newer one counts."""
    _KINDS[kind.word] = kind
    add_kind(kind.model, kind.runs)


def unregister(word: str) -> None:
    _KINDS.pop(word, None)
    remove_kind(word)


def kinds() -> list[SourceKind[Any]]:
    """All of them, in the order in which they were registered."""
    return list(_KINDS.values())


def find_kind(word: str) -> SourceKind[Any] | None:
    return _KINDS.get(word)


def kind_of(definition: Definition) -> SourceKind[Any] | None:
    """The kind of a definition; None for one that no operation can run."""
    return _KINDS.get(definition.kind)


def sources(catalogue: Catalogue) -> Iterator[tuple[SourceKind[Any], Definition]]:
    """Every definition that an operation can run, by kind and name."""
    for kind in _KINDS.values():
        for definition in catalogue.all_of(kind.model):
            yield kind, definition


def runnable(catalogue: Catalogue) -> Iterator[str]:
    """Everything that an operation can run, as it is written there. Operations of a contract are not among them: they are found with it."""
    for kind, definition in sources(catalogue):
        name = definition.name if kind.runs.bare else f"{kind.word} {definition.name}"
        if kind.runs.default:
            yield name
        for verb in kind.verbs(definition) if kind.verbs is not None else kind.runs.verbs or ():
            yield f"{name}.{verb}"


def find_source(catalogue: Catalogue, operation: Operation) -> Definition | None:
    """The definition that an operation runs."""
    return catalogue.find(operation.source)


def backends_of(catalogue: Catalogue, service: ServiceDefinition) -> list[str]:
    """The names of the backends that a service reaches, each once, whatever stands between."""
    found: dict[str, None] = {}
    for source in service.sources:
        definition = catalogue.find(source)
        kind = kind_of(definition) if definition is not None else None
        if definition is not None and kind is not None:
            found |= dict.fromkeys(kind.backends(definition, catalogue))
    return list(found)


def _reached(catalogue: Catalogue, service: ServiceDefinition) -> Iterator[Definition]:
    """The sources that a service runs, and those that they name, each once."""
    seen: set[Reference] = set()
    waiting: list[Reference] = list(service.sources)
    while waiting:
        reference = waiting.pop(0)
        definition = catalogue.find(reference)
        if reference in seen or definition is None:
            continue
        seen.add(reference)
        yield definition
        kind = kind_of(definition)
        if kind is not None:
            waiting += kind.needs(definition)
        elif isinstance(definition, ServiceDefinition):  # whose operations something calls
            waiting += definition.sources


def needs(catalogue: Catalogue, service: ServiceDefinition) -> Catalogue:
    """The service and everything that it needs to run, except environments. Missing things are left out."""
    found: dict[Reference, Definition] = {(service.kind, service.name): service}

    def add(definition: Definition | None) -> bool:
        if definition is None or (definition.kind, definition.name) in found:
            return False
        found[definition.kind, definition.name] = definition
        return True

    def add_types(parts: Iterable[TypedPart]) -> None:
        for part in parts:
            add(catalogue.get(TypeDefinition, part.type))
            record = catalogue.get(RecordDefinition, part.type)
            if add(record) and record is not None:
                add_types(record.fields)

    for suite in catalogue.all_of(SuiteDefinition):
        if suite.service == service.name:
            add(suite)
    if service.contract:
        add(catalogue.get(ContractDefinition, service.contract))
    for definition in _reached(catalogue, service):
        add(definition)
        kind = kind_of(definition)
        if kind is not None:
            add_types(kind.parts(definition))
            for backend in kind.backends(definition, catalogue):
                add(catalogue.get(BackendDefinition, backend))
    return Catalogue(sorted(found.values(), key=lambda one: (one.kind, one.name)))
