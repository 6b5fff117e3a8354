"""Integration requests: what somebody asks for, and what of a service that was made of one is decided by it.

A request names who asks for what and why, the operation of a contract that shall be answered, the operation of a contract that shall be
called for that, and the rule by which what comes out is named. Whatever it says is taken over, and locked until the request changes.
"""

import re
from typing import Any, ClassVar, Literal

from bricola.core.definitions.base import Definition, ElementName, Frozen, Line, Name
from bricola.core.definitions.model import ServiceDefinition
from bricola.core.definitions.names import kebab_case, pascal_case
from bricola.core.definitions.runs import add_kind
from bricola.core.problems import Kind, Problem, shown

_PLACE = re.compile(r"\{(\w+)\}")


class Side(Frozen):
    """One side of an integration. `contract` is the name of one that is here; in a request that comes in it may be an address, or a file
    beside it. `service` says which of its services, where it has several."""

    contract: Line
    service: Line = ""
    operation: Line = ""


class RequestDefinition(Definition):
    """An integration request. `naming` has places: {request}, {title}, {owner}, {asked_by}, {answers} and {calls} (the operations);
    `link` is where the request itself stands. `service` is what was made of it."""

    kind: ClassVar[str] = "request"
    name: Name
    title: Line = ""
    purpose: Line = ""
    owner: Line = ""
    asked_by: Line = ""
    link: Line = ""
    role: Name | Literal[""] = ""
    answers: Side | None = None
    calls: Side | None = None
    naming: Line = ""
    service: ElementName | Literal[""] = ""

    @property
    def words(self) -> str:
        """What the service is for: its purpose, or its title."""
        return self.purpose or self.title

    def named(self) -> str:
        """What the naming rule gives. Raises ValueError for a place that it does not have."""
        known = {"request": self.name, "title": self.title, "owner": self.owner, "asked_by": self.asked_by,
                 "answers": self.answers.operation if self.answers is not None else "",
                 "calls": self.calls.operation if self.calls is not None else ""}

        def put(found: re.Match[str]) -> str:
            if found[1] not in known:
                raise ValueError(found[0])
            return f" {known[found[1]]} "

        return _PLACE.sub(put, self.naming) if self.naming else self.name

    @property
    def service_name(self) -> str:
        return self.service or pascal_case(self.named())

    @property
    def plain_name(self) -> str:
        """As relays and backends are named."""
        return kebab_case(self.named())

    def says(self) -> dict[str, str]:
        """Every setting of the service that it decides, with its value."""
        found = {"owner": self.owner, "description": self.words}
        if self.answers is not None:
            found |= {"contract": self.answers.contract, "contract_service": self.answers.service}
        return {name: value for name, value in found.items() if value}


add_kind(RequestDefinition)


def locked(service: ServiceDefinition, request: RequestDefinition) -> list[Problem]:
    """What a draft says otherwise than the request that decides it."""
    wrong = [(name, value, str(getattr(service, name))) for name, value in request.says().items() if getattr(service, name) != value]
    found = [Problem("request.locked", f"The request {request.name} decides this.", Kind.CONFLICT, place=f"service {service.name}, {name}",
                     expected=shown(expected), found=shown(given) if given else "nothing",
                     mend="Change the request, or take the line 'request:' out: then nothing is locked any more.")
             for name, expected, given in wrong]
    wanted = request.answers.operation if request.answers is not None else ""
    if wanted and not any(wanted in (one.name, one.implements) for one in service.operations):
        found.append(Problem("request.locked", f"The request {request.name} asks for this operation.", Kind.CONFLICT,
                             place=f"service {service.name}, operations", expected=wanted,
                             found=", ".join(one.name for one in service.operations) or "none",
                             mend="Put it back, or take the line 'request:' out."))
    return found


def lacks(request: RequestDefinition) -> list[tuple[str, str]]:
    """What it leaves open: the setting, and what that means."""
    texts: dict[str, tuple[Any, str]] = {
        "title": (request.title, "People find the service by its operation only."),
        "purpose": (request.purpose, "The contract says nothing of what it is for."),
        "owner": (request.owner, "Nobody can be asked when a call fails."),
        "asked_by": (request.asked_by, "Nobody is told when the contract changes."),
        "role": (request.role, "No caller may call it until a role is named."),
        "naming": (request.naming, "What comes out is named by the request itself."),
        "link": (request.link, "There is no way back to where it was asked for."),
        "answers": (request.answers, "It says no contract to answer."),
        "calls": (request.calls, "It says nothing to call, so the operation answers a sample."),
    }
    found = [(name, words) for name, (value, words) in texts.items() if not value]
    for name in ("answers", "calls"):
        side = getattr(request, name)
        if side is not None and not side.operation:
            found.append((f"{name}, operation", "The contract has several operations, and it names none."))
    return found
