"""The door to a service over HTTP, whatever is spoken over it."""

import ssl
from collections.abc import Sequence
from typing import Any

from bricola.adapters.engines.door import Door
from bricola.adapters.engines.web.checks import WebServiceCheck
from bricola.adapters.engines.web.sessions import WebServiceKind, authorization, tls_context, user_of
from bricola.adapters.secrets import Secret
from bricola.adapters.stages import Checker
from bricola.adapters.surroundings import Surroundings
from bricola.core.definitions.engines.engine import Engine
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import BackendDefinition, Binding
from bricola.core.kinds.kind import Probe
from bricola.core.pool.sessions import SessionKind


def web_door(engine: Engine, kind: type[WebServiceKind], check: type[WebServiceCheck]) -> Door:
    def sessions(backend: BackendDefinition, binding: Binding, around: Surroundings, environment: str) -> SessionKind[Any]:
        return kind(backend.name, binding, around)

    def checker(backend: BackendDefinition, binding: Binding, endpoint: Endpoint, probes: Sequence[Probe], around: Surroundings,
                running: SessionKind[Any] | None) -> Checker:
        return check(binding, endpoint, around)

    return Door(engine, sessions, checker, presents=_presents, trusts=_trusts)


def _secret(binding: Binding, around: Surroundings) -> Secret | None:
    return around.secrets.secrets(binding.credential)[0] if binding.credential else None


def _presents(binding: Binding, around: Surroundings) -> dict[str, str]:
    secret = _secret(binding, around)
    return authorization(binding.sign_in, user_of(binding, secret), secret)


def _trusts(binding: Binding, around: Surroundings) -> ssl.SSLContext:
    return tls_context(binding, _secret(binding, around))
