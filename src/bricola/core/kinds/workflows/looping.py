"""Steps that hold others: loops, lanes, attempts."""

import asyncio
import contextlib
from collections.abc import Awaitable, Callable, Iterable, Sequence
from typing import Any

from bricola.core.calls.trace import Held
from bricola.core.jobs.journal import CancelledByPersonError
from bricola.core.kinds.workflows.acting import Binder, Made, makes
from bricola.core.kinds.workflows.knowledge import CAUGHT
from bricola.core.kinds.workflows.program import (
    AttemptNode,
    Catching,
    EachNode,
    ParallelNode,
    WhileNode,
    defined_names,
)
from bricola.core.kinds.workflows.running import FAILURES, Names, Run, Steps, as_before, caught_names, handles
from bricola.core.problems import Kind, Problem, ProblemError

_LEFT_OUT = object()


class _Handlers:
    """What is done about failures of some steps."""

    def __init__(self, binder: Binder, handlers: Sequence[Catching]) -> None:
        self._handlers = [(one, binder.block(one.block)) for one in handlers]

    def find(self, error: BaseException) -> tuple[Catching, Steps] | None:
        return next((one for one in self._handlers if handles(one[0], error)), None)


def _knowing(run: Run, names: Names, error: BaseException, path: str, handler: str) -> None:
    names[CAUGHT] = caught_names(error, path)
    run.call.note(f"caught by {handler}: {error}")


@makes(AttemptNode)
def _attempt(binder: Binder, node: AttemptNode) -> Made:
    block, handlers, always = binder.block(node.block), _Handlers(binder, node.handlers), binder.block(node.always)

    async def tried(run: Run, names: Names) -> bool:
        try:
            return await block.run(run, names)
        except FAILURES as error:
            found = handlers.find(error)
            if found is None:
                raise
            before = names.get(CAUGHT)
            _knowing(run, names, error, node.path, found[0].name)
            try:
                return await found[1].run(run, names)
            finally:
                names.pop(CAUGHT, None)
                if before is not None:
                    names[CAUGHT] = before

    async def with_always(run: Run, names: Names) -> bool:
        try:
            ended = await tried(run, names)
        except (asyncio.CancelledError, CancelledByPersonError):
            outer = run.journal
            if outer is None or not outer.closed:  # a job that goes on elsewhere does it there
                run.journal = outer.after_all() if outer is not None else None
                try:
                    await asyncio.shield(always.run(run, names))
                finally:
                    run.journal = outer
            raise
        except Exception:
            await always.run(run, names)
            raise
        await always.run(run, names)
        return ended

    return None, with_always if node.always.nodes else tried


@makes(WhileNode)
def _while(binder: Binder, node: WhileNode) -> Made:
    block = binder.block(node.block)
    inside = defined_names(node.block)

    async def run(run: Run, names: Names) -> bool:
        rounds = 0
        own = inside - names.keys()
        journal = run.journal
        try:
            while await run.value(node.test, names):
                rounds += 1
                if rounds > node.at_most:
                    raise ProblemError(Problem("workflow.rounds", f"The loop {node.path} goes on for more rounds than it may.",
                                               Kind.TOO_LARGE, place=node.path, expected=f"at most {node.at_most}"))
                run.journal = journal.item(node.path, rounds) if journal is not None else None
                if await block.run(run, names):
                    return True
                _forget(names, own)
                await run.turn()
        finally:
            run.journal = journal
        run.call.note(f"{rounds} {'round' if rounds == 1 else 'rounds'}")
        return False

    return None, run


@makes(EachNode)
def _each(binder: Binder, node: EachNode) -> Made:
    block, handlers = binder.block(node.block), _Handlers(binder, node.handlers)
    item_name, index_name, collect = node.item, node.index, node.collect

    async def one_item(run: Run, names: Names, index: int, item: Any) -> tuple[Any, bool, bool]:
        """What an item gives, whether the workflow has ended, and whether the loop has."""
        names[item_name] = item
        if index_name:
            names[index_name] = index
        journal = run.journal
        run.journal = journal.item(node.path, index) if journal is not None else None
        try:
            if await block.run(run, names):
                return _LEFT_OUT, True, True
            return (await run.value(collect, names) if collect is not None else _LEFT_OUT), False, False
        except FAILURES as error:
            found = handlers.find(error)
            if found is None:
                raise
            one, steps = found
            _knowing(run, names, error, f"{node.path}[{index}]", one.name)
            if await steps.run(run, names):
                return _LEFT_OUT, True, True
            value = await run.value(one.collect, names) if one.collect is not None else _LEFT_OUT
            names.pop(CAUGHT, None)
            return value, False, one.stop
        finally:
            run.journal = journal

    async def run(run: Run, names: Names) -> bool:
        items = await run.value(node.items, names)
        if len(items) > node.at_most:
            raise ProblemError(Problem("workflow.items", f"There are more items than {node.path} goes through.", Kind.TOO_LARGE,
                                       place=node.path, expected=f"at most {node.at_most}", found=str(len(items))))
        if node.at_once == 1:
            found, ended = await _in_turn(node, run, names, items, one_item)
        else:
            found, ended = await as_before(run, node.path, binder.undoers, lambda: _side_by_side(node, run, names, items, one_item))
        if collect is not None or any(one.collect is not None for one in node.handlers):
            names[node.name] = [one for one in found if one is not _LEFT_OUT]
            if run.call.span is not None:
                secret = collect.secret if collect is not None else frozenset()
                run.call.span.given = Held(None, names[node.name], frozenset(("",)) if secret else frozenset())
        run.call.note(f"{len(items)} {'item' if len(items) == 1 else 'items'}")
        return ended

    return None, run


def _forget(names: Names, some: Iterable[str]) -> None:
    for name in some:
        names.pop(name, None)


OneItem = Callable[[Run, Names, int, Any], Awaitable[tuple[Any, bool, bool]]]


async def _in_turn(node: EachNode, run: Run, names: Names, items: Sequence[Any], one_item: OneItem) -> tuple[list[Any], bool]:
    """In the names around the loop, since a variable that is set in it may stand outside; what an item alone gave is forgotten after it."""
    found: list[Any] = []
    ended = False
    own = (defined_names(node.block) | {name for one in node.handlers for name in defined_names(one.block)}) - names.keys()
    for index, item in enumerate(items):
        value, ended, stops = await one_item(run, names, index, item)
        found.append(value)
        _forget(names, own)
        if stops:
            break
        await run.turn()
    _forget(names, (node.item, node.index))
    return found, ended


async def _side_by_side(node: EachNode, run: Run, names: Names, items: Sequence[Any], one_item: OneItem) -> tuple[list[Any], bool]:
    """Up to so many at once, each with names of its own; what they give stays in the order of the items."""
    found: list[Any] = [_LEFT_OUT] * len(items)
    waiting = iter(enumerate(items))
    stopped = False

    async def work() -> None:
        nonlocal stopped
        own = run.child()
        for index, item in waiting:
            if stopped:
                return
            found[index], _, stops = await one_item(own, {**names}, index, item)
            stopped = stopped or stops
            await own.turn()

    await together([work for _ in range(min(node.at_once, len(items)))])
    return found, False


@makes(ParallelNode)
def _parallel(binder: Binder, node: ParallelNode) -> Made:
    lanes = [(name, binder.block(block)) for name, block in node.lanes]

    async def run(run: Run, names: Names) -> bool:
        results: list[Names] = []

        def lane(steps: Steps) -> Callable[[], Awaitable[None]]:
            async def go() -> None:
                own = dict(names)
                results.append(own)
                await steps.run(run.child(), own)

            return go

        await as_before(run, node.path, binder.undoers, lambda: together([lane(steps) for _, steps in lanes]))
        for own in results:
            names.update(own)
        return False

    return None, run


async def together(works: Sequence[Callable[[], Awaitable[None]]]) -> None:
    """All at once. The first failure stops the others, is waited for until they have, and is told."""
    tasks = [asyncio.ensure_future(work()) for work in works]
    if not tasks:
        return
    try:
        await asyncio.wait(tasks, return_when=asyncio.FIRST_EXCEPTION)
    finally:
        failed = [one for one in tasks if one.done() and not one.cancelled() and one.exception() is not None]
        for one in tasks:
            one.cancel()
        with contextlib.suppress(asyncio.CancelledError):
            await asyncio.gather(*tasks, return_exceptions=True)
    if failed:
        error = failed[0].exception()
        assert error is not None
        raise error
