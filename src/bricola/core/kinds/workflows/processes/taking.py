"""A process as workflows: one for each operation with which it can begin."""

import re
from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from typing import Any

from lxml import etree
from pydantic import ValidationError

from bricola.core.contracts.reading.contract import ReadOperation
from bricola.core.contracts.reading.parts import line_of, local_name
from bricola.core.definitions.names import kebab_case, pascal_case
from bricola.core.expressions.types import of_record, type_of
from bricola.core.kinds.workflows.definition import WorkflowDefinition
from bricola.core.kinds.workflows.processes import holding as _holding  # noqa: F401 — what activities become is in the table from here on
from bricola.core.kinds.workflows.processes.documents import B, Documents, read_documents, read_process
from bricola.core.kinds.workflows.processes.doing import begin
from bricola.core.kinds.workflows.processes.guarding import scope_of
from bricola.core.kinds.workflows.processes.places import Steps, Variable
from bricola.core.kinds.workflows.processes.terms import Term
from bricola.core.kinds.workflows.processes.translating import Ending, Left, Translator
from bricola.core.problems import Problem, ProblemError
from bricola.core.shapes.model import Element
from bricola.core.shapes.simple import SimpleType


@dataclass(frozen=True)
class Partner:
    """Somebody whom the process asks: the service of the contract, and what workflows call. `name` is that of a new one; '' where somebody
    here sends on the same messages already."""

    link: str
    name: str
    calls: str
    service: str
    operations: Mapping[str, ReadOperation]


@dataclass(frozen=True)
class Taken:
    """What became of a process. `left` is what was not taken, or in another way; `endings` are the ends that a person confirms."""

    name: str
    documents: Documents
    service: str  # of the contract, that the process offers
    workflows: tuple[WorkflowDefinition, ...]
    partners: tuple[Partner, ...]
    left: tuple[Left, ...]
    endings: tuple[Ending, ...]
    operations: Mapping[str, str] = field(default_factory=dict)  # operation -> workflow


def take_process(files: Mapping[str, bytes], main: str, contract: str, known: Mapping[tuple[str, str], str],
                 choices: Mapping[str, str], sends_on: str = "relay", taken: Collection[str] = ()) -> Taken:
    """`contract` is the name that the contract will have; `known` says what sends on messages already, by their element and operation.
    For others a definition of the kind `sends_on` is needed, whose name is none of `taken`. Raises ProblemError where there is no process
    to take."""
    process, path = read_process(files, main)
    beside = {one: content for one, content in files.items() if one != path and not one.lower().endswith(".bpel")}
    documents = read_documents(beside, process)
    name = kebab_case(process.get("name", "")) or "process"
    partners = _partners(documents, known, taken, sends_on)
    calls = {port_type.tag: partner.calls for partner in partners
             if (port_type := documents.links[partner.link].theirs) is not None}
    starts = list(_starts(process, documents))
    if not starts and next(process.iter(f"{B}receive", f"{B}onMessage"), None) is None:
        return _called(process, documents, name, partners, calls, choices)
    if not starts:
        raise ProblemError(Problem("process.start", "Nothing that a caller sends begins the process, so it cannot be an operation.",
                                   place=path, expected="a receive or a pick with createInstance=\"yes\" whose partner link has myRole",
                                   mend="Let it begin with a receive of an operation that its WSDL has."))
    workflows, left, endings, operations = [], dict[Any, Left](), dict[str, Ending](), dict[str, str]()
    several = len({operation.name for _, _, operation in starts}) > 1
    for start, link, operation in starts:
        if operation.name in operations:
            continue
        translator = Translator(process, documents, start, link, operation, calls, choices)
        steps = _steps(translator)
        own = f"{name}-{kebab_case(operation.name)}" if several else name
        workflows.append(_workflow(own, process, contract, operation, steps))
        operations[operation.name] = own
        left |= translator.left
        endings |= translator.endings
    left |= {(one.line, one.what): one for one in _beside(process, starts[0][0])}
    mine = starts[0][1].mine
    return Taken(name, documents, mine.service if mine is not None else "", tuple(workflows), partners,
                 tuple(sorted(left.values(), key=lambda one: (one.line, one.what))),
                 tuple(sorted(endings.values(), key=lambda one: one.line)), operations)


def _called(process: etree._Element, documents: Documents, name: str, partners: tuple[Partner, ...], calls: Mapping[str, str],
            choices: Mapping[str, str]) -> Taken:
    """A process that something else than a message begins: a call does, with a contract of ours. What has no value then is its input."""
    translator = Translator(process, documents, None, None, None, calls, choices)
    inputs: dict[str, dict[str, str]] = {}
    holder = process.find(f"{B}variables")
    set_later = {one.get("variable") or (one.text or "").strip().lstrip("$") for one in process.iter(f"{B}to")}
    for one in holder.iterchildren(f"{B}variable") if holder is not None else ():
        kind = translator.places.variables[one.get("name", "")].holds
        if isinstance(kind, SimpleType) and one.find(f"{B}from") is None and one.get("name") not in set_later:
            own = translator.names.new(one.get("name", ""))
            inputs[own] = {"type": kind.base, "description": f"The variable {one.get('name', '')} of the process"}
            translator.places.bound[one.get("name", ""),] = Term(own, type_of(Element(own, kind)), True, True)
    steps: Steps = {}
    if _whole(translator, steps):
        translator.ending(process, "the end of the process, which nobody is told of", steps)
    words = "Something else than a message began it; a call does now, and what has no value then is an input."
    translator.note(process, "start", words, True)
    body: dict[str, Any] = {"name": name, "description": _words(process), "input": inputs, "steps": steps,
                            "output": {"done": {"type": "boolean", "description": "That it came to its end"}}}
    left = sorted([*translator.left.values(), *_beside(process, process)], key=lambda one: (one.line, one.what))
    return Taken(name, documents, "", (_checked(body),), partners, tuple(left),
                 tuple(sorted(translator.endings.values(), key=lambda one: one.line)), {pascal_case(name): name})


def _starts(process: etree._Element, documents: Documents) -> Any:
    """What begins the process, in the order of the text; a receive that does not say so where none does."""
    nodes = list(process.iter(f"{B}receive", f"{B}onMessage"))

    def says(node: etree._Element) -> bool:
        holder = node if node.tag == f"{B}receive" else node.getparent()
        return holder is not None and holder.get("createInstance") == "yes"

    chosen = [one for one in nodes if says(one)] or nodes[:1]
    for one in chosen:
        link = documents.links.get(one.get("partnerLink", ""))
        if link is None or link.mine is None:
            continue
        operation = documents.operation(link.mine, one.get("operation", ""))
        if operation is not None:
            yield one, link, operation


def _beside(process: etree._Element, start: etree._Element) -> list[Left]:
    """What a process has beside its activities."""
    found = []
    for name, why, taken in (
            ("eventHandlers", "What happens beside the steps is not part of a workflow.", False),
            ("correlationSets", "A workflow belongs to one call, and needs nothing to find it again.", True),
            ("extensions", "Extensions of one engine are not taken.", False)):
        node = process.find(f"{B}{name}")
        if node is not None:
            found.append(Left(line_of(node) or 0, name, why, taken))
    holder = start if start.tag == f"{B}receive" else start.getparent()
    if start is not process and holder is not None and holder.get("createInstance") != "yes":
        found.append(Left(line_of(start) or 0, f"{local_name(str(start.tag))} {start.get('operation', '')}",
                          "It is taken as the beginning, since nothing else is.", True))
    return found


def _steps(translator: Translator) -> Steps:
    """The whole process, from the message that begins it to its end."""
    start, operation = translator.start, translator.operation
    assert start is not None
    assert operation is not None
    record = operation.input.record
    taken = Term("", of_record(record), True, True)
    variable = start.get("variable")
    if variable:
        translator.places.bound[variable,] = taken
    parts = start.find(f"{B}fromParts")
    for one in parts.iterchildren(f"{B}fromPart") if parts is not None else ():
        message = translator.message_variable("#in", "")
        if translator.link is not None and translator.link.mine is not None:
            message = translator.message_variable("#in", translator.link.mine.operations[operation.name.partition("#")[0]][0])
        place = ("#in", *message.parts.get(one.get("part", ""), ()))
        translator.places.bound["#in",] = taken
        translator.places.bound[one.get("toVariable", ""),] = translator.places.read(place)
    steps: Steps = {}
    if _whole(translator, steps):
        if operation.output is None:
            steps[translator.names.new("done")] = {"reply": {}}
        else:
            translator.ending(translator.process, "the end of the process, without a reply", steps)
    return steps


def _whole(translator: Translator, steps: Steps) -> bool:
    """All of a process, with its handlers around it; whether it goes on at its end."""
    def make(inner: Steps) -> bool:
        begin(translator, translator.process, inner)
        found, goes_on = translator.block(translator.process)
        inner.update(found)
        return goes_on

    inner: Steps = {}
    goes_on = scope_of(translator, translator.process, inner, make)
    steps.update(_alarms(translator, inner))
    return goes_on


def _alarms(translator: Translator, steps: Steps) -> Steps:
    """A fault of a call that nothing in the process catches would only stop it: somebody says what callers get then."""
    handlers: dict[str, Any] = {}
    for (fault, call), node in translator.uncaught().items():
        if any(one.what.startswith(f"{call} ends with {fault}") for one in translator.endings.values()):
            continue
        inner: Steps = {}
        before = dict(translator.places.bound)
        detail = translator.find_operation(node, True)[1]
        if detail is not None:
            translator.places.variables["#caught"] = Variable("#caught", detail.faults[fault])
            translator.places.bind(("#caught",), Term("caught.detail", of_record(detail.faults[fault]), True, True))
        translator.ending(node, f"{call} ends with {fault}, which nothing catches", inner, fault)
        translator.places.bound = before
        handlers.setdefault(fault, {"steps": inner})
    return {translator.names.new("whole"): {"attempt": steps, "catch": handlers}} if handlers else steps


def _workflow(name: str, process: etree._Element, contract: str, operation: ReadOperation, steps: Steps) -> WorkflowDefinition:
    plain = re.sub(r"\W", "_", operation.name)
    body: dict[str, Any] = {"name": name, "description": _words(process),
                            "contract": contract, "operation": plain, "steps": steps}
    if operation.output is None:
        body["answers"] = "nothing"
    return _checked(body)


def _words(process: etree._Element) -> str:
    words = process.findtext(f"{B}documentation", "")
    return " ".join(words.split())[:2000] or f"The process {process.get('name', '')}."


def _checked(body: dict[str, Any]) -> WorkflowDefinition:
    try:
        return WorkflowDefinition.model_validate(body)
    except ValidationError as error:
        places = ", ".join(".".join(str(part) for part in one["loc"]) for one in error.errors()[:5])
        raise ProblemError(Problem("process.names", "A name of the process or of its contract is missing, or cannot be a name here.",
                                   place=f"workflow {body['name']}, {places}"[:300], expected="letters, digits and '_'",
                                   found=", ".join(str(one["input"])[:40] or "nothing" for one in error.errors()[:5]))) from None


def _partners(documents: Documents, known: Mapping[tuple[str, str], str], taken: Collection[str], sends_on: str) -> tuple[Partner, ...]:
    """Everybody whom the process asks, each port type once."""
    names = set(taken)
    found: dict[str, Partner] = {}
    for link in documents.links.values():
        if link.theirs is None or link.theirs.tag in found:
            continue
        operations = {name: one for name in link.theirs.operations if (one := documents.operation(link.theirs, name)) is not None}
        here = {known.get((one.input.tag or "", name), "") for name, one in operations.items()} - {""}
        if len(here) == 1:
            found[link.theirs.tag] = Partner(link.name, "", here.pop(), link.theirs.service, operations)
            continue
        name = next(one for one in (kebab_case(link.name) or "partner", *(f"{kebab_case(link.name)}-{number}" for number in range(2, 1000)))
                    if one not in names)
        names.add(name)
        found[link.theirs.tag] = Partner(link.name, name, f"{sends_on} {name}", link.theirs.service, operations)
    return tuple(found.values())


