"""Handlers of screen flows: borrow a session that is signed on, play, and give it back to find its way to the start."""

import time

from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.problems import Problem, ProblemError
from bricola.core.runtime.databases import Handler, Values
from bricola.core.runtime.playing import Player
from bricola.core.runtime.sessions import SessionLostError
from bricola.core.runtime.terminals import TerminalPool
from bricola.core.runtime.trials import current_trial
from bricola.core.shapes.flows import ResolvedFlow
from bricola.core.shapes.resolve import ResolvedOperation
from bricola.core.terminals.walks import compile_walks

_ATTEMPTS = 3  # on a session each, for a flow that writes nothing or has pressed no key yet


def compile_flow(operation: ResolvedOperation, source: ResolvedFlow, pool: TerminalPool) -> Handler:
    """The handler of an operation that runs a screen flow."""
    flow = compile_walks(source.definition, source.host, source.screens, source.inputs, source.outputs)
    given = {one.name for one in operation.shape.output.elements}
    hidden = [one.name for one in source.outputs if one.name not in given]
    writes = source.definition.writes

    async def run(values: Values) -> Values:
        if writes and current_trial.get() is not None:
            raise ProblemError(Problem("trial.screens", "What a host does at a key cannot be rolled back.", place=operation.shape.name,
                                       mend="Call it without a trial, in an environment where it may write."))
        flow.check(values, operation.shape.name)
        attempt = 1
        while True:
            session = pool.take() or await pool.borrow()
            keys, broken = session.course.keys, True
            try:
                await session.ready()
                keys = session.course.keys  # those of the way to the start are none of the caller's
                answer = await Player(session, flow.ways, time.monotonic).play(flow, values)
                broken = False
            except SessionLostError:
                if attempt == _ATTEMPTS or (writes and session.course.keys > keys):
                    raise
                attempt += 1
                continue
            except (ProblemError, DeclaredFaultError):
                broken = False  # it finds its way back, or is replaced
                raise
            finally:
                pool.give_back(session, broken)
            for name in hidden:
                answer.pop(name, None)
            return answer

    return run
