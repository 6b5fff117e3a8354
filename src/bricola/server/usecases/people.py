"""Users and their sessions, callers and their tokens."""

import asyncio
import hashlib
import secrets
from datetime import UTC, datetime, timedelta

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError

from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.runtime.callers import token_digest
from bricola.server.bricola import Bricola
from bricola.server.usecases.lookup import unknown
from bricola.store import people
from bricola.store.people import StoredUser

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
    return StoredUser(name, "admin", "", "")


async def add_user(bricola: Bricola, name: str, role: str, password: str) -> None:
    if not await bricola.storage.main(people.add_user, name, role, await _hash(password)):
        raise ProblemError(Problem("user.exists", f"There is a user {name} already.", Kind.CONFLICT, place="name"))


async def sign_in(bricola: Bricola, name: str, password: str) -> StoredUser:
    """The user with this password. Raises ProblemError that does not tell which of the two is wrong."""
    user = await bricola.storage.main(people.find_user, name)
    try:
        async with _one_at_a_time:
            await asyncio.to_thread(_hasher.verify, user.password_hash if user else _NO_USER, password)
    except (VerificationError, InvalidHashError):
        user = None
    if user is None:
        raise ProblemError(Problem("user.password", "The name or the password is wrong.", Kind.IDENTITY,
                                   mend="Try again, or ask an admin for a new password."))
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


async def save_caller(bricola: Bricola, name: str, description: str, roles: list[str]) -> None:
    await bricola.storage.main(people.save_caller, name, description, roles)
    await bricola.load_callers()


async def new_token(bricola: Bricola, caller: str) -> str:
    """A new token of a caller: made once, returned once. Its older tokens stay valid until revoked."""
    known = [one.name for one in await bricola.storage.main(people.callers)]
    if caller not in known:
        raise ProblemError(unknown("caller", caller, known))
    token = f"brc_{secrets.token_urlsafe(32)}"
    await bricola.storage.main(people.add_token, caller, token_digest(token), token[:9])
    await bricola.load_callers()
    return token


async def revoke_token(bricola: Bricola, caller: str, prefix: str) -> None:
    if not await bricola.storage.main(people.revoke_tokens, caller, prefix):
        raise ProblemError(unknown("token", prefix, []))
    await bricola.load_callers()
