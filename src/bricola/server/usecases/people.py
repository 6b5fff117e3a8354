"""Users and their sessions, callers and their tokens."""

import asyncio
import hashlib
import secrets
from datetime import UTC, datetime, timedelta
from typing import Any, Protocol

import structlog
from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError

from bricola.api.words import Role
from bricola.core.calls.callers import token_digest
from bricola.core.calls.limits import read_network
from bricola.core.definitions.access import AccessDefinition
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.server.ports.changes import Change, Changes, Topic
from bricola.server.ports.drafts import Drafts, unknown
from bricola.server.ports.people import People
from bricola.store import people
from bricola.store.database import Db, timestamp
from bricola.store.people import StoredCaller, StoredUser


class Ports(Protocol):
    drafts: Drafts
    changes: Changes
    people: People


log = structlog.stdlib.get_logger("bricola.people")
ROLES = tuple(Role)  # each may do what the ones before may
SESSION = timedelta(hours=12)
TOKEN = timedelta(days=90)
_SHORTEST_PASSWORD = 10

_hasher = PasswordHasher()  # the library's defaults follow RFC 9106
_NO_USER = _hasher.hash(secrets.token_urlsafe(16))  # so that an unknown name takes as long as a wrong password
_one_at_a_time = asyncio.Semaphore(2)  # a hash takes 64 MiB and some 50 ms


def digest(secret: str) -> bytes:
    return hashlib.sha256(secret.encode()).digest()


async def _hash(password: str) -> str:
    if len(password) < _SHORTEST_PASSWORD:
        raise ProblemError(Problem("password.short", "The password is too short.", place="password",
                                   expected=f"at least {_SHORTEST_PASSWORD} characters"))
    async with _one_at_a_time:
        return await asyncio.to_thread(_hasher.hash, password)


async def set_up(ports: Ports, code: str, name: str, password: str) -> StoredUser:
    """Make the first user, an admin, with the one-time code that the first start printed."""
    if ports.people.setup_code is None or not secrets.compare_digest(code.encode(), ports.people.setup_code.encode()):
        raise ProblemError(Problem("setup.code", "This set-up address is not valid (any more).", Kind.PERMISSION,
                                   place="code", mend="Sign in, or take the address from the latest start of the service."))
    hashed = await _hash(password)

    def work(change: Change) -> None:
        if not people.add_user(change.db, name, "admin", hashed, only_first=True):
            raise ProblemError(Problem("setup.done", "The service has a user already.", Kind.CONFLICT, mend="Sign in."))
        change.note(name, "set up", f"user {name}", None, {"role": "admin"})

    await ports.changes.make([Topic.USERS], work)
    ports.people.setup_code = None
    return StoredUser(name, "admin", "", "")


async def add_user(ports: Ports, name: str, role: str, password: str, author: str) -> None:
    hashed = await _hash(password)

    def work(change: Change) -> None:
        if not people.add_user(change.db, name, role, hashed):
            raise ProblemError(Problem("user.exists", f"There is a user {name} already.", Kind.CONFLICT, place="name"))
        change.note(author, "add", f"user {name}", None, {"role": role})

    await ports.changes.make([Topic.USERS], work)


async def change_user(ports: Ports, name: str, role: str | None, password: str | None, author: str) -> None:
    """Another role, another password (which ends the user's sessions), or both: all of it or nothing."""
    hashed = await _hash(password) if password is not None else ""

    def work(change: Change) -> None:
        user = _find_user(change.db, name)
        if role is not None and role != user.role:
            _keep_an_admin(change.db, user)
            people.set_role(change.db, name, role)
            change.note(author, "change", f"user {name}", {"role": user.role}, {"role": role})
        if hashed:
            people.set_password(change.db, name, hashed)
            change.note(author, "new password", f"user {name}")

    await ports.changes.make([Topic.USERS], work)


async def remove_user(ports: Ports, name: str, author: str) -> None:
    def work(change: Change) -> None:
        user = _find_user(change.db, name)
        _keep_an_admin(change.db, user)
        people.remove_user(change.db, name)
        change.note(author, "remove", f"user {name}", {"role": user.role}, None)

    await ports.changes.make([Topic.USERS], work)


async def end_session(ports: Ports, name: str, number: str, author: str) -> None:
    def work(change: Change) -> None:
        if not people.end_session_by_number(change.db, name, number):
            raise ProblemError(unknown("session", number, [one[0] for one in people.user_sessions(change.db, name)]))
        change.note(author, "end session", f"user {name}", {"session": number}, None)

    await ports.changes.make([Topic.USERS], work)


def _find_user(db: Db, name: str) -> StoredUser:
    user = people.find_user(db, name)
    if user is None:
        raise ProblemError(unknown("user", name, [one.name for one in people.users(db)]))
    return user


def _keep_an_admin(db: Db, user: StoredUser) -> None:
    """Looked at in the change itself, so that two admins cannot remove each other at once."""
    if user.role == "admin" and [one.role for one in people.users(db)].count("admin") == 1:
        raise ProblemError(Problem("user.last-admin", f"{user.name} is the only admin.", Kind.CONFLICT, place=f"user {user.name}",
                                   mend="Make another user an admin first."))


async def sign_in(ports: Ports, name: str, password: str, peer: str = "") -> StoredUser:
    """The user with this password. Raises ProblemError that does not tell which of the two is wrong, and of kind limit
    after several wrong ones in a row."""
    throttle = ports.people.signins
    throttle.enter(name, peer)
    user = await ports.people.user(name)
    try:
        async with _one_at_a_time:
            await asyncio.to_thread(_hasher.verify, user.password_hash if user else _NO_USER, password)
    except (VerificationError, InvalidHashError):
        user = None
    if user is None:
        throttle.failed(name, peer)
        log.warning("sign-in is refused", user=name, peer=peer)
        raise ProblemError(Problem("user.password", "The name or the password is wrong.", Kind.IDENTITY,
                                   mend="Try again, or ask an admin for a new password."))
    throttle.succeeded(name, peer)
    log.info("signed in", user=name, role=user.role, peer=peer)
    return user


async def open_session(ports: Ports, user: str, label: str, lifetime: timedelta) -> str:
    """A new secret that stands for the user until it expires; only its digest is kept."""
    secret = f"bru_{secrets.token_urlsafe(32)}"
    await ports.people.open_session(digest(secret), user, label, datetime.now(UTC) + lifetime)
    return secret


async def who(ports: Ports, secret: str, least: str) -> StoredUser:
    """The user behind a session or token who has at least a role. Raises ProblemError."""
    user = await ports.people.session_user(digest(secret)) if secret else None
    if user is None:
        raise ProblemError(Problem("user.session", "Sign in first.", Kind.IDENTITY,
                                   expected="a session cookie, or Authorization: Bearer with a token",
                                   mend="Sign in at the console, or with: bricola signin"))
    if ROLES.index(Role(user.role)) < ROLES.index(Role(least)):
        raise ProblemError(Problem("user.role", f"Your role {user.role} may not do this.", Kind.PERMISSION,
                                   expected=f"the role {least} or above", found=user.role))
    return user


async def save_caller(ports: Ports, name: str, description: str, roles: list[str], networks: list[str],
                      per_minute: int | None, parallel: int | None, author: str) -> None:
    """Add a caller, or replace what is known of it. Takes effect with the next call."""
    networks = [str(read_network(one)) for one in networks]

    def work(change: Change) -> None:
        old = _known_caller(change.db, name)
        people.save_caller(change.db, name, description, roles, networks, per_minute, parallel)
        change.note(author, "change" if old else "add", f"caller {name}", _facts(old) if old else None, {
            "roles": sorted(roles), "networks": networks, "per_minute": per_minute, "parallel": parallel})

    await ports.changes.make([Topic.CALLERS], work)


def _facts(one: StoredCaller) -> dict[str, Any]:
    return {"roles": list(one.roles), "networks": list(one.networks), "per_minute": one.per_minute, "parallel": one.parallel}


def _known_caller(db: Db, name: str) -> StoredCaller | None:
    return next((one for one in people.callers(db) if one.name == name), None)


def _find_caller(db: Db, name: str) -> StoredCaller:
    found = _known_caller(db, name)
    if found is None:
        raise ProblemError(unknown("caller", name, [one.name for one in people.callers(db)]))
    return found


async def remove_caller(ports: Ports, name: str, author: str) -> None:
    """Refused from the next call on."""

    def work(change: Change) -> None:
        old = _find_caller(change.db, name)
        people.remove_caller(change.db, name)
        change.note(author, "remove", f"caller {name}", _facts(old), None)

    await ports.changes.make([Topic.CALLERS], work)


async def new_token(ports: Ports, caller: str, author: str, lifetime: timedelta | None = None,
                    overlap: timedelta | None = None) -> dict[str, str | None]:
    """A new token of a caller: made once, returned once. With an overlap its other tokens end after that time;
    without one they stay valid until they expire or are revoked."""
    now = datetime.now(UTC)
    token = f"brc_{secrets.token_urlsafe(32)}"
    expires = timestamp(now + lifetime) if lifetime is not None else None
    older_end = now + overlap if overlap is not None else None

    def work(change: Change) -> None:
        _find_caller(change.db, caller)
        people.add_token(change.db, caller, token_digest(token), token[:9], expires, older_end)
        change.note(author, "new token" if overlap is None else "rotate token", f"caller {caller}", None, {
            "prefix": token[:9], "expires_at": expires, "older_end_at": timestamp(older_end) if older_end else None})

    await ports.changes.make([Topic.CALLERS], work)
    return {"caller": caller, "token": token, "prefix": token[:9], "expires_at": expires,
            "older_end_at": timestamp(older_end) if older_end else None}


async def revoke_token(ports: Ports, caller: str, prefix: str, author: str) -> None:
    def work(change: Change) -> None:
        if not people.revoke_tokens(change.db, caller, prefix):
            raise ProblemError(unknown("token", prefix, [one.prefix for one in _find_caller(change.db, caller).tokens]))
        change.note(author, "revoke token", f"caller {caller}", {"prefix": prefix}, None)

    await ports.changes.make([Topic.CALLERS], work)


async def roles(ports: Ports) -> list[dict[str, Any]]:
    """Every role: what it may call somewhere (by the drafts), and which callers have it."""
    granted: dict[str, dict[str, list[str]]] = {}
    said = ports.drafts.catalogue.all_of(AccessDefinition)
    for service in ports.drafts.catalogue.services():
        names = [one.name for one in service.operations]
        for grants in (service.access, *(one.services.get(service.segment, {}) for one in said)):
            for role, operations in grants.items():
                known = granted.setdefault(role, {}).setdefault(service.name, [])
                known += [one for one in (names if operations == "all" else operations) if one not in known]
    holders: dict[str, list[str]] = {}
    for caller in await ports.people.known_callers():
        for role in caller.roles:
            holders.setdefault(role, []).append(caller.name)
    return [{"role": role, "grants": granted.get(role, {}), "callers": holders.get(role, [])}
            for role in sorted({*granted, *holders})]
