"""Definitions: what applying changes, texts, revisions, findings."""

from typing import NotRequired

from typing_extensions import TypedDict

from bricola.api.base import Line, Problem, closed
from bricola.api.words import ChangeAction
from bricola.core.definitions.findings import Severity


@closed
class Change(TypedDict):
    """`effective` is the moment since when a live setting is in force; empty for what waits for a release."""

    action: ChangeAction
    kind: str
    name: str
    path: str
    effective: str
    lines: list[Line]


@closed
class Changes(TypedDict):
    changes: list[Change]


@closed
class Published(TypedDict):
    """What something was published as, or would be (`applied` false): an operation of a service."""

    service: str
    operation: str
    applied: bool
    changes: list[Change]


@closed
class Applied(TypedDict):
    """`breaks`, of a plan: what fits together now, and would not any more."""

    applied: bool
    changes: list[Change]
    breaks: list[Problem]


@closed
class Export(TypedDict):
    """All drafts by path, and the revision of each by 'kind name'."""

    files: dict[str, str]
    revisions: dict[str, int]


@closed
class FileDifference(TypedDict):
    path: str
    action: str
    lines: list[Line]


@closed
class Revision(TypedDict):
    """One text of a definition; an empty one removed it."""

    kind: str
    name: str
    path: str
    text: str
    revision: int
    author: str
    at: str


@closed
class Finding(TypedDict):
    """One line of the review."""

    severity: Severity
    code: str
    message: str
    kind: str
    place: NotRequired[str]
    expected: NotRequired[str]
    found: NotRequired[str]
    mend: NotRequired[str]
    mendable: bool
    command: str


@closed
class UsedBackend(TypedDict):
    """A backend of a service; `seen` is when the service was last held against it, null for never since the start."""

    backend: str
    state: str
    seen: str | None


@closed
class EngineEntry(TypedDict):
    """What a backend can be; `family` is database, terminal host and the like, `settings` are what a binding of it may say."""

    engine: str
    title: str
    family: str
    is_file: bool
    is_folder: bool
    port: int | None
    settings: list[str]


@closed
class Mends(TypedDict):
    """What was mended, or would be; `left` are the mends of environments, which take effect at once and have to be asked for."""

    changes: list[Change]
    left: list[Finding]


@closed
class KindEntry(TypedDict):
    """A kind of source: its word in definitions, what one and several are called, and the page where they stand, if they have one."""

    kind: str
    title: str
    plural: str
    words: str
    page: str
    runs: str
