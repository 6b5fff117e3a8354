"""Who is affected by what is below services."""

from typing_extensions import TypedDict

from bricola.api.base import closed


@closed
class Misfit(TypedDict, total=False):
    """What of an operation does not fit what is there in an environment."""

    environment: str
    code: str
    message: str
    kind: str
    place: str
    expected: str
    found: str
    mend: str


@closed
class ChangeBelow(TypedDict):
    """What a contract of somebody else says otherwise now."""

    environment: str
    verdict: str
    place: str
    message: str
    before: str
    after: str


@closed
class AffectedOperation(TypedDict):
    """An operation that needs what changes: by which definitions, which cases prove it, and who called it in the last month."""

    service: str
    operation: str
    by: list[str]
    cases: list[str]
    callers: list[str]


@closed
class ImpactRow(AffectedOperation):
    """With what of it does not fit any more."""

    problems: list[Misfit]
    changes: list[ChangeBelow]


@closed
class Unseen(TypedDict):
    """A backend that could not be asked, and why."""

    backend: str
    environment: str
    why: str


@closed
class Impact(TypedDict):
    """Of what, in which environments, and every operation that needs it."""

    of: str
    environments: list[str]
    operations: list[ImpactRow]
    unseen: list[Unseen]
