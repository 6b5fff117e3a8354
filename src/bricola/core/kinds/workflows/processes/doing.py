"""Activities that do one thing: assign, invoke, reply, throw, exit, wait, receive."""

import re
from contextlib import suppress
from typing import Any

from lxml import etree

from bricola.core.contracts.reading.contract import ReadOperation
from bricola.core.contracts.reading.parts import local_name
from bricola.core.expressions.types import TEXT, Of, of_record
from bricola.core.kinds.workflows.processes.documents import B, Link
from bricola.core.kinds.workflows.processes.guarding import scope_of
from bricola.core.kinds.workflows.processes.paths import Place
from bricola.core.kinds.workflows.processes.places import Path, Steps
from bricola.core.kinds.workflows.processes.terms import MissingError, Term, UntakenError, fitted, quoted, step, type_in
from bricola.core.kinds.workflows.processes.translating import Translator, activities, activity, prefixes_of
from bricola.core.shapes.model import Element, Record

_INDEXED = re.compile(r"\[\s*\$(?P<counter>[\w.-]+)\s*\]")


@activity("assign")
def _assign(self: Translator, node: etree._Element, steps: Steps) -> bool:
    values: dict[str, str] = {}
    for one in node:
        if not isinstance(one.tag, str) or local_name(one.tag) in ("targets", "sources", "documentation"):
            continue
        if one.tag != f"{B}copy":
            self.not_taken(one, "Only copies are taken out of an assign.")
            continue
        try:
            _copy(self, one, values)
        except UntakenError as error:
            self.note(one, f"copy in {node.get('name') or 'assign'}", str(error))
    if values:
        steps[self.names.new(node.get("name") or "assigned")] = {"set": values}
    return True


def _copy(self: Translator, node: etree._Element, values: dict[str, str]) -> None:
    source, target = node.find(f"{B}from"), node.find(f"{B}to")
    if source is None or target is None:
        raise UntakenError("A copy goes from somewhere to somewhere.")
    if target.get("partnerLink") is not None or source.get("partnerLink") is not None:
        raise UntakenError("Where a partner is, its backend says, environment by environment.")
    place = _target(self, target)
    try:
        _fill(self, place, source, values)
    except MissingError:
        if node.get("ignoreMissingFromData") != "yes":
            raise


def _fill(self: Translator, place: Path, source: etree._Element, values: dict[str, str]) -> None:
    """Write what a `from` says."""
    literal = source.find(f"{B}literal")
    if literal is not None:
        _literal(self, place, literal, values)
        return
    found = _source(self, source)
    parts = self.places.below(found.path) if isinstance(found, Place) and found.at is None else {}
    if not parts:
        _write(self, place, self.paths.value(found), values)
    for path, term in parts.items():  # put together of parts, and so is the copy
        _write(self, (*place, *path), term, values)


def begin(self: Translator, scope: etree._Element, steps: Steps) -> None:
    """The values with which the variables of a scope begin (8.1)."""
    values: dict[str, str] = {}
    holder = scope.find(f"{B}variables")
    for one in holder.iterchildren(f"{B}variable") if holder is not None else ():
        source = one.find(f"{B}from")
        if source is None:
            continue
        try:
            _fill(self, (one.get("name", ""),), source, values)
        except UntakenError as error:
            self.note(one, f"variable {one.get('name', '')}", str(error))
    if values:
        steps[self.names.new("begin")] = {"set": values}


def _target(self: Translator, target: etree._Element) -> Path:
    variable, prefixes = target.get("variable"), prefixes_of(target)
    if target.get("property") is not None:
        return self.paths.place(f"getVariableProperty('{variable}', '{target.get('property')}')", prefixes).path
    if variable is not None:
        base = _part(self, variable, target.get("part"))
        query = target.findtext(f"{B}query", "").strip()
        found = self.paths.within(base, query, prefixes) if query else Place(base)
    else:
        written = (target.text or "").strip()
        indexed = _INDEXED.search(written)
        if indexed is not None and indexed["counter"] in self.appending:
            return _appended(self, written, indexed, prefixes)
        found = self.paths.place(written, prefixes)
    if found.at is not None:
        if getattr(found.at, "symbol", "") == "(integer)" and found.at.value == 1:
            return found.path
        raise UntakenError("One item of a list is not written by itself; a loop collects the list.")
    return found.path


def _appended(self: Translator, written: str, indexed: "re.Match[str]", prefixes: dict[str, str]) -> Path:
    """A part of the item that a loop adds to a list."""
    _, item = self.appending[indexed["counter"]]
    rest = written[indexed.end():]
    return self.paths.within((item,), rest, prefixes).path if rest else (item,)


def _part(self: Translator, variable: str, part: str | None) -> Path:
    known = self.places.variables.get(variable)
    if known is None:
        raise UntakenError(f"There is no variable {variable}.")
    if part is not None and part not in known.parts:
        raise UntakenError(f"The message of {variable} has no part {part}.")
    return (variable, *known.parts.get(part or "", ()))


def _source(self: Translator, source: etree._Element) -> Term | Place:
    variable, prefixes = source.get("variable"), prefixes_of(source)
    if variable is not None and source.get("property") is not None:
        return self.paths.named(f"getVariableProperty('{variable}', '{source.get('property')}')", prefixes)
    if variable is not None:
        base = _part(self, variable, source.get("part"))
        query = source.findtext(f"{B}query", "").strip()
        return self.paths.within(base, query, prefixes) if query else Place(base)
    return self.paths.named(source.text or "", prefixes)


def _write(self: Translator, place: Path, term: Term, values: dict[str, str]) -> None:
    """What never gets another value is only known to be there; everything else becomes a name."""
    if any(one.startswith("header ") for one in place):
        raise UntakenError("This part is a header block, and a workflow sends no headers of its own.")
    wanted = type_in(self.places.holder(place))
    fits = fitted(term, wanted)
    if fits is term and term.given:
        self.places.bind(place, term)
        return
    own = self.places.name_of(place)
    values[own] = fits.text
    self.places.bind(place, Term(own, fits.type))


def _literal(self: Translator, place: Path, literal: etree._Element, values: dict[str, str]) -> None:
    inner = [one for one in literal if isinstance(one.tag, str)]
    holder = self.places.holder(place)
    record = holder.type if isinstance(holder, Element) else holder
    if not inner:
        term = fitted(Term(quoted((literal.text or "").strip()), TEXT), type_in(holder))
        self.places.bind(place, Term(term.text, term.type, term.tight, True))
        return
    if not isinstance(record, Record):
        raise UntakenError("A literal of elements has no place here that a document describes.")
    own = inner[0] if len(inner) == 1 and local_name(inner[0].tag) == record.local else None
    _elements(self, place, record, own if own is not None else literal)


def _elements(self: Translator, place: Path, record: Record, node: etree._Element) -> None:
    """The leaves of a literal that say something; what stands empty only makes room for what is written later."""
    for child in node:
        if not isinstance(child.tag, str):
            continue
        slot = next((one for one in record.elements if one.local == local_name(child.tag)), None)
        if slot is None:
            raise UntakenError(f"There is no element {local_name(child.tag)} in {record.name}.")
        inner = (*place, slot.name)
        if isinstance(slot.type, Record):
            if not slot.is_list:
                _elements(self, inner, slot.type, child)
            elif any((one or "").strip() for one in child.itertext()):
                raise UntakenError(f"The literal has items of the list {slot.name}, which a step of its own makes.")
        elif (child.text or "").strip():
            term = fitted(Term(quoted((child.text or "").strip()), TEXT), type_in(slot))
            self.places.bind(inner, Term(term.text, term.type, term.tight, True))


@activity("invoke")
def _invoke(self: Translator, node: etree._Element, steps: Steps) -> bool:
    if any(node.find(f"{B}{one}") is not None for one in ("catch", "catchAll")):
        return scope_of(self, node, steps, lambda inner: _call(self, node, inner))
    return _call(self, node, steps)


def _call(self: Translator, node: etree._Element, steps: Steps) -> bool:
    link, operation = self.find_operation(node, True)
    if link is None or link.theirs is None or operation is None:
        self.not_taken(node, f"No document says what {node.get('operation', '')} of the partner {node.get('partnerLink', '')} is.")
        return True
    if link is self.link:
        self.note(node, f"invoke {node.get('operation', '')}", "It calls its caller back. That is an ordinary call here, to the address "
                  f"that an environment says for {self.calls[link.theirs.tag]}.", True)
    name = self.names.new(node.get("name") or node.get("operation") or "called")
    body: dict[str, Any] = {"call": f"{self.calls[link.theirs.tag]}.{operation.name}"}
    tree = self.places.tree(_sent(self, node, operation, link), operation.input.record)
    if tree:
        body["input"] = tree
    steps[name] = body
    _received(self, node, operation, link, name, steps)
    handler = node.find(f"{B}compensationHandler")
    if handler is not None:
        undo_by(self, handler, body)
    return True


def _sent(self: Translator, node: etree._Element, operation: ReadOperation, link: Link) -> Path:
    """Where the message to send is: a variable, or parts put together."""
    parts = node.find(f"{B}toParts")
    if parts is None:
        return (node.get("inputVariable") or node.get("variable") or "",)
    assert link.theirs is not None or link.mine is not None
    port_type = link.theirs if node.tag == f"{B}invoke" else link.mine
    messages = port_type.operations[operation.name.partition("#")[0]] if port_type is not None else ("", None, {})
    message = messages[0] if node.tag == f"{B}invoke" else messages[1] or ""
    made = self.places.variables["#sent"] = self.message_variable("#sent", message)
    self.places.bound = {key: one for key, one in self.places.bound.items() if key[0] != "#sent"}
    for one in parts.iterchildren(f"{B}toPart"):
        try:
            self.places.bind(("#sent", *made.parts.get(one.get("part", ""), ())), self.places.read((one.get("fromVariable", ""),)))
        except UntakenError as error:
            self.note(one, f"toPart {one.get('part')}", str(error))
    return ("#sent",)


def _received(self: Translator, node: etree._Element, operation: ReadOperation, link: Link, name: str, steps: Steps) -> None:
    """The answer of a call is the value of its step."""
    if operation.output is None:
        return
    answer = Term(name, of_record(operation.output.record), True, True)
    parts = node.find(f"{B}fromParts")
    for one in parts.iterchildren(f"{B}fromPart") if parts is not None else ():
        message = self.message_variable("#got", (link.theirs.operations[operation.name.partition("#")[0]][1] or "") if link.theirs else "")
        term = answer
        for part in message.parts.get(one.get("part", ""), ()):
            term = step(term, part)
        self.places.bind((one.get("toVariable", ""),), term)
    variable = node.get("outputVariable")
    if variable is None:
        return
    if variable in self.shared:  # several calls answer into it, so one name has to stand for all of them
        own = self.places.name_of((variable,))
        steps[self.names.new(f"keep_{own}")] = {"set": {own: name}}
        answer = Term(own, answer.type)
    self.places.bind((variable,), answer)


def undo_by(self: Translator, handler: etree._Element, body: dict[str, Any]) -> None:
    """A compensation handler of one call becomes what undoes the step."""
    before = dict(self.places.bound)
    inner, _ = self.block(handler)
    self.places.bound = before
    calls = [one for one in inner.values() if isinstance(one, dict) and "call" in one]
    if len(calls) == 1 == len(inner):
        body["undo"] = {key: value for key, value in calls[0].items() if key in ("call", "input")}
    elif inner:
        self.note(handler, "compensationHandler", "A step is undone by one call, and this handler does more. Make a workflow of it, "
                                                  "and name that under 'undo:'.")


@activity("reply")
def _reply(self: Translator, node: etree._Element, steps: Steps) -> bool:
    link, operation = self.find_operation(node, False)
    if self.operation is None or operation is None or operation.name != self.operation.name or link is not self.link:
        self.not_taken(node, "It answers another operation than the one that began.")
        return True
    place = _sent(self, node, operation, link) if link is not None else ("",)
    fault = node.get("faultName")
    if fault is None:
        self.answer(steps, node.get("name") or "answer", place)
        return False
    name = fault.rpartition(":")[2]
    if name not in operation.faults:
        return self.ending(node, f"reply with the fault {name}, which the contract does not declare", steps, name)
    self.fail(name, place if place != ("",) else None, steps)
    return False


@activity("throw", "rethrow")
def _throw(self: Translator, node: etree._Element, steps: Steps) -> bool:
    rethrown = node.tag == f"{B}rethrow"
    name = (self.caught[-1] if self.caught else "") if rethrown else node.get("faultName", "").rpartition(":")[2]
    variable = node.get("faultVariable")
    if not rethrown:
        inlined = _inlined(self, node, name, variable, steps)
        if inlined is not None:
            return inlined
    if self.operation is not None and name in self.operation.faults:
        place: Path | None = (variable,) if variable else None
        if rethrown:
            place = ("#caught",)
        self.fail(name, place, steps)
        return False
    return self.ending(node, f"{'rethrow' if rethrown else 'throw'} {name}".strip(), steps, name or "fault")


def _inlined(self: Translator, node: etree._Element, name: str, variable: str | None, steps: Steps) -> bool | None:
    """A fault that a handler around it catches: what the handler does is done here. None where no handler does, or where the process would
    go on after the scope, which steps in its middle cannot."""
    for depth in range(len(self.scopes) - 1, -1, -1):
        scope = self.scopes[depth]
        handler = scope.catches.get(name)
        found = handler if handler is not None else scope.rest
        if found is None:
            continue
        before = dict(self.places.bound)
        outer, self.scopes = self.scopes, self.scopes[:depth]
        if handler is not None and handler.get("faultVariable") and variable:
            with suppress(UntakenError):
                self.places.bind((handler.get("faultVariable", ""),), self.places.read((variable,)))
        try:
            inner, goes_on = self.block(found)
        finally:
            self.scopes = outer
        if goes_on and not _last(node, found):
            self.places.bound = before
            return None
        steps.update(inner)
        return goes_on
    return None


def _last(node: etree._Element, handler: etree._Element) -> bool:
    """Whether nothing of its scope comes after an activity."""
    scope = handler.getparent()
    if scope is not None and local_name(str(scope.tag)) == "faultHandlers":
        scope = scope.getparent()
    current: etree._Element | None = node
    while current is not None and current is not scope:
        parent = current.getparent()
        if parent is None or local_name(str(parent.tag)) in ("while", "repeatUntil", "forEach", "flow"):
            return False
        if local_name(str(parent.tag)) == "sequence" and activities(parent)[-1] is not current:
            return False
        current = parent
    return True


@activity("exit")
def _exit(self: Translator, node: etree._Element, steps: Steps) -> bool:
    return self.ending(node, "The process stops here without an answer", steps, "stop")


@activity("empty")
def _empty(self: Translator, node: etree._Element, steps: Steps) -> bool:
    return True


@activity("validate")
def _validate(self: Translator, node: etree._Element, steps: Steps) -> bool:
    self.note(node, "validate", "Every message is held against its contract anyway.", True)
    return True


@activity("compensate", "compensateScope")
def _compensate(self: Translator, node: etree._Element, steps: Steps) -> bool:
    self.note(node, local_name(str(node.tag)), "What was done is undone in reverse order when the workflow fails, and only then.", True)
    return True


@activity("wait")
def _wait(self: Translator, node: etree._Element, steps: Steps) -> bool:
    wait_for(self, node, steps, node.get("name") or "pause")
    return True


def wait_for(self: Translator, node: etree._Element, steps: Steps, name: str) -> None:
    """`for` and `until` of a wait or an alarm."""
    for kind in ("for", "until"):
        inner = node.find(f"{B}{kind}")
        if inner is None:
            continue
        try:
            term = self.paths.term(inner.text or "", prefixes_of(inner))
        except UntakenError as error:
            self.note(node, f"{kind} of {local_name(str(node.tag))}", str(error))
            return
        made = {"for": "duration", "until": "moment"}[kind]
        text = f"{made}({term.text})" if term.type.of is Of.TEXT else term.text
        steps[self.names.new(name)] = {"wait": text if kind == "for" else f"{text} - call.at"}
        return


@activity("receive")
def _receive(self: Translator, node: etree._Element, steps: Steps) -> bool:
    if node is not self.start:
        self.not_taken(node, "A workflow takes one message, with which it begins. Publish an operation of its own for this one.")
    return True
