"""Who calls: tokens checked without a look into the store, from digests that are kept in memory."""

import base64
import binascii
import hashlib
import secrets
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from types import MappingProxyType

from bricola.core.calls.limits import Limits
from bricola.core.problems import Kind, Problem, ProblemError

_MOST_REMEMBERED = 10_000  # header values whose verdict is remembered; above, the memory starts anew
TEST_MARK = " (test)"
_STILL_KNOWN = 60.0  # seconds


@dataclass(frozen=True, slots=True)
class Caller:
    """An identity that calls services. Nobody named: `anonymous` is true and the roles are empty."""

    name: str
    roles: frozenset[str]
    anonymous: bool = False
    limits: Limits | None = field(default=None, compare=False)
    test: bool = field(default=False, compare=False)  # a test run calls in its place, which is not its use of the service

    @property
    def recorded(self) -> str:
        """How it stands in the call log."""
        return f"{self.name}{TEST_MARK}" if self.test else self.name


ANONYMOUS = Caller("anonymous", frozenset(), anonymous=True)


def token_digest(token: str) -> bytes:
    """What is kept of a token. Tokens hold 256 random bits, so a plain SHA-256 cannot be guessed backwards."""
    return hashlib.sha256(token.encode()).digest()


@dataclass(slots=True)
class Token:
    """One token that is accepted. Moments are seconds since 1970."""

    digest: bytes
    caller: Caller
    expires: float | None = None
    used: float | None = None  # the last call, since the service started


class KnownCallerError(ProblemError):
    """A caller who is known, and is not let in: the token has expired, or was revoked."""

    def __init__(self, caller: Caller, problem: Problem) -> None:
        super().__init__(problem)
        self.caller = caller


class Callers:
    """All callers by the digests of their tokens. `now` gives seconds since 1970."""

    def __init__(self, now: Callable[[], float]) -> None:
        self._now = now
        self._tokens: dict[bytes, Token] = {}
        self._lent: dict[bytes, Token] = {}
        self._remembered: dict[bytes, Token] = {}
        self._revoked: dict[bytes, Caller] = {}

    def replace(self, tokens: Iterable[Token], revoked: Mapping[bytes, Caller] = MappingProxyType({})) -> None:
        """Take effect at once for the next call: these tokens, instead of the ones before; by digest, whose those were that are revoked."""
        self._revoked = dict(revoked)
        old = self._tokens
        self._tokens = {one.digest: one for one in tokens}
        for digest, token in self._tokens.items():
            if token.used is None and digest in old:
                token.used = old[digest].used
        self._remembered = {}

    def uses(self) -> list[tuple[float, bytes]]:
        """(last call, digest) of every token that was used since the last time this was asked."""
        used = [one for one in self._tokens.values() if one.used is not None]
        found = [(one.used, one.digest) for one in used if one.used is not None]
        for one in used:
            one.used = None
        return found

    def lend(self, caller: Caller, seconds: float) -> str:
        """A token for a short time, for a test that runs as this caller; 0 for one that has expired already, and is known as such for a
        while."""
        now = self._now()
        self._lent = {digest: one for digest, one in self._lent.items() if one.expires is not None and one.expires > now - _STILL_KNOWN}
        secret = secrets.token_urlsafe(32)
        digest = token_digest(secret)
        self._lent[digest] = Token(digest, caller, now + seconds)
        return secret

    def identify(self, authorization: bytes) -> Caller:
        """The caller behind an Authorization header. Raises ProblemError of kind identity."""
        digest = hashlib.sha256(authorization).digest()  # the header itself is not kept in memory
        token = self._remembered.get(digest)
        if token is None:
            token = self._look_up(authorization)
            if len(self._remembered) >= _MOST_REMEMBERED:
                self._remembered = {}
            self._remembered[digest] = token
        now = self._now()
        if token.expires is not None and now >= token.expires:
            self._remembered.pop(digest, None)
            raise KnownCallerError(token.caller, Problem(
                "caller.expired", f"This token of {token.caller.name} has expired.", Kind.IDENTITY, place="Authorization",
                expected="a token that is still valid", mend=f"Have a new one made: bricola callers rotate {token.caller.name}"))
        token.used = now
        return token.caller

    def _look_up(self, authorization: bytes) -> Token:
        scheme, _, rest = authorization.decode("latin-1").strip().partition(" ")
        name, token = "", rest.strip()
        if scheme.lower() == "basic":
            try:
                name, colon, token = base64.b64decode(token, validate=True).decode("utf-8").partition(":")
            except (binascii.Error, UnicodeDecodeError):
                colon = ""
            if not colon:
                raise _refused("The Basic credentials cannot be read.", "base64 of name:token (RFC 7617)")
            if not name:
                raise _refused("The Basic credentials name nobody.", "the caller's name before the colon, or Bearer with the token alone")
        elif scheme.lower() != "bearer":
            raise _refused("The authentication scheme is not offered.", "Basic with name and token, or Bearer")
        digest = token_digest(token)
        found = self._tokens.get(digest) or self._lent.get(digest)
        revoked = self._revoked.get(digest)
        if found is None and revoked is not None:
            raise KnownCallerError(revoked, Problem(
                "caller.revoked", f"This token of {revoked.name} was revoked.", Kind.IDENTITY, place="Authorization",
                expected="a token that is valid", mend=f"Have a new one made: bricola callers rotate {revoked.name}"))
        if found is None or (name and name != found.caller.name):
            raise _refused("The caller's name and token are not accepted.", "the token of an existing caller")
        return found


def no_identity() -> ProblemError:
    return _refused("The service needs a caller's identity and the request has none.",
                    "Authorization: Basic with name and token, or Bearer with a token")


def _refused(message: str, expected: str) -> ProblemError:
    return ProblemError(Problem("caller.identity", message, Kind.IDENTITY, place="Authorization", expected=expected,
                                mend="Check the caller's name and token; a lost token is replaced by a new one."))
