"""What a workflow takes and gives, and its program."""

from dataclasses import replace
from weakref import WeakKeyDictionary

from bricola.core.contracts.served import read_definition_of, shape_of
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.outside import ContractDefinition
from bricola.core.expressions.compiling import compile_map
from bricola.core.expressions.types import of_record, type_of
from bricola.core.kinds.kind import ResolvedOperation
from bricola.core.kinds.workflows import steps as _steps  # noqa: F401 — the builders of its steps are in the table from here on
from bricola.core.kinds.workflows.building import CALL_TYPE, Around, Builder
from bricola.core.kinds.workflows.definition import WorkflowDefinition, WorkflowPart
from bricola.core.kinds.workflows.knowledge import CALL, Known
from bricola.core.kinds.workflows.program import Block, Passing, Program, ReplyNode, nodes_of
from bricola.core.kinds.workflows.reaching import backends, circle
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.forms import Form
from bricola.core.shapes.model import Element, FaultShape, OperationShape, Record
from bricola.core.shapes.simple import SimpleType
from bricola.core.shapes.typed import typed_elements, typed_value

_MESSAGE = Element("message", SimpleType("string"), description="What is wrong, in a sentence")
# Programs by catalogue, since what several operations and workflows call is built once for all of them.
_BUILT: "WeakKeyDictionary[Catalogue, dict[tuple[str, Form], Program | ProblemError]]" = WeakKeyDictionary()


def program_of(definition: WorkflowDefinition, catalogue: Catalogue, form: Form) -> Program:
    """The program of a workflow. Raises ProblemError with everything that does not fit together."""
    known = _BUILT.setdefault(catalogue, {})
    found = known.get((definition.name, form))
    if found is None or (isinstance(found, Program) and found.definition is not definition):
        try:
            found = build(definition, catalogue, form)
        except ProblemError as error:
            found = error
        known[definition.name, form] = found
    if isinstance(found, ProblemError):
        raise ProblemError(*found.problems)
    return found


def build(definition: WorkflowDefinition, catalogue: Catalogue, form: Form) -> Program:
    around = circle(definition, catalogue)
    if around:
        raise ProblemError(Problem("workflow.circle", "The workflow calls itself, so no call of it would ever end.",
                                   place=f"workflow {definition.name}", found=" -> ".join(around), mend="Take one of these calls out."))
    taken, given, faults = message_shapes(definition, catalogue)
    builder, block, passing = walk(definition, catalogue, form, taken, given, faults)
    if builder.problems:
        raise ProblemError(*dict.fromkeys(builder.problems))
    if not definition.contract:
        given = _marked(given, block)
    return Program(definition, taken, given, faults, block, builder.writes, tuple(backends(definition, catalogue)), passing,
                   tuple(builder.inner.values()), CALL in builder.used or any(_sees_call(one) for one in builder.inner.values()))


def _sees_call(inner: ResolvedOperation) -> bool:
    ways = inner if inner.ways is None else inner.ways.inner
    return bool(ways.given.per_call) or (isinstance(ways.source, Program) and ways.source.sees_call)


def _marked(given: Record, block: Block) -> Record:
    """The output, with what is worked out of something sensitive marked as that."""
    secret = {name for node in nodes_of(block) if isinstance(node, ReplyNode) for name in node.answer.secret}
    return replace(given, elements=tuple(replace(one, sensitive=True) if one.name in secret else one for one in given.elements))


def walk(definition: WorkflowDefinition, catalogue: Catalogue, form: Form, taken: Record, given: Record,
         faults: tuple[FaultShape, ...]) -> tuple[Builder, Block, dict[str, Passing]]:
    """All steps, with everything that is wrong in the builder's `problems`."""
    place = f"workflow {definition.name}"
    builder = Builder(place, catalogue, form, given, faults)
    names = {one.name: type_of(one) for one in taken.slots}
    for one in typed_elements(definition.variables, catalogue, f"{place}, variables"):
        if one.name in names or one.name == CALL:
            builder.wrong("name", f"{one.name} is an input already.", f"{place}, variables, {one.name}", "a name of its own")
        names[one.name] = type_of(replace(one, least=0))
        builder.declared[one.name] = one.type  # type: ignore[assignment]
    start = Known({**names, CALL: CALL_TYPE}, frozenset(), frozenset(one.name for one in definition.variables))
    built = builder.block(definition.steps, start, "", Around())
    if built.known is not None and (given.slots or definition.contract):
        for end in built.ends:
            builder.wrong("silent", "A path ends without an answer.", f"{place}, steps", "a reply, or a declared fault",
                          f"the path that ends with {end}", "Add a step 'reply:' or 'fail:' there.")
    passing: dict[str, Passing] = {}
    for name, shapes in built.raises.items():
        passing |= _leaving(name, shapes, place, builder)
    if not definition.contract and not builder.problems:  # what is wrong itself may be what uses them
        for name in builder.faults:
            if name not in built.raises:
                builder.wrong("unused-fault", f"Nothing ends with the fault {name}.", f"{place}, faults, {name}",
                              mend="Fail with it somewhere, or take it out.")
        for one in taken.slots:
            if one.name not in builder.used:
                builder.wrong("unused-input", f"Nothing takes the input {one.name}.", f"{place}, input, {one.name}",
                              mend="Use it in a step, or take it out.")
    return builder, built.block, passing


def _leaving(name: str, shapes: tuple[FaultShape, ...], place: str, builder: Builder) -> dict[str, Passing]:
    """How a fault that nothing catches leaves the workflow."""
    declared = builder.faults.get(name)
    if declared is None:
        builder.wrong("undeclared", f"The fault {name} may leave the workflow, which does not declare it.", f"{place}, faults",
                      f"a line '{name}:' there, or a handler", f"one of {', '.join(builder.faults)}" if builder.faults else "no faults",
                      f"Catch it: 'attempt:' with 'catch: {{{name}: …}}', or declare it.")
        return {}
    found: dict[str, Passing] = {}
    for one in shapes:
        passes = _passing(one, declared, place, builder) if one is not declared and one.record != declared.record else None
        if passes is not None:
            found[name] = passes
    return found


def _passing(shape: FaultShape, declared: FaultShape, place: str, builder: Builder) -> Passing | None:
    """A fault of something inside as the one of the same name that is declared: part by part, by name."""
    tree = {one.name: f"detail.{one.name}" if one.name in {two.name for two in shape.record.slots} else "detail.message"
            for one in declared.record.slots if one.name in {two.name for two in shape.record.slots} or one.name == "message"}
    detail = Record(shape.record.name, (*shape.record.elements, *(() if any(one.name == "message" for one in shape.record.slots)
                                                                  else (_MESSAGE,))))
    try:
        return Passing(declared.name, compile_map(tree, declared.record, {"detail": of_record(detail)}, f"{place}, faults, {shape.name}"))
    except ProblemError as error:
        builder.problems += [Problem("workflow.undeclared", f"The fault {shape.name} of a call does not fit the one that is declared.",
                                     place=one.place, expected=one.expected, found=one.found or one.message,
                                     mend="Catch it, and fail with the declared one.") for one in error.problems]
        return None


def message_shapes(definition: WorkflowDefinition, catalogue: Catalogue) -> tuple[Record, Record, tuple[FaultShape, ...]]:
    """Input, output and faults: the workflow's own, or those of an operation of a contract."""
    place = f"workflow {definition.name}"
    if definition.contract:
        return _of_contract(definition, catalogue, place)
    taken = Record(definition.name, elements(definition.input, catalogue, f"{place}, input"))
    given = Record(f"{definition.name}Response", elements(definition.output, catalogue, f"{place}, output"))
    faults = []
    for one in definition.faults:
        fields = elements(one.fields, catalogue, f"{place}, faults, {one.name}")
        message = () if any(two.name == "message" for two in fields) else (_MESSAGE,)
        faults.append(FaultShape(one.name, Record(one.name, (*message, *fields)), one.description, one.cause))
    return taken, given, tuple(faults)


def elements(parts: tuple[WorkflowPart, ...], catalogue: Catalogue, place: str) -> tuple[Element, ...]:
    found = []
    for part, element in zip(parts, typed_elements(parts, catalogue, place), strict=True):
        if part.default is not None:
            if not isinstance(element.type, SimpleType) or element.is_list:
                raise ProblemError(Problem("workflow.default", "Only a simple input has a default.",
                                           place=f"{place}, {part.name}, default"))
            element = replace(element, least=0, default=typed_value(element.type, part.default, f"{place}, {part.name}, default"))
        found.append(element)
    return tuple(found)


def _of_contract(definition: WorkflowDefinition, catalogue: Catalogue, place: str) -> tuple[Record, Record, tuple[FaultShape, ...]]:
    contract = catalogue.get(ContractDefinition, definition.contract)
    if contract is None:
        raise ProblemError(Problem("reference.contract", "The workflow follows a contract that is not defined.", place=f"{place}, contract",
                                   found=shown(definition.contract), mend="Take it in: bricola contracts import SOURCE --service NAME"))
    found = {name: one for service in read_definition_of(contract).services.values() for port in service.ports.values() if port.soap
             for name, one in port.operations.items()}
    if definition.operation not in found:
        raise ProblemError(Problem("reference.operation", f"The contract {contract.name} has no such operation.",
                                   place=f"{place}, operation",
                                   expected="a contract with operations", choices=tuple(found),
                                   found=shown(definition.operation) if definition.operation else "nothing"))
    own = [one for one in ("input", "output", "faults") if getattr(definition, one)]
    if own:
        raise ProblemError(*(Problem("workflow.contract-says", f"The contract says the {one} itself.", place=f"{place}, {one}",
                                     mend="Take the lines out.") for one in own))
    shape = shape_of(found[definition.operation], definition.operation)
    return shape.input, shape.output, shape.faults


def workflow_shape(name: str, program: Program, taken: tuple[Element, ...], given: tuple[Element, ...], description: str) -> OperationShape:
    definition = program.definition
    words = description or definition.description
    if definition.contract:
        return OperationShape(name, program.input, program.output, program.faults, words, program.writes)
    return OperationShape(name, Record(name, taken), Record(f"{name}Response", given), program.faults, words, program.writes)
