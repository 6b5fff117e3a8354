"""Findings about running a service in one environment: places of backends, context, addresses."""

from collections.abc import Iterator
from urllib.parse import urlsplit

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.contexts import context_misfits, with_context
from bricola.core.definitions.engines.places import WHERE
from bricola.core.definitions.findings import Area, Facts, Finding, Rule, Rules, Severity
from bricola.core.definitions.model import BackendDefinition, Binding, EnvironmentDefinition, ServiceDefinition
from bricola.core.definitions.suites import SuiteDefinition
from bricola.core.kinds.around import UNFORESEEN, misfits
from bricola.core.kinds.registry import backends_of
from bricola.core.kinds.resolve import ResolvedService
from bricola.core.problems import ProblemError, shown
from bricola.core.shapes.given import context_values

_E, _W, _H = Severity.ERROR, Severity.WARNING, Severity.HINT

RULES = Rules(
    Rule("binding.missing", Area.ENVIRONMENT, _E, "A backend without a place cannot be reached."),
    Rule("binding.kind", Area.ENVIRONMENT, _E, "A file has no address and a server is no file."),
    Rule("binding.unused", Area.ENVIRONMENT, _W, "A setting without effect makes people believe that it has one."),
    Rule("binding.file-missing", Area.ENVIRONMENT, _E, "A database file is never created by serving it."),
    Rule("binding.address", Area.ENVIRONMENT, _E, "An address is a host and a port."),
    Rule("binding.twice", Area.ENVIRONMENT, _W, "Two endpoints at one address fail together."),
    Rule("binding.read-only", Area.ENVIRONMENT, _E, "An operation that writes cannot run where nothing may be written."),
    Rule("binding.requests", Area.ENVIRONMENT, _H,
         "After a crash only a mark in the backend itself tells whether a repeated write was done."),
    Rule("context.unused", Area.ENVIRONMENT, _H, "A context value that no operation takes has no effect."),
    Rule("backend.engine", Area.ENVIRONMENT, _E, "This installation has no adapter for the backend's kind."),
    Rule("backend.unseen", Area.ENVIRONMENT, _E, "What was not held against its backend may be refused there at the first call."),
    Rule("backend.unfit", Area.ENVIRONMENT, _E,
         "A column that went, another type, a right that is missing: each fails calls, and the backend tells it beforehand."),
    Rule("context.missing", Area.ENVIRONMENT, _E, "An input given by context needs the environment's value."),
    Rule("context.value", Area.ENVIRONMENT, _E, "A context value must fit the type of the input that takes it."),
    Rule("context.name", Area.ENVIRONMENT, _E, "A name that no list has stands for nothing."),
    Rule("context.pool", Area.ENVIRONMENT, _E, "An account for another company or site would answer with somebody else's rows."),
    Rule("reference.environment", Area.ENVIRONMENT, _E, "A release passes from one environment to the next."),
    Rule("environment.circle", Area.ENVIRONMENT, _E, "Environments that follow each other have no first one."),
    Rule("environment.address", Area.ENVIRONMENT, _H, "Without a public address, contracts name the host that was asked."),
    Rule("environment.address-form", Area.ENVIRONMENT, _E, "A base address is an http or https URL."),
    Rule("environment.local-address", Area.ENVIRONMENT, _W, "Callers elsewhere cannot reach an address of this machine."),
    Rule("handler.unbound", Area.ENVIRONMENT, _E, "A service names who is told of failures; the environment says which operation it is."),
    Rule("handler.operation", Area.ENVIRONMENT, _E, "A handler is an operation of a service that takes what it can be told."),
    Rule("handler.unused", Area.ENVIRONMENT, _H, "A handler that no service names is told of nothing."),
    Rule("stored.unseen", Area.ENVIRONMENT, _H, "A stored answer does not know of writes that are made past Bricola."),
    Rule("stored.operation", Area.ENVIRONMENT, _W, "Only a read that there is can be answered from memory."),
    Rule("tests.environment", Area.ENVIRONMENT, _E, "Suites run in an environment that there is."),
    Rule("tests.none", Area.ENVIRONMENT, _W, "Where tests are asked for, a service without any passes unproved."),
    Rule("environment.skipped", Area.ENVIRONMENT, _W, "What was never tried in the environment before is tried on callers."),
)
finding = RULES.finding
UNSEEN = "backend.unseen"


def is_local(host: str) -> bool:
    """Whether an address can be reached from its own machine only."""
    return host == "localhost" or host.startswith("127.") or host == "::1"


def findings(catalogue: Catalogue, service: ServiceDefinition, environment: EnvironmentDefinition,
             facts: Facts) -> Iterator[Finding]:
    place = f"environment {environment.name}"
    for name in backends_of(catalogue, service):
        backend, binding = catalogue.find_backend(name), environment.binding(name)
        where = f"{place}, backends, {name}"
        missing = facts.engines.get(backend.engine, "it has no adapter for it") if backend is not None and facts.engines is not None else ""
        if backend is not None and facts.engines is not None and missing:
            able = [word for word, why in facts.engines.items() if not why]
            yield finding("backend.engine", f"This installation cannot reach {backend.engine} backends.", f"backend {name}",
                          choices=tuple(sorted(able)), found=f"{backend.engine}: {missing}",
                          mend="Install what is missing, or use another kind of backend.")
        if binding is None or not binding.ends:
            form = backend.about.example if backend is not None else "address: host:port"
            yield finding("binding.missing", f"The backend {name} has no place in {environment.name}.", f"{place}, backends",
                          mend=f"Add '{name}: {{{form}}}' there.")
        elif backend is not None:
            yield from _binding(backend, binding, where)
            yield from backend.about.findings(backend, binding, environment, where)
            if name in facts.missing_files:
                yield finding("binding.file-missing", f"The file of {name} does not exist.", f"{where}, file",
                              found=facts.missing_files[name], mend="Correct 'file:', or put the database there.",
                              command=f"bricola check {environment.name} {name}")
    for fact in facts.backends.values():
        for one in fact.problems:
            yield finding(one.code, one.message, one.place, one.expected, one.found, one.mend)
    yield from _tests(catalogue, service, environment)
    yield from _handler(catalogue, service, environment, facts)
    yield from _environment(catalogue, service, environment, facts)


def _tests(catalogue: Catalogue, service: ServiceDefinition, environment: EnvironmentDefinition) -> Iterator[Finding]:
    """What must pass before a release comes here, and whether there is anything to pass."""
    asked, place = environment.tests, f"environment {environment.name}, tests"
    if asked is None:
        return
    if asked.run_in and catalogue.find_environment(asked.run_in) is None:
        yield finding("tests.environment", "There is no such environment.", f"{place}, run_in", found=shown(asked.run_in),
                      expected=", ".join(one.name for one in catalogue.environments()),
                      mend="Name one that there is, or leave the line out.")
    mine = [one.name for one in catalogue.all_of(SuiteDefinition) if one.service == service.name]
    if asked.suites == "all" and not mine:
        yield finding("tests.none", f"{service.name} has no test suite, so nothing proves it before it comes to {environment.name}.", place,
                      mend=f"Keep a call as a case: bricola call {environment.name} {service.name} OPERATION … --keep SUITE.CASE")


def _handler(catalogue: Catalogue, service: ServiceDefinition, environment: EnvironmentDefinition, facts: Facts) -> Iterator[Finding]:
    """Who is told of failures, and whether that can be told."""
    place = f"environment {environment.name}, handlers"
    named = {one.unforeseen for one in catalogue.services() if one.unforeseen}
    for name in environment.handlers if catalogue.environments() else ():  # a release knows no other services
        if name not in named:
            yield finding("handler.unused", f"No service names the handler {name}.", f"{place}, {name}", mend="Take the line out.")
    if not service.unforeseen:
        return
    target = environment.handlers.get(service.unforeseen)
    if target is None:
        yield finding("handler.unbound", f"The handler {service.unforeseen} is no operation in {environment.name} yet.", place,
                      mend=f"Add '{service.unforeseen}: Service.Operation' there.")
    elif facts.live is not None and target not in facts.live:
        yield finding("handler.operation", f"No such operation is live in {environment.name}.", f"{place}, {service.unforeseen}",
                      found=shown(target), expected="Service.Operation, of a service that is live there", mend="Deploy it first.")
    elif facts.live is not None:
        for one in misfits(facts.live[target], UNFORESEEN, f"{place}, {service.unforeseen}"):
            yield finding("handler.operation", one.message, one.place, expected=one.expected, found=one.found)


def _binding(backend: BackendDefinition, binding: Binding, where: str) -> Iterator[Finding]:
    about = backend.about
    for name in sorted(binding.given - about.settings):
        if name in WHERE:
            yield finding("binding.kind", f"A {about.title} backend is {'a file' if about.is_file else 'a server'}.", where,
                          expected=about.example, found=f"{name}: …", mend=f"Take '{name}:' out.")
        else:
            yield finding("binding.unused", f"A {about.title} backend has no use for {name}.", f"{where}, {name}",
                          found=f"{name}: …", mend=f"Take '{name}:' out.")
    seen: dict[str, str] = {}
    for end in binding.ends:
        if about.is_file and ":" in end.address:
            yield finding("binding.kind", f"A {about.title} backend is a file.", where, expected=about.example, found="an address")
        elif not (about.is_file or about.is_web) and not (about.stands_in(binding) or _is_address(end.address)):
            yield finding("binding.address", f"The address of the endpoint {end.name} cannot be read.", where,
                          expected="host:port, like db-north.example:5432", found=shown(end.address))
        other = seen.setdefault(end.address, end.name)
        if other != end.name and not about.is_file:
            yield finding("binding.twice", f"The endpoints {other} and {end.name} have one address.", where, found=end.address)


def _is_address(text: str) -> bool:
    try:
        parts = urlsplit(f"//{text}")
        return bool(parts.hostname) and not parts.path and "@" not in text and (parts.port is None or parts.port > 0)
    except ValueError:
        return False


def _environment(catalogue: Catalogue, service: ServiceDefinition, environment: EnvironmentDefinition,
                 facts: Facts) -> Iterator[Finding]:
    place = f"environment {environment.name}"
    if environment.follows and catalogue.find_environment(environment.follows) is None:
        yield finding("reference.environment", "It follows an environment that is not defined.", f"{place}, follows",
                      found=shown(environment.follows))
    circle = _circle(catalogue, environment)
    if circle:
        yield finding("environment.circle", "The environments follow each other in a circle.", f"{place}, follows",
                      found=" -> ".join(circle), mend="Take 'follows:' out of the first one.")
    parts = urlsplit(environment.address)
    if environment.address and (parts.scheme not in ("http", "https") or not parts.hostname):
        yield finding("environment.address-form", "The public base address cannot be read.", f"{place}, address",
                      expected="a URL like https://services.example", found=shown(environment.address))
    elif environment.protected and not environment.address:
        yield finding("environment.address", "Contracts name the host that they were asked by.", place,
                      mend="Set 'address:' to the public base address of this environment.")
    elif environment.protected and is_local(parts.hostname or ""):
        yield finding("environment.local-address", "The address can be reached from this machine only.", f"{place}, address",
                      found=shown(environment.address))
    if facts.passed is False and environment.follows:
        yield finding("environment.skipped", f"This release was never live in {environment.follows}.", place,
                      expected=f"{environment.follows} before {environment.name}",
                      command=f"bricola deploy {service.name} {environment.follows}")


def _circle(catalogue: Catalogue, environment: EnvironmentDefinition) -> list[str]:
    path = [environment.name]
    current: EnvironmentDefinition | None = environment
    while current is not None and current.follows:
        path.append(current.follows)
        if current.follows == environment.name:
            return path
        if current.follows in path[:-1]:
            return []  # a circle further up, told where it is reviewed
        current = catalogue.find_environment(current.follows)
    return []


def _writes(catalogue: Catalogue, resolved: ResolvedService, environment: EnvironmentDefinition) -> Iterator[Finding]:
    """What operations that write ask of their bindings."""
    writing = {name: one.shape.name for one in reversed(resolved.operations) if one.shape.writes for name in one.backends}
    for name, operation in writing.items():
        backend, binding = catalogue.find_backend(name), environment.binding(name)
        if binding is None:
            continue
        where = f"environment {environment.name}, backends, {name}"
        if binding.read_only:
            yield finding("binding.read-only", f"{operation} writes, but {name} is read only in {environment.name}.", f"{where}, read_only",
                          mend="Leave out the operations that write. It is a lock: whoever may take it away binds it without 'read_only:'.")
        elif not binding.requests and backend is not None and "requests" in backend.about.settings:
            yield finding("binding.requests", f"{name} keeps no marks of repeatable requests.", where,
                          mend="Make a table with the columns id (64 characters, primary key), expires (whole number) and answer (text),"
                               " and name it under 'requests:'.")


def unused_context(catalogue: Catalogue, environment: EnvironmentDefinition) -> Iterator[Finding]:
    """Context values that no operation of any service takes."""
    taken = {two.value for service in catalogue.services() for one in service.operations for two in one.input if two.given == "context"}
    for name in environment.context:
        if name not in taken:
            yield finding("context.unused", f"No operation takes the context value {name}.",
                          f"environment {environment.name}, context, {name}",
                          mend=f"Give an input by it: '{{given: context, value: {name}}}', or remove it.")


def _stored(service: ServiceDefinition, resolved: ResolvedService, environment: EnvironmentDefinition) -> Iterator[Finding]:
    """What answers from memory, of one service."""
    reads = {f"{service.segment}.{one.shape.name}": one for one in resolved.operations if not one.shape.writes}
    for name, policy in environment.stored_answers.items():
        place = f"environment {environment.name}, stored_answers, {name}"
        if name in reads:
            backends = ", ".join(reads[name].backends) or "its backends"
            yield finding("stored.unseen", f"{name} answers from memory for up to {policy.seconds:g} s: what others write to {backends} "
                          "meanwhile is not seen.", place, mend="Shorten 'seconds:', or take the line out: live is what all others are.")
        elif name.partition(".")[0] == service.segment:
            yield finding("stored.operation", f"{name} is no operation that reads.", place,
                          expected="an operation that reads", choices=tuple(reads), found=shown(name))


def context_findings(catalogue: Catalogue, service: ServiceDefinition, resolved: ResolvedService,
                     environment: EnvironmentDefinition) -> Iterator[Finding]:
    yield from _writes(catalogue, resolved, environment)
    yield from _stored(service, resolved, environment)
    wrong = list(context_misfits(environment, catalogue))
    for one in wrong:
        yield finding(one.code, one.message, one.place, one.expected, one.found, one.mend, choices=one.choices)
    if wrong:
        return
    environment = with_context(environment, catalogue)
    for operation in resolved.operations:
        try:
            context_values(operation.given, operation.shape.name, environment)
        except ProblemError as error:
            for problem in error.problems:
                code = problem.code if problem.code == "context.missing" else "context.value"
                yield finding(code, problem.message, problem.place, problem.expected, problem.found, problem.mend)
