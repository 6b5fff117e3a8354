"""A contract of somebody else, read: what it offers, and what is wrong with it."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from bricola.core.contracts.reading.parts import ContractProblem, Part
from bricola.core.shapes.model import Record
from bricola.core.shapes.simple import SimpleType


@dataclass(frozen=True)
class ReadMessage:
    """The body of a message. `tag` is its element (rpc: the wrapper), None for an empty body."""

    tag: str | None
    record: Record


@dataclass(frozen=True)
class ReadOperation:
    """One operation of a port. `name` is unique in the port: overloaded ones are `name`, `name#2`. `output` None means one-way."""

    name: str
    style: str
    input: ReadMessage
    output: ReadMessage | None
    action: str | None = None
    faults: Mapping[str, Record] = field(default_factory=dict)
    input_headers: tuple[Record, ...] = ()
    output_headers: tuple[Record, ...] = ()
    header_faults: tuple[Record, ...] = ()
    description: str = ""

    def as_dict(self) -> dict[str, Any]:
        document: dict[str, Any] = {"style": self.style, "input": self.input.tag, "output": self.output.tag if self.output else None}
        if self.action is not None:
            document["soapAction"] = self.action
        if self.faults:
            document["faults"] = {name: record.tag for name, record in self.faults.items()}
        headers = {side: [one.tag for one in records] for side, records in
                   (("input", self.input_headers), ("output", self.output_headers)) if records}
        if headers:
            document["headers"] = headers
        return document


@dataclass(frozen=True)
class ReadPort:
    """A port. `soap` is "1.1" or "1.2", None for a binding that is not SOAP's."""

    name: str
    binding: str
    soap: str | None
    address: str
    operations: Mapping[str, ReadOperation]
    part: Part | None = field(default=None, compare=False, repr=False)

    def as_dict(self) -> dict[str, Any]:
        return {"soap": self.soap, "address": self.address, "operations": {name: one.as_dict() for name, one in self.operations.items()}}


@dataclass(frozen=True)
class ReadService:
    name: str
    ports: Mapping[str, ReadPort]
    description: str = ""


@dataclass(frozen=True)
class ReadContract:
    """Everything that was read. `parts` are the documents in the order in which they were met, the first one first; `element` and `type`
    find what the schemas declare by its expanded name, beyond what messages use."""

    namespace: str
    services: Mapping[str, ReadService]
    problems: tuple[ContractProblem, ...]
    parts: tuple[Part, ...] = ()
    element: Callable[[str], Record | None] = field(default=lambda tag: None, compare=False, repr=False)
    type: Callable[[str], "SimpleType | Record | None"] = field(default=lambda tag: None, compare=False, repr=False)

    @property
    def usable(self) -> bool:
        """Whether there is an operation that can be served."""
        return any(port.soap and port.operations for service in self.services.values() for port in service.ports.values())

    def as_dict(self) -> dict[str, Any]:
        """As `bricola contracts read --json` prints it."""
        services = {name: {port: one.as_dict() for port, one in service.ports.items()} for name, service in self.services.items()}
        return {"targetNamespace": self.namespace, "services": services, "problems": [one.as_dict() for one in self.problems]}
