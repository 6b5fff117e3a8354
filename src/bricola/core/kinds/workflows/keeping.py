"""Steps on one session, which in a database stand and fall together; in a job they are one unit, stored once."""

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from bricola.core.calls.idempotency import OUTCOME_UNKNOWN
from bricola.core.jobs.journal import Done, Once
from bricola.core.jobs.marks import RequestMark
from bricola.core.kinds.bindings import marks_table
from bricola.core.kinds.workflows.acting import Binder, Made, makes
from bricola.core.kinds.workflows.program import SessionNode, defined_names
from bricola.core.kinds.workflows.running import FAILURES, Names, Run, Steps, to_its_end
from bricola.core.pool.kept import Kept, KeptPool, Transacting
from bricola.core.pool.sessions import SessionLostError
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.sql.marks import BEGAN, Marks
from bricola.core.sql.sessions import GivenUpError


@makes(SessionNode)
def _session(binder: Binder, node: SessionNode) -> Made:
    outer = binder.pools[node.backend]
    if isinstance(outer, KeptPool):  # kept by something around it already, whose transaction this is a part of
        block = binder.block(node.block)

        async def inside(run: Run, names: Names) -> bool:
            return await block.run(run, names)

        return None, inside
    pool = KeptPool(outer)
    inner = binder.with_pools({**binder.pools, node.backend: pool})  # type: ignore[dict-item]  # it stands where a pool stands
    table = marks_table(node.backend, binder.environment)
    unit = KeptSteps(node.backend, pool, inner.block(node.block), Marks(table) if table else None, tuple(sorted(defined_names(node.block))))
    how = Once(node.writes, node.repeatable or not node.writes, bool(table) and node.writes and node.alone)
    path = node.path

    async def run(run: Run, names: Names) -> bool:
        journal, done = run.journal, len(run.undo)
        if journal is None:
            return await unit.run(run, names)

        async def work(mark: RequestMark | None) -> Done:
            run.journal = None  # what happens on the session is one unit: all of it is stored, or nothing
            try:
                for again in (True, False):
                    try:
                        return unit.done(run, names, await unit.run(run, names, mark), done)
                    except GivenUpError as error:
                        if error.problem.code != BEGAN or not again:
                            raise
                raise AssertionError  # the second round returns or raises
            except FoundError as found:
                return found.done
            finally:
                run.journal = journal

        def take(given: Sequence[tuple[str, str, Any]]) -> None:
            run.undo[done:] = [binder.undoers[one](run, values, key) for key, one, values in given]

        try:
            kept = await to_its_end(journal.once(path, how, work, lambda: [(one.path, one.given) for one in run.undo[done:]]))
        except FAILURES:
            take(journal.to_undo(path))
            raise
        names.update(kept.value["names"])
        if kept.value["ended"]:
            run.answer = kept.value["answer"]
        take(journal.to_undo(path))
        return bool(kept.value["ended"])

    return None, run


class FoundError(Exception):
    """The unit was stored before: its mark is there."""

    def __init__(self, done: Done) -> None:
        super().__init__()
        self.done = done


@dataclass(frozen=True)
class KeptSteps:
    """The steps on one session, which in a database stand and fall together. `names` are those that they may give values to."""

    backend: str
    pool: KeptPool
    block: Steps
    marks: Marks | None
    names: tuple[str, ...]

    def done(self, run: Run, names: Names, ended: bool, since: int) -> Done:
        """What is kept of it in the journal of a job."""
        given = {name: names[name] for name in self.names if name in names}
        return Done({"names": given, "ended": ended, "answer": run.answer if ended else None},
                    tuple((one.path, one.given) for one in run.undo[since:]))

    async def run(self, run: Run, names: Names, mark: RequestMark | None = None) -> bool:
        """Whether the workflow has ended. Raises FoundError where the mark says that all of it was stored before."""
        call = run.call
        if call.stand_ins is not None:
            return await self.block.run(run, names)
        kept = await self.pool.keep(call)
        done, written = len(run.undo), len(call.written or ())
        trial, outer_trial = call.trial, call.trial is not None and call.trial.kept
        try:
            if not isinstance(kept.session, Transacting):
                return await self.block.run(run, names)
            await kept.session.begin(call.seconds_left(self.pool.now(), float("inf")))
            if trial is not None:
                trial.kept = True
            commit = False
            try:
                if mark is not None:
                    await self._look(kept.session, mark)
                ended = await self.block.run(run, names)
                if mark is not None:
                    await self._leave(kept.session, mark, self.done(run, names, ended, done))
                commit = trial is None
            finally:
                if trial is not None:
                    trial.kept = outer_trial
                    trial.transactions += 1
                await _finish(kept, commit)
                if not commit:  # what was written there is rolled back, so there is nothing of it to undo
                    run.undo[done:] = [one for one in run.undo[done:] if not one.backends <= {self.backend}]
                    if call.written is not None:
                        call.written[written:] = [one for one in call.written[written:] if not one.backends <= {self.backend}]
            return ended
        except asyncio.CancelledError:
            kept.broken = True
            raise
        finally:
            self.pool.release(call, kept)

    async def _look(self, session: Any, mark: RequestMark) -> None:
        marks = self.marks
        assert marks is not None
        found = await session.in_transaction(lambda inside: marks.find(inside, mark))
        if found is not None:
            raise FoundError(Done(found["value"], tuple((path, given) for path, given in found["undo"])))

    async def _leave(self, session: Any, mark: RequestMark, done: Done) -> None:
        marks = self.marks
        assert marks is not None
        await session.in_transaction(lambda inside: marks.leave(inside, mark, {"value": done.value, "undo": list(done.undo)}))


async def _finish(kept: Kept, commit: bool) -> None:
    """Raises ProblemError for a commit whose outcome is not known; a failed roll-back costs the session, and changes nothing."""
    try:
        await kept.session.finish(commit)
    except SessionLostError as error:
        kept.broken = True
        if commit:
            raise ProblemError(Problem(OUTCOME_UNKNOWN, "The connection to the backend broke at the end of the transaction.", Kind.BACKEND,
                                       mend="Look whether it was stored, or send it again with the same request id.",
                                       inner=error.problem.inner)) from None
    except ProblemError:
        kept.broken = True
        if commit:
            raise
