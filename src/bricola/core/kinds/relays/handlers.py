"""Handlers of relays: the payload goes on as it came, and the answer comes back as it was given."""

from typing import Any

from lxml import etree

from bricola.core.calls.call import Call, Came, Handler
from bricola.core.kinds.relays.definition import RelayDefinition
from bricola.core.kinds.relays.sessions import ServicePool
from bricola.core.messages.cleaning import compile_cleaner
from bricola.core.messages.decoder import ElementReader, compile_decoder
from bricola.core.messages.encoder import compile_encoder
from bricola.core.messages.envelope import Soap
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.messages.http import Answered
from bricola.core.messages.markup import markup
from bricola.core.messages.outbound import Fault, InboundAnswer, OutboundCall, read_answer
from bricola.core.pool.sessions import SessionLostError
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.shapes.model import OperationShape, Passed, Values

_ATTEMPTS = 2  # on a session each, while the request has provably not been sent or the operation writes nothing


class Relay:
    """What one operation of a relay does, made once when it is deployed."""

    def __init__(self, shape: OperationShape, namespace: str, soap: Soap, pool: ServicePool, definition: RelayDefinition,
                 seconds: float) -> None:
        self._shape, self._soap, self._pool = shape, soap, pool
        self._tag = shape.output.tag_in(namespace)
        self._encode = compile_encoder(shape.input, namespace)
        self._decode = compile_decoder(shape.output, namespace)
        self._judges = definition.check in ("both", "answer")
        self._headers = definition.headers
        self._clean = compile_cleaner(shape.output) if definition.clean in ("both", "answer") else None
        self._seconds = seconds
        self._faults: dict[str, tuple[str, ElementReader]] = {
            one.record.tag_in(namespace): (one.name, compile_decoder(one.record, namespace)) for one in shape.faults}

    async def handle(self, call: Call, values: Values) -> Values:
        if self._shape.writes and call.trial is not None:
            raise ProblemError(Problem("trial.relay", "What the other side stores cannot be rolled back from here.", place=self._shape.name,
                                       mend="Call it without a trial, in an environment where it may write."))
        answered = await self._exchange(call, self._outbound(call, values))
        answer = answered[0]
        if answer.fault is not None:
            raise self._fault(answer.fault)
        if self._shape.one_way:
            return {}
        return self._answer(call, answer)

    def _outbound(self, call: Call, values: Values) -> OutboundCall:
        """The payload as it came where it came as one, else made from values."""
        came = call.came
        if came is None:
            return OutboundCall(self._soap, self._shape.action, self._encode(values))
        return outbound(self._shape, self._soap, self._headers, came)

    async def _exchange(self, call: Call, outbound: OutboundCall) -> tuple[InboundAnswer, Answered]:
        attempt = 1
        while True:
            session = self._pool.take(call) or await self._pool.borrow(call)
            broken = True
            try:
                answered = await session.send(outbound, call.seconds_left(self._pool.now(), self._seconds))
                broken = False
                call.note(f"{self._shape.name}: status {answered.status}, {len(answered.body)} bytes")
                return read_answer(outbound, answered.status, answered.content_type, answered.body, self._shape.one_way), answered
            except SessionLostError as error:
                if attempt == _ATTEMPTS or (error.begun and self._shape.writes):
                    raise
                attempt += 1
                call.tried_again("the session was lost")
            finally:
                self._pool.give_back(session, broken)

    def _answer(self, call: Call, answer: InboundAnswer) -> Values:
        payload = answer.payload
        if self._tag == "":
            return Passed({}, "", tuple(markup(one) for one in answer.headers))
        if payload is None or payload.tag != self._tag:
            raise ProblemError(Problem("outside.element", "The other side answers with another element than its contract promises.",
                                       Kind.BACKEND, expected=self._tag, found=shown(payload.tag if payload is not None else "nothing")))
        if self._clean is not None and (taken := self._clean(payload)):
            call.note(f"taken out of the answer, since the contract does not have it: {', '.join(taken)}")
        problems: list[Problem] = []
        values: Any = self._decode(payload, self._shape.output.name, problems)
        if problems and self._judges:
            first = problems[0]
            raise ProblemError(Problem("outside.contract", f"The other side's answer is not as its contract says. {first.message}",
                                       Kind.BACKEND, place=first.place, expected=first.expected, inner=first.found))
        blocks = () if self._headers == "none" else tuple(markup(one) for one in answer.headers)
        return Passed(values if not problems else {}, markup(payload), blocks)

    def _fault(self, fault: Fault) -> Exception:
        """A fault that the contract declares stays that fault; another one is told with its words."""
        sender = fault.code in ("Client", "Sender")
        known = self._faults.get(fault.detail.tag) if fault.detail is not None else None
        if known is not None and fault.detail is not None:
            name, decode = known
            problems: list[Problem] = []
            values = decode(fault.detail, name, problems)
            return DeclaredFaultError(name, fault.reason, Passed(values if not problems else {}, markup(fault.detail)),
                                      "sender" if sender else "receiver")
        return ProblemError(Problem("outside.fault", f"The other side answers with a fault: {fault.reason[:500]}",
                                    Kind.INPUT if sender else Kind.BACKEND, found=fault.code))


def outbound(shape: OperationShape, soap: Soap, headers: str, came: Came) -> OutboundCall:
    """What is sent on of a message: its payload as it came, and header blocks by the rule."""
    blocks = () if headers == "none" else tuple(
        _forwarded(one) for one in came.headers if headers == "all" or one.tag in shape.understood)
    return OutboundCall(soap, shape.action, markup(came.payload) if came.payload is not None else "", blocks)


def _forwarded(block: etree._Element) -> str:
    """A header block without what concerned this stretch of the way only: who must understand it, and who it was for."""
    copy = etree.fromstring(markup(block))
    for version in Soap:
        for name in (version.must_understand, version.role):
            copy.attrib.pop(name, "")
    return markup(copy)


def compile_relay(shape: OperationShape, namespace: str, soap: Soap, pool: ServicePool, definition: RelayDefinition,
                  seconds: float) -> Handler:
    return Relay(shape, namespace, soap, pool, definition, seconds).handle
