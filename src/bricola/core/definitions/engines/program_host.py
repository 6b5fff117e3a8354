"""Program hosts, by the protocol of docs/program-host.md."""

from collections.abc import Iterator
from typing import Any

from bricola.core.definitions.engines.engine import Engine, Family
from bricola.core.definitions.engines.places import ServerPlaces, SignOn, Writing
from bricola.core.definitions.findings import Area, Finding, Rule, Rules, Severity

RULES = Rules(
    Rule("binding.program-host-sign-on", Area.ENVIRONMENT, Severity.WARNING, "A secret goes to a program host in the clear without TLS."),
)


def _findings(backend: Any, binding: Any, environment: Any, where: str) -> Iterator[Finding]:
    if binding.credential and binding.tls == "off" and any(not _near(one.address) for one in binding.ends):
        yield RULES.finding("binding.program-host-sign-on", "The secret goes over the net as it is.", where, found="tls: off",
                            expected="tls: verify", mend="Have the host listen with TLS, and add 'tls: verify'.")


def _near(address: str) -> bool:
    return address.rpartition(":")[0] in ("127.0.0.1", "localhost", "[::1]")


ENGINE = Engine("program-host", "program host", Family.PROGRAM_HOST, (ServerPlaces, SignOn, Writing), port=8470,
                needs_sign_on=lambda backend, binding: False, rules=RULES, findings=_findings)
