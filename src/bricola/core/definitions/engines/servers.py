"""What the review says of database servers, whatever their engine."""

from collections.abc import Iterator
from typing import Any

from bricola.core.definitions.findings import Area, Finding, Rule, Rules, Severity

RULES = Rules(
    Rule("binding.database", Area.ENVIRONMENT, Severity.WARNING, "Without a name, the server opens the database called like the user."),
)


def findings(backend: Any, binding: Any, environment: Any, where: str) -> Iterator[Finding]:
    if not binding.database:
        yield RULES.finding("binding.database", "The database has no name.", where, mend="Add 'database:'.")
