"""What a workflow calls, directly and further on, as it is written: found without resolving anything."""

import re
from collections.abc import Iterator
from typing import NamedTuple

from bricola.core.definitions.catalogue import Catalogue, Reference
from bricola.core.definitions.model import ServiceDefinition
from bricola.core.definitions.outside import ContractDefinition
from bricola.core.definitions.runs import read_runs
from bricola.core.kinds.registry import kind_of
from bricola.core.kinds.workflows.definition import Step, WorkflowDefinition

OPERATION, ADDRESS = "operation", "http"  # words before a name: an operation of a service, an address of a backend


class Called(NamedTuple):
    """What a `call:` names: a definition, and what of it; or a backend that is asked over HTTP."""

    reference: Reference
    verb: str = ""
    backend: str = ""


def read_call(text: str) -> Called:
    """What a `call:` names. Raises ValueError with the forms that there are."""
    word, _, rest = text.strip().partition(" ")
    if word == ADDRESS and rest:
        return Called(("", ""), "", rest.strip())
    if word == OPERATION:
        service, _, name = rest.strip().partition(".")
        if not service or not name:
            raise ValueError("an operation is named 'operation Service.Operation'")
        return Called((ServiceDefinition.kind, service), name)
    found = read_runs(text)
    return Called((found.kind, found.name), found.verb)


def all_steps(definition: WorkflowDefinition) -> Iterator[Step]:
    """Every step, however deep, in the order of the text."""
    waiting = list(definition.steps)
    while waiting:
        step = waiting.pop(0)
        yield step
        inner = [*step.attempt, *step.steps, *(two for one in step.when for two in one.steps), *step.otherwise,
                 *(two for one in step.parallel for two in one.steps), *(two for one in step.catch for two in one.steps), *step.always]
        waiting = inner + waiting


def calls(definition: WorkflowDefinition) -> list[Called]:
    """What the workflow calls directly, each once; what cannot be read is told where the workflow is built."""
    found: dict[Called, None] = {}
    for step in all_steps(definition):
        for text in (step.call, step.undo.call if step.undo is not None else None):
            if text:
                try:
                    found[read_call(text)] = None
                except ValueError:
                    continue
    return list(found)


def needs(definition: WorkflowDefinition) -> list[Reference]:
    named = [one.reference for one in calls(definition) if not one.backend]
    return [*named, *([(ContractDefinition.kind, definition.contract)] if definition.contract else [])]


def backends(definition: WorkflowDefinition, catalogue: Catalogue) -> list[str]:
    """The backends that a workflow reaches through whatever it calls, each once."""
    found: dict[str, None] = {}
    seen: set[Reference] = set()
    waiting: list[WorkflowDefinition] = [definition]
    while waiting:
        one = waiting.pop()
        if (one.kind, one.name) in seen:
            continue
        seen.add((one.kind, one.name))
        found |= dict.fromkeys(name for step in all_steps(one) for name in (step.session, step.write_file, step.read_file) if name)
        for called in calls(one):
            if called.backend:
                found[called.backend] = None
                continue
            for reference in _sources(called, catalogue):
                source = catalogue.find(reference)
                if isinstance(source, WorkflowDefinition):
                    waiting.append(source)
                    continue
                kind = kind_of(source) if source is not None else None
                if source is not None and kind is not None:
                    found |= dict.fromkeys(kind.backends(source, catalogue))
    return list(found)


def _sources(called: Called, catalogue: Catalogue) -> list[Reference]:
    """What a call runs; of an operation of a service, what that runs."""
    if called.reference[0] != ServiceDefinition.kind:
        return [called.reference]
    service = catalogue.find_service(called.reference[1])
    return [one.source for one in service.operations if one.name == called.verb] if service is not None else []


def hollow(definition: WorkflowDefinition) -> str:
    """Why it does almost nothing, where it calls nothing and what it answers does not depend on what it is asked."""
    steps = list(all_steps(definition))
    if any(one.call or one.write_file or one.read_file for one in steps):
        return ""
    words = set(re.findall(r"\w+", " ".join(str(one.model_dump(exclude_defaults=True)) for one in steps)))
    if definition.contract or words & {one.name for one in definition.input}:
        return ""
    return "It calls nothing, and answers the same whatever it is asked."


def circle(definition: WorkflowDefinition, catalogue: Catalogue) -> list[str]:
    """A chain of workflows from this one back to it, by name; empty where there is none."""
    def visit(one: WorkflowDefinition, chain: tuple[str, ...]) -> list[str]:
        for called in calls(one):
            for reference in _sources(called, catalogue):
                source = catalogue.find(reference)
                if not isinstance(source, WorkflowDefinition):
                    continue
                if source.name == definition.name:
                    return [*chain, source.name]
                if source.name not in done:
                    done.add(source.name)
                    found = visit(source, (*chain, source.name))
                    if found:
                        return found
        return []

    done: set[str] = set()
    return visit(definition, (definition.name,))
