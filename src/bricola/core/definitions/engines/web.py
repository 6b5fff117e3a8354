"""What engines over HTTP share: how Bricola signs in, and how much it waits for."""

from collections.abc import Iterator
from typing import Any, Literal
from urllib.parse import urlsplit

from pydantic import Field as Described

from bricola.core.definitions.base import Frozen
from bricola.core.definitions.findings import Area, Finding, Rule, Rules, Severity


class ServiceCalls(Frozen):
    """How Bricola signs in to a service, and how long an answer may take (seconds) and be (bytes).

    | sign_in | |
    | --- | --- |
    | none | nothing is presented |
    | basic | HTTP Basic (RFC 7617) with the credential's user and password |
    | bearer | HTTP Bearer (RFC 6750) with the credential's token |
    | user-token | a WS-Security user token in the header of the message (OASIS, UsernameToken Profile 1.1.1) |
    | certificate | the credential's certificate, at the TLS handshake |

    A user token and `contract_address` are of SOAP services. The latter is where they publish their contract, for `contracts check`: the
    address with `?wsdl` unless it is said.
    `user_form` is how the other side wants the name, with {user} for the credential's: `LARK\\{user}`, `{user}@lark.example`.
    """

    sign_in: Literal["none", "basic", "bearer", "user-token", "certificate"] = "none"
    """How Bricola signs in."""
    user_form: str = "{user}"
    """How the other side wants the name, with {user} in it."""
    contract_address: str = ""
    """Where the service publishes its contract; the address with ?wsdl when empty."""
    answer_seconds: float = Described(30.0, gt=0, le=600)
    """The most seconds that an answer takes."""
    answer_bytes: int = Described(8_000_000, ge=1000, le=100_000_000)
    """The most bytes of an answer."""


RULES = Rules(
    Rule("binding.url", Area.ENVIRONMENT, Severity.ERROR, "A service is reached at a web address."),
    Rule("binding.sign-in", Area.ENVIRONMENT, Severity.ERROR, "A way to sign in needs a credential, and a credential a way."),
    Rule("binding.clear-text", Area.ENVIRONMENT, Severity.WARNING, "What signs in over http can be read on the way."),
    Rule("binding.user-form", Area.ENVIRONMENT, Severity.ERROR, "Without {user} everybody would sign in as the same text."),
)
_LOCAL = ("localhost", "127.0.0.1", "::1")


def web_findings(backend: Any, binding: Any, environment: Any, where: str) -> Iterator[Finding]:
    ends = binding.endpoints or ([binding] if binding.address else [])
    for end in ends:
        parts = urlsplit(end.address)
        if parts.scheme not in ("http", "https") or not parts.hostname:
            yield RULES.finding("binding.url", "The address is no web address.", where, expected="http://… or https://…", found=end.address)
        elif parts.scheme == "http" and binding.sign_in != "none" and parts.hostname not in _LOCAL:
            yield RULES.finding("binding.clear-text", "The credential travels in clear text.", where, found=end.address,
                                mend="Take the https address.")
    if (binding.sign_in == "none") is not (not binding.credential):
        what = ("A credential is named, and no way to sign in with it." if binding.credential
                else "There is a way to sign in, and no credential.")
        yield RULES.finding("binding.sign-in", what, where, found=f"sign_in: {binding.sign_in}",
                            mend="Set 'sign_in:' and 'credential:' together.")
    if "{user}" not in binding.user_form:
        yield RULES.finding("binding.user-form", "The form of the user's name has no place for it.", where, expected="{user} in it",
                            found=binding.user_form)
