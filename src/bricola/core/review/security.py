"""Findings about who may call, as whom Bricola signs on, and what travels in the clear."""

from collections.abc import Iterator
from urllib.parse import urlsplit

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.engines.places import presented_at
from bricola.core.definitions.findings import Area, Facts, Finding, Rule, Rules, Severity
from bricola.core.definitions.model import BackendDefinition, Binding, EnvironmentDefinition, ServiceDefinition
from bricola.core.durations import DAY
from bricola.core.kinds.registry import backends_of
from bricola.core.problems import shown
from bricola.core.review.environments import is_local

_E, _W = Severity.ERROR, Severity.WARNING

RULES = Rules(
    Rule("access.anonymous", Area.SECURITY, _W, "Anonymous access is a choice that should be looked at again.", True),
    Rule("credential.none", Area.SECURITY, _W, "A server that asks for no sign-on lets everybody in."),
    Rule("credential.unknown", Area.SECURITY, _E, "A credential that does not exist cannot sign on."),
    Rule("credential.kind", Area.SECURITY, _E, "A kind of backend takes some kinds of credential only."),
    Rule("credential.expired", Area.SECURITY, _E, "An expired secret is refused at the first call."),
    Rule("credential.expires", Area.SECURITY, _W, "Two weeks are enough to replace a secret in peace."),
    Rule("credential.place", Area.ENVIRONMENT, _E, "A secret goes only where an admin said; anybody's server could ask for it."),
    Rule("credential.shared", Area.SECURITY, _W, "One secret for rehearsal and live means that a mistake in the one reaches the other."),
    Rule("credential.administrator", Area.SECURITY, _W, "Whoever finds a gap in a service can do what its account can."),
    Rule("binding.tls", Area.SECURITY, _W, "A protected environment should not send a sign-on in the clear."),
    Rule("environment.plain-http", Area.SECURITY, _W, "Tokens of callers travel in the clear.", True),
)
finding = RULES.finding

_SOON = 14 * DAY
_MOST_RIGHTS = 6  # that are told one by one
_TAKEN = ("password", "token")  # kinds of credential that a PostgreSQL server is signed on with


def findings(catalogue: Catalogue, service: ServiceDefinition, environment: EnvironmentDefinition,
             facts: Facts) -> Iterator[Finding]:
    place = f"environment {environment.name}"
    if service.name in environment.anonymous:
        rest = tuple(one for one in environment.anonymous if one != service.name)
        yield finding("access.anonymous", f"{service.name} answers callers without identity in {environment.name}.",
                      f"{place}, anonymous", mend="Remove it from the list unless this is meant.",
                      mended=environment.model_copy(update={"anonymous": rest}))
    for name in backends_of(catalogue, service):
        backend, binding = catalogue.find_backend(name), environment.binding(name)
        if backend is None or binding is None or not backend.about.needs_sign_on(backend, binding):
            continue
        where = f"{place}, backends, {name}"
        yield from _credential(binding, where, facts)
        yield from _places(environment, backend, binding, where, facts)
        if binding.credential:
            for other in catalogue.environments():
                bound = other.binding(name)
                if other.name != environment.name and other.protected != environment.protected and bound is not None \
                        and bound.credential == binding.credential:
                    yield finding("credential.shared", f"{environment.name} and {other.name} sign on with one credential.",
                                  f"{where}, credential", found=binding.credential, mend="Give each environment its own.",
                                  command=f"bricola credentials add {binding.credential}-{environment.name}")
        fact = facts.backends.get(name)
        if fact is not None and fact.powers:
            yield finding("credential.administrator", f"Calls reach {name} as an administrator of it.", f"{where}, credential",
                          expected="a technical account with the rights that the service needs", found=", ".join(fact.powers),
                          mend=f"Make one there: {'; '.join(f'{one} TO …' for one in fact.rights[:_MOST_RIGHTS])}"
                               f"{'; …' if len(fact.rights) > _MOST_RIGHTS else ''}.",
                          command=f"bricola credentials rotate {binding.credential} --user USER")
        hosts = [urlsplit(f"//{one.address}").hostname or "" for one in binding.ends]
        if backend.about.is_web:
            continue  # its address says whether it is encrypted
        if environment.protected and binding.tls == "off" and not all(is_local(one) for one in hosts):
            yield finding("binding.tls", f"The way to {name} is not encrypted.", f"{where}, tls", expected="encrypt or verify",
                          found="off", mend="Set 'tls: verify', and switch TLS on at the server.")
    parts = urlsplit(environment.address)
    if environment.protected and parts.scheme == "http" and parts.hostname and not is_local(parts.hostname):
        address = environment.address.replace("http://", "https://", 1)
        yield finding("environment.plain-http", "Callers reach this environment without TLS.", f"{place}, address",
                      expected="an https address", found=shown(environment.address), mend=f"Use {address}.",
                      mended=environment.model_copy(update={"address": address}))


def _places(environment: EnvironmentDefinition, backend: BackendDefinition, binding: Binding, where: str,
            facts: Facts) -> Iterator[Finding]:
    known = (facts.credentials or {}).get(binding.credential)
    if known is None or known.places is None:
        return
    for end in binding.ends:
        address = presented_at(end.address)
        if (environment.name, backend.engine, address) not in known.places:
            yield finding("credential.place", f"No admin has agreed that {binding.credential} is presented at {address}.",
                          f"{where}, credential", found=address, mend="An admin agrees to it.",
                          command=f"bricola credentials allow {binding.credential} {environment.name}")


def _credential(binding: Binding, where: str, facts: Facts) -> Iterator[Finding]:
    name = binding.credential
    if not name:
        yield finding("credential.none", "Bricola signs on there without a credential.", where, mend="Add 'credential: NAME'.",
                      command="bricola credentials add NAME")
        return
    if facts.credentials is None:
        return
    known = facts.credentials.get(name)
    if known is None:
        yield finding("credential.unknown", "There is no such credential.", f"{where}, credential", found=shown(name),
                      expected="a credential", choices=tuple(sorted(facts.credentials)),
                      mend=f"Add {name}.", command=f"bricola credentials add {name}")
        return
    if known.kind not in _TAKEN:
        yield finding("credential.kind", f"{name} is a {known.kind}, which this backend does not take.", f"{where}, credential",
                      expected=" or ".join(_TAKEN), found=known.kind)
    if known.expires is not None and known.expires <= facts.now:
        yield finding("credential.expired", f"The credential {name} has expired.", f"{where}, credential", mend=f"Replace {name}.",
                      command=f"bricola credentials rotate {name}")
    elif known.expires is not None and known.expires - facts.now < _SOON:
        days = int((known.expires - facts.now) // DAY)
        yield finding("credential.expires", f"The credential {name} expires in {days} {'day' if days == 1 else 'days'}.",
                      f"{where}, credential", mend=f"Replace {name} with an overlap.",
                      command=f"bricola credentials rotate {name}")
