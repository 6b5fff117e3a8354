"""Findings about running a service in one environment: places of backends, context, addresses."""

from collections.abc import Iterator
from urllib.parse import urlsplit

from bricola.core.definitions.catalogue import Catalogue, backends_of
from bricola.core.definitions.model import BackendDefinition, Binding, EnvironmentDefinition, ServiceDefinition
from bricola.core.problems import ProblemError, shown
from bricola.core.review.findings import Facts, Finding, finding
from bricola.core.shapes.given import context_values
from bricola.core.shapes.resolve import ResolvedService

_OWN_STORES = ("bricola.db", "calls.db")


def is_local(host: str) -> bool:
    """Whether an address can be reached from its own machine only."""
    return host == "localhost" or host.startswith("127.") or host == "::1"


def findings(catalogue: Catalogue, service: ServiceDefinition, environment: EnvironmentDefinition,
             facts: Facts) -> Iterator[Finding]:
    place = f"environment {environment.name}"
    for name in backends_of(catalogue, service):
        backend, binding = catalogue.find_backend(name), environment.binding(name)
        where = f"{place}, backends, {name}"
        if backend is not None and facts.engines is not None and backend.engine not in facts.engines:
            yield finding("backend.engine", f"This installation cannot reach {backend.engine} backends.", f"backend {name}",
                          expected=f"one of {', '.join(sorted(facts.engines))}", found=backend.engine,
                          mend="Install a Bricola with an adapter for it, or use another kind of backend.")
        if binding is None or not binding.ends:
            form = "file: …" if backend is not None and backend.engine == "sqlite" else "address: host:port"
            yield finding("binding.missing", f"The backend {name} has no place in {environment.name}.", f"{place}, backends",
                          mend=f"Add '{name}: {{{form}}}' there.")
        elif backend is not None:
            yield from _binding(backend, binding, where)
            yield from _terminals(environment, backend, binding, where)
            if name in facts.missing_files:
                yield finding("binding.file-missing", f"The file of {name} does not exist.", f"{where}, file",
                              found=facts.missing_files[name], mend="Correct 'file:', or put the database there.",
                              command=f"bricola check {environment.name} {name}")
    for kind, name in dict.fromkeys(one.source for one in service.operations):
        if kind == "screen-flow" and name in facts.moved:
            yield finding("flow.moved", f"The host in {environment.name} is not as {name} was filmed.", f"screen-flow {name}, screens",
                          found=facts.moved[name], mend="Correct the screens, or film the walk anew.",
                          command=f"bricola screens check {environment.name} {name}")
    yield from _environment(catalogue, service, environment, facts)


def _terminals(environment: EnvironmentDefinition, backend: BackendDefinition, binding: Binding, where: str) -> Iterator[Finding]:
    if not backend.is_terminal:
        return
    room = len(binding.devices) * max(1, len(binding.ends))
    if binding.devices and room < binding.pool.max_size:
        pool = binding.pool.model_copy(update={"max_size": room, "min_size": min(binding.pool.min_size, room)})
        bindings = tuple(one.model_copy(update={"pool": pool}) if one.name == binding.name else one for one in environment.backends)
        yield finding(
            "binding.devices",
            "The pool may hold more sessions than it has device names.",
            f"{where}, devices",
            expected=f"max_size up to {room}",
            found=str(binding.pool.max_size),
            mend=f"Set max_size to {room}, or name more devices.",
            mended=environment.model_copy(update={"backends": bindings}),
        )
    if binding.film and environment.protected:
        yield finding("binding.film", f"{backend.name} is a recorded film here.", f"{where}, film", found=shown(binding.film),
                      mend="Give it the address of the host.")


def _binding(backend: BackendDefinition, binding: Binding, where: str) -> Iterator[Finding]:
    if backend.engine == "sqlite":
        if binding.address or any(one.address and ":" in one.address for one in binding.endpoints):
            yield finding("binding.kind", "A SQLite backend is a file.", where, expected="file: …", found="an address")
        if any(one.address in _OWN_STORES for one in binding.ends):
            yield finding("binding.own-store", "A backend cannot be Bricola's own store.", f"{where}, file",
                          found=", ".join(one.address for one in binding.ends))
        return
    if binding.film and not binding.address and not binding.endpoints:
        return
    if binding.file:
        yield finding("binding.kind", "This backend is a server.", where, expected="address: host:port", found="a file")
    if not binding.database and not backend.is_terminal:
        yield finding("binding.database", "The database has no name.", where, mend="Add 'database:'.")
    seen: dict[str, str] = {}
    for end in binding.ends:
        if not _is_address(end.address):
            yield finding("binding.address", f"The address of the endpoint {end.name} cannot be read.", where,
                          expected="host:port, like db-north.larkmere.example:5432", found=shown(end.address))
        other = seen.setdefault(end.address, end.name)
        if other != end.name:
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
                      expected="a URL like https://services.larkmere.example", found=shown(environment.address))
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


def _writes(resolved: ResolvedService, environment: EnvironmentDefinition) -> Iterator[Finding]:
    """What operations that write ask of their bindings."""
    writing = {one.backend: one.shape.name for one in reversed(resolved.operations) if one.shape.writes}
    for name, operation in writing.items():
        binding = environment.binding(name)
        if binding is None:
            continue
        where = f"environment {environment.name}, backends, {name}"
        if binding.read_only:
            backends = tuple(one.model_copy(update={"read_only": False}) if one.name == name else one for one in environment.backends)
            yield finding("binding.read-only", f"{operation} writes, but {name} is read only in {environment.name}.", f"{where}, read_only",
                          mend="Bind it without 'read_only:', or leave out the operations that write.",
                          mended=environment.model_copy(update={"backends": backends}))
        elif not binding.requests:
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


def context_findings(resolved: ResolvedService, environment: EnvironmentDefinition) -> Iterator[Finding]:
    yield from _writes(resolved, environment)
    for operation in resolved.operations:
        try:
            context_values(operation.given, operation.shape.name, environment)
        except ProblemError as error:
            for problem in error.problems:
                code = problem.code if problem.code == "context.missing" else "context.value"
                yield finding(code, problem.message, problem.place, problem.expected, problem.found, problem.mend)
