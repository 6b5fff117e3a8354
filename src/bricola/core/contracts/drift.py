"""How a contract of somebody else differs from the one that was taken in: every change with its verdict, by their operations' names."""

from dataclasses import replace

from bricola.core.contracts.compatibility import ContractChange, Verdict, compare_contracts
from bricola.core.contracts.reading.contract import ReadContract, ReadMessage, ReadOperation
from bricola.core.contracts.served import shape_of
from bricola.core.shapes.model import ServiceShape


def drift(old: ReadContract, new: ReadContract, service: str = "") -> list[ContractChange]:
    """All changes for whoever calls the other side, the worst first. `service` is the one of the contract that is meant; '' all."""
    before, after = _operations(old, service), _operations(new, service)
    changes = compare_contracts(_shape(old, before), _shape(new, after))
    for name, operation in before.items():
        if name in after:
            changes += _outside(name, operation, after[name])
    order = list(Verdict)
    return sorted(changes, key=lambda one: -order.index(one.verdict))


def _operations(contract: ReadContract, service: str) -> dict[str, ReadOperation]:
    return {name: one for known, found in contract.services.items() if service in ("", known)
            for port in found.ports.values() if port.soap for name, one in port.operations.items()}


def _shape(contract: ReadContract, operations: dict[str, ReadOperation]) -> ServiceShape:
    shapes = tuple(replace(shape_of(one, name), description="") for name, one in operations.items())
    return ServiceShape(contract.namespace, contract.namespace, shapes, foreign=True)


def _outside(name: str, old: ReadOperation, new: ReadOperation) -> list[ContractChange]:
    """What a contract says beside the contents of its messages."""
    said = (
        ("style", "The operation is written in another style.", old.style, new.style),
        ("element", "The element of the request is another one.", _tag(old.input), _tag(new.input)),
        ("element", "The element of the answer is another one.", _tag(old.output), _tag(new.output)),
        ("action", "SOAPAction is another one.", old.action or "", new.action or ""),
        ("headers", "Other header blocks belong to the request.", _blocks(old), _blocks(new)),
    )
    return [ContractChange(Verdict.BREAKING, f"operation.{rule}", name, name, words, before, after)
            for rule, words, before, after in said if before != after]


def _tag(message: ReadMessage | None) -> str:
    return "none" if message is None else message.tag or "empty"


def _blocks(operation: ReadOperation) -> str:
    return ", ".join(sorted(str(one.tag) for one in operation.input_headers)) or "none"
