"""What people who write a workflow are told: a look at a text that need not be sound, values to go with it, expressions that are tried."""

import asyncio
import re
from collections import defaultdict
from collections.abc import Iterable, Mapping
from typing import Any, Protocol

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.engines.engine import Family
from bricola.core.definitions.model import BackendDefinition, Operation
from bricola.core.definitions.text import read_data, read_definition, write_definition
from bricola.core.expressions.compiling import UnjudgedError, compile_expression, compile_map
from bricola.core.expressions.functions import FUNCTIONS
from bricola.core.expressions.sampling import type_of_plain, value_of_plain
from bricola.core.expressions.types import Type
from bricola.core.kinds.registry import sources
from bricola.core.kinds.resolve import resolve_operation
from bricola.core.kinds.workflows.definition import WorkflowDefinition
from bricola.core.kinds.workflows.knowledge import CALL, Known
from bricola.core.kinds.workflows.looking import Look, look, paths_of
from bricola.core.kinds.workflows.outward import plain_json
from bricola.core.kinds.workflows.program import EachNode, SetNode, nodes_of
from bricola.core.kinds.workflows.reaching import all_steps, calls
from bricola.core.messages.samples import sample_values
from bricola.core.messages.showing import Left, shown_plain
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.shapes.forms import NEWEST
from bricola.core.shapes.model import Record
from bricola.server.ports.calls import Calls
from bricola.server.ports.drafts import Drafts
from bricola.server.ports.places import Places

_MOST_SHOWN = 200  # characters of one value beside a name
_CHARACTER = re.compile(r", character (\d+)$")
_TRY_VISITS = 200_000  # of an expression that somebody tries


class Ports(Protocol):
    drafts: Drafts
    places: Places
    calls: Calls


# the list


async def listed(ports: Ports) -> list[dict[str, Any]]:
    catalogue = ports.drafts.catalogue
    deployed: dict[tuple[str, str], list[str]] = defaultdict(list)
    for service in ports.places.services():  # here, and not in the thread, since deployments change them
        for operation in service.by_name:
            deployed[service.name, operation].append(service.environment)
    return await asyncio.to_thread(lambda: [_listed(ports, one, catalogue, deployed) for one in catalogue.all_of(WorkflowDefinition)])


def _listed(ports: Ports, definition: WorkflowDefinition, catalogue: Catalogue,
            deployed: Mapping[tuple[str, str], list[str]]) -> dict[str, Any]:
    found = look(definition, catalogue)
    run_by = [{"service": service.name, "operation": operation.name,
               "environments": sorted(deployed.get((service.name, operation.name), ()))}
              for service in catalogue.services() for operation in service.operations
              if operation.source == (definition.kind, definition.name)]
    stored = ports.drafts.revisions[definition.kind, definition.name]
    return {"name": definition.name, "description": definition.description, "path": stored.path,
            "steps": sum(1 for _ in all_steps(definition)), "problems": len(found.problems),
            "writes": found.builder is not None and found.builder.writes,
            "calls": [f"http {one.backend}" if one.backend else " ".join(one.reference) for one in calls(definition)], "run_by": run_by}


# one that is written


async def looked(ports: Ports, name: str, text: str | None, data: Mapping[str, Any] | None, call: str) -> dict[str, Any]:
    """A look at a draft (neither text nor data), at a text, or at JSON data; with values of a recorded call, or made-up ones."""
    trace = await ports.calls.trace(call) if call else None
    if call and trace is None:
        raise ProblemError(Problem("trace.none", "No trace of this call was kept.", Kind.MISSING, place=call))
    return await asyncio.to_thread(_looked, ports, name, text, data, trace, call)


def written(ports: Ports, name: str, text: str | None, data: Mapping[str, Any] | None) -> WorkflowDefinition:
    """Raises ProblemError for what is no workflow at all."""
    if text is not None:
        found = read_definition(text, "workflow")
    elif data is not None:
        found = read_data(WorkflowDefinition, data, "workflow")
    else:
        draft = ports.drafts.catalogue.get(WorkflowDefinition, name)
        if draft is None:
            raise ProblemError(Problem("workflow.unknown", "There is no such workflow.", Kind.MISSING, found=shown(name)))
        found = draft
    if not isinstance(found, WorkflowDefinition):
        raise ProblemError(Problem("workflow.kind", "This is another kind of definition.", found=found.kind, expected="workflow"))
    return found


def _looked(ports: Ports, name: str, text: str | None, data: Mapping[str, Any] | None, trace: Mapping[str, Any] | None,
            call: str) -> dict[str, Any]:
    stored = ports.drafts.revisions.get((WorkflowDefinition.kind, name))
    revision = stored.revision if stored is not None else 0
    try:
        definition = written(ports, name, text, data)
    except ProblemError as error:
        if text is None and data is None:
            raise
        return {"name": name, "text": text or "", "definition": dict(data or {}), "revision": revision, "input": [], "output": [],
                "faults": [], "steps": [], "sample": "", "problems": [_placed(one, ()) for one in error.problems]}
    catalogue = Catalogue([*ports.drafts.catalogue, definition])
    found = look(definition, catalogue)
    paths = tuple(found.builder.seen) if found.builder is not None else ()
    samples = sample_names(found, trace)
    return {
        "name": definition.name, "text": write_definition(definition), "revision": revision,
        "definition": {"name": definition.name, **definition.model_dump(mode="json", exclude_defaults=True, exclude={"name"})},
        "problems": [_placed(one, paths) for one in found.problems], "input": _slots(found.input), "output": _slots(found.output),
        "faults": list(found.builder.faults) if found.builder is not None else [],
        "steps": [_step(found, path, samples) for path in paths], "sample": call if trace is not None else "",
    }


def _placed(problem: Problem, paths: Iterable[str]) -> dict[str, Any]:
    """A problem with the step that it is about: the longest path that its place begins with."""
    place, character = problem.place, _CHARACTER.search(problem.place)
    if character is not None:
        place = place[:character.start()]
    words = place.split(", ")
    steps = words[2:] if len(words) > 2 and words[1] == "steps" else []
    known = set(paths)
    length = next((end for end in range(len(steps), 0, -1) if ".".join(steps[:end]) in known), 0)
    part = steps[length:] if length else words[1:]
    told: dict[str, Any] = problem.as_dict() | {"step": ".".join(steps[:length]), "part": ".".join(part)}
    return told | ({"character": int(character[1])} if character is not None else {})


def _slots(record: Record) -> list[dict[str, Any]]:
    return [{"name": one.name, "type": one.type.name or getattr(one.type, "base", ""), "required": bool(one.least) and one.default is None,
             "list": one.is_list} for one in record.slots]


def _step(found: Look, path: str, samples: Mapping[str, Any]) -> dict[str, Any]:
    assert found.builder is not None
    inner = found.builder.inner.get(path)
    known = found.builder.seen[path]
    names = []
    for text, kind in paths_of(known):
        one: dict[str, Any] = {"path": text, "type": kind.present.words, "optional": kind.optional}
        value = _at(samples, text)
        if value is not None and not kind.sensitive:
            one["value"] = shown_plain(None, value, Left(_MOST_SHOWN))
        names.append(one)
    return {"step": path, "kind": inner.kind.word if inner is not None else "", "writes": inner is not None and inner.shape.writes,
            "faults": [one.name for one in inner.shape.faults] if inner is not None else [], "known": names,
            "maps": {part: [vars(one) | {"fits": list(one.fits)} for one in parts]
                     for (at, part), parts in found.filled.items() if at == path}}


def _at(values: Any, path: str) -> Any:
    for step in path.split("."):
        if not isinstance(values, Mapping):
            return None
        values = values.get(step)
    return values


# values to go with it


def sample_names(found: Look, trace: Mapping[str, Any] | None) -> dict[str, Any]:
    """A value for every name, as JSON data: of a recorded call, or made up from the shapes."""
    if found.builder is None:
        return {}
    names: dict[str, Any] = {CALL: {"id": "1a22040fc4b-eaf71", "caller": "a-caller", "at": "2026-11-24T06:30:00Z", "trial": False}}
    if trace is not None:
        spans = trace["spans"]
        names |= _mapping(spans[0].get("taken"))
        for span in spans[1:]:
            given, name = span.get("given"), span["name"].rpartition(".")[2]
            if given is not None and span["action"] == "set":
                names |= _mapping(given)
            elif given is not None and span["name"] in found.builder.seen and span["action"] in ("call", "for_each"):
                names[name] = given
        return names
    names |= sample_values(found.input, full=True)
    for path, inner in found.builder.inner.items():
        names[path.rpartition(".")[2]] = sample_values(inner.shape.output, full=True)
    return names | _worked_out(found, names)


def _worked_out(found: Look, names: Mapping[str, Any]) -> dict[str, Any]:
    """What the steps would make of made-up values: what is set, and what loops collect of their first item."""
    assert found.builder is not None
    made: dict[str, Any] = {}
    for node in nodes_of(found.block):
        known = found.builder.seen[node.path]
        values = typed_names(known, {**names, **made})
        try:
            if isinstance(node, SetNode):
                for name, compiled in node.values:
                    values[name] = compiled.value(values, _TRY_VISITS)
                    made[name] = plain_json(values[name])
            elif isinstance(node, EachNode):
                item = (node.items.value(values, _TRY_VISITS) or [None])[0]
                made[node.item] = plain_json(item)
                if node.collect is not None:
                    inner = {**values, **typed_names(found.builder.seen[node.block.nodes[-1].path], {**names, **made}), node.item: item}
                    made[node.name] = [plain_json(node.collect.value(inner, _TRY_VISITS))]
        except (ProblemError, IndexError):
            continue  # the values are made up, so not everything can be worked out of them
    return made


def _mapping(value: Any) -> dict[str, Any]:
    return dict(value) if isinstance(value, Mapping) else {}


def typed_names(known: Known, samples: Mapping[str, Any]) -> dict[str, Any]:
    """Values of the names that the sample has, of their types; a sample that does not fit its type is left out, as one that is absent."""
    values: dict[str, Any] = {}
    for name, kind in known.names.items():
        if samples.get(name) is None:
            continue
        try:
            values[name] = value_of_plain(kind, samples[name], name)
        except ProblemError:
            continue
    return values


async def tried(ports: Ports, name: str, text: str | None, data: Mapping[str, Any] | None, step: str, part: str, expression: str | None,
                call: str) -> dict[str, Any]:
    """What an expression gives before a step; or, without one, what a whole map of the step gives."""
    trace = await ports.calls.trace(call) if call else None

    def work() -> dict[str, Any]:
        definition = written(ports, name, text, data)
        found = look(definition, Catalogue([*ports.drafts.catalogue, definition]))
        if found.builder is None:
            raise ProblemError(*found.problems)
        known = found.builder.seen.get(step)
        if known is None:
            raise ProblemError(Problem("workflow.step", "There is no such step.", Kind.MISSING, found=shown(step)))
        values = typed_names(known, sample_names(found, trace))
        if expression is not None:
            return _tried(lambda: compile_expression(expression, known.names, "expression", known.there), values)
        target = found.builder.targets.get((step, part))
        if target is None:
            raise ProblemError(Problem("workflow.part", "The step has no such map.", Kind.MISSING, found=shown(part)))
        record, tree, before = target
        return _tried(lambda: compile_map(tree, record, before.names, part, before.there), values)

    return await asyncio.to_thread(work)


async def tried_alone(expression: str, sample: Any) -> dict[str, Any]:
    """What an expression gives for a sample in JSON, whose types are what they look like."""
    if not isinstance(sample, Mapping):
        raise ProblemError(Problem("sample.object", "A sample is a JSON object, whose members are names.", found=shown(str(sample))))

    def work() -> dict[str, Any]:
        names: dict[str, Type] = {str(name): type_of_plain(value) for name, value in sample.items() if str(name).isidentifier()}
        return _tried(lambda: compile_expression(expression, names, "expression"), dict(sample))

    return await asyncio.to_thread(work)


def _tried(make: Any, values: Mapping[str, Any]) -> dict[str, Any]:
    try:
        compiled = make()
    except ProblemError as error:
        return {"type": "", "value": None, "problems": [one.as_dict() for one in error.problems]}
    except UnjudgedError:
        return {"type": "", "value": None,
                "problems": [Problem("expression.unknown", "It speaks of something that is wrong itself.").as_dict()]}
    try:
        value = compiled.value(values, _TRY_VISITS)
    except ProblemError as error:
        return {"type": compiled.type.words, "value": None, "problems": [one.as_dict() for one in error.problems]}
    record = compiled.type.record
    return {"type": compiled.type.words, "value": shown_plain(record, value, Left(20_000), compiled.secret), "problems": []}


# what can be written


def language(ports: Ports) -> dict[str, Any]:
    """The functions of expressions, and everything that a step can call."""
    catalogue = ports.drafts.catalogue
    return {"functions": [{"form": one.form, "words": one.words} for one in FUNCTIONS.values()],
            "offers": [*_operations(catalogue), *_sources(catalogue), *_addresses(catalogue)]}


def _operations(catalogue: Catalogue) -> Iterable[dict[str, Any]]:
    for service in catalogue.services():
        for one in service.operations if not service.contract else ():
            yield _offer(f"operation {service.name}.{one.name}", f"{service.name}.{one.name}", one, catalogue)


def _sources(catalogue: Catalogue) -> Iterable[dict[str, Any]]:
    runs = {one.runs: one for service in catalogue.services() for one in service.operations}
    for text, operation in runs.items():
        yield _offer(text, text, Operation(name=operation.name, runs=text), catalogue)
    for kind, definition in sources(catalogue):
        text = kind.runs.example(kind.word).replace("name", definition.name)
        if kind.runs.default and text not in runs:
            yield _offer(text, text, Operation(name="Called", runs=text), catalogue)


def _offer(call: str, title: str, operation: Operation, catalogue: Catalogue) -> dict[str, Any]:
    try:
        shape = resolve_operation(operation, catalogue, NEWEST, call).shape
        return {"call": call, "title": title, "description": shape.description, "writes": shape.writes}
    except ProblemError as error:
        return {"call": call, "title": title, "description": error.problem.message, "writes": False}


def _addresses(catalogue: Catalogue) -> Iterable[dict[str, Any]]:
    for one in catalogue.all_of(BackendDefinition):
        if one.about.family is Family.HTTP:
            yield {"call": f"http {one.name}", "title": f"http {one.name}", "description": one.description, "writes": False}
