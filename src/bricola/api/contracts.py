"""Contracts of others: what was read, and what taking one in makes."""

from typing import Any

from typing_extensions import TypedDict

from bricola.api.base import closed
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
    services: dict[str, Any]
    problems: list[ContractProblem]
    usable: bool
    parts: list[str]


@closed
class TakenOperation(TypedDict):
    name: str
    runs: str


@closed
class TakenContract(TypedDict):
    """`for_callers` is what changes for the callers of the service's draft, where it was there before."""

    service: str
    contract: str
    applied: bool
    operations: list[TakenOperation]
    changes: list[Change]
    for_callers: list[ContractChange]
    problems: list[ContractProblem]
