"""Integration requests: what was taken over, what is locked, what is left open."""

from typing_extensions import TypedDict

from bricola.api.base import Problem, closed
from bricola.api.definitions import Change


@closed
class TakenOver(TypedDict):
    """A setting that a request says: its value there, and what stands here; one that is `locked` is changed in the request."""

    setting: str
    value: str
    here: str
    locked: bool


@closed
class Lacking(TypedDict):
    """Something that a request leaves open, and what that means."""

    what: str
    why: str


ProposedLine = TypedDict("ProposedLine", {"map": str, "part": str, "from": str, "or": str})  # of a map; 'or' names what else would fit


class About(TypedDict):
    name: str
    title: str
    purpose: str
    owner: str
    asked_by: str
    link: str
    service: str


@closed
class Request(About):
    pass


@closed
class RequestDetail(About):
    """`problems` is what the service says otherwise than its request."""

    taken: list[TakenOver]
    lacks: list[Lacking]
    problems: list[Problem]


@closed
class TakenRequest(TypedDict):
    """A request as drafts, or the plan of them (`applied` false). `proposed` are lines of maps that somebody should look at."""

    request: str
    title: str
    service: str
    applied: bool
    taken: list[TakenOver]
    lacks: list[Lacking]
    proposed: list[ProposedLine]
    changes: list[Change]
