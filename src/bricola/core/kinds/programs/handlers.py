"""Handlers of programs: the record is made, the program called over a session of the pool, and its record read.

A backend may be reached in three ways, which differ in what carries a record; each is a function here.
"""

import uuid
from collections.abc import Awaitable, Callable, Mapping, Sequence
from typing import Any

from bricola.core.calls.call import Call, Handler
from bricola.core.definitions.engines.engine import Family
from bricola.core.kinds.kind import ResolvedOperation
from bricola.core.kinds.programs.definition import ProgramDefinition
from bricola.core.kinds.programs.records import Contents, Records, found_at
from bricola.core.kinds.programs.shape import FaultRule, ResolvedProgram
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.pool.pool import Pool
from bricola.core.pool.sessions import SessionLostError
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.programs.frames import Replied, SentArea
from bricola.core.shapes.model import Values

_ATTEMPTS = 3  # on a session each, for a program that writes nothing or has not begun
_OCTETS = "application/octet-stream"

Carry = Callable[[Any, ProgramDefinition, Sequence[SentArea], float], Awaitable[Replied]]


async def _by_frames(session: Any, program: ProgramDefinition, areas: Sequence[SentArea], seconds: float) -> Replied:
    answer: Replied = await session.call(program.calls, areas, seconds)
    return answer


async def _by_post(session: Any, program: ProgramDefinition, areas: Sequence[SentArea], seconds: float) -> Replied:
    """The raw record as the body of a POST, and the record that comes back as its answer (RFC 9110, media type octet-stream)."""
    answered = await session.ask("POST", program.calls, {"Content-Type": _OCTETS, "Accept": _OCTETS}, _padded(areas[0]), seconds)
    if not 200 <= answered.status < 300:
        raise ProblemError(Problem("program.status", "The program answers that it failed.", Kind.BACKEND, found=f"status {answered.status}",
                                   expected="200 with the record"))
    if answered.content_type.partition(";")[0].strip().lower() not in (_OCTETS, ""):
        raise ProblemError(Problem("program.media", "The program answers with something else than a record.", Kind.BACKEND,
                                   expected=_OCTETS, found=answered.content_type[:100]))
    return Replied(0, 0, (answered.body,) if areas[0].returns else ())


async def _by_file(session: Any, program: ProgramDefinition, areas: Sequence[SentArea], seconds: float) -> Replied:
    """The raw record as a file `NAME.<id>.request`; the record that comes back is `NAME.<id>.reply`, moved there when it is whole."""
    base = f"{program.calls}.{uuid.uuid4().hex}"
    data: bytes = await session.exchange(f"{base}.request", _padded(areas[0]), f"{base}.reply" if areas[0].returns else "", seconds)
    return Replied(0, 0, (data,) if areas[0].returns else ())


def _padded(area: SentArea) -> bytes:
    return area.data.ljust(area.room, b"\x00")


CARRIERS: Mapping[Family, Carry] = {Family.PROGRAM_HOST: _by_frames, Family.HTTP: _by_post, Family.FOLDER: _by_file}


def compile_program(operation: ResolvedOperation, source: ResolvedProgram, pool: Pool[Any], family: Family) -> Handler:
    """The handler of an operation that runs a program."""
    definition = source.definition
    name = operation.shape.name
    records = Records(source, name)
    carry = CARRIERS[family]
    writes = definition.writes
    given = {one.name for one in operation.shape.output.elements}
    hidden = [one.element.name for one in source.outputs if one.element.name not in given]

    async def run(call: Call, values: Values) -> Values:
        if writes and call.trial is not None:
            raise ProblemError(Problem("trial.program", "What a program does cannot be rolled back.", place=name,
                                       mend="Call it without a trial, in an environment where it may write."))
        areas = records.sent(values)
        reply = await exchanged(call, areas)
        call.note(f"{definition.calls}: return code {reply.code}, {sum(len(one) for one in reply.areas)} bytes")
        contents = records.judged(reply.areas)
        for rule in source.faults:
            if rule.holds(found_at(contents.get(rule.area), rule.way) if rule.area else reply.code):
                raise _refusal(rule, values, contents, records)
        if reply.code not in definition.accepts:
            raise ProblemError(Problem("program.return-code", "The program ended with a return code that means failure.", Kind.BACKEND,
                                       place=name, expected=" or ".join(map(str, definition.accepts)), found=str(reply.code),
                                       mend="The owner of the service declares it as a fault, or accepts it."))
        answer = records.outputs(records.received(reply.areas))
        for one in hidden:
            answer.pop(one, None)
        return answer

    async def exchanged(call: Call, areas: Sequence[SentArea]) -> Replied:
        attempt = 1
        while True:
            session = pool.take(call) or await pool.borrow(call)
            broken = True
            try:
                reply = await carry(session, definition, areas, call.seconds_left(pool.now(), definition.seconds))
                broken = False
                return reply
            except SessionLostError as error:
                if attempt == _ATTEMPTS or (error.begun and writes):
                    raise
                attempt += 1
                call.tried_again("the session was lost")
            except ProblemError as error:
                broken = error.problem.code in ("program.slow", "program-host.protocol")
                raise
            finally:
                pool.give_back(session, broken)

    return run


def _refusal(rule: FaultRule, values: Values, contents: Mapping[str, Contents], records: Records) -> DeclaredFaultError:
    fault = rule.fault
    said = found_at(contents.get(rule.message[0]), rule.message[1]) if rule.message else None
    words = str(said or "").strip(" \x00") or fault.description or fault.name
    detail: Values = {"message": words}
    known = values | records.told(fault.fields, contents)
    detail |= {name: known[name] for name in fault.fields if name != "message" and known.get(name) is not None}
    return DeclaredFaultError(fault.name, words, detail, fault.cause)
