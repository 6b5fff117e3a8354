"""What each kind of step does: from a node of the program to a function of the run and its names."""

import asyncio
import contextlib
from collections.abc import Callable, Coroutine
from typing import Any

from bricola.core.calls.call import Call, Handler
from bricola.core.calls.trace import Held
from bricola.core.definitions.model import EnvironmentDefinition
from bricola.core.expressions.compiling import Compiled
from bricola.core.kinds.completing import with_given
from bricola.core.kinds.kind import Pools, ResolvedOperation
from bricola.core.kinds.workflows.program import (
    Block,
    CallNode,
    FailNode,
    Node,
    NoteNode,
    ReplyNode,
    SetNode,
    WaitNode,
    WhenNode,
)
from bricola.core.kinds.workflows.running import (
    AsyncStep,
    Names,
    Run,
    Steps,
    SyncStep,
    Undo,
    again,
    given,
    seconds_of,
    traced,
    traced_plain,
)
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.shapes.model import Values
from bricola.core.shapes.primitives import lexical

_LONGEST_WAIT = 300.0  # seconds of one 'wait:'
Made = tuple[SyncStep | None, AsyncStep | None]
Maker = Callable[["Binder", Any], Made]
_MAKERS: dict[type[Node], Maker] = {}


def makes(node: type[Node]) -> Callable[[Maker], Maker]:
    """Enter a maker of steps into the table."""

    def enter(maker: Maker) -> Maker:
        _MAKERS[node] = maker
        return maker

    return enter


class Binder:
    """Makes the steps of a program in one environment."""

    def __init__(self, environment: EnvironmentDefinition, pools: Pools, outer: "Binder | None" = None) -> None:
        self.environment, self.pools = environment, pools
        self.outer: Binder = outer.outer if outer is not None else self  # without the sessions that steps keep

    def block(self, block: Block) -> Steps:
        return Steps([self.step(node) for node in block.nodes])

    def with_pools(self, pools: Pools) -> "Binder":
        """The same with other sessions to some backends."""
        return Binder(self.environment, pools, self)

    def step(self, node: Node) -> Made:
        plain, waiting = _MAKERS[type(node)](self, node)
        if plain is not None:
            plain = traced_plain(node.path, node.action, plain)
            return (_only_if_plain(node.only_if, plain) if node.only_if is not None else plain), None
        assert waiting is not None
        if node.seconds is not None:
            waiting = _within(node.path, node.seconds, waiting)
        waiting = traced(node.path, node.action, waiting)
        return None, (_only_if(node.only_if, waiting) if node.only_if is not None else waiting)

    def operation(self, inner: ResolvedOperation) -> Handler:
        """What a call runs, with the inputs that its operation gives itself."""
        compiled = inner.kind.compile(inner if inner.ways is None else inner.ways.inner, self.environment, self.pools)
        return with_given(compiled.handle, inner, self.environment)


def _only_if_plain(test: Compiled, step: SyncStep) -> SyncStep:
    def run(run: Run, names: Names, most: int) -> bool:
        return bool(given(test, names, most)) and step(run, names, most)

    return run


def _only_if(test: Compiled, step: AsyncStep) -> AsyncStep:
    async def run(run: Run, names: Names) -> bool:
        return bool(await run.value(test, names)) and await step(run, names)

    return run


def _within(path: str, seconds: float, step: AsyncStep) -> AsyncStep:
    async def run(run: Run, names: Names) -> bool:
        try:
            async with asyncio.timeout(seconds) as bound:
                return await step(run, names)
        except TimeoutError:
            if not bound.expired():
                raise
            raise ProblemError(Problem("workflow.step-time", f"The step {path} took longer than it may.", Kind.BUSY, place=path,
                                       expected=f"at most {seconds:g} s")) from None

    return run


def inner_call(call: Call, operation: str) -> Call:
    """The call of something inside: for the same caller, until the same moment, as a trial when the outer one is."""
    return Call(call.id, operation, call.caller, call.at, call.deadline, call.trial, kept=call.kept, trace=call.trace, span=call.span)


@makes(CallNode)
def _call(binder: Binder, node: CallNode) -> Made:
    handle, name, into = binder.operation(node.inner), node.name, node.into
    shape, text = node.inner.shape, node.text
    undo = _undo(binder, node) if node.undo is not None else None

    async def run(run: Run, names: Names) -> bool:
        values = await run.value(into, names)
        span = run.call.span
        if span is not None:
            span.taken = Held(shape.input, values, into.secret)
            span.lines.append(text)

        async def once() -> Values:
            call = inner_call(run.call, text)
            answer = await handle(call, values)
            run.call.stub = run.call.stub or call.stub
            return answer

        if undo is None:
            answer = await again(run, node.tries, node.pause, once)
        else:
            answer = await _to_its_end(once(), lambda stored: undo(run, {**names, name: stored}))
        if span is not None:
            span.given = Held(shape.output, answer)
        names[name] = answer
        await run.turn()
        return False

    return None, run


async def _to_its_end(work: Coroutine[Any, Any, Values], done: Callable[[Values], None]) -> Values:
    """What `work` gives, told to `done` also where this is cancelled meanwhile. What is under way may be stored already: who left it there
    would know nothing to undo. It ends by itself, as all that runs in a call does."""
    task = asyncio.ensure_future(work)
    try:
        answer = await asyncio.shield(task)
    except asyncio.CancelledError:
        while not task.done():
            with contextlib.suppress(asyncio.CancelledError):
                await asyncio.wait((task,))
        if not task.cancelled() and task.exception() is None:
            done(task.result())
        raise
    done(answer)
    return answer


def _undo(binder: Binder, node: CallNode) -> Callable[[Run, Names], None]:
    """Notes how a step that is done now is undone: its input is worked out at once, with what is known now."""
    assert node.undo is not None
    # On sessions of its own: what a step kept is over by then.
    handle, into, text, shape = binder.outer.operation(node.undo.inner), node.undo.into, node.undo.text, node.undo.inner.shape
    path, backends = node.path, frozenset(node.inner.backends)

    def note(run: Run, names: Names) -> None:
        values: Values = {}
        unknown: Exception | None = None
        try:
            values = into.value(names)
        except Exception as error:  # the step is done, and how to undo it is not known: that is told, and ends the workflow
            unknown = error

        async def undo(call: Call) -> None:
            span = call.trace.span(f"{path}.undo", "undo", run.depth) if call.trace is not None else None
            inner = inner_call(call, text)
            inner.span = span
            if span is not None:
                span.taken = Held(shape.input, values, into.secret)
            try:
                if unknown is not None:
                    raise unknown
                await handle(inner, values)
            except BaseException as error:
                if span is not None:
                    span.fail(error)
                raise
            finally:
                if span is not None and call.trace is not None:
                    call.trace.end(span)

        run.undo.append(Undo(path, undo, backends))
        if unknown is not None:
            raise unknown

    return note


@makes(SetNode)
def _set(binder: Binder, node: SetNode) -> Made:
    values = node.values

    def run(run: Run, names: Names, most: int) -> bool:
        made: Names = {}
        both = names
        for name, compiled in values:
            made[name] = given(compiled, both, most)
            both = {**names, **made} if len(values) > 1 else names
        names.update(made)  # at the end, so that it can be done again from its beginning
        span = run.call.span
        if span is not None:
            secret = frozenset(name for name, compiled in values if compiled.secret)
            span.given = Held(None, made, secret)
        return False

    return run, None


@makes(WhenNode)
def _when(binder: Binder, node: WhenNode) -> Made:
    branches = [(name, test, binder.block(block)) for name, test, block in node.branches]
    otherwise = binder.block(node.otherwise) if node.otherwise is not None else None

    async def run(run: Run, names: Names) -> bool:
        for name, test, block in branches:
            if await run.value(test, names):
                run.call.note(f"branch {name}")
                return await block.run(run, names)
        run.call.note("otherwise" if otherwise is not None else "no branch")
        return await otherwise.run(run, names) if otherwise is not None else False

    return None, run


@makes(ReplyNode)
def _reply(binder: Binder, node: ReplyNode) -> Made:
    answer = node.answer

    def run(run: Run, names: Names, most: int) -> bool:
        run.answer = given(answer, names, most)
        if run.call.span is not None:
            run.call.span.given = Held(answer.type.record, run.answer, answer.secret)
        return True

    return run, None


@makes(FailNode)
def _fail(binder: Binder, node: FailNode) -> Made:
    def run(run: Run, names: Names, most: int) -> bool:
        message = given(node.message, names, most)
        detail = given(node.detail, names, most)
        if node.has_message:
            detail = {"message": message, **detail}
        raise DeclaredFaultError(node.fault, message, detail)

    return run, None


@makes(NoteNode)
def _note(binder: Binder, node: NoteNode) -> Made:
    def run(run: Run, names: Names, most: int) -> bool:
        if run.call.span is not None:
            run.call.note("not shown" if node.text.secret else _line(given(node.text, names, most)))
        return False

    return run, None


@makes(WaitNode)
def _wait(binder: Binder, node: WaitNode) -> Made:
    async def run(run: Run, names: Names) -> bool:
        seconds = seconds_of(await run.value(node.duration, names))
        if not 0 <= seconds <= _LONGEST_WAIT:
            raise ProblemError(Problem("workflow.wait", "Nobody waits that long inside of a call.", Kind.INPUT, place=node.path,
                                       expected=f"0 to {_LONGEST_WAIT:g} s", found=f"{seconds:g} s"))
        await asyncio.sleep(seconds)
        return False

    return None, run


def _line(value: Any) -> str:
    return shown(lexical(value), 300).strip('"')
