"""Activities that hold others: sequence, if, loops, flow, scope, pick."""

import re
from collections.abc import Callable
from typing import Any

from lxml import etree

from bricola.core.contracts.reading.parts import local_name
from bricola.core.expressions.types import Of, Type, list_of
from bricola.core.kinds.workflows.processes.documents import B
from bricola.core.kinds.workflows.processes.doing import begin, undo_by, wait_for
from bricola.core.kinds.workflows.processes.guarding import scope_of
from bricola.core.kinds.workflows.processes.paths import Counter
from bricola.core.kinds.workflows.processes.places import Path, Steps, Variable
from bricola.core.kinds.workflows.processes.terms import WHOLE, Term, UntakenError
from bricola.core.kinds.workflows.processes.translating import Translator, activities, activity, prefixes_of
from bricola.core.shapes.model import Element

_MOST_ROUNDS, _AT_ONCE = 1_000, 8
_BOUND = f"A loop has a bound: at most {_MOST_ROUNDS} rounds, unless you say another."
_ITEM_OF = re.compile(r"^(?P<list>.*)\[\s*\$(?P<counter>[\w.-]+)\s*\]", re.DOTALL)
_COUNT_OF = re.compile(r"\s*count\s*\((?P<list>.*)\)\s*", re.DOTALL)


@activity("sequence")
def _sequence(self: Translator, node: etree._Element, steps: Steps) -> bool:
    inner, goes_on = self.block(node)
    steps.update(inner)
    return goes_on


@activity("if")
def _if(self: Translator, node: etree._Element, steps: Steps) -> bool:
    before = dict(self.places.bound)
    branches: dict[str, tuple[Steps, bool, dict[Path, Term]]] = {}
    labels: dict[str, str] = {}
    rest = None
    arms = [node, *node.iterchildren(f"{B}elseif"), *node.iterchildren(f"{B}else")]
    for number, arm in enumerate(arms):
        self.places.bound = dict(before)
        if arm.tag == f"{B}else":
            rest = (*self.block(arm), self.places.bound)
            continue
        condition = arm.find(f"{B}condition")
        try:
            test = self.paths.condition((condition.text if condition is not None else "") or "", prefixes_of(arm))
        except UntakenError as error:
            self.note(arm, f"condition of {local_name(str(arm.tag))} {node.get('name') or ''}".strip(), f"{error} Its steps never run.")
            test = "False"
        while test in branches:
            test = f"({test})"
        labels[test] = self.names.new(f"{node.get('name') or 'if'}_{number + 1}")
        branches[test] = (*self.block(arm), self.places.bound)
    return self.either(branches, before, steps, self.names.new(node.get("name") or "decided"), labels, rest)


def _loop(self: Translator, make: Callable[[], tuple[Steps, bool]], steps: Steps) -> tuple[Steps, bool]:
    """What a loop changes must have a name before it begins: its steps are made once to see what that is, and then once more."""
    before = dict(self.places.bound)
    kept = self.names.state(), dict(self.left), dict(self.endings), self.places.own()
    make()
    after = self.places.bound
    self.names.back(kept[0])
    self.left, self.endings = kept[1], kept[2]
    self.places.back(kept[3])
    self.places.bound = dict(before)
    changed = [place for place, term in after.items() if before.get(place) != term and not place[0].startswith("#")]
    values: dict[str, str] = {}
    for place in changed:
        try:
            value = self.places.read(place)
        except UntakenError:
            continue
        own = self.places.name_of(place)
        if value.text != own:
            values[own] = value.text
        self.places.bind(place, Term(own, value.type))
    if values:
        steps[self.names.new("beforehand")] = {"set": values}
    before = dict(self.places.bound)
    inner, goes_on = make()
    keeps = {self.places.name_of(place): self.places.bound[place].text for place in changed
             if place in before and place in self.places.bound and self.places.bound[place].text != before[place].text}
    if keeps and goes_on:
        inner[self.names.new("kept")] = {"set": keeps}
    self.places.bound = before
    if not inner:
        inner[self.names.new("nothing")] = {"note": "=nothing to do"}
    return inner, goes_on


@activity("while")
def _while(self: Translator, node: etree._Element, steps: Steps) -> bool:
    condition = node.find(f"{B}condition")
    body: dict[str, Any] = {}
    inner, _ = _loop(self, lambda: self.block(node), steps)
    try:
        test = self.paths.condition((condition.text if condition is not None else "") or "", prefixes_of(node))
    except UntakenError as error:
        self.note(node, "condition of while", f"{error} The loop never runs.")
        test = "False"
    body |= {"repeat_while": test, "at_most": _MOST_ROUNDS, "steps": inner}
    steps[self.names.new(node.get("name") or "repeated")] = body
    self.note(node, f"while {node.get('name') or ''}".strip(), _BOUND, True)
    return True


@activity("repeatUntil")
def _repeat_until(self: Translator, node: etree._Element, steps: Steps) -> bool:
    """It runs once at least, so what it gives is known after it: once before the loop, then again while its condition does not hold."""
    condition = node.find(f"{B}condition")
    first, goes_on = self.block(node)
    steps.update(first)
    if not goes_on:
        return False
    inner, _ = _loop(self, lambda: self.block(node), steps)
    try:
        test = self.paths.condition((condition.text if condition is not None else "") or "", prefixes_of(node))
    except UntakenError as error:
        self.note(node, "condition of repeatUntil", f"{error} It runs once.")
        return True
    steps[self.names.new(node.get("name") or "repeated")] = {"repeat_while": f"not ({test})", "at_most": _MOST_ROUNDS, "steps": inner}
    self.note(node, f"repeatUntil {node.get('name') or ''}".strip(), f"Its steps stand there once, and then in a loop. {_BOUND}", True)
    return True


@activity("forEach")
def _for_each(self: Translator, node: etree._Element, steps: Steps) -> bool:
    name, counter = self.names.new(node.get("name") or "each"), node.get("counterName", "counter")
    if node.find(f"{B}completionCondition") is not None:
        self.note(node, "completionCondition", "The loop goes through every item; 'stop: true' in a handler ends it.")
    texts = {side: (node.findtext(f"{B}{side}CounterValue") or "").strip() for side in ("start", "final")}
    prefixes = prefixes_of(node)
    try:
        start, final = (self.paths.term(texts[side], prefixes) for side in ("start", "final"))
    except UntakenError as error:
        self.not_taken(node, f"How often it runs cannot be said: {error}")
        return True
    body: dict[str, Any] = {}
    index = self.names.new(counter)
    items = _counted(self, texts["final"], final, prefixes) if start.text == "1" else None
    if items is not None:
        item = self.names.new(f"one_{items.text.rpartition('.')[2]}")
        body |= {"for_each": items.text, "item": item, "index": index}
        found = Counter(Term(f"{index} + 1", WHOLE, False), items.text, Term(item, (items.type.item or Type(Of.TEXT)).present, True, True))
    else:
        body |= {"for_each": f"numbers({_whole(start)}, {_whole(final)})", "item": index}
        found = Counter(Term(index, WHOLE, True, True))
    filled = _filled(self, node, counter, prefixes)
    self.paths.counters[counter] = found
    before_own = dict(self.places.variables)

    def make() -> tuple[Steps, bool]:
        for place, item_place in filled.items():
            holder = self.places.holder(place)
            assert isinstance(holder, Element)
            self.places.variables[item_place] = Variable(item_place, holder.type)
            self.appending[counter] = place, item_place
        inner, goes_on = self.block(node)
        for item_place in filled.values():
            if self.places.has((item_place,)):
                self.collected[counter] = self.places.read((item_place,))
        return inner, goes_on

    inner, _ = _loop(self, make, steps)
    self.appending.pop(counter, None)
    del self.paths.counters[counter]
    self.places.variables = before_own
    if node.get("parallel") == "yes":
        body["at_once"] = _AT_ONCE
    body["steps"] = inner
    collected = self.collected.pop(counter, None)
    if collected is not None:
        body["collect"] = collected.text
        self.places.bind(next(iter(filled)), Term(name, list_of(collected.type), True, True))
    steps[name] = body
    return True


def _counted(self: Translator, text: str, final: Term, prefixes: dict[str, str]) -> Term | None:
    """The list whose items an expression counts, if it does nothing else: `count($a) - count($b)` also begins and ends like one."""
    inner = _COUNT_OF.fullmatch(text)
    try:
        items = self.paths.term(inner["list"], prefixes) if inner is not None else None
    except UntakenError:
        return None
    return items if items is not None and final.text == f"count({items.text})" else None


def _whole(term: Term) -> str:
    return term.text if term.type.of is Of.WHOLE else f"whole({term.text})"


def _filled(self: Translator, node: etree._Element, counter: str, prefixes: dict[str, str]) -> dict[Path, str]:
    """The list that copies in a loop fill at its counter, if there is one."""
    for target in node.iter(f"{B}to"):
        found = _ITEM_OF.match((target.text or "").strip())
        if found is None or found["counter"] != counter:
            continue
        try:
            place = self.paths.place(found["list"], prefixes).path
        except UntakenError:
            continue
        holder = self.places.holder(place)
        if isinstance(holder, Element) and holder.is_list:
            return {place: f"#{'.'.join(place)}"}
    return {}


@activity("flow")
def _flow(self: Translator, node: etree._Element, steps: Steps) -> bool:
    inner = activities(node)
    if node.find(f"{B}links") is not None or next(node.iter(f"{B}reply"), None) is not None:
        self.note(node, f"flow {node.get('name') or ''}".strip(),
                  "Its activities wait for each other, or answer, so they run one after the other.", True)
        found, goes_on = self.block(_in_order(inner))
        steps.update(found)
        return goes_on
    if len(inner) < 2:
        found, goes_on = self.block(inner)
        steps.update(found)
        return goes_on
    before = dict(self.places.bound)
    lanes: dict[str, Any] = {}
    after = dict(before)
    goes_on = True
    for one in inner:
        self.places.bound = dict(before)
        lane: Steps = {}
        goes_on = self.activity(one, lane) and goes_on
        if lane:
            lanes[self.names.new(f"{one.get('name') or local_name(str(one.tag))}_lane")] = {"steps": lane}
        after |= {place: term for place, term in self.places.bound.items() if before.get(place) != term}
    self.places.bound = after
    if len(lanes) > 1:
        steps[self.names.new(node.get("name") or "together")] = {"parallel": lanes}
    else:
        for lane_body in lanes.values():
            steps.update(lane_body["steps"])
    return goes_on


def _in_order(inner: list[etree._Element]) -> list[etree._Element]:
    """Activities of a flow so that each comes after those whose links lead to it."""
    begins: dict[str, int] = {}
    for number, one in enumerate(inner):
        for source in one.iter(f"{B}source"):
            begins[source.get("linkName", "")] = number
    after = {number: {begins[name] for target in one.iter(f"{B}target") if (name := target.get("linkName", "")) in begins} - {number}
             for number, one in enumerate(inner)}
    order: list[int] = []
    while len(order) < len(inner):
        free = [number for number in after if number not in order and after[number] <= set(order)]
        order.append(free[0] if free else next(number for number in after if number not in order))
    return [inner[number] for number in order]


@activity("scope")
def _scope(self: Translator, node: etree._Element, steps: Steps) -> bool:
    for name in ("eventHandlers", "terminationHandler"):
        found = node.find(f"{B}{name}")
        if found is not None:
            self.not_taken(found, "What happens beside the steps is not part of a workflow.")
    last: Steps = {}

    def make(inner: Steps) -> bool:
        begin(self, node, inner)
        found, goes_on = self.block(node)
        inner.update(found)
        last.update(found)
        return goes_on

    goes_on = scope_of(self, node, steps, make)
    handler = node.find(f"{B}compensationHandler")
    if handler is not None:
        call = next((one for one in reversed(list(last.values())) if isinstance(one, dict) and "call" in one), None)
        if call is None:
            self.not_taken(handler, "There is no call in its scope that it would undo.")
        else:
            undo_by(self, handler, call)
    return goes_on


@activity("pick")
def _pick(self: Translator, node: etree._Element, steps: Steps) -> bool:
    if self.start is not None and self.start.getparent() is node:
        found, goes_on = self.block(self.start)
        steps.update(found)
        for alarm in node.iterchildren(f"{B}onAlarm"):
            self.not_taken(alarm, "A call begins the workflow, and no clock.")
        return goes_on
    alarms = list(node.iterchildren(f"{B}onAlarm"))
    for one in node.iterchildren(f"{B}onMessage"):
        self.not_taken(one, "A workflow takes one message, with which it begins. Publish an operation of its own for this one.")
    if not alarms:
        return True
    if node.find(f"{B}onMessage") is not None:
        self.note(node, f"pick {node.get('name') or ''}".strip(), "Only what it does when no message comes is taken.", True)
    wait_for(self, alarms[0], steps, node.get("name") or "pause")
    found, goes_on = self.block(alarms[0])
    steps.update(found)
    return goes_on


