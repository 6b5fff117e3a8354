"""From the text of a workflow to its program: every step checked in the light of what is known where it stands.

Strategy: the steps are walked in order with what is known (`knowledge.Known`), and each block says how its end is reached, if at all, and
which declared faults leave it. So a path that ends without an answer, a step that no path reaches, a value that may be absent where it is
used, and a fault that nobody declared are found by the same walk that compiles the expressions; nothing is looked at twice.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.expressions.checking import Names
from bricola.core.expressions.compiling import (
    Compiled,
    UnjudgedError,
    compile_condition,
    compile_expression,
    compile_map,
    compile_record,
)
from bricola.core.expressions.types import BOOLEAN, MOMENT, NOTHING, TEXT, UNKNOWN, Of, Type, list_of, merge, of_record, record_of
from bricola.core.kinds.kind import ResolvedOperation
from bricola.core.kinds.workflows.definition import Handler, Step
from bricola.core.kinds.workflows.knowledge import CALL, CAUGHT, Known, together
from bricola.core.kinds.workflows.program import (
    AttemptNode,
    Block,
    Catching,
    EachNode,
    Node,
    ParallelNode,
    SessionNode,
    WhenNode,
    WhileNode,
    nodes_of,
    stays_on,
    writes_of,
)
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.forms import Form
from bricola.core.shapes.model import FaultShape, Record

ANYTHING = "anything"
MOST_ITEMS = 10_000  # that a loop goes through where it does not say
_RESERVED = (CALL, CAUGHT)
Faults = dict[str, tuple[FaultShape, ...]]  # by name; several where things of one name are called


@dataclass(frozen=True)
class Around:
    """What stands around a step. `mute` says why nothing can be answered here, `fixed` are names that may not be set here."""

    mute: str = ""
    fixed: frozenset[str] = frozenset()
    sessions: tuple[str, ...] = ()
    looping: bool = False


@dataclass
class Built:
    """A block with what is known at its end (None: it is never reached), how its end is reached, and the faults that leave it."""

    block: Block
    known: Known | None
    ends: list[str]
    raises: Faults = field(default_factory=dict)


@dataclass
class Ended:
    """What became of one step."""

    node: Node | None
    known: Known | None
    ends: list[str]
    raises: Faults = field(default_factory=dict)


class Builder:
    """Builds one workflow. `problems` are all that were found."""

    def __init__(self, place: str, catalogue: Catalogue, form: Form, output: Record, faults: Sequence[FaultShape]) -> None:
        self.place, self.catalogue, self.form = place, catalogue, form
        self.output, self.faults = output, {one.name: one for one in faults}
        self.problems: list[Problem] = []
        self.used: set[str] = set()
        self.raised: set[str] = set()
        self.declared: dict[str, Record | None] = {}  # variables that say their type
        self.inner: dict[str, ResolvedOperation] = {}  # what steps call, by path
        self.writes = False
        self.seen: dict[str, Known] = {}  # what is known before a step, by path
        self.targets: dict[tuple[str, str], tuple[Record, Any, Known]] = {}  # maps by path and part: what they fill, and with what

    # what steps use

    def wrong(self, code: str, message: str, place: str, expected: str = "", found: str = "", mend: str = "") -> None:
        self.problems.append(Problem(f"workflow.{code}", message, place=place, expected=expected, found=found, mend=mend))

    def trying(self, make: Callable[..., Compiled], text: Any, known: Known, place: str, *more: Any) -> Compiled | None:
        """An expression, condition or map in the light of what is known; None where it is wrong."""
        try:
            compiled = make(text, *more, known.names, place, known.there)
        except ProblemError as error:
            self.problems += error.problems
            return None
        except UnjudgedError:
            return None
        self.used |= compiled.used
        return compiled

    def map(self, path: str, part: str, tree: Any, record: Record, known: Known) -> Compiled | None:
        """A map that fills a record, at a part of a step."""
        self.targets[path, part] = record, tree, known
        return self.trying(_mapped, tree, known, f"{self.at(path)}, {part}", record)

    def expression(self, text: str, known: Known, place: str, wanted: frozenset[Of], words: str) -> Compiled | None:
        """An expression of one of some classes, there for certain."""
        compiled = self.trying(compile_expression, str(text), known, place)
        if compiled is None:
            return None
        if compiled.type.optional or compiled.type.of not in wanted:
            self.problems.append(Problem("expression.absent" if compiled.type.optional else "expression.type",
                                         "This may be absent." if compiled.type.optional else "A value of another type belongs here.",
                                         place=f"{place}, character 1", expected=words, found=f"{text}, {compiled.type.words}"[:300]))
            return None
        return compiled

    # blocks

    def block(self, steps: Sequence[Step], known: Known, path: str, around: Around) -> Built:
        nodes: list[Node] = []
        here: Known | None = known
        ends, raises = [f"{path or 'the workflow'}, which has no steps"], Faults()
        for step in steps:
            where = f"{path}.{step.name}" if path else step.name
            if here is None:
                self.wrong("unreachable", f"No path leads to {step.name}.", self.at(where), found=f"the steps before it end with {ends[0]}"
                           if ends else "the steps before it answer or fail in every case", mend="Move it, or take it out.")
                break
            ended = self._step(step, here, where, around)
            if ended.node is not None:
                nodes.append(ended.node)
            here, ends = ended.known, ended.ends
            add_faults(raises, ended.raises)
        return Built(Block(tuple(nodes)), here, ends, raises)

    def at(self, path: str) -> str:
        return f"{self.place}, steps, {path.replace('.', ', ')}"

    def _step(self, step: Step, known: Known, path: str, around: Around) -> Ended:
        place = self.at(path)
        self.seen[path] = known
        if step.name in _RESERVED:
            self.wrong("name", f"{step.name} is a name of the language.", place, mend="Give the step another name.")
        only_if: Compiled | None = None
        inside = known
        if step.only_if is not None:
            only_if = self.trying(compile_condition, str(step.only_if), known, f"{place}, only_if")
            if only_if is not None:
                inside = known.knowing(only_if.when_true)
        ended = _BUILDERS[step.action](self, step, inside, path, around)
        if ended.node is not None:
            ended.node = replace(ended.node, only_if=only_if, seconds=step.seconds)
        if step.only_if is None:
            return ended
        skipped = known.knowing(only_if.when_false) if only_if is not None else known
        merged = together([ended.known, skipped])
        self._unlike(merged.unlike, place)
        ends = ended.ends if ended.known is not None else []
        return Ended(ended.node, merged.known, [*ends, f"{path}, when its condition does not hold"], ended.raises)

    def _unlike(self, found: list[tuple[str, Type, Type]], place: str) -> None:
        for name, one, other in found:
            self.wrong("unlike", f"{name} is of another type on another path.", place, one.words, other.words,
                       "Use two names, or one type on both.")

    def named(self, step: Step, known: Known, kind: Type, path: str) -> Known:
        """With the value of a step under its name."""
        if step.name in known.names:
            self.wrong("name", f"{step.name} is taken by what stands before it.", self.at(path), "a name of its own", shown(step.name))
            return known
        return known.with_name(step.name, kind.kept if kind.of is not Of.LIST else kind)

    # what branches and repeats

    def _when(self, step: Step, known: Known, path: str, around: Around) -> Ended:
        branches, ways, ends, raises = [], list[Known | None](), list[str](), Faults()
        rest = known
        for one in step.when:
            where = f"{path}.{one.name}"
            test = self.trying(compile_condition, str(one.test), rest, f"{self.at(where)}, test")
            inside = rest.knowing(test.when_true) if test is not None else rest
            built = self.block(one.steps, inside, where, around)
            if test is not None:
                branches.append((one.name, test, built.block))
                rest = rest.knowing(test.when_false)
            ways.append(built.known)
            ends += built.ends if built.known is not None else []
            add_faults(raises, built.raises)
        otherwise = None
        if "otherwise" in step.model_fields_set:
            built = self.block(step.otherwise, rest, f"{path}.otherwise", around)
            otherwise = built.block
            ways.append(built.known)
            ends += built.ends if built.known is not None else []
            add_faults(raises, built.raises)
        else:
            ways.append(rest)
            ends.append(f"{path}, when none of its branches is taken")
        merged = together(ways)
        self._unlike(merged.unlike, self.at(path))
        return Ended(WhenNode(name=step.name, path=path, action=step.action, branches=tuple(branches), otherwise=otherwise), merged.known,
                     ends, raises)

    def _attempt(self, step: Step, known: Known, path: str, around: Around) -> Ended:
        built = self.block(step.attempt, known, path, around)
        changed = {name for one in step.attempt for name in set_names(one)}
        before = known.forgetting(changed)
        handlers, ways, ends, raises = self._handlers(step.catch, before, path, around, built.raises)
        ways.append(built.known)
        ends += built.ends if built.known is not None else []
        always = Block()
        if step.always:
            last = self.block(step.always, before, f"{path}.always", replace(around, mute="what is done always answers nothing"))
            always = last.block
            add_faults(raises, last.raises)
        if not step.catch and not step.always:
            self.wrong("attempt", "Nothing is caught, and nothing is done always.", self.at(path), "catch: or always:",
                       mend="Add 'catch:', or write the steps without 'attempt:'.")
        merged = together(ways)
        self._unlike(merged.unlike, self.at(path))
        node = AttemptNode(name=step.name, path=path, action=step.action, block=built.block, handlers=tuple(one for one, _ in handlers),
                           always=always)
        return Ended(node, merged.known, ends, raises)

    def _handlers(self, written: Sequence[Handler], known: Known, path: str, around: Around,
                  raises: Faults) -> tuple[list[tuple[Catching, Type | None]], list[Known | None], list[str], Faults]:
        """Handlers with the type of what they collect, what is known after each, how their ends are reached, and what is not caught."""
        handlers, ways, ends = list[tuple[Catching, Type | None]](), list[Known | None](), list[str]()
        left, after = dict(raises), Faults()
        done = ""
        for one in written:
            where = f"{path}.catch.{one.name}"
            fault = one.name if one.name in raises and not one.codes else ""
            if done:
                self.wrong("unreachable", f"{done} before it catches everything.", self.at(where), mend=f"Move {done} to the end.")
            if not fault and not one.codes and one.name != ANYTHING:
                self.wrong("catch", f"Nothing in it ends with {one.name}.", self.at(where), f"one of {', '.join((*raises, ANYTHING))}",
                           shown(one.name), "Name the first part of a problem's code with 'codes:' where no declared fault is meant.")
            inside = Known({**known.names, CAUGHT: _caught(raises.get(fault, ()))}, known.there, known.variables)
            built = self.block(one.steps, inside, where, around)
            collect = None
            if one.collect is not None and built.known is not None:
                collect = self.trying(compile_record, one.collect, built.known, f"{self.at(where)}, collect")
            handlers.append((Catching(one.name, fault, one.codes, built.block, collect, one.stop), collect.type if collect else None))
            ways.append(without(built.known, CAUGHT))
            ends += built.ends if built.known is not None and one.steps else [where] if built.known is not None else []
            left.pop(fault, None)
            add_faults(after, built.raises)
            if one.name == ANYTHING and not one.codes:
                left.clear()
                done = ANYTHING
        add_faults(left, after)
        return handlers, ways, ends, left

    def _for_each(self, step: Step, known: Known, path: str, around: Around) -> Ended:
        place = self.at(path)
        items = self.trying(compile_expression, str(step.for_each), known, f"{place}, for_each")
        if items is not None and items.type.of is not Of.LIST:
            self.problems.append(Problem("expression.type", "A loop goes over a list.", place=f"{place}, for_each, character 1",
                                         expected="a list", found=f"{step.for_each}, {items.type.words}"))
            items = None
        at_once = step.at_once or 1
        changed = {name for one in step.steps for name in set_names(one)} & known.variables
        inside = known.forgetting(changed)
        for name, kind in ((step.item or "", items.type.item if items is not None else UNKNOWN), (step.index or "", Type(Of.WHOLE))):
            if name:
                if name in known.names:
                    self.wrong("name", f"{name} is taken by what stands before it.", place, "a name of its own", shown(name))
                inside = inside.with_name(name, kind or NOTHING)
        if not step.item:
            self.wrong("item", "A loop names the item that it is at.", place, "a line 'item: NAME'")
        within = replace(around, looping=True)
        if at_once > 1:
            within = replace(within, fixed=around.fixed | frozenset(known.names),
                             mute=f"{path} does several items at once, so none of them can answer for all")
            if around.sessions:
                self.wrong("session", "One session does one thing at a time.", place, "at_once: 1", str(at_once),
                           f"Take at_once out, or move the loop out of the session to {around.sessions[-1]}.")
        built = self.block(step.steps, inside, path, within)
        collect = None
        if step.collect is not None and built.known is not None:
            collect = self.trying(compile_record, step.collect, built.known, f"{place}, collect")
        handlers, _, _, raises = self._handlers(step.catch, known.forgetting(changed) if not step.item else inside, path, within,
                                                built.raises)
        node = None
        if items is not None:
            node = EachNode(name=step.name, path=path, action=step.action, items=items, item=step.item or "", index=step.index or "",
                            at_once=at_once, at_most=step.at_most or MOST_ITEMS, block=built.block, collect=collect,
                            handlers=tuple(one for one, _ in handlers))
        after = known.forgetting(changed)
        if step.collect is not None:
            after = self.named(step, after, self._collected(step, collect, handlers, items, place), path)
        return Ended(node, after, [f"{path}, when its last item is done"], raises)

    def _collected(self, step: Step, collect: Compiled | None, handlers: list[tuple[Catching, Type | None]], items: Compiled | None,
                   place: str) -> Type:
        """The type of what a loop collects: what its items and its handlers give."""
        kind = collect.type if collect is not None else None
        for one, given in handlers:
            if given is None:
                continue
            both = given if kind is None else merge(kind, given)
            if both is None:
                self.wrong("unlike", "A handler collects another type than the items.", f"{place}, catch, {one.name}",
                           kind.words if kind else "", given.words)
                continue
            kind = both
        every = all(given is not None and not one.stop for one, given in handlers)
        return list_of((kind or UNKNOWN).kept, items.type.least if items is not None and every else 0)

    def _repeat_while(self, step: Step, known: Known, path: str, around: Around) -> Ended:
        place = self.at(path)
        changed = {name for one in step.steps for name in set_names(one)}
        inside = known.forgetting(changed)
        test = self.trying(compile_condition, str(step.repeat_while), inside, f"{place}, repeat_while")
        if step.at_most is None:
            self.wrong("bound", "A loop that has no bound may never end.", place, "a line 'at_most: N'")
        if test is not None and not test.used & changed:
            self.wrong("bound", "Nothing in the loop changes what its condition asks.", f"{place}, repeat_while",
                       "a variable that a step in it sets", ", ".join(sorted(test.used)) or shown(str(step.repeat_while)))
        built = self.block(step.steps, inside.knowing(test.when_true) if test is not None else inside, path, replace(around, looping=True))
        node = WhileNode(name=step.name, path=path, action=step.action, test=test, at_most=step.at_most or 1,
                         block=built.block) if test is not None else None
        after = inside.knowing(test.when_false) if test is not None else inside
        return Ended(node, after, [f"{path}, when its condition does not hold any more"], built.raises)

    def _parallel(self, step: Step, known: Known, path: str, around: Around) -> Ended:
        if around.sessions:
            self.wrong("session", "One session does one thing at a time.", self.at(path), found=f"a session to {around.sessions[-1]}",
                       mend="Write the lanes one after the other, or move them out of the session.")
        within = replace(around, fixed=around.fixed | frozenset(known.names),
                         mute=f"the lanes of {path} run side by side, so none of them can answer for all")
        lanes, raises, after = [], Faults(), known
        reached = True
        for one in step.parallel:
            built = self.block(one.steps, known, f"{path}.{one.name}", within)
            lanes.append((one.name, built.block))
            add_faults(raises, built.raises)
            if built.known is None:
                reached = False
                continue
            for name in built.known.names:
                if name not in known.names:
                    if name in after.names:
                        self.wrong("name", f"Two lanes have the name {name}.", self.at(path), "names of their own", shown(name))
                    after = after.with_name(name, built.known.names[name], name in built.known.variables)
            after = after.knowing(built.known.there)
        return Ended(ParallelNode(name=step.name, path=path, action=step.action, lanes=tuple(lanes)), after if reached else None,
                     [f"{path}, when all its lanes are done"], raises)

    def _session(self, step: Step, known: Known, path: str, around: Around) -> Ended:
        backend = str(step.session)
        if self.catalogue.find_backend(backend) is None:
            self.wrong("backend", "There is no such backend.", f"{self.at(path)}, session", found=shown(backend),
                       expected="a backend that is defined")
        earlier = [one for one in around.sessions if one > backend]
        if earlier and backend not in around.sessions:
            self.wrong("session", "Two calls that take sessions in another order may wait for each other.", self.at(path),
                       f"{backend} before {earlier[0]}", f"{backend} inside a session to {earlier[0]}",
                       "Sessions inside each other are taken in the order of the alphabet.")
        sessions = around.sessions if backend in around.sessions else (*around.sessions, backend)
        built = self.block(step.steps, known, path, replace(around, sessions=sessions))
        node = SessionNode(name=step.name, path=path, action=step.action, backend=backend, block=built.block,
                           writes=any(writes_of(one) for one in nodes_of(built.block)), alone=stays_on(backend, built.block),
                           repeatable=bool(step.repeatable))
        return Ended(node, built.known, built.ends, built.raises)


def _mapped(tree: Any, record: Record, names: Names, place: str, known: frozenset[str]) -> Compiled:
    return compile_map(tree, record, names, place, known)


def add_faults(to: Faults, more: Faults) -> None:
    for name, shapes in more.items():
        to[name] = tuple(dict.fromkeys((*to.get(name, ()), *shapes)))


def without(known: Known | None, name: str) -> Known | None:
    if known is None:
        return None
    return Known({one: kind for one, kind in known.names.items() if one != name}, known.there, known.variables)


def set_names(step: Step) -> set[str]:
    """The variables that a step or one inside of it sets."""
    found = set(step.set or ())
    for one in inner_steps(step):
        found |= set_names(one)
    return found


def inner_steps(step: Step) -> list[Step]:
    return [*step.attempt, *step.steps, *step.otherwise, *step.always, *(two for one in step.when for two in one.steps),
            *(two for one in step.parallel for two in one.steps), *(two for one in step.catch for two in one.steps)]


def _caught(shapes: tuple[FaultShape, ...]) -> Type:
    """What a handler knows: the words of the failure, and the detail where one fault is meant."""
    fields: list[tuple[str, Type]] = [(name, TEXT) for name in ("code", "message", "sentence", "step")]
    fields += [(name, TEXT.absent) for name in ("place", "expected", "found", "mend")]
    fields.append(("fault", TEXT if shapes else TEXT.absent))
    detail: Type | None = None
    for one in shapes:
        kind = of_record(one.record)
        detail = kind if detail is None else merge(detail, kind)
        if detail is None:
            break
    if detail is not None:
        fields.append(("detail", detail))
    return record_of(fields)


CALL_TYPE = record_of((("id", TEXT), ("caller", TEXT), ("at", MOMENT), ("trial", BOOLEAN)))
StepBuilder = Callable[[Builder, Step, Known, str, Around], Ended]
_BUILDERS: dict[str, StepBuilder] = {
    "when": Builder._when, "attempt": Builder._attempt, "for_each": Builder._for_each, "repeat_while": Builder._repeat_while,
    "parallel": Builder._parallel, "session": Builder._session,
}


def builds(action: str) -> Callable[[StepBuilder], StepBuilder]:
    """Enter a builder of an action into the table."""

    def enter(builder: StepBuilder) -> StepBuilder:
        _BUILDERS[action] = builder
        return builder

    return enter


__all__ = ["CALL_TYPE", "Around", "Builder", "Built", "Ended", "builds"]
