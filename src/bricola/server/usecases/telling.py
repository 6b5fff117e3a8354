"""Telling callers of the end of their jobs, at the address that they named: the result, or the fault, as a message of its own."""

import asyncio
import time
from collections.abc import Awaitable, Callable
from typing import Protocol

import structlog

from bricola.core.contracts.names import ADDRESSING
from bricola.core.contracts.wsdl import soap_action
from bricola.core.jobs import values
from bricola.core.jobs.journal import failure_of
from bricola.core.jobs.model import Job, JobState, ended_by_hand
from bricola.core.messages.addressing import answer_blocks
from bricola.core.messages.envelope import Soap
from bricola.core.messages.faults import DeclaredFaultError, declared_fault, of_sender, problem_fault, with_blocks
from bricola.core.problems import ProblemError
from bricola.core.serving.live import LiveOperation, LiveService
from bricola.server.ports.jobs import StoredJobs

log = structlog.stdlib.get_logger("bricola.jobs")

_PAUSES = (5.0, 30.0, 120.0, 600.0, 3600.0)  # seconds, between tries
_AT_ONCE = 20
Send = Callable[[str, bytes, dict[str, str]], Awaitable[str]]


class Ports(Protocol):
    stored_jobs: StoredJobs

    async def job_service(self, job: Job) -> LiveService: ...


class Telling:
    """What is to be told, and when it is tried again. After a restart everything is tried at once."""

    def __init__(self, ports: Ports, send: Send) -> None:
        self._ports, self._send = ports, send
        self._tried: dict[str, tuple[int, float]] = {}  # how often, and not before when again

    async def round(self) -> None:
        """Tell all that is due."""
        due = [(number, self._tried.get(number, (0, 0.0))) for number in await self._ports.stored_jobs.to_tell()]
        ready = [(number, tries + 1) for number, (tries, when) in due if time.monotonic() >= when]
        for first in range(0, len(ready), _AT_ONCE):  # so that an address that does not answer holds up few others
            await asyncio.gather(*(self._tell(number, tries) for number, tries in ready[first:first + _AT_ONCE]))

    async def _tell(self, number: str, tries: int) -> None:
        job = await self._ports.stored_jobs.find(number)
        if job is None:
            return
        try:
            service = await self._ports.job_service(job)
            content, headers = message_of(job, service)
            failed = await self._send(job.reply_to, content, headers)
        except ProblemError as error:
            failed = error.problem.sentence()
        if not failed:
            self._tried.pop(number, None)
            await self._ports.stored_jobs.note_told(number, "told")
            return
        if tries > len(_PAUSES):
            self._tried.pop(number, None)
            log.error("the end of a job could not be told", job=number, reason=failed)
            await self._ports.stored_jobs.note_told(number, f"given up after {tries} tries: {failed}")
            return
        self._tried[number] = tries, time.monotonic() + _PAUSES[tries - 1]
        await self._ports.stored_jobs.note_told(number, f"tried {tries} {'time' if tries == 1 else 'times'}: {failed}")


def message_of(job: Job, service: LiveService) -> tuple[bytes, dict[str, str]]:
    """The message that tells of the end, with its HTTP headers, in the SOAP version of the request."""
    version = next((one for one in Soap if one.number == job.soap), Soap.V11)
    result = next((one for one in service.by_name.values() if one.tells_of == job.operation), None)
    failure = failure_of(values.read(job.outcome)) if job.state is not JobState.DONE and job.outcome else None
    if failure is None and result is not None and job.state is JobState.DONE:
        given = values.read(job.outcome)
        names = {one.name for one in result.shape.output.slots}
        action = f"{soap_action(service.shape, result.shape.name)}Response"
        blocks = answer_blocks(job.reply_to, action, job.message_id)
        text = result.encode({name: value for name, value in given.items() if name in names})
        content = (version.head_with(blocks) + text + version.tail).encode()
    else:
        action = f"{ADDRESSING}/soap/fault"  # SOAP Binding, section 6
        content = with_blocks(version, _fault(version, failure, result, service, job), answer_blocks(job.reply_to, action, job.message_id))
    media = version.content_type.decode()
    return content, {"Content-Type": media, "SOAPAction": f'"{action}"'} if version is Soap.V11 else {
        "Content-Type": f'{media}; action="{action}"'}


def _fault(version: Soap, failure: Exception | None, result: LiveOperation | None, service: LiveService, job: Job) -> bytes:
    if isinstance(failure, DeclaredFaultError) and result is not None and failure.name in result.encode_fault:
        detail = result.encode_fault[failure.name](failure.detail)
        return declared_fault(version, failure, detail, job.id, of_sender(service.shape, result.shape, failure))
    if isinstance(failure, ProblemError):
        return problem_fault(version, failure, job.id, service.shape.form)
    return problem_fault(version, ProblemError(ended_by_hand(job.id)), job.id, service.shape.form)
