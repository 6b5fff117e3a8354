"""Cases made of what happened: of a call that somebody just tried, of one in the call log, of the film of a screen flow."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any, Protocol

from bricola.core.calls.callers import TEST_MARK
from bricola.core.definitions.folder import default_path
from bricola.core.definitions.suites import Case, SuiteDefinition
from bricola.core.definitions.text import write_definition, write_mapping
from bricola.core.messages.request import MASK
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.serving.live import LiveService
from bricola.core.serving.pipeline import AS_A_TRIAL, Pipeline
from bricola.core.shapes.model import OperationShape
from bricola.core.testing.keeping import Happened, Kept, keep, stand_ins_of
from bricola.core.testing.running import make_shot
from bricola.server.kinds.kind import KindServer
from bricola.server.ports.calls import Calls
from bricola.server.ports.changes import Changes
from bricola.server.ports.drafts import Drafts
from bricola.server.ports.films import Films
from bricola.server.ports.people import People
from bricola.server.ports.places import Places
from bricola.server.ports.releases import Releases
from bricola.server.ports.storage import Storage
from bricola.server.ports.suites import TestRuns
from bricola.server.settings import Settings
from bricola.server.usecases import definitions
from bricola.server.usecases.bench import find_operation
from bricola.server.usecases.doors import StagedDoor
from bricola.server.usecases.services import not_deployed
from bricola.server.usecases.suites import live_of


class Ports(Protocol):
    kinds: Sequence[KindServer]
    drafts: Drafts
    releases: Releases
    places: Places
    people: People
    calls: Calls
    films: Films
    changes: Changes
    storage: Storage
    pipeline: Pipeline
    test_runs: TestRuns
    settings: Settings


@dataclass(frozen=True)
class Tried:
    """A call that was tried on the bench, with what came of it. `fault` is as the bench gives it."""

    environment: str
    service: str
    operation: str
    values: Mapping[str, Any] = field(default_factory=dict)
    envelope: str = ""
    soap: str = ""
    caller: str = ""
    trial: bool = False
    answer: Mapping[str, Any] | None = None
    fault: Mapping[str, Any] | None = None


async def keep_tried(ports: Ports, suite: str, case: str, tried: Tried, author: str, again: bool = False) -> dict[str, Any]:
    """Keep a call of the bench."""
    live = _live(ports, tried.environment, tried.service)
    operation = find_operation(live.shape, tried.operation)
    happened = Happened(operation, tried.values, tried.answer, envelope=tried.envelope, face=_face(live, tried.soap), caller=tried.caller,
                        trial=tried.trial)
    _add_fault(happened, operation, tried.fault)
    return await _store(ports, suite, case, live.name, keep(case, happened), author, again)


async def keep_call(ports: Ports, suite: str, case: str, number: str, author: str, stand_ins: bool = False,
                    again: bool = False) -> dict[str, Any]:
    """Keep a call of the log, whose trace says what went in and out; with `stand_ins` what it called is answered as it was then."""
    found = await ports.calls.recent(call=number, limit=1)
    if not found:
        raise ProblemError(Problem("call.unknown", f"There is no call {number}.", Kind.MISSING, place=number))
    record, trace = found[0], await ports.calls.trace(number)
    if trace is None:
        raise ProblemError(Problem("keep.trace", "No trace of this call was kept, so nobody knows what went in and out.", Kind.MISSING,
                                   place=number, mend=f"Keep them: 'traces: {{of: all}}' in the environment {record.environment}."))
    spans = trace["spans"]
    root, standing = spans[0], stand_ins_of(spans) if stand_ins else ()
    cut = _cut(root.get("taken")) or _cut(root.get("given")) or any(_cut(one.answer) or _cut(one.takes) for one in standing)
    if cut or (trace["dropped"] and stand_ins):
        raise ProblemError(Problem("keep.cut", "The trace does not hold all of it: it was too long.", place=number,
                                   mend="Send it again with the bench or the command line, and keep that."))
    live = _live(ports, record.environment, record.service)
    operation = find_operation(live.shape, record.operation)
    happened = Happened(operation, root.get("taken") or {}, face=_face(live, record.face), caller=record.caller.removesuffix(TEST_MARK),
                        stand_ins=standing,
                        trial=AS_A_TRIAL in root.get("lines", ()),
                        at=datetime.fromtimestamp(record.at, UTC))
    if record.result == "answered":
        happened.answer = root.get("given") or {}
    elif record.result == "fault":
        happened.fault = record.fault
    else:
        happened.problem = record.fault
    kept = keep(case, happened)
    kept.chosen += [(f"stand_ins, {one.step}", "something in it is sensitive: put in what may be seen") for one in standing
                    if MASK in str(one.answer)]
    return await _store(ports, suite, case, live.name, kept, author, again)


async def keep_film(ports: Ports, suite: str, case: str, environment: str, service: str, name: str, author: str,
                    again: bool = False) -> dict[str, Any]:
    """A case that runs against the film of a screen flow: with the inputs that it was filmed with, and what it answers to them."""
    live = _live(ports, environment, service)
    operation = find_operation(live.shape, name)
    frozen = await ports.releases.thaw(await ports.releases.find(live.name, live.release))
    written = next((one for one in frozen.definition.operations if one.name == name), None)
    flow = written.source[1] if written is not None else ""
    film = ports.films.by_flow.get(flow)
    if film is None:
        raise ProblemError(Problem("keep.film", f"There is no film of what {name} runs.", Kind.MISSING, place=f"{service}.{name}",
                                   found=flow,
                                   expected=", ".join(sorted(ports.films.by_flow)) or "a film", mend="Film it: bricola screens film FLOW "
                                   + environment))
    values = {one.name: film.inputs[one.name] for one in operation.input.slots if film.inputs.get(one.name) is not None}
    shown = Case(name=case, operation=name, values=values, film=flow)
    door = StagedDoor(ports, ports.drafts.environment(environment), live)
    try:
        seen, _ = await door.send(make_shot(SuiteDefinition(name=suite, service=live.name), shown, live.shape, operation, str))
    finally:
        await door.close()
    happened = Happened(operation, values, seen.answer, film=flow, trial=True)
    if seen.fault is not None:
        happened.fault, happened.parts = seen.fault.name, seen.fault.parts
        first = next(iter(seen.fault.problems), None)
        happened.problem, happened.place = (first.code, first.place) if first is not None else ("", "")
    return await _store(ports, suite, case, live.name, keep(case, happened), author, again)


def _live(ports: Ports, environment: str, service: str) -> LiveService:
    ports.drafts.environment(environment)
    live = ports.places.find(environment, service) or live_of(ports, environment, service)
    if live is None:
        raise ProblemError(not_deployed(service, environment))
    return live


def _face(live: LiveService, soap: str) -> str:
    """'' for the one that a case has anyway."""
    face = f"soap {soap}" if soap in ("1.1", "1.2") else soap
    return "" if live.shape.soap and face == f"soap {live.shape.soap[0]}" else face


def _add_fault(happened: Happened, operation: OperationShape, fault: Mapping[str, Any] | None) -> None:
    for one in fault["detail"] if fault is not None else ():
        declared = next((two for two in operation.faults if two.record.local == one["name"] or two.name == one["name"]), None)
        if declared is not None:
            known = {slot.name for slot in declared.record.slots if not slot.is_list}
            happened.fault, happened.parts = declared.name, {name: value for name, value in one.items() if name in known}
            return
        if one["name"] == "problem":
            happened.problem, happened.place = one.get("code", ""), one.get("place", "")
            return
    if fault is not None and not happened.problem:
        raise ProblemError(Problem("keep.fault", "The fault names nothing that could be expected the next time.",
                                   found=str(fault["reason"])))


def _cut(value: Any) -> bool:
    """Whether a trace left something out of a value."""
    if isinstance(value, Mapping):
        return any(_cut(one) for one in value.values())
    if isinstance(value, list | tuple):
        return any(_cut(one) for one in value)
    return isinstance(value, str) and (value == "…" or value.startswith("… ") or value.endswith("more characters"))


async def _store(ports: Ports, suite: str, name: str, service: str, kept: Kept, author: str, again: bool) -> dict[str, Any]:
    """Add the case to its suite, as a draft; a suite that is not there begins with it."""
    before = ports.drafts.catalogue.get(SuiteDefinition, suite)
    if before is not None and before.service != service:
        raise ProblemError(Problem("keep.suite", f"The suite {suite} is about {before.service}.", Kind.CONFLICT, place=suite, found=service,
                                   mend="Name another suite; there is none yet where the name is new."))
    if before is not None and not again and (before.case(name) or before.step(name)):
        raise ProblemError(Problem("keep.taken", f"{suite} has a case {name} already.", Kind.CONFLICT, place=f"{suite}.{name}",
                                   mend="Give it another name, or say that it takes the other's place (--replace)."))
    old = before or SuiteDefinition(name=suite, service=service)
    cases = tuple(kept.case if one.name == name else one for one in old.cases)
    cases = cases if any(one.name == name for one in old.cases) else (*cases, kept.case)
    made = old.model_copy(update={"cases": cases})
    path = ports.drafts.path_of(SuiteDefinition.kind, suite) or default_path(made)
    await definitions.apply(ports, {path: write_definition(made)}, author)
    text = write_mapping({name: kept.case.model_dump(mode="json", exclude_defaults=True, exclude={"name"})})
    return {"suite": suite, "case": name, "service": service, "created": before is None, "text": text,
            "chosen": [{"place": place, "words": words} for place, words in kept.chosen]}
