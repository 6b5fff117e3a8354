"""Running a workflow as it is written, before any release: on the real backends of an environment, as a trial unless somebody says
otherwise, with its trace. In a protected environment it is a trial always."""

import asyncio
import time
import uuid
from collections.abc import Mapping
from typing import Any, Protocol

from bricola.core.calls.call import Call
from bricola.core.calls.callers import Caller
from bricola.core.calls.trace import Held, Trace
from bricola.core.calls.trials import Trial
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.model import Operation
from bricola.core.kinds.completing import with_given
from bricola.core.kinds.registry import find_kind
from bricola.core.kinds.resolve import resolve_operation
from bricola.core.kinds.workflows.definition import WorkflowDefinition
from bricola.core.kinds.workflows.jobs import NOW
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.messages.plain import from_plain, to_plain
from bricola.core.messages.samples import sample_values
from bricola.core.messages.showing import Left, shown_plain
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.serving.pipeline import Pipeline
from bricola.core.shapes.forms import NEWEST
from bricola.server.kinds.workflows.writing import Ports as Writing
from bricola.server.kinds.workflows.writing import written
from bricola.server.ports.drafts import Drafts
from bricola.server.ports.places import Places

_SECONDS = 60.0
_MOST_SHOWN = 100_000


class Ports(Writing, Protocol):
    drafts: Drafts
    places: Places
    pipeline: Pipeline


async def run(ports: Ports, name: str, text: str | None, data: Mapping[str, Any] | None, environment: str, values: Mapping[str, Any] | None,
              trial: bool, who: str) -> dict[str, Any]:
    """What it answers, or how it fails, with the trace. Raises ProblemError for one that is not sound, and for inputs that do not fit."""
    definition = await asyncio.to_thread(written, ports, name, text, data)
    place = ports.drafts.environment(environment)
    if place.protected and not trial:
        raise ProblemError(Problem("workflow.protected", f"{environment} is protected: what is not released runs there as a trial only.",
                                   Kind.PERMISSION, mend="Release and deploy it, or run it as a trial."))
    catalogue = Catalogue([*ports.drafts.catalogue, definition])
    operation = Operation(name="Draft", runs=f"{WorkflowDefinition.kind} {definition.name}.{NOW}")
    resolved = await asyncio.to_thread(resolve_operation, operation, catalogue, NEWEST, f"workflow {definition.name}")
    kind = find_kind(WorkflowDefinition.kind)
    assert kind is not None
    pools = {one: ports.places.pool(place, one, catalogue) for one in kind.backends(definition, catalogue)}
    compiled = await asyncio.to_thread(kind.compile, resolved, place, pools)
    problems: list[Problem] = []
    given = from_plain(resolved.shape.input, dict(values) if values is not None else sample_values(resolved.shape.input), "input", problems)
    if problems:
        raise ProblemError(*problems)
    trace = Trace(time.monotonic)
    call = Call(uuid.uuid4().hex[:12], f"workflow {definition.name}", Caller(who, frozenset()), time.time(), time.monotonic() + _SECONDS,
                Trial() if trial else None, trace=trace, span=trace.root)
    trace.root.taken = Held(resolved.shape.input, given)
    answer: dict[str, Any] | None = None
    fault, causes = "", list[Problem]()
    try:
        with ports.pipeline.stored.writing(environment, resolved.backends if resolved.shape.writes and not trial else ()):
            values_out = await with_given(compiled.handle, resolved, place)(call, given)
        trace.root.given = Held(resolved.shape.output, values_out)
        answer = shown_plain(resolved.shape.output, to_plain(resolved.shape.output, values_out), Left(_MOST_SHOWN))
    except DeclaredFaultError as error:
        fault, causes = error.name, [Problem("fault", error.message, Kind.CONFLICT, found=error.name)]
    except ProblemError as error:
        causes = list(error.problems)
    micros = int((time.monotonic() - trace.started) * 1e6)
    trace.close(definition.name, micros, fault or (causes[0].code if causes else ""), causes[0].message if causes else "")
    return {"answer": answer, "fault": fault, "problems": [one.as_dict(for_owners=True) for one in causes], "micros": micros,
            "trial": trial, "changes": [one.as_dict() for one in call.trial.changes] if call.trial is not None else [],
            "trace": trace.as_plain()}
