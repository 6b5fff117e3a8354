"""The pipeline, with handlers that the test decides on: what is answered, what is recorded, what stays inside."""

import asyncio
import json
from dataclasses import replace
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from bricola.core.calls.call import Call
from bricola.core.calls.callers import Caller, Callers, Token, token_digest
from bricola.core.calls.trace import Trace
from bricola.core.definitions.model import EnvironmentDefinition
from bricola.core.kinds.resolve import resolve_service
from bricola.core.messages.envelope import Soap
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.messages.request import read_reply, write_request
from bricola.core.messages.samples import sample_values
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.serving.faces import Request
from bricola.core.serving.live import LiveService, compile_service
from bricola.core.serving.pipeline import Answer, CallRecord, Pipeline
from bricola.core.shapes.forms import Form
from tests.core.samples import gauge_catalogue
from tests.core.test_messages import GOOD

READER = b"Bearer reader-token"
STRANGER = b"Bearer stranger-token"


class Records(list[CallRecord]):
    def __init__(self) -> None:
        super().__init__()
        self.traces: list[dict[str, Any]] = []

    def add(self, record: CallRecord, keep: bool) -> None:
        assert keep
        self.append(record)

    def keep_trace(self, record: CallRecord, trace: Trace) -> None:
        self.traces.append(trace.as_plain())


def make(handler: Any = None, anonymous: bool = False) -> tuple[Pipeline, LiveService, Records]:
    """A pipeline with one reader and one stranger; `handler` answers GetGauge."""
    callers = Callers(lambda: 0.0)
    callers.replace([Token(token_digest("reader-token"), Caller("tide-reader", frozenset({"reader"}))),
                     Token(token_digest("stranger-token"), Caller("stranger", frozenset({"painter"})))])
    records = Records()
    ticks = iter(range(10**9))
    pipeline = Pipeline(callers, records, lambda: 1000.0, lambda: next(ticks) / 1000, lambda: "call-1")
    catalogue = gauge_catalogue()
    definition = catalogue.find_service("GaugeBook")
    assert definition is not None
    place = EnvironmentDefinition(name="live", anonymous=("GaugeBook",) if anonymous else ())
    service = compile_service(place, definition, 7, resolve_service(definition, catalogue), {"registry": None})  # type: ignore[dict-item]

    async def answer(call: Call, values: dict[str, Any]) -> dict[str, Any]:
        return {"gauge": GOOD | values}

    get = replace(service.by_name["GetGauge"], handle=handler or answer)
    by_name = {**service.by_name, "GetGauge": get}
    by_tag = {f"{{{service.shape.namespace}}}{name}": one for name, one in by_name.items()}
    return pipeline, replace(service, by_name=by_name, by_tag=by_tag), records


def ask(made: tuple[Pipeline, LiveService, Records], version: Soap = Soap.V11, authorization: bytes | None = READER,
        code: str = "G07") -> Answer:
    pipeline, service, _ = made
    body = write_request(version, service.shape.namespace, service.shape.operations[0], {"code": code})
    return asyncio.run(pipeline.soap(service, Request(body, version.media, authorization)))


def failing(error: Exception) -> Any:
    async def handler(call: Call, _: dict[str, Any]) -> dict[str, Any]:
        raise error

    return handler


@pytest.mark.parametrize("version", list(Soap))
def test_an_answered_call_and_its_record(version: Soap) -> None:
    made = make()
    answer = ask(made, version)
    reply = read_reply(made[1].shape.namespace, made[1].shape.operations[0], answer.body)
    assert (answer.status, answer.call, answer.content_type) == (200, "call-1", version.content_type)
    assert reply.answer is not None
    assert reply.answer["gauge"]["code"] == "G07"
    (record,) = made[2]
    assert record == CallRecord("call-1", 1000.0, "live", "GaugeBook", 7, "GetGauge", "tide-reader", f"soap {version.number}", 200,
                                1000, "answered", "", "", record.request_bytes, len(answer.body))


@pytest.mark.parametrize(("form", "cause", "v11", "v12"), [
    (Form.THIRD, None, (500, b"soap:Client"), (400, b"soap:Sender")),  # as the contract says: the request has to change
    (Form.THIRD, "sender", (500, b"soap:Client"), (400, b"soap:Sender")), (Form.THIRD, "receiver", (500, b"soap:Server"), (500, b"soap:Receiver")),
    (Form.SECOND, None, (500, b"soap:Server"), (500, b"soap:Receiver")),  # a release keeps the form in which it was made
    (Form.FIRST, "sender", (500, b"soap:Server"), (500, b"soap:Receiver")),
])
def test_a_declared_fault_says_whose_it_is(form: Form, cause: Any, v11: tuple[int, bytes], v12: tuple[int, bytes]) -> None:
    fault = DeclaredFaultError("NotFound", "None such.", {"message": "None such.", "code": "G07"}, cause)
    pipeline, service, records = make(failing(fault))
    for version, (status, code) in ((Soap.V11, v11), (Soap.V12, v12)):
        answer = ask((pipeline, replace(service, shape=replace(service.shape, form=form)), records), version)
        assert (answer.status, code in answer.body) == (status, True)


@pytest.mark.parametrize("version", list(Soap))
@pytest.mark.parametrize(("error", "v11", "v12", "result", "fault"), [
    (DeclaredFaultError("NotFound", "None such.", {"message": "None such.", "code": "G07"}), 500, 400, "fault", "NotFound"),
    (ProblemError(Problem("backend.failed", "Down.", Kind.BACKEND, inner="/secret/path")), 500, 500, "failed", "backend.failed"),
    (ProblemError(Problem("pool.timeout", "Busy.", Kind.BUSY)), 503, 503, "failed", "pool.timeout"),
    (ZeroDivisionError("secret detail"), 500, 500, "failed", "internal.error"),
])
def test_failures_are_answered_recorded_and_kept_inside(
    version: Soap, error: Exception, v11: int, v12: int, result: str, fault: str
) -> None:
    made = make(failing(error))
    answer = ask(made, version)
    assert answer.status == (v11 if version is Soap.V11 else v12)
    assert b"secret" not in answer.body
    record = made[2][0]
    assert (record.result, record.fault) == (result, fault)
    assert ("secret" in record.message) == (fault in ("backend.failed", "internal.error"))
    reply = read_reply(made[1].shape.namespace, made[1].shape.operations[0], answer.body)
    assert reply.fault is not None
    if fault == "NotFound":
        assert reply.fault["detail"] == [{"name": "NotFound", "message": "None such.", "code": "G07"}]
    else:
        assert reply.fault["detail"][-1] == {"name": "call", "value": "call-1"}


def test_an_answer_that_breaks_the_contract_becomes_a_fault_on_every_face() -> None:
    async def wrong(call: Call, values: dict[str, Any]) -> dict[str, Any]:
        return {"gauge": GOOD | {"place": "x" * 99}}

    made = make(wrong)
    assert ask(made).status == 500
    answer = asyncio.run(made[0].rest(made[1], "GetGauge", Request(b'{"code": "G07"}', "application/json", READER)))
    assert (answer.status, json.loads(answer.body)["problems"][0]["code"]) == (502, "answer.invalid")
    assert [one.fault for one in made[2]] == ["answer.invalid", "answer.invalid"]


def test_who_may_call_is_decided_before_the_message_is_read() -> None:
    made = make()
    pipeline, service, records = made
    refused = asyncio.run(pipeline.soap(service, Request(b"<<<", "text/xml", None)))
    assert (refused.status, refused.challenge) == (401, True)
    stranger = ask(made, authorization=STRANGER)
    assert stranger.status == 403
    assert b"painter" in stranger.body
    assert [(one.caller, one.operation, one.fault) for one in records] == [("stranger", "GetGauge", "caller.role")]
    assert sum(pipeline.strangers.last_hour().values()) == 1, "who is not known is counted, and not written down"
    with_nothing = make()
    operation = replace(with_nothing[1].by_name["GetGauge"], roles=frozenset())
    tag = f"{{{service.shape.namespace}}}GetGauge"
    nobody = replace(with_nothing[1], by_tag={tag: operation}, by_name={"GetGauge": operation})
    assert b"names none, so nobody may call" in ask((with_nothing[0], nobody, with_nothing[2])).body


def test_anonymous_callers_only_where_it_was_said() -> None:
    assert ask(make(), authorization=None).status == 401
    made = make(anonymous=True)
    assert ask(made, authorization=None).status == 200
    assert made[2][0].caller == "anonymous"
    assert ask(made, authorization=b"Bearer wrong").status == 401  # a wrong identity is never taken for none
    assert ask(made, authorization=STRANGER).status == 403


def test_a_request_in_the_other_version_than_announced_is_answered_in_its_own() -> None:
    pipeline, service, _ = made = make()
    body = write_request(Soap.V12, service.shape.namespace, service.shape.operations[0], {"code": "G07"})
    answer = asyncio.run(pipeline.soap(service, Request(body, "text/xml", READER)))
    assert (answer.status, answer.content_type) == (200, Soap.V12.content_type)
    assert made[2][0].face == "soap 1.2"


BASE = write_request(Soap.V11, "urn:larkmere:gauge-book", make()[1].shape.operations[0],
                     sample_values(make()[1].shape.operations[0].input))
MADE = make()


@given(at=st.integers(0, len(BASE)), cut=st.integers(0, 40), put=st.binary(max_size=12) | st.sampled_from(
    [b"<a>", b"</a>", b"]]>", b"&lt;", b"&#0;", b"<!--", b"<?x?>", b"<![CDATA[", b' xmlns="u"', b"\xc3", b"\0", b"<soap:Body>"]))
def test_no_mutation_of_a_request_is_ever_our_mistake(at: int, cut: int, put: bytes) -> None:
    pipeline, service, _ = MADE
    body = BASE[:at] + put + BASE[at + cut:]
    answer = asyncio.run(pipeline.soap(service, Request(body, "text/xml", READER)))
    assert b"internal.error" not in answer.body
    assert answer.status in (200, 500)
    assert read_reply(service.shape.namespace, service.shape.operations[0], answer.body).problems == ()
