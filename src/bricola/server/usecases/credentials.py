"""Credentials: add, rotate with overlap, remove, who uses them. Secrets come in and never go out."""

from datetime import UTC, datetime, timedelta
from typing import Any

from bricola.core.problems import Kind, Problem, ProblemError
from bricola.server.bricola import Bricola
from bricola.server.usecases.lookup import unknown
from bricola.server.vault import read_key_pair
from bricola.store import credentials
from bricola.store.credentials import StoredCredential

KINDS = ("password", "token", "certificate")


async def list_credentials(bricola: Bricola) -> list[dict[str, Any]]:
    """Everything about credentials but the secrets."""
    return [_plain(bricola, one) for one in await bricola.storage.main(credentials.credentials)]


def users_of(bricola: Bricola, name: str) -> list[dict[str, str]]:
    """Which backend of which environment signs on with it."""
    return [{"environment": environment.name, "backend": binding.name}
            for environment in bricola.catalogue.environments() for binding in environment.backends if binding.credential == name]


def _plain(bricola: Bricola, one: StoredCredential) -> dict[str, Any]:
    newest = one.versions[0] if one.versions else None
    now = datetime.now(UTC)
    overlapping = [old for old in one.versions[1:] if old.ends_at is None or datetime.fromisoformat(old.ends_at) > now]
    return {
        "name": one.name, "kind": one.kind, "description": one.description, "created_at": one.created_at,
        "user": newest.user if newest else "", "expires_at": newest.expires_at if newest else None,
        "rotated_at": newest.created_at if newest else None, "rotated_by": newest.author if newest else "",
        "last_used_at": newest.last_used_at if newest else None,
        "overlap_until": max((old.ends_at or "" for old in overlapping), default=None),
        "used_by": users_of(bricola, one.name),
    }


async def _find(bricola: Bricola, name: str) -> StoredCredential:
    known = await bricola.storage.main(credentials.credentials)
    found = next((one for one in known if one.name == name), None)
    if found is None:
        raise ProblemError(unknown("credential", name, [one.name for one in known]))
    return found


def _expiry(kind: str, secret: str, certificate: str, expires: datetime | None) -> str | None:
    if kind == "certificate":
        return read_key_pair(secret, certificate)
    return expires.astimezone(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z") if expires else None


def _check_secret(kind: str, user: str, secret: str) -> None:
    if kind not in KINDS:
        raise ProblemError(unknown("kind of credential", kind, list(KINDS)))
    if not secret:
        raise ProblemError(Problem("credential.empty", "The secret is empty.", place="secret", mend="Give it on standard input."))
    if kind == "password" and not user:
        raise ProblemError(Problem("credential.user", "A password needs the name that it belongs to.", place="user",
                                   mend="Add --user NAME."))


async def add(bricola: Bricola, name: str, kind: str, user: str, secret: str, certificate: str, expires: datetime | None,
              description: str, author: str) -> dict[str, Any]:
    _check_secret(kind, user, secret)
    expires_at = _expiry(kind, secret, certificate, expires)
    if not await bricola.storage.main(credentials.add_credential, name, kind, description):
        raise ProblemError(Problem("credential.exists", f"There is a credential {name} already.", Kind.CONFLICT, place="name",
                                   mend=f"Replace its secret: bricola credentials rotate {name}"))
    await bricola.storage.main(credentials.add_version, name, user, bricola.vault.seal(secret), certificate, expires_at, author,
                               datetime.now(UTC))
    await bricola.load_credentials()
    await bricola.changed(author, "add", f"credential {name}", None, {"kind": kind, "user": user, "expires_at": expires_at})
    return _plain(bricola, await _find(bricola, name))


async def rotate(bricola: Bricola, name: str, user: str, secret: str, certificate: str, expires: datetime | None,
                 overlap: timedelta, author: str) -> dict[str, Any]:
    """A new secret, in force at once for new sign-ons; the old one is still tried for the time of the overlap."""
    old = await _find(bricola, name)
    user = user or (old.versions[0].user if old.versions else "")
    _check_secret(old.kind, user, secret)
    expires_at = _expiry(old.kind, secret, certificate, expires)
    await bricola.storage.main(credentials.add_version, name, user, bricola.vault.seal(secret), certificate, expires_at, author,
                               datetime.now(UTC) + overlap)
    await bricola.load_credentials()
    made = _plain(bricola, await _find(bricola, name))
    await bricola.changed(author, "rotate", f"credential {name}", {"rotated_at": old.versions[0].created_at if old.versions else None},
                          {"user": user, "expires_at": expires_at, "overlap_until": made["overlap_until"]})
    return made


async def remove(bricola: Bricola, name: str, author: str) -> None:
    """Refused while a backend signs on with it."""
    old = await _find(bricola, name)
    users = users_of(bricola, name)
    if users:
        raise ProblemError(Problem(
            "credential.in-use", f"{name} is in use.", Kind.CONFLICT, place=f"credential {name}",
            found=", ".join(f"{one['backend']} in {one['environment']}" for one in users),
            mend="Name another credential there first."))
    await bricola.storage.main(credentials.remove_credential, name)
    await bricola.load_credentials()
    await bricola.changed(author, "remove", f"credential {name}", {"kind": old.kind}, None)


async def renew_key(bricola: Bricola, author: str) -> int:
    """Seal every secret with a new key; answers how many there were."""
    # In the store's own thread, since the vault writes its file before and after.
    count = await bricola.storage.main(lambda db: bricola.vault.renew_key(lambda again: credentials.reseal(db, again)))
    await bricola.load_credentials()
    await bricola.changed(author, "renew key", "vault", None, {"secrets": count})
    return count
