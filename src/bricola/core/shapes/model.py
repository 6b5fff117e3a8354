"""Elements, records, operations and services as callers see them. All immutable; made once per release."""

from dataclasses import dataclass, field
from typing import Any

from bricola.core.shapes.primitives import Value
from bricola.core.shapes.simple import SimpleType

Values = dict[str, Any]  # of a message, by the names of its elements


@dataclass(frozen=True)
class Element:
    """One element of a message. `most` None means unbounded; a list is an element with `most` other than 1."""

    name: str
    type: "SimpleType | Record"
    least: int = 1
    most: int | None = 1
    description: str = ""
    default: Value = None  # applied when the caller leaves it out
    sample: Value = None  # a value that really works, for forms and sample messages
    labels: tuple[tuple[str, str], ...] = ()  # for people: (language, text), the first when none fits
    unit: str = ""
    sensitive: bool = False  # masked wherever people look on
    nillable: bool = False  # nil is a value here: it empties a field
    key_of: str = ""  # the object whose key it holds
    echoed: bool = False  # it was given by an earlier answer, so nobody makes one up

    @property
    def label(self) -> str:
        return self.labels[0][1] if self.labels else ""

    @property
    def is_list(self) -> bool:
        return self.most != 1

    @property
    def occurrence(self) -> str:
        """How often it stands, in words."""
        if not self.is_list:
            return "required" if self.least else "optional"
        return f"{self.least} to {'any number' if self.most is None else self.most}"


@dataclass(frozen=True)
class Record:
    """A sequence of elements. `name` is the complex type's name in the contract."""

    name: str
    elements: tuple[Element, ...] = ()
    description: str = ""


@dataclass(frozen=True)
class FaultShape:
    """A declared fault: its detail element has the fault's name and holds these elements."""

    name: str
    record: Record
    description: str = ""


@dataclass(frozen=True)
class OperationShape:
    """One operation. Input and output are the contents of the wrapper elements (document/literal wrapped)."""

    name: str
    input: Record
    output: Record
    faults: tuple[FaultShape, ...] = ()
    description: str = ""
    writes: bool = False


@dataclass(frozen=True)
class ServiceShape:
    """All that callers see of a service, without the address."""

    name: str
    namespace: str
    operations: tuple[OperationShape, ...]
    description: str = ""
    types: tuple[SimpleType, ...] = field(default=())  # the named simple types in use

    def operation(self, name: str) -> OperationShape | None:
        return next((one for one in self.operations if one.name == name), None)

    def records(self) -> tuple[Record, ...]:
        """Every record below the wrappers and fault details, each once, in the order of first use."""
        seen: dict[str, Record] = {}

        def visit(record: Record) -> None:
            for element in record.elements:
                if isinstance(element.type, Record) and element.type.name not in seen:
                    seen[element.type.name] = element.type
                    visit(element.type)

        for operation in self.operations:
            for top in (operation.input, operation.output, *(fault.record for fault in operation.faults)):
                visit(top)
        return tuple(seen.values())
