"""SOAP services of others."""

from bricola.core.definitions.engines.engine import Engine, Family
from bricola.core.definitions.engines.places import ServerPlaces, SignOn
from bricola.core.definitions.engines.web import RULES, ServiceCalls, web_findings

ENGINE = Engine("soap", "SOAP service", Family.SERVICE, (ServerPlaces, SignOn, ServiceCalls), is_web=True, example="address: https://host/path",
                needs_sign_on=lambda backend, binding: binding.sign_in != "none", rules=RULES, findings=web_findings)
