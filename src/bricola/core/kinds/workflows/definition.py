"""Workflows as they are written: input, output, declared faults, and named steps.

A step does one thing, which the first of its keys says; the other keys belong to that one (`ACTIONS`). Whatever is worked out is an
expression of `core/expressions`; a text that begins with `=` is put there as it stands. A step's value is known to the steps after it by
the step's name.
"""

from typing import Any, ClassVar, Literal, Self

from pydantic import Field as Described
from pydantic import model_validator

from bricola.core.definitions.base import Definition, ElementName, Frozen, Line, Name, NamedPart, NamedParts, Scalar
from bricola.core.definitions.parts import TypedPart
from bricola.core.durations import DAY, HOUR
from bricola.core.shapes.model import Cause

Tree = dict[str, Any]  # a map: names to expressions, or to maps again
Expression = Scalar
PROBLEM = "problem"  # what a step fails with where no declared fault is meant
MOST_SECONDS = 30 * DAY
MOST_CALL = HOUR  # of one that somebody waits for

# What a step does, and which keys may stand beside that.
ACTIONS: dict[str, frozenset[str]] = {
    "call": frozenset({"input", "method", "path", "headers", "body", "gives", "accepts", "tries", "pause", "undo", "repeatable"}),
    "set": frozenset(),
    "when": frozenset({"otherwise"}),
    "for_each": frozenset({"item", "index", "at_once", "at_most", "steps", "collect", "catch"}),
    "repeat_while": frozenset({"at_most", "steps"}),
    "parallel": frozenset(),
    "attempt": frozenset({"catch", "always"}),
    "session": frozenset({"steps", "repeatable"}),
    "reply": frozenset(),
    "fail": frozenset({"message", "detail"}),
    "note": frozenset(),
    "wait": frozenset(),
    "write_file": frozenset({"path", "text"}),
    "read_file": frozenset({"path"}),
}
COMMON = frozenset({"name", "description", "only_if", "seconds"})


class WorkflowPart(TypedPart):
    """An input, an output or a field of a fault."""

    default: Scalar | None = None
    sensitive: bool = False


class WorkflowFault(NamedPart):
    """A fault that the workflow declares. Its detail has a message, and these fields. `cause` says who has to do something about it: the
    sender of the request, or the receiver."""

    description: Line = ""
    cause: Cause = "sender"
    fields: NamedParts[WorkflowPart] = ()


class Branch(NamedPart):
    """What is done when a condition holds, and no branch before it did."""

    test: Expression
    steps: "NamedParts[Step]" = ()


class Lane(NamedPart):
    """Steps that run beside others."""

    steps: "NamedParts[Step]" = ()


class Handler(NamedPart):
    """What is done when something fails: for a declared fault by its name, or `anything`. `codes` are the first parts of problem codes
    (`backend`, `outside.slow`) that a handler of any other name is for. `collect` is the item's value in a loop, `stop` ends the loop."""

    codes: tuple[str, ...] = ()
    steps: "NamedParts[Step]" = ()
    collect: Tree | Expression | None = None
    stop: bool = False


class Undo(Frozen):
    """What undoes a step, with what is known when the step is done."""

    call: str
    input: Tree = {}


class Step(NamedPart):
    """One step; see `ACTIONS` for what belongs together."""

    name: ElementName
    # what it does
    call: str | None = None
    set: dict[ElementName, Expression] | None = None
    when: "NamedParts[Branch]" = ()
    for_each: Expression | None = None
    repeat_while: Expression | None = None
    parallel: NamedParts[Lane] = ()
    attempt: "NamedParts[Step]" = ()
    session: Name | None = None
    reply: Tree | None = None
    fail: ElementName | None = None
    note: Expression | None = None
    wait: Expression | None = None
    write_file: Name | None = None
    read_file: Name | None = None
    # what belongs to it
    description: Line = ""
    only_if: Expression | None = None
    input: Tree | None = None
    method: Literal["GET", "POST", "PUT", "PATCH", "DELETE"] | None = None
    path: Expression | None = None
    headers: dict[str, Expression] | None = None
    body: Tree | Expression | None = None
    gives: ElementName | None = None  # the record that a JSON answer is read as
    accepts: tuple[int, ...] | None = None  # statuses that are answers
    tries: int | None = Described(None, ge=1, le=10)
    pause: float | None = Described(None, ge=0, le=60)
    undo: Undo | None = None
    repeatable: bool | None = None  # in a job, it may be done again when it was cut off
    item: ElementName | None = None
    index: ElementName | None = None
    at_once: int | None = Described(None, ge=1, le=100)
    at_most: int | None = Described(None, ge=1, le=100_000)
    steps: "NamedParts[Step]" = ()
    collect: Tree | Expression | None = None
    otherwise: "NamedParts[Step]" = ()
    catch: "NamedParts[Handler]" = ()
    always: "NamedParts[Step]" = ()
    message: Expression | None = None
    detail: Tree | None = None
    text: Expression | None = None
    seconds: float | None = Described(None, gt=0, le=MOST_SECONDS)

    @property
    def action(self) -> str:
        """What it does."""
        return self._actions[0]

    @property
    def _actions(self) -> list[str]:
        return [one for one in ACTIONS if getattr(self, one) is not None and (getattr(self, one) != () or one in self.model_fields_set)]

    @model_validator(mode="after")
    def _does_one_thing(self) -> Self:
        actions = self._actions
        if len(actions) != 1:
            found = f"it has {' and '.join(actions)}" if actions else "it has none of them"
            raise ValueError(f"a step does one thing, which is one of {', '.join(ACTIONS)}; {found}")
        allowed = ACTIONS[actions[0]] | COMMON | {actions[0]}
        outside = [one for one in type(self).model_fields if one not in allowed and getattr(self, one) not in (None, (), {}, "")]
        if outside:
            raise ValueError(f"{', '.join(outside)} {'does' if len(outside) == 1 else 'do'} not belong to a step that says "
                             f"'{actions[0]}:'; {', '.join(sorted(allowed - {'name', actions[0]}))} do")
        return self


class WorkflowDefinition(Definition):
    """Steps that run when an operation is called. `seconds` bounds all of it, `at_once` how many calls run side by side. With `contract`
    input, output and faults are those of one of its operations.

    `answers` says when the caller has an answer: `now`, when the steps are done; `later`, at once with the id of a job whose state and
    result are asked for (`call_back`: told to an address, too, where the caller names one); `nothing`, never, as soon as it is kept. The
    steps of the last two are a job, which survives the process. `caller_leaves: stop` ends a call that nobody waits for any more;
    `tells_writes` says with the answer, or the fault, what was written."""

    kind: ClassVar[str] = "workflow"
    name: Name
    description: Line = ""
    contract: Name | Literal[""] = ""
    operation: ElementName | Literal[""] = ""
    input: NamedParts[WorkflowPart] = ()
    output: NamedParts[WorkflowPart] = ()
    faults: NamedParts[WorkflowFault] = ()
    variables: NamedParts[TypedPart] = ()
    steps: NamedParts[Step] = ()
    seconds: float | None = Described(None, gt=0, le=MOST_SECONDS)
    at_once: int | None = Described(None, ge=1, le=10_000)
    answers: Literal["now", "later", "nothing"] = "now"
    call_back: bool = False
    tells_writes: bool = False
    caller_leaves: Literal["go-on", "stop"] = "go-on"

    @model_validator(mode="after")
    def _says_what_belongs_together(self) -> Self:
        if self.call_back and self.answers != "later":
            raise ValueError("only what says 'answers: later' calls back")
        if self.caller_leaves == "stop" and self.answers != "now":
            raise ValueError("a job goes on when the caller is gone; 'caller_leaves' is of a workflow that answers now")
        if self.tells_writes and self.answers != "now":
            raise ValueError("what a job wrote stands in its journal; 'tells_writes' is of a workflow that answers now")
        if self.seconds is not None and self.seconds > MOST_CALL and self.answers == "now":
            raise ValueError(f"what answers now may take up to {MOST_CALL:g} seconds; 'answers: later' may take longer")
        return self


for _model in (Branch, Lane, Handler, Step, WorkflowDefinition):
    _model.model_rebuild()
