"""Findings about the service and the definitions that it uses, wherever it runs."""

import contextlib
import re
from collections.abc import Iterator, Mapping
from urllib.parse import urlsplit

from bricola.core.definitions.access import AccessDefinition, with_grants
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.findings import Area, Facts, Finding, Rule, Rules, Severity
from bricola.core.definitions.model import EnvironmentDefinition, ServiceDefinition
from bricola.core.definitions.parts import Facets, TypeDefinition
from bricola.core.definitions.requests import RequestDefinition, locked
from bricola.core.kinds.kind import Subject
from bricola.core.kinds.registry import backends_of, kinds, needs
from bricola.core.problems import Problem, shown
from bricola.core.shapes.primitives import PRIMITIVES

_E, _W, _H = Severity.ERROR, Severity.WARNING, Severity.HINT

RULES = Rules(
    Rule("service.empty", Area.SERVICE, _E, "A service without operations has no contract that a client could load."),
    Rule("service.description", Area.SERVICE, _W, "Callers choose by the description; it stands first in the contract."),
    Rule("request.differs", Area.SERVICE, _E, "What an integration request decides is changed there, so that both say the same."),
    Rule("service.owner", Area.SERVICE, _H, "Somebody must be askable when a call fails."),
    Rule("service.namespace", Area.SERVICE, _H, "A namespace that follows the name changes with it, and that breaks every caller."),
    Rule("service.namespace-form", Area.SERVICE, _E, "XML Schema wants a URI; many client stacks refuse spaces in it."),
    Rule("access.operation", Area.SERVICE, _E, "A grant for an operation that is not there is a typing error or a leftover.", True),
    Rule("access.nobody", Area.SERVICE, _W, "No role named means nobody, and the first caller would find out."),
    Rule("access.overruled", Area.SERVICE, _H, "Two places that say who may call are one too many; the environment's holds."),
    Rule("access.unheld-role", Area.SERVICE, _W, "A role that no caller has lets nobody in."),
    Rule("reference.type", Area.SERVICE, _E, "Every field needs a type that is built in or defined."),
    Rule("reference.backend", Area.SERVICE, _E, "An object without its backend cannot read a row."),
    Rule("reference.circle", Area.SERVICE, _E, "A record that contains itself describes a message without end."),
    Rule("type.base", Area.SERVICE, _E, "A type narrows one of the built-in types."),
    Rule("type.facet", Area.SERVICE, _E, "XML Schema gives each type its own facets."),
    Rule("type.pattern", Area.SERVICE, _E, "A pattern that cannot be read checks nothing."),
    Rule("type.value", Area.SERVICE, _E, "Bounds and codes must be values of the type."),
    Rule("type.bounds", Area.SERVICE, _E, "Bounds that exclude each other refuse every value."),
    Rule("parameter.unknown", Area.SERVICE, _E, "A setting for an input that does not exist has no effect.", True),
    Rule("parameter.value", Area.SERVICE, _E, "Fixed, default and context inputs need a value."),
    Rule("parameter.fit", Area.SERVICE, _E,
         "A fixed, default or sample value must fit its type; the code is the type's, like value.pattern."),
    Rule("parameter.context-type", Area.SERVICE, _E, "The caller's name and the call's id are text, now is a moment."),
    Rule("operation.takes", Area.SERVICE, _E, "An operation takes inputs that there are, and cannot do without its key."),
    Rule("operation.gives", Area.SERVICE, _E, "An operation gives fields of its rows; what a write answers is fixed."),
    Rule("operation.twin", Area.SERVICE, _H, "Two operations that do the same make callers wonder which one to use."),
    Rule("operation.nil", Area.SERVICE, _E, "Fields are emptied by name, so nothing is left that the setting could change.", True),
    Rule("operation.name", Area.SERVICE, _H, "One style of names: an upper-case letter first, no underscores."),
)
finding = RULES.finding

_NAME = re.compile(r"[A-Z][A-Za-z0-9]*")


def findings(catalogue: Catalogue, service: ServiceDefinition, environment: EnvironmentDefinition | None,
             facts: Facts) -> Iterator[Finding]:
    request = catalogue.get(RequestDefinition, service.request) if service.request else None
    for problem in locked(service, request) if request is not None else ():
        yield finding("request.differs", problem.message, problem.place, expected=problem.expected, found=problem.found, mend=problem.mend)
    yield from _identity(service)
    yield from _access(catalogue, service, environment, facts)
    for one in service.operations:
        if one.nil != "empties":
            operations = tuple(two.model_copy(update={"nil": "empties"}) for two in service.operations)
            yield finding("operation.nil", "The setting 'nil' is gone: callers name the fields to empty in 'clear'.",
                          f"service {service.name}, {one.name}, nil", mend="Take 'nil:' out.",
                          mended=service.model_copy(update={"operations": operations}))
    for name in backends_of(catalogue, service):
        if catalogue.find_backend(name) is None:
            yield finding("reference.backend", "An object uses a backend that is not defined.", f"service {service.name}",
                          found=shown(name), mend=f"Define it: 'backend: {name}'.")
    for kind in kinds():
        yield from kind.findings(Subject(catalogue, service, environment, facts, needs(catalogue, service)))
    for owner, facets, base in _typed(catalogue, service):
        yield from _bounds(owner, facets, base)


def unresolved(service: ServiceDefinition, problem: Problem, rules: Mapping[str, Rule]) -> Finding:
    """A reference or facet that the shapes could not be made with; an input that is not there can be taken out."""
    mended = None
    if problem.code == "parameter.unknown":
        _, name, _, parameter = (part.strip() for part in problem.place.split(","))
        operations = tuple(
            one.model_copy(update={"input": tuple(two for two in one.input if two.name != parameter)}) if one.name == name else one
            for one in service.operations)
        mended = service.model_copy(update={"operations": operations})
    if problem.code not in rules:  # what the type itself says of a value: value.pattern, value.code, …
        return Finding(rules["parameter.fit"].severity, problem)
    return Finding(rules[problem.code].severity, problem, mended)


def _identity(service: ServiceDefinition) -> Iterator[Finding]:
    place = f"service {service.name}"
    if not service.operations:
        yield finding("service.empty", "The service has no operations.", place, mend="Add one under 'operations:'.")
    if not service.description:
        yield finding("service.description", "The service does not say what it is.", place,
                      mend="Add 'description:'; callers read it.")
    if not service.owner:
        yield finding("service.owner", "The service does not say whose it is.", place, mend="Add 'owner:'.")
    if service.contract:
        return  # whose names and namespace it has
    if not service.namespace:
        yield finding("service.namespace", "The namespace is derived from the name.", place, found=service.target_namespace,
                      mend="Set 'namespace:' before the first release; a later change breaks callers.")
    elif not urlsplit(service.namespace).scheme or re.search(r"\s", service.namespace):
        yield finding("service.namespace-form", "The namespace is not a URI.", f"{place}, namespace",
                      expected="a URI like urn:larkmere:vessel-registry", found=shown(service.namespace))
    for one in service.operations:
        if not _NAME.fullmatch(one.name):
            yield finding("operation.name", f"{one.name} is not named like other operations.", f"{place}, {one.name}",
                          expected="an upper-case letter first, then letters and digits", found=one.name)
    seen: dict[tuple[object, ...], str] = {}
    for one in service.operations:
        kept = tuple(two for two in one.input if two.given != "caller")
        twin = seen.setdefault((one.runs, kept), one.name)
        if twin != one.name:
            yield finding("operation.twin", f"{one.name} does the same as {twin}.", f"{place}, {one.name}", found=f"runs: {one.runs}",
                          mend="Remove one of the two, or fix an input of one.")


def _access(catalogue: Catalogue, service: ServiceDefinition, environment: EnvironmentDefinition | None, facts: Facts) -> Iterator[Finding]:
    place = f"service {service.name}"
    names = [operation.name for operation in service.operations]
    for role, granted in service.access.items():
        for name in () if granted == "all" else granted:
            if name not in names:
                kept = tuple(one for one in granted if one != name)
                access = {key: kept if key == role else value for key, value in service.access.items() if key != role or kept}
                yield finding("access.operation", f"The role {role} is given an operation that does not exist.",
                              f"{place}, access, {role}", choices=tuple(names), found=shown(name),
                              mend=f"Take {name} out of the role.", mended=service.model_copy(update={"access": access}))
    said = [(one.name, one.services[service.segment]) for one in catalogue.all_of(AccessDefinition) if service.segment in one.services]
    for where, grants in said:
        for role, granted in grants.items():
            for name in () if granted == "all" else granted:
                if name not in names:
                    yield finding("access.operation", f"The role {role} is given an operation that does not exist.",
                                  f"access {where}, {service.segment}, {role}", choices=tuple(names), found=shown(name),
                                  mend=f"Take {name} out of the role.")
    here = dict(said).get(environment.name) if environment is not None else None
    if environment is not None and here is not None and service.access and dict(service.access) != dict(here):
        yield finding("access.overruled", f"{environment.name} itself says who may call; what the service says has no effect there.",
                      f"{place}, access", mend="Take 'access:' out of the service.", command="bricola access move")
    holding = [with_grants(service, here)] if here is not None else [service, *(with_grants(service, one) for _, one in said)]
    for role in dict.fromkeys(role for one in holding for role in one.access):
        if facts.held_roles is not None and role not in facts.held_roles:
            where = f"{place}, access, {role}" if role in service.access else f"access, {service.segment}, {role}"
            yield finding("access.unheld-role", f"No caller has the role {role}.", where,
                          mend="Give it to a caller, or take it out.", command=f"bricola callers add NAME --role {role}")
    for name in names:
        if not any(one.roles_for(name) for one in holding):
            there = environment.name if environment is not None else "ENVIRONMENT"
            yield finding("access.nobody", f"No role may call {name}, so nobody can.", f"{place}, access",
                          mend=f"Let a role call it: bricola access grant {there} {service.segment} ROLE {name}. Or remove the operation.")


def _typed(catalogue: Catalogue, service: ServiceDefinition) -> Iterator[tuple[str, Facets, str]]:
    for one in needs(catalogue, service):
        if isinstance(one, TypeDefinition):
            yield f"type {one.name}", one, one.base
        for part in getattr(one, "fields", ()):
            if part.type in PRIMITIVES:
                yield f"{one.kind} {one.name}, fields, {part.name}", part, part.type


def _bounds(place: str, facets: Facets, base: str) -> Iterator[Finding]:
    pairs = [("min_length", facets.min_length, "max_length", facets.max_length),
             ("fraction", facets.fraction, "digits", facets.digits)]
    if base in PRIMITIVES and facets.min is not None and facets.max is not None:
        read = PRIMITIVES[base].read
        with contextlib.suppress(ValueError):  # type.value says so
            pairs.append(("min", read(facets.min), "max", read(facets.max)))
    for low_name, low, high_name, high in pairs:
        if low is not None and high is not None and low > high:
            yield finding("type.bounds", f"{low_name} is above {high_name}.", place, expected=f"{low_name} up to {high}", found=str(low))
