"""The steps that do one thing: call, set, answer, fail, note, wait, files."""

from dataclasses import replace
from typing import Any

from bricola.core.definitions.engines.engine import Family
from bricola.core.definitions.model import Operation, ServiceDefinition
from bricola.core.definitions.names import pascal_case
from bricola.core.definitions.parts import RecordDefinition
from bricola.core.expressions.compiling import Compiled, compile_expression, compile_record
from bricola.core.expressions.types import EXACT, SIMPLE, TEXT, UNKNOWN, WHOLE, Of, Type, of_record, record_of
from bricola.core.kinds.kind import ResolvedOperation
from bricola.core.kinds.resolve import resolve_operation
from bricola.core.kinds.workflows.building import Around, Builder, Ended, Faults, add_faults, builds
from bricola.core.kinds.workflows.definition import PROBLEM, Step, Undo, WorkflowDefinition
from bricola.core.kinds.workflows.jobs import NOW, RESULT, STATUS
from bricola.core.kinds.workflows.knowledge import Known
from bricola.core.kinds.workflows.program import (
    CallNode,
    FailNode,
    FileNode,
    HttpNode,
    NoteNode,
    ReplyNode,
    SetNode,
    Undoing,
    WaitNode,
)
from bricola.core.kinds.workflows.reaching import read_call
from bricola.core.problems import ProblemError, shown
from bricola.core.shapes.model import Element, Record
from bricola.core.shapes.typed import typed_elements

_READING = ("GET",)
_ANSWERS = tuple(range(200, 300))


@builds("call")
def _call(self: Builder, step: Step, known: Known, path: str, around: Around) -> Ended:
    place = self.at(path)
    try:
        called = read_call(str(step.call))
    except ValueError as error:
        self.wrong("call", f"This names nothing that can be called: {error}.", f"{place}, call", found=shown(str(step.call)))
        return Ended(None, self.named(step, known, UNKNOWN, path), [path])
    if called.backend:
        return _http(self, step, known, path, called.backend)
    outside = [one for one in ("method", "path", "headers", "body", "gives", "accepts") if getattr(step, one) is not None]
    if outside:
        self.wrong("call", f"Only an address has {', '.join(outside)}.", place, "call: http BACKEND", shown(str(step.call)))
    inner = _resolved(self, str(step.call), f"{place}, call", step.name, path)
    if inner is None:
        return Ended(None, self.named(step, known, UNKNOWN, path), [path])
    into = self.map(path, "input", step.input or {}, inner.shape.input, known)
    raises: Faults = {}
    add_faults(raises, {one.name: (one,) for one in inner.shape.faults})
    after = self.named(step, known, of_record(inner.shape.output), path)
    tries = step.tries or 1
    if tries > 1 and inner.shape.writes:
        self.wrong("tries", f"{step.call} writes, and might write again.", f"{place}, tries", "1 for what writes", str(tries),
                   "Take 'tries:' out.")
    undo = _undoing(self, step.undo, after, path, step.name) if step.undo is not None else None
    self.writes = self.writes or inner.shape.writes
    node = None
    if into is not None:
        node = CallNode(name=step.name, path=path, action=step.action, text=str(step.call), inner=inner, into=into, tries=tries,
                        pause=step.pause or 0.0, undo=undo, repeatable=bool(step.repeatable))
    return Ended(node, after, [path], raises)


def _resolved(self: Builder, text: str, place: str, name: str, path: str) -> ResolvedOperation | None:
    """What a call runs. An operation of a service brings what it gives itself; a source is called bare."""
    called = read_call(text)
    kind, source = called.reference
    try:
        if kind == ServiceDefinition.kind:
            service = self.catalogue.find_service(source)
            operation = next((one for one in service.operations if one.name == called.verb), None) if service is not None else None
            if service is None or operation is None:
                offered = ", ".join(one.name for one in service.operations) if service is not None else ""
                self.wrong("call", f"There is no such {'operation' if service is not None else 'service'}.", place,
                           f"one of {offered}" if offered else "a service that is defined", shown(text))
                return None
            if service.contract:
                self.wrong("call", f"{service.name} follows the contract of somebody else, which a workflow calls by what runs it.", place,
                           f"call: {operation.runs}", shown(text))
                return None
        else:
            operation = Operation(name=pascal_case(name) or name, runs=text)
        if operation.source[0] == WorkflowDefinition.kind:
            if operation.verb in (STATUS, RESULT):
                self.wrong("call", "Who had a job accepted asks for it, and no other workflow.", place,
                           f"call: {' '.join(operation.source)}", shown(text))
                return None
            operation = operation.model_copy(update={"runs": f"{' '.join(operation.source)}.{NOW}"})  # its answer is waited for
        resolved = resolve_operation(operation, self.catalogue, self.form, place)
    except ProblemError as error:
        self.problems += error.problems
        return None
    self.inner[path] = resolved
    return resolved


def _undoing(self: Builder, undo: Undo, known: Known, path: str, name: str) -> Undoing | None:
    place = f"{self.at(path)}, undo"
    try:
        called = read_call(undo.call)
    except ValueError as error:
        self.wrong("call", f"This names nothing that can be called: {error}.", f"{place}, call", found=shown(undo.call))
        return None
    if called.backend:
        self.wrong("undo", "What undoes a step is an operation.", f"{place}, call", "an operation of a source, or a workflow",
                   shown(undo.call))
        return None
    inner = _resolved(self, undo.call, f"{place}, call", f"undo-{name}", f"{path}.undo")
    into = self.map(path, "undo, input", undo.input, inner.shape.input, known) if inner is not None else None
    if inner is None or into is None:
        return None
    self.writes = True
    return Undoing(undo.call, inner, into)


def _http(self: Builder, step: Step, known: Known, path: str, backend: str) -> Ended:
    place = self.at(path)
    found = self.catalogue.find_backend(backend)
    if found is None or found.about.family is not Family.HTTP:
        self.wrong("backend", "There is no such backend that is asked over HTTP.", f"{place}, call", "a backend with 'engine: http'",
                   shown(backend))
    if step.undo is not None:
        self.wrong("undo", "What an address does is undone by a step of its own, in a handler.", f"{place}, undo", mend="Take 'undo:' out.")
    if step.input is not None:
        self.wrong("call", "An address has a path, headers and a body.", f"{place}, input", mend="Write 'body:'.")
    method = step.method or ("POST" if step.body is not None else "GET")
    where = self.expression(str(step.path), known, f"{place}, path", frozenset({Of.TEXT}), "a text") if step.path is not None else None
    headers: dict[str, Compiled] = {}
    for name, text in (step.headers or {}).items():
        value = self.expression(text, known, f"{place}, headers, {name}", frozenset({Of.TEXT}), "a text")
        if value is not None:
            headers[name] = value
    body = self.trying(compile_record, step.body, known, f"{place}, body") if step.body is not None else None
    if body is not None and method in _READING:
        self.wrong("call", f"A {method} has no body.", f"{place}, body", "POST, PUT or PATCH", method)
    gives: Record | None = None
    if step.gives is not None:
        definition = self.catalogue.get(RecordDefinition, step.gives)
        if definition is None:
            self.wrong("record", "There is no such record.", f"{place}, gives", "a record that is defined", shown(step.gives))
        else:
            try:
                gives = Record(definition.name, tuple(typed_elements(definition.fields, self.catalogue, f"record {definition.name}")))
            except ProblemError as error:
                self.problems += error.problems
    tries = step.tries or 1
    if tries > 1 and method not in _READING:
        self.wrong("tries", f"A {method} may change something, and might do so again.", f"{place}, tries", "1", str(tries))
    self.writes = self.writes or method not in _READING
    answer = record_of((("status", WHOLE), *((("body", of_record(gives)),) if gives is not None else ())))
    node = HttpNode(name=step.name, path=path, action=step.action, backend=backend, method=method, where=where, headers=headers, body=body,
                    body_record=None, gives=gives, accepts=step.accepts or _ANSWERS, tries=tries, pause=step.pause or 0.0,
                    repeatable=bool(step.repeatable))
    return Ended(node, self.named(step, known, answer, path), [path])


@builds("set")
def _set(self: Builder, step: Step, known: Known, path: str, around: Around) -> Ended:
    values: list[tuple[str, Compiled]] = []
    for name, text in (step.set or {}).items():
        place = f"{self.at(path)}, {name}"
        before = known.names.get(name)
        if before is not None and name not in known.variables:
            self.wrong("name", f"{name} is the value of something else, and cannot be set.", place, "a name of its own", shown(name))
            continue
        if name in around.fixed:
            self.wrong("shared", f"{name} stands outside, and is seen by what runs at the same time.", place, "a name of its own",
                       mend="Collect values instead: 'collect:'.")
            continue
        target = Element(name, self.declared[name], 0) if self.declared.get(name) is not None else None  # type: ignore[arg-type]
        if text.startswith("="):
            text = repr(text[1:])
        compiled = self.trying(_targeted, text, known, place, target)
        if compiled is None:
            if before is None:
                known = known.with_name(name, UNKNOWN, True)
            continue
        given = replace(compiled.type.kept if compiled.type.of is not Of.LIST else compiled.type, sensitive=bool(compiled.secret))
        if before is not None and target is None:
            if not _fits(before, given):
                self.wrong("unlike", f"{name} was of another type before.", place, before.words, f"{text}, {given.words}"[:300],
                           "Use another name, or say its type under 'variables:'.")
                continue
            given = before
        elif target is not None and before is not None:
            given = before
        values.append((name, compiled))
        known = known.with_name(name, given, True)
        if given.optional and not compiled.type.optional:
            known = known.knowing({name})
    return Ended(SetNode(name=step.name, path=path, action=step.action, values=tuple(values)), known, [path])


def _targeted(text: str, target: Element | None, names: Any, place: str, known: frozenset[str]) -> Compiled:
    return compile_expression(text, names, place, known, target)


def _fits(before: Type, given: Type) -> bool:
    if given.of is Of.NOTHING:
        return before.optional
    same = before.of is given.of and before.base == given.base
    if before.of is Of.LIST and given.item is not None and before.item is not None and given.item.of is not Of.NOTHING:
        same = same and (before.item.of in (given.item.of, Of.NOTHING))
    if before.of is Of.RECORD:
        same = same and set(before.names) == set(given.names)
    return same and (before.optional or not given.optional)


@builds("reply")
def _reply(self: Builder, step: Step, known: Known, path: str, around: Around) -> Ended:
    if around.mute:
        self.wrong("reply", f"Nothing can be answered here: {around.mute}.", self.at(path),
                   mend="Collect what is found, and answer after it.")
    answer = self.map(path, "reply", step.reply or {}, self.output, known)
    node = ReplyNode(name=step.name, path=path, action=step.action, answer=answer) if answer is not None else None
    return Ended(node, None, [path])


@builds("fail")
def _fail(self: Builder, step: Step, known: Known, path: str, around: Around) -> Ended:
    place = self.at(path)
    shape = self.faults.get(str(step.fail))
    if shape is None and step.fail == PROBLEM:
        return _fail_plainly(self, step, known, path)
    if shape is None:
        self.wrong("fault", "The workflow declares no such fault.", f"{place}, fail", f"one of {', '.join((*self.faults, PROBLEM))}",
                   shown(str(step.fail)))
        return Ended(None, None, [path])
    message = self.expression(_plain_text(step.message), known, f"{place}, message", frozenset({Of.TEXT}), "a text") if step.message else \
        self.trying(compile_expression, repr(shape.description or shape.name), known, f"{place}, message")
    has_message = any(one.name == "message" for one in shape.record.slots) and "message" not in (step.detail or {})
    record = shape.record
    if has_message:
        record = Record(record.name, tuple(one for one in record.elements if one.name != "message"), record.description)
    detail = self.map(path, "detail", step.detail or {}, record, known)
    node = None
    if message is not None and detail is not None:
        node = FailNode(name=step.name, path=path, action=step.action, fault=shape.name, message=message, detail=detail,
                        has_message=has_message)
    return Ended(node, None, [path], {shape.name: (shape,)})


def _fail_plainly(self: Builder, step: Step, known: Known, path: str) -> Ended:
    """The one fault that every operation declares, for what no fault of its own is for."""
    place = self.at(path)
    if step.message is None or step.detail:
        self.wrong("fault", "A problem has a message, and nothing else." if step.detail else "A problem says in a sentence what is wrong.",
                   place, "a line 'message: …'", mend="Declare a fault of its own where callers need more." if step.detail else "")
        return Ended(None, None, [path])
    message = self.expression(_plain_text(step.message), known, f"{place}, message", frozenset({Of.TEXT}), "a text")
    node = FailNode(name=step.name, path=path, action=step.action, fault="", message=message, detail=None) if message is not None else None
    return Ended(node, None, [path])


def _plain_text(text: Any) -> str:
    return repr(text[1:]) if isinstance(text, str) and text.startswith("=") else str(text)


@builds("note")
def _note(self: Builder, step: Step, known: Known, path: str, around: Around) -> Ended:
    text = self.expression(_plain_text(step.note), known, f"{self.at(path)}, note", SIMPLE, "a value that is one text")
    return Ended(NoteNode(name=step.name, path=path, action=step.action, text=text) if text is not None else None, known, [path])


@builds("wait")
def _wait(self: Builder, step: Step, known: Known, path: str, around: Around) -> Ended:
    duration = self.expression(str(step.wait), known, f"{self.at(path)}, wait", EXACT | {Of.DURATION}, "seconds, or a duration")
    return Ended(WaitNode(name=step.name, path=path, action=step.action, duration=duration) if duration is not None else None, known,
                 [path])


@builds("write_file")
def _write_file(self: Builder, step: Step, known: Known, path: str, around: Around) -> Ended:
    return _file(self, step, known, path, str(step.write_file))


@builds("read_file")
def _read_file(self: Builder, step: Step, known: Known, path: str, around: Around) -> Ended:
    return _file(self, step, known, path, str(step.read_file))


def _file(self: Builder, step: Step, known: Known, path: str, folder: str) -> Ended:
    place = self.at(path)
    writes = step.write_file is not None
    backend = self.catalogue.find_backend(folder)
    if backend is None or backend.about.family is not Family.FOLDER:
        self.wrong("backend", "There is no such folder.", f"{place}, {step.action}", "a backend with 'engine: files'", shown(folder))
    if step.path is None or (writes and step.text is None):
        self.wrong("file", "A file has a path below its folder" + (", and a text." if writes else "."), place,
                   "path:" + (" and text:" if writes else ""))
        return Ended(None, known, [path])
    where = self.expression(_plain_text(step.path), known, f"{place}, path", frozenset({Of.TEXT}), "a text")
    text = self.expression(_plain_text(step.text), known, f"{place}, text", frozenset({Of.TEXT, Of.XML}), "a text") if writes else None
    self.writes = self.writes or writes
    after = self.named(step, known, record_of((("path", TEXT), *((("text", TEXT),) if not writes else ()))), path)
    if where is None or (writes and text is None):
        return Ended(None, after, [path])
    return Ended(FileNode(name=step.name, path=path, action=step.action, folder=folder, where=where, text=text), after, [path])


