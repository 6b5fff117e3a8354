"""A set of definitions that belong together, as one immutable value."""

from collections.abc import Iterable, Iterator
from typing import TypeVar, cast

from bricola.core.definitions.base import Frozen
from bricola.core.definitions.model import BackendDefinition, Definition, EnvironmentDefinition, Operation, ServiceDefinition
from bricola.core.definitions.objects import ObjectDefinition
from bricola.core.definitions.parts import RecordDefinition, TypeDefinition, TypedPart
from bricola.core.definitions.queries import QueryDefinition
from bricola.core.definitions.screens import ScreenFlowDefinition

Reference = tuple[str, str]  # kind and name
D = TypeVar("D", bound=Frozen)


class Catalogue:
    """Definitions by kind and name. `a | b` gives both, with b's where both have one."""

    def __init__(self, definitions: Iterable[Definition] = ()) -> None:
        self._by_reference: dict[Reference, Definition] = {(one.kind, one.name): one for one in definitions}

    def __iter__(self) -> Iterator[Definition]:
        return iter(self._by_reference.values())

    def __len__(self) -> int:
        return len(self._by_reference)

    def __contains__(self, reference: object) -> bool:
        return reference in self._by_reference

    def __or__(self, other: "Catalogue") -> "Catalogue":
        return Catalogue((self._by_reference | other._by_reference).values())

    def _get(self, kind: type[D], name: str) -> D | None:
        return cast(D | None, self._by_reference.get((kind.kind, name)))  # type: ignore[attr-defined]

    def find_type(self, name: str) -> TypeDefinition | None:
        return self._get(TypeDefinition, name)

    def find_record(self, name: str) -> RecordDefinition | None:
        return self._get(RecordDefinition, name)

    def find_backend(self, name: str) -> BackendDefinition | None:
        return self._get(BackendDefinition, name)

    def find_object(self, name: str) -> ObjectDefinition | None:
        return self._get(ObjectDefinition, name)

    def find_query(self, name: str) -> QueryDefinition | None:
        return self._get(QueryDefinition, name)

    def find_flow(self, name: str) -> ScreenFlowDefinition | None:
        return self._get(ScreenFlowDefinition, name)

    def find_source(self, operation: Operation) -> ObjectDefinition | QueryDefinition | ScreenFlowDefinition | None:
        """The definition that an operation runs."""
        kind, name = operation.source
        if kind == "screen-flow":
            return self.find_flow(name)
        return self.find_query(name) if kind == "query" else self.find_object(name)

    def find_service(self, name: str) -> ServiceDefinition | None:
        return self._get(ServiceDefinition, name)

    def find_environment(self, name: str) -> EnvironmentDefinition | None:
        return self._get(EnvironmentDefinition, name)

    def services(self) -> list[ServiceDefinition]:
        return sorted((one for one in self if isinstance(one, ServiceDefinition)), key=lambda one: one.name)

    def environments(self) -> list[EnvironmentDefinition]:
        """In the order that a release passes them, then by name."""
        rest = sorted((one for one in self if isinstance(one, EnvironmentDefinition)), key=lambda one: one.name)
        names = {one.name for one in rest}
        ordered: list[EnvironmentDefinition] = []
        while rest:
            placed = {one.name for one in ordered}
            ready = [one for one in rest if not one.follows or one.follows in placed or one.follows not in names]
            ordered += ready or rest  # a circle is a finding of the review; here it only must not hang
            rest = [one for one in rest if one not in ordered]
        return ordered

    def needs(self, service: ServiceDefinition) -> "Catalogue":
        """The service and everything that it needs to run, except environments. Missing things are left out."""
        found: dict[Reference, Definition] = {}

        def add(definition: Definition | None) -> bool:
            if definition is None or (definition.kind, definition.name) in found:
                return False
            found[definition.kind, definition.name] = definition
            return True

        def add_types(parts: Iterable[TypedPart]) -> None:
            for part in parts:
                add(self.find_type(part.type))
                record = self.find_record(part.type)
                if add(record) and record is not None:
                    add_types(record.fields)

        def add_object(definition: ObjectDefinition | None) -> None:
            if not add(definition) or definition is None:
                return
            add(self.find_backend(definition.backend))
            add_types(definition.fields)
            for name in (*(one.object for one in definition.children), *(one.refers_to for one in definition.fields if one.refers_to)):
                add_object(self.find_object(name))

        add(service)
        for operation in service.operations:
            source = self.find_source(operation)
            if isinstance(source, ObjectDefinition):
                add_object(source)
            elif add(source) and source is not None:
                add(self.find_backend(source.backend))
                if isinstance(source, ScreenFlowDefinition):
                    add_types((*source.input, *source.output))
                    continue
                add_types((*source.prompts, *source.columns, *source.measures))
        return Catalogue(sorted(found.values(), key=lambda one: (one.kind, one.name)))


def backends_of(catalogue: Catalogue, service: ServiceDefinition) -> list[str]:
    """The names of the backends that a service reaches, each once."""
    sources = (catalogue.find_source(operation) for operation in service.operations)
    return list(dict.fromkeys(one.backend for one in sources if one is not None))
