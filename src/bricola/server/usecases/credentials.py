"""Credentials: add, rotate with overlap, remove, who uses them. Secrets come in and never go out."""

from collections.abc import Callable, Mapping
from dataclasses import asdict
from datetime import UTC, datetime, timedelta
from typing import Any, Protocol

from bricola.api.words import CredentialKind
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.engines.places import presented_at
from bricola.core.definitions.model import EnvironmentDefinition
from bricola.core.definitions.text import read_definition
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.server.ports.changes import Change, Changes, Topic
from bricola.server.ports.credentials import Credentials
from bricola.server.ports.drafts import Drafts, unknown
from bricola.server.ports.places import Places
from bricola.server.vault import read_key_pair
from bricola.store import credentials, jobs
from bricola.store.credentials import CredentialPlace, StoredCredential
from bricola.store.database import Db


class Ports(Protocol):
    drafts: Drafts
    changes: Changes
    credentials: Credentials
    places: Places


KINDS = tuple(CredentialKind)


async def list_credentials(ports: Ports) -> list[dict[str, Any]]:
    """Everything about credentials but the secrets."""
    return [_plain(ports, one) for one in await ports.credentials.known()]


def users_of(ports: Ports, name: str) -> list[dict[str, str]]:
    """Which backend of which environment signs on with it."""
    return [{"environment": environment.name, "backend": binding.name}
            for environment in ports.drafts.catalogue.environments() for binding in environment.backends if binding.credential == name]


def _uses(ports: Ports, name: str, user: str) -> list[dict[str, Any]]:
    """Where it is used: as whom, in the form that the backend wants, and what the backend told that this account may do beyond rows of
    tables; None where nobody asked it since the start."""
    found: list[dict[str, Any]] = []
    for environment in ports.drafts.catalogue.environments():
        for binding in environment.backends:
            if binding.credential == name:
                powers = ports.places.powers.get((environment.name, binding.name))
                found.append({"environment": environment.name, "backend": binding.name,
                              "signs_on_as": binding.user_form.replace("{user}", user) if user else "",
                              "powers": list(powers) if powers is not None else None})
    return found


def places_of(environment: EnvironmentDefinition, catalogue: Catalogue) -> list[CredentialPlace]:
    """Where the credentials of an environment would be presented."""
    found = []
    for binding in environment.backends:
        backend = catalogue.find_backend(binding.name)
        if binding.credential and backend is not None:
            found += [CredentialPlace(binding.credential, environment.name, backend.engine, presented_at(one.address))
                      for one in binding.ends]
    return found


class HasDrafts(Protocol):
    drafts: Drafts


class HasCredentials(Protocol):
    credentials: Credentials


def agreeing(ports: HasDrafts, files: Mapping[str, str], author: str) -> Callable[[Change], None]:
    """What an admin's definitions say yes to: their credentials at their addresses. For the change that stores them."""

    def work(change: Change) -> None:
        new = Catalogue(read_definition(text, path) for path, text in files.items())
        catalogue = ports.drafts.catalogue | new
        before = set(credentials.places(change.db))
        found = [one for environment in new.environments() for one in places_of(environment, catalogue) if one not in before]
        credentials.add_places(change.db, found, author)
        for one in found:
            change.note(author, "allow", f"credential {one.credential}", None, asdict(one))

    return work


async def allow(ports: Ports, name: str, environment: str, author: str) -> list[dict[str, str]]:
    """Agree that a credential is presented where the environment names it; answers all its places."""
    definition = ports.drafts.environment(environment)

    def work(change: Change) -> list[dict[str, str]]:
        _find(change.db, name)
        before = set(credentials.places(change.db))
        wanted = [one for one in places_of(definition, ports.drafts.catalogue) if one.credential == name]
        if not wanted:
            raise ProblemError(Problem("credential.unused", f"No backend in {environment} signs on with {name}.", Kind.CONFLICT,
                                       place=f"environment {environment}", mend="Name it there first: 'credential: …'."))
        credentials.add_places(change.db, wanted, author)
        for one in wanted:
            if one not in before:
                change.note(author, "allow", f"credential {name}", None, asdict(one))
        return [asdict(one) for one in credentials.places(change.db) if one.credential == name]

    return await ports.changes.make([Topic.CREDENTIALS], work)


async def keep_places(ports: Ports) -> None:
    """At the first start of a program that keeps places: credentials belong where they are used now."""
    if await ports.credentials.places_were_kept():
        return
    catalogue = ports.drafts.catalogue
    found = [one for environment in catalogue.environments() for one in places_of(environment, catalogue)]
    await ports.changes.make([Topic.CREDENTIALS], lambda change: credentials.keep_places(change.db, found))


def _plain(ports: Ports, one: StoredCredential) -> dict[str, Any]:
    newest = one.versions[0] if one.versions else None
    now = datetime.now(UTC)
    overlapping = [old for old in one.versions[1:] if old.ends_at is None or datetime.fromisoformat(old.ends_at) > now]
    return {
        "name": one.name, "kind": one.kind, "description": one.description, "created_at": one.created_at,
        "user": newest.user if newest else "", "expires_at": newest.expires_at if newest else None,
        "rotated_at": newest.created_at if newest else None, "rotated_by": newest.author if newest else "",
        "last_used_at": newest.last_used_at if newest else None,
        "overlap_until": max((old.ends_at or "" for old in overlapping), default=None),
        "account": one.account, "cost": one.cost,
        "used_by": _uses(ports, one.name, newest.user if newest else ""),
    }


def _find(db: Db, name: str) -> StoredCredential:
    known = credentials.credentials(db)
    found = next((one for one in known if one.name == name), None)
    if found is None:
        raise ProblemError(unknown("credential", name, [one.name for one in known]))
    return found


def _expiry(kind: str, secret: str, certificate: str, expires: datetime | None) -> str | None:
    if kind == CredentialKind.CERTIFICATE:
        return read_key_pair(secret, certificate)
    return expires.astimezone(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z") if expires else None


def _check_secret(kind: str, user: str, secret: str) -> None:
    if kind not in KINDS:
        raise ProblemError(unknown("kind of credential", kind, list(KINDS)))
    if not secret:
        raise ProblemError(Problem("credential.empty", "The secret is empty.", place="secret", mend="Give it on standard input."))
    if kind == CredentialKind.PASSWORD and not user:
        raise ProblemError(Problem("credential.user", "A password needs the name that it belongs to.", place="user",
                                   mend="Add --user NAME."))


async def add(ports: Ports, name: str, kind: str, user: str, secret: str, certificate: str, expires: datetime | None,
              description: str, author: str) -> dict[str, Any]:
    work = adding(ports, name, kind, user, secret, certificate, expires, description, author)
    return _plain(ports, await ports.changes.make([Topic.CREDENTIALS], work))


def adding(ports: HasCredentials, name: str, kind: str, user: str, secret: str, certificate: str, expires: datetime | None,
           description: str, author: str) -> Callable[[Change], StoredCredential]:
    """What adds a credential, for the change that it is a part of. Raises ProblemError, here or there, and never takes another's place."""
    _check_secret(kind, user, secret)
    expires_at = _expiry(kind, secret, certificate, expires)

    def work(change: Change) -> StoredCredential:
        if not credentials.add_credential(change.db, name, kind, description):
            raise ProblemError(Problem("credential.exists", f"There is a credential {name} already.", Kind.CONFLICT, place="name",
                                       mend=f"Replace its secret: bricola credentials rotate {name}"))
        # Sealed inside the change: the key cannot be renewed between the sealing and the storing.
        sealed = ports.credentials.vault.seal(secret)
        credentials.add_version(change.db, name, user, sealed, certificate, expires_at, author, datetime.now(UTC))
        change.note(author, "add", f"credential {name}", None, {"kind": kind, "user": user, "expires_at": expires_at})
        return _find(change.db, name)

    return work


async def describe(ports: Ports, name: str, words: Mapping[str, str | None], author: str) -> dict[str, Any]:
    """Say whose account it is (`account`), what using it costs (`cost`), what it is for (`description`); what is None stays as it is."""

    def work(change: Change) -> StoredCredential:
        old = _find(change.db, name)
        before = {"description": old.description, "account": old.account, "cost": old.cost}
        after = {key: before[key] if words.get(key) is None else str(words[key]) for key in before}
        credentials.describe(change.db, name, **after)
        change.note(author, "describe", f"credential {name}", before, after)
        return _find(change.db, name)

    return _plain(ports, await ports.changes.make([Topic.CREDENTIALS], work))


async def rotate(ports: Ports, name: str, user: str, secret: str, certificate: str, expires: datetime | None,
                 overlap: timedelta, author: str) -> dict[str, Any]:
    """A new secret, in force at once for new sign-ons; the old one is still tried for the time of the overlap."""

    def work(change: Change) -> dict[str, Any]:
        old = _find(change.db, name)
        whose = user or (old.versions[0].user if old.versions else "")
        _check_secret(old.kind, whose, secret)
        expires_at = _expiry(old.kind, secret, certificate, expires)
        sealed = ports.credentials.vault.seal(secret)
        credentials.add_version(change.db, name, whose, sealed, certificate, expires_at, author, datetime.now(UTC) + overlap)
        made = _plain(ports, _find(change.db, name))
        change.note(author, "rotate", f"credential {name}", {"rotated_at": old.versions[0].created_at if old.versions else None},
                    {"user": whose, "expires_at": expires_at, "overlap_until": made["overlap_until"]})
        return made

    return await ports.changes.make([Topic.CREDENTIALS], work)


async def remove(ports: Ports, name: str, author: str) -> None:
    """Refused while a backend signs on with it."""

    def work(change: Change) -> None:
        old = _find(change.db, name)
        users = users_of(ports, name)  # no environment changes during this change
        if users:
            raise ProblemError(Problem(
                "credential.in-use", f"{name} is in use.", Kind.CONFLICT, place=f"credential {name}",
                found=", ".join(f"{one['backend']} in {one['environment']}" for one in users),
                mend="Name another credential there first."))
        credentials.remove_credential(change.db, name)
        change.note(author, "remove", f"credential {name}", {"kind": old.kind}, None)

    await ports.changes.make([Topic.CREDENTIALS], work)


async def renew_key(ports: Ports, author: str) -> int:
    """Seal every secret with a new key; answers how many there were."""

    def work(change: Change) -> int:
        with ports.credentials.vault.renewing() as again:
            count = credentials.reseal(change.db, again)
            jobs.reseal(change.db, again)
        change.note(author, "renew key", "vault", None, {"secrets": count})
        return count

    async def then(_: int) -> None:
        ports.credentials.vault.renewed()

    return await ports.changes.make([Topic.CREDENTIALS], work, then)
