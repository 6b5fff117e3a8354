"""Handlers of routines: one transaction around a call, what comes out as values, and errors as the faults that are declared."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from operator import itemgetter
from typing import Any

from bricola.core.calls.call import Call, Handler
from bricola.core.kinds.kind import ResolvedOperation
from bricola.core.kinds.routines.definition import ResultSet, RoutineFault
from bricola.core.kinds.routines.shape import ResolvedRoutine, all_outputs
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.pool.pool import Pool
from bricola.core.pool.sessions import SessionLostError
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.shapes.model import Record, Values
from bricola.core.sql.calling import Called
from bricola.core.sql.marks import Marks
from bricola.core.sql.moments import refuse_zoned
from bricola.core.sql.refusals import RefusedError, Why, without
from bricola.core.sql.routines import Results, RoutineSession, RoutineTransaction
from bricola.core.sql.rows import compile_row
from bricola.core.sql.sessions import NO_LIMIT, attempted
from bricola.core.sql.writing import in_transaction, lost_at_the_end

RoutinePool = Pool[RoutineSession]


def compile_routine(operation: ResolvedOperation, source: ResolvedRoutine, pool: RoutinePool, requests: str = "") -> Handler:
    """The handler of an operation that runs a routine. `requests` names the table for marks, if there is one."""
    called = _Routine(source, operation.shape.name)
    definition = source.definition
    marks = Marks(requests) if requests else None
    kept = frozenset(one.name for one in operation.shape.output.elements)
    hidden = [one.name for one in all_outputs(source) if one.name not in kept]

    async def write(call: Call, given: Values) -> Values:
        async def refused(error: RefusedError, session: Any, last: bool) -> None:
            raise called.explained(error, given) from None

        return await in_transaction(pool, call, lambda inside: called.joined(inside, call, given, marks is not None), marks, refused)

    async def read(call: Call, given: Values) -> Values:
        try:
            return await attempted(
                pool, call, lambda session, within: session.reading(lambda inside: called.run(inside, call, given), within))
        except RefusedError as error:
            raise called.explained(error, given) from None

    async def own(call: Call, given: Values) -> Values:
        if call.trial is not None:
            raise ProblemError(Problem("trial.routine", "The routine commits by itself, so nothing of it could be rolled back.",
                                       Kind.INPUT, place=operation.shape.name, mend="Call it without a trial."))
        return await called.alone(pool, call, given)

    run = own if definition.transaction == "own" else write if definition.writes else read

    async def handle(call: Call, given: Values) -> Values:
        answer = await run(call, given)
        for one in hidden:
            answer.pop(one, None)
        return answer

    return handle if hidden else run


class _Routine:
    """One routine: how values become arguments, and what came out becomes an answer. Made once."""

    def __init__(self, source: ResolvedRoutine, operation: str) -> None:
        definition = source.definition
        self._source, self._operation, self._definition = source, operation, definition
        self._inputs = [(one.name, one.parameter_name) for one in definition.input]
        self._local = [one.name for one in definition.input if one.zone == "local"]
        self._sensitive = frozenset(one.name for one in (*definition.input, *definition.output) if one.sensitive)
        self._outs = [one.name for one in definition.parameters if one.way != "in"]
        self._of_outputs = [one.parameter_name for one in definition.output]
        self._read_outputs = compile_row(source.outputs, frozenset(one.name for one in definition.output if one.zone == "utc")) \
            if source.outputs else lambda row: {}
        self._sets = [_Rows(one, record, operation) for one, record in source.sets]
        self._tells = definition.messages == "from-database"

    async def joined(self, inside: RoutineTransaction, call: Call, given: Values, marked: bool) -> Values:
        """In a transaction of ours, which must still be there where something depends on it."""
        answer = await self.run(inside, call, given)
        if (marked or call.trial is not None) and await inside.ended():
            words = "The routine ended the transaction by itself: what it did is stored"
            words += ", though this was a trial." if call.trial is not None else ", and cannot be told from a repeated request."
            raise ProblemError(Problem("routine.commits", words, Kind.BACKEND, place=self._operation,
                                       mend="The owner of the service says 'transaction: own' in its definition."))
        if call.trial is not None:
            told = {name: value for name, value in answer.items() if not isinstance(value, list)}
            call.trial.note(self._definition.name, "called", {name: given[name] for name, _ in self._inputs if given.get(name) is not None
                                                              and name not in self._sensitive}, {}, told, self._sensitive)
        return answer

    async def run(self, inside: RoutineTransaction, call: Call, given: Values) -> Values:
        """Raises RefusedError for what the routine does not allow, DeclaredFaultError for what it tells by its values."""
        refuse_zoned(self._local, given)
        arguments: dict[str, Any] = {name: value for name, value in self._definition.fixed.items() if value is not None}
        for name, parameter in self._inputs:
            value = given.get(name)
            if value is not None:
                arguments[parameter] = value
        called = await self._source.call(inside, arguments)
        if call.span is not None:
            call.note(f"{self._definition.calls}: {len(called.values)} values, {len(called.sets)} results")
        outs = dict(zip(self._outs, called.values, strict=False))
        answer = self._read_outputs([outs.get(one) for one in self._of_outputs])
        for one in self._source.faults:
            if one.values(outs):
                raise self._fault(one.fault, one.fault.message or one.fault.description or one.fault.name, given, answer)
        self._rows_of(called, answer)
        return answer

    def _rows_of(self, called: Called, answer: Values) -> None:
        at = 0
        for one in self._sets:
            at = one.set.set - 1 if one.set.set else at
            if at < len(called.sets):
                answer[one.set.name] = one.read(called.sets[at])
            elif one.set.optional or self._definition.gives_rows:
                answer[one.set.name] = []
            else:
                raise ProblemError(Problem("routine.sets", "The routine gives fewer results than its definition says.", Kind.BACKEND,
                                           place=f"{self._operation}/{one.set.name}", expected=f"result {at + 1}",
                                           found=f"{len(called.sets)} results"))
            at += 1

    async def alone(self, pool: RoutinePool, call: Call, given: Values) -> Values:
        """Without a transaction of ours. It is never called again by itself: what it did until the connection broke is stored."""
        session = pool.take(call) or await pool.borrow(call)
        broken = True
        try:
            answer = await session.alone(lambda inside: self.run(inside, call, given), call.seconds_left(pool.now(), NO_LIMIT))
            broken = False
            return answer
        except SessionLostError as error:
            raise lost_at_the_end(error) from None
        except RefusedError as error:
            broken = False
            raise self.explained(error, given) from None
        except (ProblemError, DeclaredFaultError):
            broken = False
            raise
        finally:
            pool.give_back(session, broken)

    def explained(self, error: RefusedError, given: Values) -> Exception:
        """What a refusal means here: a fault that is declared, or a problem with words for owners."""
        refusal = error.refusal
        secrets = [given.get(name) for name in self._sensitive]
        words = without(refusal.words, secrets)
        for one in self._source.faults:
            if one.refusal(refusal):
                fault = one.fault
                own = words if self._tells else ""
                return self._fault(fault, fault.message or own or fault.description or fault.name, given, {})
        told = f"{refusal.said} It says: {words}" if words else refusal.said
        problem = replace(error.problem, place=self._operation, inner=f"{told} Routine {self._definition.calls}.")
        if refusal.why is Why.RAISED and self._tells:
            problem = replace(problem, message=words)
        if self._definition.transaction == "own":  # what it committed before is stored, whatever became of the rest
            problem = replace(problem, mend="Look what it has stored before it stopped.")
        if refusal.why is Why.RIGHTS and not self._definition.writes:
            problem = replace(problem, mend="Where the routine changes something, its owner says 'writes: true'.")
        return ProblemError(problem)

    def _fault(self, fault: RoutineFault, words: str, given: Values, answer: Mapping[str, Any]) -> DeclaredFaultError:
        known = {**given, **answer}
        detail = {"message": words} | {name: known[name] for name in fault.fields if name != "message" and known.get(name) is not None}
        return DeclaredFaultError(fault.name, words, detail, fault.cause)


class _Rows:
    """The rows of one result, by the names of their columns, whatever their order there."""

    def __init__(self, described: ResultSet, record: Record, operation: str) -> None:
        self.set, self._place = described, f"{operation}/{described.name}"
        self._wanted = [one.column_name for one in described.columns]
        self._to_values = compile_row(record.elements, frozenset(one.name for one in described.columns if one.zone == "utc"))
        self._known: dict[tuple[str, ...], Callable[[Sequence[Any]], Sequence[Any]]] = {}

    def read(self, found: Results) -> list[Values]:
        """Raises ProblemError for a result without one of the columns, or with too many rows."""
        if len(found.rows) > self.set.most:
            raise ProblemError(Problem("routine.too-many", "The routine gives more rows than one answer holds.", Kind.TOO_LARGE,
                                       place=self._place, expected=f"at most {self.set.most} rows", mend="Narrow the inputs."))
        pick = self._known.get(found.columns)
        if pick is None:
            pick = self._known[found.columns] = self._picking(found.columns)
        return [self._to_values(pick(row)) for row in found.rows]

    def _picking(self, columns: tuple[str, ...]) -> Callable[[Sequence[Any]], Sequence[Any]]:
        lower = [one.lower() for one in columns]
        exact = {one: columns.index(one) for one in self._wanted if one in columns}
        missing = [one for one in self._wanted if one.lower() not in lower]
        if missing:
            raise ProblemError(Problem("routine.column", "The routine gives a result without a column that the definition names.",
                                       Kind.BACKEND, place=self._place, expected=", ".join(missing),
                                       found=", ".join(columns) or "no columns",
                                       mend="The owner of the service corrects 'rows:' in the definition, or the routine."))
        places = [exact[one] if one in exact else lower.index(one.lower()) for one in self._wanted]
        return itemgetter(*places) if len(places) > 1 else lambda row: (row[places[0]],)

