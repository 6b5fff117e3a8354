"""What a finding of the readiness review is, the rules behind findings, and the facts that a review is given."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from bricola.core.definitions.base import Definition
from bricola.core.problems import Problem


class Severity(StrEnum):
    ERROR = "error"
    WARNING = "warning"
    HINT = "hint"


class Area(StrEnum):
    """What a rule looks at."""

    SERVICE = "service"
    CONTRACT = "contract"
    ENVIRONMENT = "environment"
    SECURITY = "security"
    CAPACITY = "capacity"


@dataclass(frozen=True)
class Finding:
    """One line of the review. `mended` is the definition with the mend in it, where the mend is mechanical;
    `command` is what does or begins the mend on the command line, where there is such a command."""

    severity: Severity
    problem: Problem
    mended: Definition | None = None
    command: str = ""


@dataclass(frozen=True)
class Rule:
    """One rule: what it looks at, and why it exists."""

    code: str
    area: Area
    severity: Severity
    reason: str
    mechanical: bool = False


class Rules(Mapping[str, Rule]):
    """The rules of one area or kind, by code, in the order in which they are told."""

    def __init__(self, *rules: Rule) -> None:
        self._by_code = {one.code: one for one in rules}

    def __getitem__(self, code: str) -> Rule:
        return self._by_code[code]

    def __iter__(self) -> Iterator[str]:
        return iter(self._by_code)

    def __len__(self) -> int:
        return len(self._by_code)

    def finding(self, code: str, message: str, place: str, expected: str = "", found: str = "", mend: str = "",
                mended: Definition | None = None, command: str = "", choices: tuple[str, ...] = ()) -> Finding:
        """A finding of one of these rules, with the rule's severity."""
        return Finding(self._by_code[code].severity, Problem(
            code, message, place=place, expected=expected, found=found, mend=mend, choices=choices), mended, command)


@dataclass(frozen=True)
class CredentialFact:
    """What the review may know of a credential: never the secret. Moments are seconds since 1970."""

    kind: str
    expires: float | None = None
    places: frozenset[tuple[str, str, str]] | None = None  # environment, engine, address: where it may be presented


@dataclass(frozen=True)
class PoolFact:
    """What was measured of a running pool."""

    advised_size: int | None = None
    backend_limit: int | None = None


@dataclass(frozen=True)
class BackendFact:
    """When a backend was seen (seconds since 1970; None when it could not be reached), and what of a service does not fit it. `powers` is
    what its user there may do beyond rows of tables, and `rights` what the service needs of it, as statements that grant it."""

    seen: float | None
    problems: tuple[Problem, ...] = ()
    powers: tuple[str, ...] = ()
    rights: tuple[str, ...] = ()


@dataclass(frozen=True)
class Facts:
    """What a review knows beyond the definitions. None: not known here, and then nothing is said about it."""

    now: float = 0.0
    engines: Mapping[str, str] | None = None  # engine -> why it cannot be reached from here; '' when it can
    credentials: Mapping[str, CredentialFact] | None = None
    held_roles: frozenset[str] | None = None
    missing_files: Mapping[str, str] = field(default_factory=dict)  # backend -> the file that is not there
    backends: Mapping[str, BackendFact] = field(default_factory=dict)  # backend -> how it stands to the service
    pools: Mapping[str, PoolFact] = field(default_factory=dict)  # backend -> what was measured in this environment
    breaking: tuple[str, ...] = ()  # breaking changes against the newest release of the same version, in words
    drifted: Mapping[str, str] = field(default_factory=dict)  # contract of others that the service follows -> what changed there
    passed: bool | None = None  # whether the release was in the environment that this one follows
    live: Mapping[str, Any] | None = None  # Service.Operation that is live in this environment -> the record of its input
    of_kind: Mapping[str, Any] = field(default_factory=dict)  # kind of source -> what that kind found out, in its own form
