"""Whether a suite fits a contract: said when it is saved, when the service changes, and before it runs."""

from collections.abc import Collection, Iterator, Sequence
from typing import Any

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.suites import Case, SuiteDefinition
from bricola.core.kinds.resolve import resolve_service
from bricola.core.messages.plain import from_plain
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.model import OperationShape, ServiceShape
from bricola.core.testing.comparing import check_expected
from bricola.core.testing.paths import find_target
from bricola.core.testing.places import MADE, first_name, places_in
from bricola.core.testing.tables import rows_of


def problems_of(catalogue: Catalogue, suite: SuiteDefinition) -> list[Problem]:
    """In what a suite does not fit the draft of its service; nothing is said where that draft is wrong itself."""
    service = catalogue.find_service(suite.service)
    if service is None:
        return [Problem("test.service", f"There is no service {suite.service}.", place=f"test-suite {suite.name}, service",
                        expected=", ".join(one.name for one in catalogue.services()) or "a service", found=suite.service)]
    try:
        shape = resolve_service(service, catalogue).shape
    except ProblemError:
        return []
    return check_suite(suite, shape)


def check_suite(suite: SuiteDefinition, shape: ServiceShape, environment: Collection[str] | None = None) -> list[Problem]:
    """Everything in a suite that cannot come true with this contract. `environment`: the names of its test values, None where any
    environment may run it."""
    found = _check_names(suite)
    found += _check_circles(suite)
    for section, case in suite.all_parts:
        found += check_case(suite, case, shape, environment, f"{section}, {case.name}")
    return [one.at(f"test-suite {suite.name}, {one.place}" if one.place else f"test-suite {suite.name}") for one in found]


def check_case(suite: SuiteDefinition, case: Case, shape: ServiceShape, environment: Collection[str] | None, place: str) -> list[Problem]:
    """What is wrong with one case alone."""
    found: list[Problem] = []
    operation = shape.operation(case.operation)
    try:
        columns = {name for row in rows_of(suite, case, place) for name in row}
    except ProblemError as error:
        found += error.problems
        columns = None
    found += _check_places(suite, case, shape, columns, environment, place)
    if operation is None:
        found.append(Problem("test.operation", f"{shape.name} has no operation {case.operation}.", place=f"{place}, operation",
                             choices=tuple(one.name for one in shape.operations), found=shown(case.operation)))
        return found
    if case.writes and not operation.writes:
        found.append(Problem("test.writes", f"{operation.name} writes nothing, so there is nothing to keep.", place=f"{place}, writes",
                             mend="Take the line out."))
    if case.face.startswith("soap") and case.face.removeprefix("soap ") not in shape.soap:
        found.append(Problem("test.face", f"{shape.name} does not speak {case.face.upper()}.", place=f"{place}, face",
                             expected=f"SOAP {' or '.join(shape.soap)}, or rest"))
    found += check_expected(operation, case.expects, place)
    if not case.expects.problem and not case.identity and not case.envelope and (case.expects.answered or not shape.foreign):
        found += _check_values(operation, case, place)
    return found


def _check_values(operation: OperationShape, case: Case, place: str) -> Iterator[Problem]:
    """A case that shall be answered, or end in a declared fault, sends what the contract takes; one of somebody else may tell by its faults
    that a request is wrong. Values with places are not known before it runs."""
    problems: list[Problem] = []
    from_plain(operation.input, case.values, f"{place}, values", problems)
    unknown = set(_with_places(case.values, f"{place}, values"))
    for one in problems:
        if one.place in unknown or any(one.place.startswith(f"{path}/") for path in unknown):
            continue
        yield one


def _with_places(value: Any, path: str) -> Iterator[str]:
    if isinstance(value, dict):
        for name, inner in value.items():
            yield from _with_places(inner, f"{path}/{name}")
    elif list(places_in(value)):
        yield path


def _check_names(suite: SuiteDefinition) -> list[Problem]:
    found = []
    cases = {one.name for one in suite.cases}
    for one in suite.steps:
        if one.name in cases:
            found.append(Problem("test.name", f"A case and a step are both called {one.name}.", place=f"steps, {one.name}"))
        if one.rows:
            found.append(Problem("test.rows", "A step runs once, where it is named.", place=f"steps, {one.name}, rows"))
    for place, names in _named_steps(suite):
        for name in names:
            if suite.step(name) is None:
                known = [one.name for one in suite.steps]
                found.append(Problem("test.step", "The suite has no such step.", place=place, found=shown(name),
                                     expected="a step below 'steps:'", choices=tuple(known)))
    return found


def _named_steps(suite: SuiteDefinition) -> Iterator[tuple[str, Sequence[str]]]:
    yield "set_up", suite.set_up
    yield "clean_up", suite.clean_up
    for section, one in suite.all_parts:
        yield f"{section}, {one.name}, set_up", one.set_up
        yield f"{section}, {one.name}, clean_up", one.clean_up


def needed_first(suite: SuiteDefinition, case: Case) -> list[str]:
    """The cases whose answers a case speaks of. Those of its own set-up are made with it."""
    own = {case.name, *case.set_up, *case.clean_up, *suite.set_up}
    names = dict.fromkeys(first_name(place) for place in places_in(_texts(case)))
    return [one for one in names if one not in own and suite.case(one) is not None]


def _texts(case: Case) -> dict[str, Any]:
    expects = case.expects
    compared = {path: one.model_dump(exclude_defaults=True) for path, one in expects.values.items()}
    return {"values": case.values, "envelope": case.envelope, "expects": [compared, expects.xml, expects.problem, expects.place]}


def _check_circles(suite: SuiteDefinition) -> Iterator[Problem]:
    ways = {one.name: [*one.set_up, *one.clean_up, *needed_first(suite, one)] for _, one in suite.all_parts}
    for start in ways:
        walk = _circle(ways, start)
        if walk and start == min(walk):  # each circle is told once
            yield Problem("test.circle", "These wait for each other, so none of them can begin.", place=start,
                          found=" -> ".join([*walk, walk[0]]), mend="Take one of these names out.")


def _circle(ways: dict[str, list[str]], start: str) -> list[str]:
    """A way from a name back to itself."""
    waiting = [[start]]
    seen = set()
    while waiting:
        walk = waiting.pop()
        for name in ways.get(walk[-1], ()):
            if name == start:
                return walk
            if name not in seen:
                seen.add(name)
                waiting.append([*walk, name])
    return []


def _check_places(suite: SuiteDefinition, case: Case, shape: ServiceShape, columns: set[str] | None, environment: Collection[str] | None,
                  place: str) -> Iterator[Problem]:
    """Every place has something that stands there."""
    known = {*suite.values, *MADE, *(columns or ()), *(environment or ())}
    told = set()
    for one in places_in(_texts(case)):
        name = first_name(one)
        if one in told or (name == one and (name in known or columns is None)):
            continue
        told.add(one)
        earlier = next((two for _, two in suite.all_parts if two.name == name), None)
        if name != one and earlier is not None and earlier is not case:
            yield from _check_earlier(one, earlier, shape, place)
        elif name == one and environment is None and not case.rows:
            continue  # an environment may give it
        else:
            what = "The rows have no such column" if case.rows else "Nothing is called so here"
            yield Problem("test.place", f"{what}.", place=place, found=f"{{{one}}}", choices=tuple(sorted(known)),
                          mend="Add it to 'values:' of the suite, or to 'test_values:' of the environment; a brace itself is written {{.")


def _check_earlier(one: str, earlier: Case, shape: ServiceShape, place: str) -> Iterator[Problem]:
    """What is taken of an earlier answer is in it."""
    operation = shape.operation(earlier.operation)
    if earlier.rows:
        yield Problem("test.place", f"{earlier.name} is run for several rows, so it has no one answer.", place=place, found=f"{{{one}}}")
    elif not earlier.expects.answered:
        yield Problem("test.place", f"{earlier.name} expects {earlier.expects.words}, so nothing can be taken of its answer.", place=place,
                      found=f"{{{one}}}")
    elif operation is not None:
        try:
            find_target(operation.output, one[len(earlier.name):].lstrip("."), f"{place}, {{{one}}}")
        except ProblemError as error:
            yield from error.problems
