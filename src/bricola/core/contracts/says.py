"""What somebody's contract says of an operation, and where a service differs from it on purpose.

Everything here follows from the contract and is typed by nobody. Callers hold the contract and its messages, so most of it cannot differ;
what can has a line of its own in the operation (`may_differ`), and the way back is to take the line out.
"""

from dataclasses import dataclass

from bricola.core.contracts.reading.contract import ReadMessage
from bricola.core.contracts.served import Offered
from bricola.core.definitions.model import Operation

SOAP_ACTION, DESCRIPTION = "soap_action", "description"
MAY_DIFFER = (SOAP_ACTION, DESCRIPTION)


@dataclass(frozen=True)
class Said:
    """One setting: what the contract says, what is used, and whether a line of the operation may say otherwise."""

    setting: str
    contract: str
    used: str
    may_differ: bool = False

    @property
    def differs(self) -> bool:
        return self.used != self.contract and bool(self.contract or self.setting != DESCRIPTION)  # words where there were none


def what_it_says(offer: Offered, operation: Operation) -> tuple[Said, ...]:
    """Every setting of an operation that the contract decides; none where the contract does not have the operation."""
    read = offer.operations.get(operation.implements or operation.name)
    if read is None:
        return ()
    locked = (
        ("namespace", offer.namespace), ("soap", " and ".join(offer.soap)), ("style", read.style),
        ("exchange", "request and answer" if read.output is not None else "request only"),
        ("request", _element(read.input)), ("answer", _element(read.output)),
        ("faults", ", ".join(read.faults) or "none"), ("headers", ", ".join(str(one.tag) for one in read.input_headers) or "none"),
    )
    action = read.action or ""
    described = read.description
    return (*(Said(setting, text, text) for setting, text in locked),
            Said(SOAP_ACTION, action, action if operation.soap_action is None else operation.soap_action, True),
            Said(DESCRIPTION, described, operation.description or described, True))


def differences(offer: Offered, operation: Operation) -> list[Said]:
    """What callers would not expect from the contract; other words for people mislead nobody."""
    return [one for one in what_it_says(offer, operation) if one.differs and one.setting != DESCRIPTION]


def _element(message: ReadMessage | None) -> str:
    return "none" if message is None else message.tag or "empty"

