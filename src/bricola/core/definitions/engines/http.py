"""HTTP services of others that speak no SOAP: JSON, or whatever they take."""

from collections.abc import Iterator
from typing import Any

from bricola.core.definitions.engines.engine import Engine, Family
from bricola.core.definitions.engines.places import ServerPlaces, SignOn
from bricola.core.definitions.engines.web import RULES, ServiceCalls, web_findings
from bricola.core.definitions.findings import Finding


def _findings(backend: Any, binding: Any, environment: Any, where: str) -> Iterator[Finding]:
    yield from web_findings(backend, binding, environment, where)
    if binding.sign_in == "user-token":
        yield RULES.finding("binding.sign-in", "A user token stands in the header of a SOAP message, and this speaks none.", where,
                            expected="none, basic, bearer or certificate", found="sign_in: user-token")


ENGINE = Engine("http", "HTTP service", Family.HTTP, (ServerPlaces, SignOn, ServiceCalls), is_web=True, example="address: https://host/path",
                needs_sign_on=lambda backend, binding: binding.sign_in != "none", rules=RULES, findings=_findings)
