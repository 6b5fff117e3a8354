"""Contracts of others: what was read, and what taking one in makes."""

from typing import NotRequired

from typing_extensions import TypedDict

from bricola.api.base import Problem, closed
from bricola.api.definitions import Change
from bricola.api.services import ContractChange


@closed
class ContractProblem(TypedDict):
    """What is wrong in a contract: `place` is the part and what in it."""

    code: str
    message: str
    place: str
    line: int | None


@closed
class ReadContract(TypedDict):
    """What a contract offers: services -> ports -> operations, as `bricola contracts read --json` prints them."""

    targetNamespace: str
    services: "dict[str, dict[str, ReadPort]]"
    problems: list[ContractProblem]
    usable: bool
    parts: list[str]


@closed
class TakenInContract(TypedDict):
    """A contract that was taken in: `source` is its address, or that it came as files; `services` follow it."""

    name: str
    description: str
    source: str
    fetched: str
    parts: int
    services: list[str]


@closed
class ReadOperation(TypedDict):
    """An operation of a contract; `input` and `output` are expanded names, null where there is none."""

    style: str
    input: str | None
    output: str | None
    soapAction: NotRequired[str]
    faults: NotRequired[dict[str, str | None]]
    headers: NotRequired[dict[str, list[str]]]


@closed
class ReadPort(TypedDict):
    soap: str | None
    address: str
    operations: dict[str, ReadOperation]


@closed
class TakenOperation(TypedDict):
    name: str
    runs: str


@closed
class TakenContract(TypedDict):
    """`for_callers` is what changes for the callers of the service's draft, where it was there before; `breaks`, of a plan, what fits
    together now and would not any more: maps, workflows, other services."""

    service: str
    contract: str
    applied: bool
    operations: list[TakenOperation]
    changes: list[Change]
    for_callers: list[ContractChange]
    breaks: list[Problem]
    problems: list[ContractProblem]


@closed
class OurOperation(TypedDict):
    service: str
    operation: str


@closed
class OutsideChange(TypedDict):
    """What changed in a contract of somebody else: `operation` is theirs, `operations` are ours that go there, `callers` who called them in
    the last 30 days."""

    verdict: str
    rule: str
    operation: str
    place: str
    message: str
    before: str
    after: str
    operations: list[OurOperation]
    callers: list[str]


@closed
class ContractCheck(TypedDict):
    """A contract of somebody else, fetched again from `address` and held against what live services were released with. `backend` is what
    sends there, '' when nothing does; `state` is same, changed, or not checked, and then `problems` say why."""

    contract: str
    backend: str
    environment: str
    at: str
    address: str
    state: str
    verdict: str
    changes: list[OutsideChange]
    callers: list[str]
    problems: list[Problem]
