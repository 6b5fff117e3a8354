"""Users and their sessions, callers and their tokens."""

import asyncio
import hashlib
import secrets
from datetime import UTC, datetime, timedelta
from typing import Any

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError

from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.runtime.callers import token_digest
from bricola.core.runtime.limits import read_network
from bricola.server.bricola import Bricola
from bricola.server.usecases.lookup import unknown
from bricola.store import people
from bricola.store.database import timestamp
from bricola.store.people import StoredCaller, StoredUser

ROLES = ("viewer", "operator", "integrator", "admin")  # each may do what the ones before may
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


async def set_up(bricola: Bricola, code: str, name: str, password: str) -> StoredUser:
    """Make the first user, an admin, with the one-time code that the first start printed."""
    if bricola.setup_code is None or not secrets.compare_digest(code.encode(), bricola.setup_code.encode()):
        raise ProblemError(Problem("setup.code", "This set-up address is not valid (any more).", Kind.PERMISSION,
                                   place="code", mend="Sign in, or take the address from the latest start of the service."))
    if not await bricola.storage.main(people.add_user, name, "admin", await _hash(password), only_first=True):
        raise ProblemError(Problem("setup.done", "The service has a user already.", Kind.CONFLICT, mend="Sign in."))
    bricola.setup_code = None
    await bricola.changed(name, "set up", f"user {name}", None, {"role": "admin"})
    return StoredUser(name, "admin", "", "")


async def add_user(bricola: Bricola, name: str, role: str, password: str, author: str) -> None:
    if not await bricola.storage.main(people.add_user, name, role, await _hash(password)):
        raise ProblemError(Problem("user.exists", f"There is a user {name} already.", Kind.CONFLICT, place="name"))
    await bricola.changed(author, "add", f"user {name}", None, {"role": role})


async def change_user(bricola: Bricola, name: str, role: str | None, password: str | None, author: str) -> None:
    """Another role, another password (which ends the user's sessions), or both."""
    user = await _find_user(bricola, name)
    if role is not None and role != user.role:
        await _keep_an_admin(bricola, user)
        await bricola.storage.main(people.set_role, name, role)
        await bricola.changed(author, "change", f"user {name}", {"role": user.role}, {"role": role})
    if password is not None:
        await bricola.storage.main(people.set_password, name, await _hash(password))
        await bricola.changed(author, "new password", f"user {name}")


async def remove_user(bricola: Bricola, name: str, author: str) -> None:
    user = await _find_user(bricola, name)
    await _keep_an_admin(bricola, user)
    await bricola.storage.main(people.remove_user, name)
    await bricola.changed(author, "remove", f"user {name}", {"role": user.role}, None)


async def end_session(bricola: Bricola, name: str, number: str, author: str) -> None:
    if not await bricola.storage.main(people.end_session_by_number, name, number):
        raise ProblemError(unknown("session", number, [one[0] for one in await bricola.storage.main(people.user_sessions, name)]))
    await bricola.changed(author, "end session", f"user {name}", {"session": number}, None)


async def _find_user(bricola: Bricola, name: str) -> StoredUser:
    user = await bricola.storage.main(people.find_user, name)
    if user is None:
        raise ProblemError(unknown("user", name, [one.name for one in await bricola.storage.main(people.users)]))
    return user


async def _keep_an_admin(bricola: Bricola, user: StoredUser) -> None:
    admins = [one for one in await bricola.storage.main(people.users) if one.role == "admin"]
    if user.role == "admin" and len(admins) == 1:
        raise ProblemError(Problem("user.last-admin", f"{user.name} is the only admin.", Kind.CONFLICT, place=f"user {user.name}",
                                   mend="Make another user an admin first."))


async def sign_in(bricola: Bricola, name: str, password: str, peer: str = "") -> StoredUser:
    """The user with this password. Raises ProblemError that does not tell which of the two is wrong, and of kind limit
    after several wrong ones in a row."""
    throttle = bricola.signins
    throttle.enter(name, peer)
    user = await bricola.storage.main(people.find_user, name)
    try:
        async with _one_at_a_time:
            await asyncio.to_thread(_hasher.verify, user.password_hash if user else _NO_USER, password)
    except (VerificationError, InvalidHashError):
        user = None
    if user is None:
        throttle.failed(name, peer)
        raise ProblemError(Problem("user.password", "The name or the password is wrong.", Kind.IDENTITY,
                                   mend="Try again, or ask an admin for a new password."))
    throttle.succeeded(name, peer)
    return user


async def open_session(bricola: Bricola, user: str, label: str, lifetime: timedelta) -> str:
    """A new secret that stands for the user until it expires; only its digest is kept."""
    secret = f"bru_{secrets.token_urlsafe(32)}"
    await bricola.storage.main(people.add_session, digest(secret), user, label, datetime.now(UTC) + lifetime)
    return secret


async def who(bricola: Bricola, secret: str, least: str) -> StoredUser:
    """The user behind a session or token who has at least a role. Raises ProblemError."""
    user = await bricola.storage.main(people.session_user, digest(secret)) if secret else None
    if user is None:
        raise ProblemError(Problem("user.session", "Sign in first.", Kind.IDENTITY,
                                   expected="a session cookie, or Authorization: Bearer with a token",
                                   mend="Sign in at the console, or with: bricola signin"))
    if ROLES.index(user.role) < ROLES.index(least):
        raise ProblemError(Problem("user.role", f"Your role {user.role} may not do this.", Kind.PERMISSION,
                                   expected=f"the role {least} or above", found=user.role))
    return user


async def save_caller(bricola: Bricola, name: str, description: str, roles: list[str], networks: list[str],
                      per_minute: int | None, parallel: int | None, author: str) -> None:
    """Add a caller, or replace what is known of it. Takes effect with the next call."""
    networks = [str(read_network(one)) for one in networks]
    old = await _known_caller(bricola, name)
    await bricola.storage.main(people.save_caller, name, description, roles, networks, per_minute, parallel)
    await bricola.load_callers()
    await bricola.changed(author, "change" if old else "add", f"caller {name}", _facts(old) if old else None, {
        "roles": sorted(roles), "networks": networks, "per_minute": per_minute, "parallel": parallel})


def _facts(one: StoredCaller) -> dict[str, Any]:
    return {"roles": list(one.roles), "networks": list(one.networks), "per_minute": one.per_minute, "parallel": one.parallel}


async def _known_caller(bricola: Bricola, name: str) -> StoredCaller | None:
    return next((one for one in await bricola.storage.main(people.callers) if one.name == name), None)


async def _find_caller(bricola: Bricola, name: str) -> StoredCaller:
    found = await _known_caller(bricola, name)
    if found is None:
        raise ProblemError(unknown("caller", name, [one.name for one in await bricola.storage.main(people.callers)]))
    return found


async def remove_caller(bricola: Bricola, name: str, author: str) -> None:
    """Refused from the next call on."""
    old = await _find_caller(bricola, name)
    await bricola.storage.main(people.remove_caller, name)
    await bricola.load_callers()
    await bricola.changed(author, "remove", f"caller {name}", _facts(old), None)


async def new_token(bricola: Bricola, caller: str, author: str, lifetime: timedelta | None = None,
                    overlap: timedelta | None = None) -> dict[str, str | None]:
    """A new token of a caller: made once, returned once. With an overlap its other tokens end after that time;
    without one they stay valid until they expire or are revoked."""
    await _find_caller(bricola, caller)
    now = datetime.now(UTC)
    token = f"brc_{secrets.token_urlsafe(32)}"
    expires = timestamp(now + lifetime) if lifetime is not None else None
    older_end = now + overlap if overlap is not None else None
    await bricola.storage.main(people.add_token, caller, token_digest(token), token[:9], expires, older_end)
    await bricola.load_callers()
    await bricola.changed(author, "new token" if overlap is None else "rotate token", f"caller {caller}", None, {
        "prefix": token[:9], "expires_at": expires, "older_end_at": timestamp(older_end) if older_end else None})
    return {"caller": caller, "token": token, "prefix": token[:9], "expires_at": expires,
            "older_end_at": timestamp(older_end) if older_end else None}


async def revoke_token(bricola: Bricola, caller: str, prefix: str, author: str) -> None:
    if not await bricola.storage.main(people.revoke_tokens, caller, prefix):
        known = (await _find_caller(bricola, caller)).tokens
        raise ProblemError(unknown("token", prefix, [one.prefix for one in known]))
    await bricola.load_callers()
    await bricola.changed(author, "revoke token", f"caller {caller}", {"prefix": prefix}, None)


async def roles(bricola: Bricola) -> list[dict[str, Any]]:
    """Every role: what it may call (by the drafts), and which callers have it."""
    granted: dict[str, dict[str, list[str]]] = {}
    for service in bricola.catalogue.services():
        for role, operations in service.access.items():
            granted.setdefault(role, {})[service.name] = (
                [one.name for one in service.operations] if operations == "all" else list(operations))
    holders: dict[str, list[str]] = {}
    for caller in await bricola.storage.main(people.callers):
        for role in caller.roles:
            holders.setdefault(role, []).append(caller.name)
    return [{"role": role, "grants": granted.get(role, {}), "callers": holders.get(role, [])}
            for role in sorted({*granted, *holders})]
