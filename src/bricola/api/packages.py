"""Packages: what is kept, what taking one in would do, and did."""

from typing_extensions import TypedDict

from bricola.api.base import Problem, closed
from bricola.api.definitions import Change


@closed
class PackageParameter(TypedDict):
    """Something to be filled in: a name, something that a step can call, a type, or a text."""

    name: str
    kind: str
    description: str
    sample: str


@closed
class NeededBackend(TypedDict):
    name: str
    engine: str


@closed
class MadePart(TypedDict):
    """A definition here that came out of a package; `state` is 'as it came', 'changed since' or 'removed'."""

    kind: str
    name: str
    taken_at: str
    author: str
    state: str


class About(TypedDict):
    """What a package says of itself. `days` is its age, `definitions` what it needs and does not have."""

    name: str
    version: str
    date: str
    days: int
    origin: str
    description: str
    parameters: list[PackageParameter]
    backends: list[NeededBackend]
    definitions: list[str]
    files: list[str]


@closed
class KeptPackage(About):
    """A package that is kept, by whom since when, and what came out of it here."""

    kept_at: str
    author: str
    made_here: list[MadePart]


@closed
class ToldPackage(About):
    pass


@closed
class MadePackage(About):
    """A package that was made: its zip in base64, and how often each parameter stands in it."""

    content: str
    counts: dict[str, int]


@closed
class PackagePart(TypedDict):
    """A part: what it becomes here, its age in days, and whether it is new, the same, kept (ours stays), replaces or is renamed. `hollow`
    says why it does almost nothing."""

    kind: str
    name: str
    becomes: str
    changed: str
    days: int
    state: str
    hollow: str


@closed
class PackageMismatch(TypedDict):
    """Something that does not fit here; `options` are what may be done about it, `proposal` what aligning does. `stops`: nothing mends
    it."""

    id: str
    code: str
    message: str
    expected: str
    found: str
    options: list[str]
    proposal: str
    chosen: str
    stops: bool


@closed
class TakenPackage(About):
    """A package held against this installation (`applied` false), or taken in. `problems` would not fit together afterwards."""

    applied: bool
    parts: list[PackagePart]
    mismatches: list[PackageMismatch]
    texts: dict[str, str]
    changes: list[Change]
    problems: list[Problem]
