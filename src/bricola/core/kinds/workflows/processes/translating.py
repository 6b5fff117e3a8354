"""From the activities of a process to the steps of a workflow.

One pass over the tree, which knows at every point where the value of each variable comes from (`places`). Every activity is a function of
the table `ACTIVITIES`, which adds its steps and says whether the process can go on after it. What has no counterpart is noted with its
line, never left out in silence; where an end is no answer, there is a choice that a person confirms (`endings`).
"""

from collections.abc import Callable, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any

from lxml import etree

from bricola.core.contracts.reading.contract import ReadOperation
from bricola.core.contracts.reading.parts import line_of, local_name
from bricola.core.expressions.types import spoken
from bricola.core.kinds.workflows.definition import PROBLEM
from bricola.core.kinds.workflows.processes.documents import B, Documents, Link, expanded
from bricola.core.kinds.workflows.processes.paths import Paths
from bricola.core.kinds.workflows.processes.places import Names, Path, Places, Steps, Variable
from bricola.core.kinds.workflows.processes.terms import TRUTH, Term, UntakenError
from bricola.core.shapes.model import Element, Record


@dataclass(frozen=True)
class Left:
    """Something that was not taken, or taken in another way: where, what, and why or how."""

    line: int
    what: str
    why: str
    taken: bool = False  # in another way

    def as_dict(self) -> dict[str, Any]:
        return {"line": self.line, "what": self.what, "why": self.why, "taken": self.taken}


@dataclass(frozen=True)
class Ending:
    """An end that is no answer: what it may become, and what is proposed. `id` names it in a choice."""

    id: str
    line: int
    what: str
    options: tuple[str, ...]
    proposal: str
    chosen: str = ""

    def as_dict(self) -> dict[str, Any]:
        return {"id": self.id, "line": self.line, "what": self.what, "options": list(self.options), "proposal": self.proposal,
                "chosen": self.chosen}


@dataclass
class Scope:
    """A scope that is open: its handlers by fault, and what catches the rest."""

    catches: dict[str, etree._Element] = field(default_factory=dict)
    rest: etree._Element | None = None


class Translator:
    """One workflow: the operation that starts it, and everything that follows."""

    def __init__(self, process: etree._Element, documents: Documents, start: etree._Element | None, link: Link | None,
                 operation: ReadOperation | None, calls: Mapping[str, str], choices: Mapping[str, str]) -> None:
        self.process, self.documents, self.start, self.link, self.operation = process, documents, start, link, operation
        self.calls, self.choices = calls, choices
        inputs = [spoken(one.name) for one in operation.input.record.slots] if operation is not None else []
        self.names = Names(inputs)
        self.places = Places(self._variables(), self.names)
        self.paths = Paths(documents, self.places)
        self.left: dict[tuple[int, str], Left] = {}
        self.endings: dict[str, Ending] = {}
        self.scopes: list[Scope] = []
        self.caught: list[str] = []  # faults whose handlers are being made, inside out
        self.collected: dict[str, Term] = {}  # counter of a loop -> what it collects at each item
        self.appending: dict[str, tuple[Path, str]] = {}  # counter of a loop -> the list that is filled by it, its place for one item
        self.shared = {name for name in (one.get("outputVariable", "") for one in process.iter(f"{B}invoke"))
                       if sum(1 for one in process.iter(f"{B}invoke") if one.get("outputVariable") == name) > 1}

    # -- what stands where

    def _variables(self) -> dict[str, Variable]:
        found: dict[str, Variable] = {}
        nodes = [*self.process.iter(f"{B}variable"), *self.process.iter(f"{B}catch"), *self.process.iter(f"{B}onEvent")]
        for node in nodes:
            name = node.get("name", "") if node.tag == f"{B}variable" else node.get("faultVariable", "")
            if name:
                found[name] = self._variable(name, node)
        return found

    def _variable(self, name: str, node: etree._Element) -> Variable:
        message = node.get("messageType") or node.get("faultMessageType")
        element = node.get("element") or node.get("faultElement")
        if message is not None:
            return self.message_variable(name, expanded(node, message))
        contract = self.documents.contract
        if element is not None:
            return Variable(name, contract.element(expanded(node, element)))
        return Variable(name, contract.type(expanded(node, node.get("type", ""))) if node.get("type") else None)

    def message_variable(self, name: str, message: str) -> Variable:
        """A variable of a message: documents have one part, the content of its element; others a part for each of theirs."""
        parts = self.documents.messages.get(message, {})
        bodies = [part for part, (kind, tag) in parts.items() if kind == "element" and (len(parts) == 1 or tag in self.documents.bodies)]
        if len(bodies) == 1:  # further parts are header blocks
            places = {part: () if part == bodies[0] else (f"header {part}",) for part in parts}
            return Variable(name, self.documents.contract.element(parts[bodies[0]][1]), places)
        elements = []
        for part, (kind, tag) in parts.items():
            found = self.documents.contract.element(tag) if kind == "element" else self.documents.contract.type(tag)
            if found is not None:
                elements.append(Element(part, found))
        return Variable(name, Record(local_name(message), tuple(elements), id=f"message {message}"), {part: (part,) for part in parts})

    # -- notes

    def note(self, node: etree._Element, what: str, why: str, taken: bool = False) -> None:
        line = line_of(node) or 0
        self.left.setdefault((line, what), Left(line, what, why, taken))

    def not_taken(self, node: etree._Element, why: str) -> None:
        name = node.get("name")
        self.note(node, f"{local_name(str(node.tag))}{f' {name}' if name else ''}", why)

    # -- running over activities

    def block(self, nodes: Any) -> tuple[Steps, bool]:
        """Steps of activities in order, and whether the process goes on after them."""
        steps: Steps = {}
        goes_on = True
        for node in activities(nodes):
            if not goes_on:
                self.not_taken(node, "Nothing runs after an answer.")
                continue
            goes_on = self.activity(node, steps)
        return steps, goes_on

    def activity(self, node: etree._Element, steps: Steps) -> bool:
        made = ACTIVITIES.get(local_name(str(node.tag)))
        if made is None or not str(node.tag).startswith(B):
            self.not_taken(node, "This activity is no part of WS-BPEL 2.0, or has no counterpart in a workflow.")
            return True
        inner: Steps = {}
        waits = self._link_condition(node)
        before = dict(self.places.bound)
        goes_on = made(self, node, inner)
        if waits:
            self.either({waits: (inner, goes_on, self.places.bound)}, before, steps, self.names.new(node.get("name") or "linked"), {})
            goes_on = True
        else:
            steps.update(inner)
        self._leaves(node, steps)
        return goes_on

    def _link_condition(self, node: etree._Element) -> str:
        """What must hold of links that lead here."""
        targets = node.find(f"{B}targets")
        if targets is None:
            return ""
        join = targets.findtext(f"{B}joinCondition", "").strip()
        names = [one.get("linkName", "") for one in targets.iterchildren(f"{B}target")]
        known = [self.places.bound[f"link {one}",] for one in names if (f"link {one}",) in self.places.bound]
        if join:
            try:
                return self.paths.condition(join, prefixes_of(targets))
            except UntakenError as error:
                self.note(targets, "joinCondition", f"{error} Any of the links lets it run.")
        return " or ".join(one.inner for one in known if one.text != "True") if all(one.text != "True" for one in known) else ""

    def _leaves(self, node: etree._Element, steps: Steps) -> None:
        """Links that begin at an activity: the name of each says whether it is taken."""
        sources = node.find(f"{B}sources")
        for one in sources.iterchildren(f"{B}source") if sources is not None else ():
            place = (f"link {one.get('linkName', '')}",)
            written = one.findtext(f"{B}transitionCondition", "").strip()
            term = Term("True", TRUTH)
            if written:
                try:
                    term = Term(self.paths.condition(written, prefixes_of(one)), TRUTH, False)
                except UntakenError as error:
                    self.note(one, f"link {one.get('linkName')}", f"{error} It is always taken.")
            if term.text != "True" or node.find(f"{B}targets") is not None:
                name = self.names.new(f"goes_{one.get('linkName', '')}")
                steps[self.names.new(f"link_{one.get('linkName', '')}")] = {"set": {name: term.text}}
                term = Term(name, TRUTH)
            self.places.bound[place] = term

    def either(self, branches: Mapping[str, tuple[Steps, bool, dict[Path, Term]]], before: dict[Path, Term], steps: Steps, name: str,
               labels: Mapping[str, str], rest: "tuple[Steps, bool, dict[Path, Term]] | None" = None) -> bool:
        """Branches that come together again. A place that has another source on some of them gets a name of its own on all."""
        rest = rest or ({}, True, dict(before))
        ways = [one for one in (*branches.values(), rest) if one[1]]
        self.places.bound = self.merged(ways) or dict(before)
        for label, (inner, goes_on, _) in [*branches.items(), ("", rest)]:
            if not inner and goes_on and label:
                inner[self.names.new("nothing")] = {"note": "=nothing to do"}
        body: dict[str, Any] = {"when": {labels.get(test) or self.names.new("yes"): {"test": test, "steps": inner}
                                         for test, (inner, _, _) in branches.items()}}
        if rest[0]:
            body["otherwise"] = rest[0]
        steps[name] = body
        return bool(ways)

    def merged(self, ways: list[tuple[Steps, bool, dict[Path, Term]]]) -> dict[Path, Term]:
        """What is known where ways meet. Steps that give a place its own name are added to the ways that have it under another one."""
        found: dict[Path, Term] = {}
        for place in dict.fromkeys(key for _, _, bound in ways for key in bound):
            terms = [bound[place] for _, _, bound in ways if place in bound]
            if len({one.text for one in terms}) == 1 and len(terms) == len(ways):
                found[place] = terms[0]
                continue
            own = self.places.name_of(place)
            for inner, _, bound in ways:
                if place in bound and bound[place].text not in (own, ""):
                    inner[self.names.new(f"keep_{own}")] = {"set": {own: bound[place].text}}
            found[place] = Term(own, terms[0].type)
        return found

    @contextmanager
    def scope(self, opened: Scope) -> Any:
        self.scopes.append(opened)
        try:
            yield
        finally:
            self.scopes.pop()

    # -- answers

    def find_operation(self, node: etree._Element, theirs: bool) -> tuple[Link | None, ReadOperation | None]:
        link = self.documents.links.get(node.get("partnerLink", ""))
        port_type = (link.theirs if theirs else link.mine) if link is not None else None
        if port_type is None:
            return link, None
        return link, self.documents.operation(port_type, node.get("operation", ""))

    def ending(self, node: etree._Element, what: str, steps: Steps, wish: str = "") -> bool:
        """An end that is no answer becomes one: as a person chose, or as is proposed."""
        line = line_of(node) or 0
        faults = list(self.operation.faults) if self.operation is not None else []
        options = ("reply", *(f"fail {one}" for one in (*faults, PROBLEM)))
        likely = next((f"fail {one}" for one in faults if wish and (one.lower() in wish.lower() or wish.lower() in one.lower())), "")
        proposal = likely or (options[1] if wish else "reply")
        number, key = 1, f"line {line}"
        while key in self.endings and self.endings[key].what != what:
            number += 1
            key = f"line {line}.{number}"
        chosen = self.choices.get(key, "")
        self.endings[key] = Ending(key, line, what, options, proposal, chosen if chosen in options else "")
        use = self.endings[key].chosen or proposal
        if use == "reply":
            self.answer(steps, "answer")
        else:
            self.fail(use.removeprefix("fail "), None, steps, what)
        return False

    def answer(self, steps: Steps, name: str, place: Path | None = None) -> None:
        """A reply from a place; without one from whatever variable the process answers with."""
        output = self.operation.output if self.operation is not None else None
        if output is None:
            steps[self.names.new(name)] = {"reply": {} if self.operation is not None else {"done": "True"}}
            return
        if place is None:
            place = next(((node.get("variable", ""),) for node in self.process.iter(f"{B}reply")
                          if node.get("faultName") is None and node.get("variable")
                          and self.find_operation(node, False)[1] is self.operation), None)
        steps[self.names.new(name)] = {"reply": self.places.tree(place, output.record) if place is not None else {}}

    def fail(self, fault: str, place: Path | None, steps: Steps, words: str = "") -> None:
        """A declared fault, from a place; without one from inputs of the same names."""
        if fault == PROBLEM:
            steps[self.names.new("refuse")] = {"fail": PROBLEM, "message": f"={words}."}
            return
        assert self.operation is not None
        record = self.operation.faults[fault]
        body: dict[str, Any] = {"fail": fault}
        if words:
            body["message"] = f"={words}."
        detail = self.places.tree(place, record) if place is not None else {}
        known = {one.name: one for one in self.operation.input.record.slots}
        for one in record.slots:
            if one.name not in detail and place is None:
                if one.name in known and known[one.name].type == one.type:
                    detail[one.name] = spoken(one.name)
                elif words and one.least and not isinstance(one.type, Record) and one.type.base == "string" and one.name != "message":
                    detail[one.name] = f"={words}."
        if detail:
            body["detail"] = detail
        steps[self.names.new(f"refuse_{fault}")] = body

    def calls_in(self, node: etree._Element) -> dict[str, Record]:
        """The faults that calls inside of an activity can end with."""
        found: dict[str, Record] = {}
        for one in [node, *node.iter(f"{B}invoke")]:
            _, operation = self.find_operation(one, True) if one.tag == f"{B}invoke" else (None, None)
            if operation is not None:
                found |= operation.faults
        return found

    def uncaught(self) -> dict[tuple[str, str], etree._Element]:
        """The faults of calls that no handler around them catches, and that the contract does not declare itself."""
        found: dict[tuple[str, str], etree._Element] = {}
        for node in self._own(f"{B}invoke"):
            _, operation = self.find_operation(node, True)
            for fault in operation.faults if operation is not None else ():
                if not any(_catches(around, node, fault) for around in (node, *node.iterancestors())):
                    found.setdefault((fault, node.get("name") or node.get("operation") or "a call"), node)
        return found

    def _own(self, tag: str) -> list[etree._Element]:
        """The activities that belong to this workflow: not those behind the other messages of a pick, nor what undoes."""
        apart = [one for pick in self.process.iter(f"{B}pick") for one in pick.iterchildren(f"{B}onMessage")
                 if self.start is not None and self.start.tag == f"{B}onMessage" and one is not self.start]
        return [one for one in self.process.iter(tag)
                if not any(around in apart or around.tag in (f"{B}compensationHandler", f"{B}eventHandlers")
                           for around in one.iterancestors())]


def _catches(around: etree._Element, node: etree._Element, fault: str) -> bool:
    """Whether the handlers of an activity around another are for one of its faults; what stands in them is not caught by them."""
    holder = around.find(f"{B}faultHandlers")
    holder = around if holder is None else holder
    if holder is not around and any(one is holder for one in node.iterancestors()):
        return False
    if holder is around and any(one.getparent() is around for one in node.iterancestors(f"{B}catch", f"{B}catchAll")):
        return False
    names = [one.get("faultName", "").rpartition(":")[2] for one in holder.iterchildren(f"{B}catch")]
    return fault in names or "" in names or holder.find(f"{B}catchAll") is not None


def activities(nodes: Any) -> list[etree._Element]:
    return [one for one in nodes if isinstance(one.tag, str) and local_name(one.tag) not in NO_ACTIVITIES]


def prefixes_of(node: etree._Element) -> dict[str, str]:
    return {prefix or "": uri for prefix, uri in node.nsmap.items()}


# What stands beside activities.
NO_ACTIVITIES = frozenset({
    "targets", "sources", "documentation", "import", "partnerLinks", "messageExchanges", "variables", "correlationSets",
    "correlations", "faultHandlers", "eventHandlers", "compensationHandler", "terminationHandler", "extensions", "catch", "catchAll",
    "toParts", "fromParts",
    "links", "condition", "literal", "from", "to", "copy", "for", "until", "repeatEvery", "startCounterValue", "finalCounterValue",
    "completionCondition", "elseif", "else",
})
Activity = Callable[[Translator, etree._Element, Steps], bool]
ACTIVITIES: dict[str, Activity] = {}


def activity(*names: str) -> Callable[[Activity], Activity]:
    """Registers what an activity becomes."""

    def registered(made: Activity) -> Activity:
        for name in names:
            ACTIVITIES[name] = made
        return made

    return registered
