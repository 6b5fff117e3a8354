"""Users, sessions, callers, tokens, roles, the audit trail."""

from typing import Any, Literal, NotRequired

from typing_extensions import TypedDict

from bricola.api.base import closed
from bricola.api.definitions import Change
from bricola.api.words import Role


@closed
class ServiceState(TypedDict):
    """What anybody may know: whether the service waits for its first user."""

    setup: bool
    organisation: str


@closed
class Person(TypedDict):
    name: str
    role: Role


@closed
class SignedIn(TypedDict):
    name: str
    role: Role
    token: NotRequired[str]


@closed
class Who(TypedDict):
    name: str
    role: Role
    organisation: str


@closed
class User(TypedDict):
    name: str
    role: Role
    created_at: str


@closed
class UserSession(TypedDict):
    session: str
    label: str
    created_at: str
    expires_at: str


@closed
class CallerToken(TypedDict):
    """A caller's token, of which only the first characters are known."""

    prefix: str
    created_at: str
    expires_at: str | None
    last_used_at: str | None


@closed
class Caller(TypedDict):
    """Networks in CIDR form, none for anywhere; null for no limit."""

    name: str
    description: str
    roles: list[str]
    networks: list[str]
    per_minute: int | None
    parallel: int | None
    created_at: str
    tokens: list[CallerToken]


@closed
class SavedCaller(TypedDict):
    name: str
    description: str
    roles: list[str]
    networks: list[str]
    per_minute: int | None
    parallel: int | None
    effective: str


@closed
class NewToken(TypedDict):
    """The token, here and never again."""

    caller: str
    token: str
    prefix: str
    expires_at: str | None
    older_end_at: str | None


@closed
class RoleGrants(TypedDict):
    """What a role may call, by service, and who has it."""

    role: str
    grants: dict[str, list[str]]
    callers: list[str]


@closed
class RoleThere(TypedDict):
    """A role at one service: `all` operations, or these."""

    role: str
    operations: list[str]
    all: bool
    callers: list[str]


@closed
class PlaceGrants(TypedDict):
    """Who may call a service in an environment, said by that or, where it says nothing, by the service's release."""

    environment: str
    service: str
    said_in: Literal["environment", "service"]
    operations: list[str]
    roles: list[RoleThere]


@closed
class RightChange(TypedDict):
    """A right that a role gets or loses; `callers` have the role, and `used_by` are those who used the right in the last month."""

    environment: str
    service: str
    operation: str
    role: str
    gained: bool
    words: str
    callers: list[str]
    used_by: list[str]


@closed
class Granted(TypedDict):
    applied: bool
    rights: list[RightChange]
    changes: list[Change]


@closed
class AuditEntry(TypedDict):
    """Who changed what, from what, to what."""

    id: int
    at: str
    who: str
    action: str
    subject: str
    before: Any
    after: Any
