"""Operations of somebody's contract, run by what is here: the maps between the two."""

from collections.abc import Mapping
from dataclasses import replace

from bricola.core.contracts.reading.contract import ReadOperation
from bricola.core.contracts.served import Offered, shape_of
from bricola.core.definitions.model import Operation
from bricola.core.kinds.kind import ResolvedOperation, Ways
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.mapping import Mapped, compile_map
from bricola.core.shapes.matching import Matched, match
from bricola.core.shapes.model import Element, FaultShape, OperationShape, Record
from bricola.core.shapes.simple import SimpleType


def implemented(operation: Operation, resolved: ResolvedOperation, offer: Offered, place: str) -> ResolvedOperation:
    """An operation as the contract has it, run by what was resolved for it. Raises ProblemError with every part that is required and
    comes from nowhere."""
    read = _read(operation, offer, place)
    inner = resolved.shape
    outer = shape_of(read, operation.name, operation.description, inner.writes)
    if not outer.description:  # neither here nor in the contract: what runs it says what it does
        outer = replace(outer, description=inner.description)
    if operation.soap_action is not None:
        outer = replace(outer, action=operation.soap_action)
    told, wrong = _told(operation, outer, place)
    if inner.input == outer.input and inner.output == outer.output:  # what runs it follows the same contract
        if wrong:
            raise ProblemError(*wrong)
        return replace(resolved, shape=replace(outer, writes=inner.writes), told=told)
    into = compile_map(inner.input, outer.input, operation.map_in, f"{place}, map_in")
    out = compile_map(outer.output, inner.output, operation.map_out, f"{place}, map_out") if not outer.one_way else _NO_ANSWER
    missing = [Problem("map.required", f"{path} is required, and nothing is said of where it comes from.", place=f"{place}, {which}",
                       expected=f"a line '{path}: …' in {which}") for which, mapped in (("map_in", into), ("map_out", out))
               for path in mapped.missing]
    faults, more = _faults(operation, inner, outer, place)
    wrong += more
    if missing or wrong:
        raise ProblemError(*missing, *wrong)
    return replace(resolved, shape=outer, ways=Ways(resolved, into, out, faults), told=told)


def matched(operation: Operation, inner: OperationShape, offer: Offered, place: str) -> tuple[Matched, Matched] | None:
    """What the maps of an operation fill: the input of what it runs, and the answer of the contract. None where what runs it follows the
    same contract, so that there is nothing to map."""
    outer = shape_of(_read(operation, offer, place), operation.name)
    if inner.input == outer.input and inner.output == outer.output:
        return None
    into = match(inner.input, outer.input, operation.map_in, f"{place}, map_in")
    nothing = Record(outer.output.name)
    return into, match(outer.output if not outer.one_way else nothing, inner.output, operation.map_out, f"{place}, map_out")


def _read(operation: Operation, offer: Offered, place: str) -> ReadOperation:
    name = operation.implements or operation.name
    read = offer.operations.get(name)
    if read is None:
        raise ProblemError(Problem("contract.operation", "The contract has no such operation.", place=place, found=shown(name),
                                   choices=tuple(offer.operations),
                                   mend="Name it with 'implements:', or take the operation out."))
    return read


_NO_ANSWER = Mapped(lambda values: {}, (), ())


_PROBLEM = "problem"
_FAILURE = Record(_PROBLEM, tuple(Element(name, SimpleType("string"), least) for name, least in (
    ("code", 1), ("message", 1), ("sentence", 1), ("call", 1), ("place", 0), ("expected", 0), ("found", 0), ("mend", 0))))


def _told(operation: Operation, outer: OperationShape, place: str) -> tuple[dict[str, tuple[str, Mapped]], list[Problem]]:
    """Which declared fault tells of failures that are no fault of what runs: `problem: Fault` of all, `problem:outside: Fault` of those
    whose code begins so. Lines `problem.part: source` fill it, from code, message, sentence, call, place, expected, found, mend."""
    made: dict[str, tuple[str, Mapped]] = {}
    wrong: list[Problem] = []
    declared = {one.name: one for one in outer.faults}
    for line, wanted in operation.map_faults.items():
        if "." in line or line.partition(":")[0] != _PROBLEM:
            continue
        if wanted not in declared:
            wrong.append(_no_such_fault(f"{place}, map_faults, {line}", wanted, declared))
            continue
        inside = {one.removeprefix(f"{line}."): source for one, source in operation.map_faults.items() if one.startswith(f"{line}.")}
        mapped = compile_map(declared[wanted].record, _FAILURE, inside, f"{place}, map_faults, {line}")
        if mapped.missing:
            wrong.append(Problem("map.fault", f"The fault {wanted} needs {mapped.missing[0]}.", place=f"{place}, map_faults, {line}",
                                 expected=f"a line '{line}.{mapped.missing[0]}: …'",
                                 found=", ".join(one.name for one in _FAILURE.elements)))
            continue
        made[line.partition(":")[2]] = wanted, mapped
    return made, wrong


def _no_such_fault(place: str, wanted: str, declared: Mapping[str, FaultShape]) -> Problem:
    return Problem("map.fault", "The contract has no such fault.", place=place, found=shown(wanted),
                   expected="none; it declares no fault", choices=tuple(declared))


def _faults(operation: Operation, inner: OperationShape, outer: OperationShape,
            place: str) -> tuple[dict[str, tuple[str, Mapped]], list[Problem]]:
    """Which declared fault of what runs becomes which of the contract: by the lines, and by name. Lines `Fault.part: source` fill it."""
    wrong: list[Problem] = []
    declared = {one.name: one for one in outer.faults}
    own = {one.name: one for one in inner.faults}
    for name in {one.partition(".")[0]: None for one in operation.map_faults}:
        if name not in own and name.partition(":")[0] != _PROBLEM:
            wrong.append(Problem("map.fault", "What runs has no such fault.", place=f"{place}, map_faults", found=shown(name),
                                 expected="none; it declares no fault", choices=tuple(own)))
    made: dict[str, tuple[str, Mapped]] = {}
    for name, fault in own.items():
        wanted = operation.map_faults.get(name, next((one for one in declared if one.lower() == name.lower()), ""))
        if not wanted:
            continue
        if wanted not in declared:
            wrong.append(_no_such_fault(f"{place}, map_faults, {name}", wanted, declared))
            continue
        inside = {line.removeprefix(f"{name}."): one for line, one in operation.map_faults.items() if line.startswith(f"{name}.")}
        mapped = compile_map(declared[wanted].record, fault.record, inside, f"{place}, map_faults, {name}")
        if mapped.missing:
            texts = [one.name for one in fault.record.elements]
            wrong.append(Problem("map.fault", f"The fault {wanted} needs {mapped.missing[0]}, which {name} does not have.",
                                 place=f"{place}, map_faults, {name}", expected=mapped.missing[0], found=", ".join(texts)))
            continue
        made[name] = wanted, mapped
    return made, wrong
