"""A set of definitions that belong together, as one immutable value."""

from collections.abc import Iterable, Iterator
from typing import TypeVar, cast

from bricola.core.definitions.base import Definition
from bricola.core.definitions.model import BackendDefinition, EnvironmentDefinition, ServiceDefinition
from bricola.core.definitions.parts import RecordDefinition, TypeDefinition

Reference = tuple[str, str]  # kind and name
D = TypeVar("D", bound=Definition)


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

    def get(self, model: type[D], name: str) -> D | None:
        """The definition of a kind and name."""
        return cast(D | None, self._by_reference.get((model.kind, name)))

    def find(self, reference: Reference) -> Definition | None:
        return self._by_reference.get(reference)

    def all_of(self, model: type[D]) -> list[D]:
        """All of a kind, by name."""
        return sorted((one for one in self if isinstance(one, model)), key=lambda one: one.name)

    def find_type(self, name: str) -> TypeDefinition | None:
        return self.get(TypeDefinition, name)

    def find_record(self, name: str) -> RecordDefinition | None:
        return self.get(RecordDefinition, name)

    def find_backend(self, name: str) -> BackendDefinition | None:
        return self.get(BackendDefinition, name)

    def find_service(self, name: str) -> ServiceDefinition | None:
        return self.get(ServiceDefinition, name)

    def find_environment(self, name: str) -> EnvironmentDefinition | None:
        return self.get(EnvironmentDefinition, name)

    def services(self) -> list[ServiceDefinition]:
        return self.all_of(ServiceDefinition)

    def environments(self) -> list[EnvironmentDefinition]:
        """In the order that a release passes them, then by name."""
        rest = self.all_of(EnvironmentDefinition)
        names = {one.name for one in rest}
        ordered: list[EnvironmentDefinition] = []
        while rest:
            placed = {one.name for one in ordered}
            ready = [one for one in rest if not one.follows or one.follows in placed or one.follows not in names]
            ordered += ready or rest  # a circle is a finding of the review; here it only must not hang
            rest = [one for one in rest if one not in ordered]
        return ordered
