"""Who calls: tokens checked without a look into the store, from digests that are kept in memory."""

import base64
import binascii
import hashlib
import secrets
from collections.abc import Callable, Iterable
from dataclasses import dataclass

from bricola.core.problems import Kind, Problem, ProblemError

_MOST_REMEMBERED = 10_000  # header values whose verdict is remembered; above, the memory starts anew


@dataclass(frozen=True, slots=True)
class Caller:
    """An identity that calls services. Nobody named: `anonymous` is true and the roles are empty."""

    name: str
    roles: frozenset[str]
    anonymous: bool = False


ANONYMOUS = Caller("anonymous", frozenset(), anonymous=True)


def token_digest(token: str) -> bytes:
    """What is kept of a token. Tokens hold 256 random bits, so a plain SHA-256 cannot be guessed backwards."""
    return hashlib.sha256(token.encode()).digest()


class Callers:
    """All callers by the digests of their tokens. `clock` gives monotonic seconds, for lent tokens."""

    def __init__(self, clock: Callable[[], float]) -> None:
        self._clock = clock
        self._by_digest: dict[bytes, Caller] = {}
        self._lent: dict[bytes, tuple[Caller, float]] = {}
        self._remembered: dict[bytes, Caller] = {}

    def replace(self, callers: Iterable[tuple[bytes, Caller]]) -> None:
        """Take effect at once for the next call: all (token digest, caller) pairs, instead of the ones before."""
        self._by_digest = dict(callers)
        self._remembered = {}

    def lend(self, caller: Caller, seconds: float) -> str:
        """A token for a short time, for a test that runs as this caller."""
        now = self._clock()
        self._lent = {digest: one for digest, one in self._lent.items() if one[1] > now}
        token = secrets.token_urlsafe(32)
        self._lent[token_digest(token)] = caller, now + seconds
        return token

    def identify(self, authorization: bytes) -> Caller:
        """The caller behind an Authorization header. Raises ProblemError of kind identity."""
        digest = hashlib.sha256(authorization).digest()  # the header itself is not kept in memory
        known = self._remembered.get(digest)
        if known is not None:
            return known
        caller, may_remember = self._look_up(authorization)
        if may_remember:
            if len(self._remembered) >= _MOST_REMEMBERED:
                self._remembered = {}
            self._remembered[digest] = caller
        return caller

    def _look_up(self, authorization: bytes) -> tuple[Caller, bool]:
        scheme, _, rest = authorization.decode("latin-1").strip().partition(" ")
        name, token = "", rest.strip()
        if scheme.lower() == "basic":
            try:
                name, colon, token = base64.b64decode(token, validate=True).decode("utf-8").partition(":")
            except (binascii.Error, UnicodeDecodeError):
                colon = ""
            if not colon:
                raise _refused("The Basic credentials cannot be read.", "base64 of name:token (RFC 7617)")
        elif scheme.lower() != "bearer":
            raise _refused("The authentication scheme is not offered.", "Basic with name and token, or Bearer")
        digest = token_digest(token)
        caller = self._by_digest.get(digest)
        lent = self._lent.get(digest) if caller is None else None
        if lent is not None and lent[1] > self._clock():
            caller = lent[0]
        if caller is None or (name and name != caller.name):
            raise _refused("The caller's name and token are not accepted.", "the token of an existing caller")
        return caller, lent is None


def no_identity() -> ProblemError:
    return _refused("The service needs a caller's identity and the request has none.",
                    "Authorization: Basic with name and token, or Bearer with a token")


def _refused(message: str, expected: str) -> ProblemError:
    return ProblemError(Problem("caller.identity", message, Kind.IDENTITY, place="Authorization", expected=expected,
                                mend="Check the caller's name and token; a lost token is replaced by a new one."))
