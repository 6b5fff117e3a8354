"""What the review says of database servers, whatever their engine."""

from collections.abc import Iterator
from typing import Any

from bricola.core.definitions.findings import Area, Finding, Rule, Rules, Severity

RULES = Rules(
    Rule("binding.sign-on", Area.ENVIRONMENT, Severity.WARNING, "A server that nobody verified learns the password that it asks for."),
    Rule("binding.database", Area.ENVIRONMENT, Severity.WARNING, "Without a name, the server opens the database called like the user."),
)


def findings(backend: Any, binding: Any, environment: Any, where: str) -> Iterator[Finding]:
    if binding.credential and binding.password_as == "asked" and binding.tls != "verify":
        yield RULES.finding("binding.sign-on", "Whatever answers there may ask for the password itself.", where, found="password_as: asked",
                            expected="password_as: proof, or tls: verify", mend="Switch SCRAM on at the server, or verify its certificate.")
    if not binding.database:
        yield RULES.finding("binding.database", "The database has no name.", where, mend="Add 'database:'.")
