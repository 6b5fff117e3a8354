"""Operations of somebody's contract, run by what is here: the maps between the two."""

from dataclasses import replace

from bricola.core.contracts.served import Offered, shape_of
from bricola.core.definitions.model import Operation
from bricola.core.kinds.kind import ResolvedOperation, Ways
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.mapping import Mapped, compile_map
from bricola.core.shapes.model import OperationShape


def implemented(operation: Operation, resolved: ResolvedOperation, offer: Offered, place: str) -> ResolvedOperation:
    """An operation as the contract has it, run by what was resolved for it. Raises ProblemError with every part that is required and
    comes from nowhere."""
    name = operation.implements or operation.name
    read = offer.operations.get(name)
    if read is None:
        raise ProblemError(Problem("contract.operation", "The contract has no such operation.", place=place, found=shown(name),
                                   expected=f"one of {', '.join(offer.operations)}",
                                   mend="Name it with 'implements:', or take the operation out."))
    inner = resolved.shape
    outer = shape_of(read, operation.name, operation.description, inner.writes)
    if inner.input == outer.input and inner.output == outer.output:  # what runs it follows the same contract
        return replace(resolved, shape=replace(outer, writes=inner.writes))
    into = compile_map(inner.input, outer.input, operation.map_in, f"{place}, map_in")
    out = compile_map(outer.output, inner.output, operation.map_out, f"{place}, map_out") if not outer.one_way else _NO_ANSWER
    missing = [Problem("map.required", f"{path} is required, and nothing is said of where it comes from.", place=f"{place}, {which}",
                       expected=f"a line '{path}: …' in {which}") for which, mapped in (("map_in", into), ("map_out", out))
               for path in mapped.missing]
    faults, wrong = _faults(operation, inner, outer, place)
    if missing or wrong:
        raise ProblemError(*missing, *wrong)
    return replace(resolved, shape=outer, ways=Ways(resolved, into, out, faults))


_NO_ANSWER = Mapped(lambda values: {}, (), ())


def _faults(operation: Operation, inner: OperationShape, outer: OperationShape,
            place: str) -> tuple[dict[str, tuple[str, Mapped]], list[Problem]]:
    """Which declared fault of what runs becomes which of the contract: by the lines, and by name. Lines `Fault.part: source` fill it."""
    wrong: list[Problem] = []
    declared = {one.name: one for one in outer.faults}
    own = {one.name: one for one in inner.faults}
    for name in {one.partition(".")[0]: None for one in operation.map_faults}:
        if name not in own:
            wrong.append(Problem("map.fault", "What runs has no such fault.", place=f"{place}, map_faults", found=shown(name),
                                 expected=f"one of {', '.join(own)}" if own else "none; it declares no fault"))
    made: dict[str, tuple[str, Mapped]] = {}
    for name, fault in own.items():
        wanted = operation.map_faults.get(name, next((one for one in declared if one.lower() == name.lower()), ""))
        if not wanted:
            continue
        if wanted not in declared:
            wrong.append(Problem("map.fault", "The contract has no such fault.", place=f"{place}, map_faults, {name}", found=shown(wanted),
                                 expected=f"one of {', '.join(declared)}" if declared else "none; it declares no fault"))
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
