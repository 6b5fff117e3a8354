"""What each kind of step does: from a node of the program to a function of the run and its names."""

import asyncio
import time
from collections.abc import Callable
from typing import Any

from bricola.core.calls.call import Call, Handler
from bricola.core.calls.trace import Held
from bricola.core.calls.written import Written, naming
from bricola.core.definitions.model import EnvironmentDefinition
from bricola.core.expressions.compiling import Compiled
from bricola.core.jobs.journal import READS, Done, Journal, Once
from bricola.core.jobs.marks import RequestMark
from bricola.core.kinds.completing import with_given
from bricola.core.kinds.kind import Compiled as CompiledSource
from bricola.core.kinds.kind import Pools, ResolvedOperation
from bricola.core.kinds.workflows.definition import MOST_SECONDS
from bricola.core.kinds.workflows.program import (
    Block,
    CallNode,
    FailNode,
    Node,
    NoteNode,
    Program,
    ReplyNode,
    SetNode,
    WaitNode,
    WhenNode,
    writes_of,
)
from bricola.core.kinds.workflows.running import (
    AsyncStep,
    Names,
    Run,
    Steps,
    SyncStep,
    Undo,
    Undoer,
    again,
    as_before,
    given,
    seconds_of,
    to_its_end,
    traced,
    traced_plain,
)
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.messages.plain import to_plain
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
        self.undoers: dict[str, Undoer] = outer.undoers if outer is not None else {}  # by the paths of the steps

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
            waiting = _within(self, node.path, node.seconds, waiting)
        waiting = traced(node.path, node.action, waiting)
        return None, (_only_if(node.only_if, waiting) if node.only_if is not None else waiting)

    def operation(self, inner: ResolvedOperation) -> tuple[CompiledSource, Handler]:
        """What a call runs, and its handler with the inputs that its operation gives itself."""
        compiled = inner.kind.compile(inner if inner.ways is None else inner.ways.inner, self.environment, self.pools)
        return compiled, with_given(compiled.handle, inner, self.environment)


def _only_if_plain(test: Compiled, step: SyncStep) -> SyncStep:
    def run(run: Run, names: Names, most: int) -> bool:
        return bool(given(test, names, most)) and step(run, names, most)

    return run


def _only_if(test: Compiled, step: AsyncStep) -> AsyncStep:
    async def run(run: Run, names: Names) -> bool:
        return bool(await run.value(test, names)) and await step(run, names)

    return run


def _within(binder: Binder, path: str, seconds: float, step: AsyncStep) -> AsyncStep:
    async def bounded(run: Run, names: Names) -> bool:
        try:
            async with asyncio.timeout(seconds) as bound:
                return await step(run, names)
        except TimeoutError:
            if not bound.expired():
                raise
            raise ProblemError(Problem("workflow.step-time", f"The step {path} took longer than it may.", Kind.BUSY, place=path,
                                       expected=f"at most {seconds:g} s")) from None

    async def run(run: Run, names: Names) -> bool:
        return await as_before(run, path, binder.undoers, lambda: bounded(run, names))

    return run


def inner_call(call: Call, operation: str, journal: Journal | None = None) -> Call:
    """The call of something inside: for the same caller, until the same moment, as a trial when the outer one is."""
    return Call(call.id, operation, call.caller, call.at, call.deadline, call.trial, kept=call.kept, journal=journal, trace=call.trace,
                span=call.span, written=call.written, stand_ins=call.stand_ins)


@makes(CallNode)
def _call(binder: Binder, node: CallNode) -> Made:
    (compiled, handle), name, into, path = binder.operation(node.inner), node.name, node.into, node.path
    shape, text = node.inner.shape, node.text
    undoer, undo_values = _undoer(binder, node) if node.undo is not None else (None, None)
    if undoer is not None:
        binder.undoers[path] = undoer
    nests = _nests(node.inner)
    writes, backends = writes_of(node) and not nests, frozenset(node.inner.backends)
    how = Once(writes, node.repeatable, compiled.marked)

    async def run(run: Run, names: Names) -> bool:
        values = await run.value(into, names)
        span, journal = run.call.span, run.journal
        if span is not None:
            span.taken = Held(shape.input, values, into.secret)
            span.lines.append(text)

        async def ask(mark: RequestMark | None = None) -> Values:
            standing = run.call.stand_ins
            if standing is not None and (backends or standing.knows(path)):  # what reaches nothing outside runs as it is
                return standing.answer(path, shape.output, to_plain(shape.input, values), {one.name: one.record for one in shape.faults})
            call = inner_call(run.call, text, journal.inside(path) if journal is not None and nests else None)
            call.request = mark
            answer = await handle(call, values)
            run.call.stub = run.call.stub or call.stub
            return answer

        async def work(mark: RequestMark | None) -> Done:
            answer = await again(run, node.tries, node.pause, lambda: ask(mark))
            return Done(answer, ((path, undo_values({**names, name: answer})),) if undo_values is not None else ())

        def register(done: Done) -> None:
            if writes and run.call.written is not None:
                run.call.written.append(Written(run.key(path), text, naming(shape.output, done.value), backends))
            for number, (one, inputs) in enumerate(done.undo):
                run.undo.append(binder.undoers[one](run, inputs, f"{run.key(path)}:{number}"))
                if isinstance(inputs, str):
                    raise _not_worked_out(path, inputs)

        working = work(None) if journal is None else journal.once(path, how, work)
        if undoer is not None or (journal is not None and how.writes):
            done = await to_its_end(working, register)
        else:
            done = await working
            register(done)
        if span is not None:
            span.given = Held(shape.output, done.value)
        names[name] = done.value
        await run.turn()
        return False

    return None, run


def _undoer(binder: Binder, node: CallNode) -> tuple[Undoer, Callable[[Names], Values | str]]:
    """How a step is undone, and what works out the values for it with what is known when it is done: a text says why that fails."""
    assert node.undo is not None
    inner = node.undo.inner
    # On sessions of its own: what a step kept is over by then.
    compiled, handle = binder.outer.operation(inner)
    into, text, shape, path, backends = node.undo.into, node.undo.text, inner.shape, node.path, frozenset(node.inner.backends)
    how = Once(shape.writes and not _nests(inner), False, compiled.marked, True)

    def given(names: Names) -> Values | str:
        try:
            found: Values = into.value(names)
            return found
        except Exception as error:  # the step is done, and how to undo it is not known: that is told, and ends the workflow
            return str(error) or type(error).__name__

    def undoer(run: Run, values: Values | str, key: str) -> Undo:
        async def undo(call: Call, mark: RequestMark | None) -> None:
            if call.stand_ins is not None:
                return  # nothing was done that could be undone
            span = call.trace.span(f"{path}.undo", "undo", run.depth) if call.trace is not None else None
            own = run.journal.inside(run.journal.undoing(key)).after_all() if run.journal is not None and _nests(inner) else None
            made = inner_call(call, text, own)
            made.span, made.request, made.written = span, mark, None
            if span is not None:
                span.taken = Held(shape.input, values, into.secret) if not isinstance(values, str) else None
            try:
                if isinstance(values, str):
                    raise _not_worked_out(path, values)
                await handle(made, values)
            except BaseException as error:
                if span is not None:
                    span.fail(error)
                raise
            finally:
                if span is not None and call.trace is not None:
                    call.trace.end(span)

        return Undo(path, key, values, undo, backends, how)

    return undoer, given


def _not_worked_out(path: str, why: str) -> ProblemError:
    return ProblemError(Problem("workflow.undo-input", f"What undoes {path} could not be worked out.", Kind.CONFLICT, place=f"{path}, undo",
                                found=why))


def _nests(inner: ResolvedOperation) -> bool:
    """Whether it is a workflow itself, whose steps are kept one by one."""
    return isinstance(inner.source, Program) or (inner.ways is not None and isinstance(inner.ways.inner.source, Program))


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
        if node.detail is None:
            raise ProblemError(Problem("workflow.stopped", message, Kind.CONFLICT, inner=node.path))
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
        journal = run.journal
        most = _LONGEST_WAIT if journal is None else MOST_SECONDS
        if not 0 <= seconds <= most:
            raise ProblemError(Problem("workflow.wait", "Nobody waits that long inside of a call.", Kind.INPUT, place=node.path,
                                       expected=f"0 to {most:g} s", found=f"{seconds:g} s"))
        if journal is not None:  # until the same moment, though the process ends meanwhile
            seconds = (await journal.once(node.path, READS, lambda mark: _until(seconds))).value - time.time()
            journal.go_on()
        await asyncio.sleep(seconds)
        return False

    return None, run


async def _until(seconds: float) -> Done:
    return Done(time.time() + seconds)


def _line(value: Any) -> str:
    return shown(lexical(value), 300).strip('"')
