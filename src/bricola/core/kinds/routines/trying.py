"""Calling a routine once to see what rows it gives, where no catalogue tells: in a transaction that is rolled back."""

import contextlib
from collections.abc import Mapping
from typing import Any

from bricola.core.calls.trials import RolledBackError
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.sql.calling import CALLINGS, Argument, Signature
from bricola.core.sql.routines import CURSOR, Results, Routine, RoutineSession, RoutineTransaction

_MOST = 100  # rows; their columns are what is looked for


async def results_of(session: RoutineSession, form: str, routine: Routine, given: Mapping[str, Any]) -> list[Results]:
    """The results with these arguments, by parameter; `form` is how the engine calls routines. Raises ProblemError: for what the
    routine refuses, and for one that has committed by itself."""
    seen: list[Results] = []
    ended = False
    arguments = tuple(Argument(one.name, one.way, one.declared, one.optional) for one in routine.parameters)
    signature = Signature(routine.name, routine.form, arguments, routine.gives_rows, _MOST)

    call = CALLINGS[form](signature)
    named = {one.name: one.name for one in arguments if one.declared == CURSOR and one.way == "in"}  # an open cursor is found by its name

    async def work(inside: RoutineTransaction) -> None:
        nonlocal ended
        seen.extend((await call(inside, named | dict(given))).sets)
        ended = await inside.ended()
        raise RolledBackError

    with contextlib.suppress(RolledBackError):
        await (session.in_transaction(work) if routine.writes else session.reading(work))
    if ended:
        raise ProblemError(Problem("routine.commits", f"{routine.name} ended the transaction by itself: what it did is stored.",
                                   Kind.BACKEND, place=routine.name))
    return seen
