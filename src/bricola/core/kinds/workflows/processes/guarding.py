"""Steps with the fault handlers of a scope, a process or an invoke around them."""

from collections.abc import Callable
from typing import Any

from lxml import etree

from bricola.core.contracts.reading.parts import local_name
from bricola.core.expressions.types import of_record, spoken
from bricola.core.kinds.workflows.definition import PROBLEM
from bricola.core.kinds.workflows.processes.documents import BPEL, B, expanded
from bricola.core.kinds.workflows.processes.places import Steps, Variable
from bricola.core.kinds.workflows.processes.terms import Term
from bricola.core.kinds.workflows.processes.translating import Scope, Translator
from bricola.core.shapes.model import Record


def scope_of(self: Translator, node: etree._Element, steps: Steps, make: Callable[[Steps], bool]) -> bool:
    """Steps with the fault handlers of a scope, a process or an invoke around them."""
    holder = node.find(f"{B}faultHandlers")
    holder = node if holder is None else holder
    catches = list(holder.iterchildren(f"{B}catch"))
    rest = holder.find(f"{B}catchAll")
    raised = self.calls_in(node)
    named = {_fault_of(one, raised): one for one in catches}
    before = dict(self.places.bound)
    body: Steps = {}
    with self.scope(Scope({name: one for name, one in named.items() if name}, rest)):
        goes_on = make(body)
    ways = [(body, goes_on, self.places.bound)]
    handlers: dict[str, Any] = {}
    thrown = {one.get("faultName", "").rpartition(":")[2] for one in node.iter(f"{B}throw")}
    for name, one in [*named.items(), ("anything", rest)]:
        if one is None or (name != "anything" and not _may_come(self, one, name, raised, thrown)):
            continue
        if name == "anything" and not raised and not any("call" in str(key) for key in _actions(body)):
            continue  # only what is thrown inside would come here, and that is done where it is thrown
        self.places.bound = dict(before)
        if name in raised:
            detail = Term("caught.detail", of_record(raised[name]), True, True)
            self.places.variables["#caught"] = Variable("#caught", raised[name])
            self.places.bind(("#caught",), detail)
            if one.get("faultVariable"):
                self.places.bind((one.get("faultVariable", ""),), detail)
        self.caught.append(name if name != "anything" else "")
        inner, handler_goes_on = self.block(one)
        self.caught.pop()
        handlers[name] = {"steps": inner} if inner else {}
        ways.append((inner, handler_goes_on, {place: term for place, term in self.places.bound.items() if "caught." not in term.text}))
    if not handlers:
        self.places.bound = ways[0][2]
        steps.update(body)
        return goes_on
    if "anything" in handlers:
        handlers = _answers_pass(self, body, handlers)
    going = [one for one in ways if one[1]]
    self.places.bound = self.merged(going) if going else before
    steps[self.names.new(node.get("name") or f"guarded_{local_name(str(node.tag))}")] = {"attempt": body, "catch": handlers}
    return bool(going)


def _answers_pass(self: Translator, body: Steps, handlers: dict[str, Any]) -> dict[str, Any]:
    """What a process answers is no failure to it, and no handler catches it; a step `fail` is one, so it is passed on before `anything`."""
    passing: dict[str, Any] = {}
    for fault in sorted(_fails(body)):
        again = self.names.new(f"pass_{fault}")
        if fault == PROBLEM:
            passing["stopped"] = {"codes": ["workflow.stopped"], "steps": {again: {"fail": PROBLEM, "message": "caught.message"}}}
            continue
        record = self.operation.faults[fault] if self.operation is not None else Record(fault)
        if fault not in handlers:
            detail = {one.name: f"caught.detail.{spoken(one.name)}" for one in record.slots}
            passing[fault] = {"steps": {again: {"fail": fault, "message": "caught.message", **({"detail": detail} if detail else {})}}}
    return {**{name: one for name, one in handlers.items() if name != "anything"}, **passing, "anything": handlers["anything"]}


def _fails(steps: Any) -> set[str]:
    """The faults with which steps end the workflow, inner ones too."""
    if not isinstance(steps, dict):
        return set()
    own = {steps["fail"]} if isinstance(steps.get("fail"), str) else set()
    return own | {one for inner in steps.values() for one in _fails(inner)}


def _actions(steps: Any) -> set[str]:
    """The keys of all steps, inner ones too."""
    if isinstance(steps, dict):
        return {key for key in steps if isinstance(key, str)} | {one for inner in steps.values() for one in _actions(inner)}
    return set()


def _may_come(self: Translator, node: etree._Element, name: str, raised: dict[str, Record], thrown: set[str]) -> bool:
    """Whether a handler of one fault is needed: a call inside may end with it."""
    if name in raised:
        return True
    if name not in thrown:
        standard = expanded(node, node.get("faultName", "")).startswith(f"{{{BPEL}}}")
        self.note(node, f"catch {node.get('faultName', '')}".strip(),
                  "Such a fault does not happen here: the workflow is checked when it is saved." if standard
                  else "Nothing in its scope ends with this fault.")
    return False


def _fault_of(node: etree._Element, raised: dict[str, Record]) -> str:
    """The fault that a handler is for, by its name or by the element of its message."""
    name = node.get("faultName", "").rpartition(":")[2]
    element = node.get("faultElement")
    if name or element is None:
        return name
    return next((fault for fault, record in raised.items() if record.tag == expanded(node, element)), "")
