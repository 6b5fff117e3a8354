"""Handlers of screen flows: borrow a session that is signed on, play, and give it back to find its way to the start."""

import asyncio
import time

from bricola.core.calls.call import Call, Handler
from bricola.core.kinds.kind import ResolvedOperation
from bricola.core.kinds.screens.runner import Runner
from bricola.core.kinds.screens.sessions import TerminalPool
from bricola.core.kinds.screens.shape import ResolvedFlow
from bricola.core.kinds.screens.walks import compile_walks
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.pool.sessions import SessionLostError
from bricola.core.problems import Problem, ProblemError
from bricola.core.shapes.model import Values

_ATTEMPTS = 3  # on a session each, for a flow that writes nothing or has pressed no key yet


def compile_flow(operation: ResolvedOperation, source: ResolvedFlow, pool: TerminalPool) -> Handler:
    """The handler of an operation that runs a screen flow."""
    flow = compile_walks(source.definition, source.host, source.screens, source.inputs, source.outputs)
    given = {one.name for one in operation.shape.output.elements}
    hidden = [one.name for one in source.outputs if one.name not in given]
    writes = source.definition.writes

    async def run(call: Call, values: Values) -> Values:
        if writes and call.trial is not None:
            raise ProblemError(Problem("trial.screens", "What a host does at a key cannot be rolled back.", place=operation.shape.name,
                                       mend="Call it without a trial, in an environment where it may write."))
        flow.check(values, operation.shape.name)
        attempt = 1
        while True:
            session = pool.take(call) or await pool.borrow(call)
            keys, broken = session.course.keys, True
            try:
                await session.ready()
                keys = session.course.keys  # those of the way to the start are none of the caller's
                answer = await Runner(session, flow.ways, time.monotonic, call.deadline).play(flow, values)
                broken = False
            except SessionLostError:
                if attempt == _ATTEMPTS or (writes and session.course.keys > keys):
                    raise
                attempt += 1
                call.tried_again("the session was lost")
                continue
            except (ProblemError, DeclaredFaultError, asyncio.CancelledError):
                broken = False  # it finds its way back, or is replaced
                raise
            finally:
                pool.give_back(session, broken)
            for name in hidden:
                answer.pop(name, None)
            return answer

    return run
