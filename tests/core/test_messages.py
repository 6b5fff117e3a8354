"""Messages: what is read, what is refused and how, what is written."""

from datetime import UTC, date, datetime, time
from decimal import Decimal
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from lxml import etree

from bricola.core.contracts.names import ENVELOPE11, ENVELOPE12
from bricola.core.contracts.schema import write_schema
from bricola.core.messages.decoder import compile_decoder
from bricola.core.messages.encoder import compile_encoder
from bricola.core.messages.envelope import NotUnderstoodError, Soap, WrongVersionError, read_envelope
from bricola.core.messages.faults import fault_status, problem_fault
from bricola.core.messages.plain import from_plain, to_plain
from bricola.core.messages.request import read_reply
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.xml import MOST_BYTES, parse_xml
from tests.core.samples import gauge_service

SHAPE = gauge_service().shape
NS = SHAPE.namespace
GET, FIND, GRADED, LIST = SHAPE.operations
SCHEMA = etree.XMLSchema(etree.fromstring(etree.tostring(write_schema(SHAPE))))


def decode(operation: Any, inner: str) -> tuple[dict[str, Any], list[Problem]]:
    problems: list[Problem] = []
    root = etree.fromstring(f'<x xmlns="{NS}" xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance">{inner}</x>')
    return compile_decoder(operation.input, NS)(root, operation.name, problems), problems


def test_values_come_typed_with_defaults_and_lists() -> None:
    values, problems = decode(FIND, "<placeContains> Weir </placeContains><datumFrom> 1.50 </datumFrom>")
    assert not problems
    assert values == {"placeContains": " Weir ", "datumFrom": Decimal("1.50"), "limit": 3}


@pytest.mark.parametrize(("inner", "code", "place"), [
    ("", "element.missing", "GetGauge/code"),
    ("<code>G1</code>", "value.pattern", "GetGauge/code"),
    ("<code>G01</code><code>G02</code>", "element.repeated", "GetGauge/code"),
    ("<code>G01</code><colour/>", "element.unknown", "GetGauge/colour"),
    ("<Code>G01</Code>", "element.unknown", "GetGauge/Code"),
    ('<code xmlns="">G01</code>', "element.namespace", "GetGauge/code"),
    ("<code><b>G01</b></code>", "element.content", "GetGauge/code"),
    ("<code>G01</code>tail", "element.text", "GetGauge"),
    ('<code lang="en">G01</code>', "element.attribute", "GetGauge/code"),
    ('<code xsi:nil="true"/>', "element.nil", "GetGauge/code"),
])
def test_each_mistake_is_named_with_its_path(inner: str, code: str, place: str) -> None:
    _, problems = decode(GET, inner)
    assert (code, place) in {(one.code, one.place) for one in problems}


def test_all_mistakes_are_told_at_once_and_order_matters() -> None:
    _, problems = decode(FIND, "<limit>0</limit><grade>Z</grade><datumFrom>much</datumFrom><oops/>")
    assert [one.code for one in problems] == ["value.range", "element.order", "value.code", "element.order", "value.type",
                                              "element.unknown"]
    assert problems[2].expected == "one of A, B, C"
    assert problems[2].found == '"Z"'


def test_nil_counts_as_absent_where_optional() -> None:
    assert decode(FIND, '<grade xsi:nil="true"/>') == ({"limit": 3}, [])


TEXT = st.text(st.characters(blacklist_categories=("Cs", "Cc"), blacklist_characters="\ufffe\uffff"), max_size=20)
ROWS = st.fixed_dictionaries({
    "code": st.from_regex(r"G[0-9]{2}", fullmatch=True), "place": TEXT,
    "datum": st.decimals(-10, Decimal("999.99"), places=2), "automatic": st.booleans(), "readings": st.integers(0, 10**30),
    "installed": st.dates(), "changeToken": st.from_regex(r"[a-z0-9]{1,8}", fullmatch=True),
}, optional={
    "drift": st.floats(allow_nan=False), "checked": st.datetimes(timezones=st.none() | st.just(UTC)), "opens": st.times(),
    "every": st.just("P1DT2H"), "since": st.just("2026-11"), "photo": st.binary(max_size=64), "grade": st.sampled_from("ABC"),
})


@given(rows=st.lists(ROWS, max_size=3), more=st.booleans())
def test_what_is_encoded_obeys_the_schema_and_reads_back_equal(rows: list[dict[str, Any]], more: bool) -> None:
    values = {"gauge": rows, "more": more}
    text = compile_encoder(FIND.output, NS)(values)
    root = etree.fromstring(text)
    SCHEMA.assertValid(root)
    problems: list[Problem] = []
    back = compile_decoder(FIND.output, NS)(root, "x", problems)
    assert not problems
    assert back.get("gauge", []) == rows
    assert back["more"] is more


@given(ROWS)
def test_plain_json_and_back_keeps_every_value(row: dict[str, Any]) -> None:
    record = GET.output
    problems: list[Problem] = []
    assert from_plain(record, to_plain(record, {"gauge": row}), "x", problems) == {"gauge": row}
    assert not problems


GOOD = {"code": "G01", "place": "Weir", "datum": Decimal("1.00"), "automatic": True, "readings": 3,
        "installed": date(2026, 1, 2), "changeToken": "1", "opens": time(6, 30), "checked": datetime(2026, 1, 2, tzinfo=UTC)}


@pytest.mark.parametrize(("change", "place"), [
    ({"code": "X"}, "GetGaugeResponse/gauge/code"), ({"place": "x" * 21}, "GetGaugeResponse/gauge/place"),
    ({"datum": Decimal("1.001")}, "GetGaugeResponse/gauge/datum"), ({"datum": 1.5}, "GetGaugeResponse/gauge/datum"),
    ({"automatic": 1}, "GetGaugeResponse/gauge/automatic"), ({"readings": -1}, "GetGaugeResponse/gauge/readings"),
    ({"installed": None}, "GetGaugeResponse/gauge/installed"), ({"place": "a\0b"}, "GetGaugeResponse/gauge/place"),
    ({"grade": "D"}, "GetGaugeResponse/gauge/grade"),
])
def test_an_answer_that_breaks_the_contract_is_never_sent(change: dict[str, Any], place: str) -> None:
    encode = compile_encoder(GET.output, NS)
    assert "<opens>06:30:00</opens>" in encode({"gauge": GOOD})
    with pytest.raises(ProblemError) as caught:
        encode({"gauge": GOOD | change})
    assert caught.value.problem.code == "answer.invalid"
    assert caught.value.problem.place == place
    assert not caught.value.problem.kind.blames_sender


@pytest.mark.parametrize(("body", "code"), [
    (b"", "xml.empty"), (b"hello", "xml.syntax"), (b"<a><b></a>", "xml.syntax"), (b"<a>\xff</a>", "xml.syntax"),
    (b"<!DOCTYPE a><a/>", "xml.dtd"), (b'<!DOCTYPE a SYSTEM "file:///etc/passwd"><a/>', "xml.dtd"),
    (b'<!DOCTYPE a [<!ENTITY x "y">]><a>&x;</a>', "xml.dtd"), (b"<a>&x;</a>", "xml.entity"),
    (b"<a>" * 300 + b"</a>" * 300, "xml.depth"), (b"<a " + b" ".join(b'a%d="1"' % i for i in range(9000)) + b"/>", "xml.tag"),
    (b"<a>" + b"".join(b'<b xmlns:n%d="u"/>' % i for i in range(300)) + b"</a>", "xml.namespaces"),
    (b"<a>" + b"x" * MOST_BYTES + b"</a>", "http.too-large"), (b"\xff\xfe<\x00a", "xml.encoding"),
])
def test_hostile_xml_is_refused(body: bytes, code: str) -> None:
    with pytest.raises(ProblemError) as caught:
        parse_xml(body)
    assert caught.value.problem.code == code


def test_an_entity_bomb_costs_nothing() -> None:
    lines = "".join(f'<!ENTITY e{i} "{f"&e{i - 1};" * 10}">' for i in range(1, 12))
    with pytest.raises(ProblemError) as caught:
        parse_xml(f'<!DOCTYPE a [<!ENTITY e0 "ha">{lines}]><a>&e11;</a>'.encode())
    assert caught.value.problem.code in ("xml.dtd", "xml.entity")


@given(st.binary(max_size=300) | st.text(st.sampled_from("<>/?!-[]&;=\"' aD"), max_size=120).map(str.encode))
def test_any_bytes_are_parsed_or_refused(body: bytes) -> None:
    try:
        parse_xml(body)
    except ProblemError as error:
        assert error.problem.kind.blames_sender


def test_other_encodings_are_read() -> None:
    text = '<?xml version="1.0" encoding="UTF-16"?><a>Łódź</a>'
    assert parse_xml(text.encode("utf-16")).text == "Łódź"
    assert parse_xml('<?xml version="1.0" encoding="UTF-8"?><a>Łódź</a>'.encode("iso-8859-2"), "iso-8859-2").text == "Łódź"
    assert parse_xml('<?xml version="1.0" encoding="ISO-8859-1"?><a>café</a>'.encode("latin-1")).text == "café"
    assert parse_xml(b"<a>LK<!-- dash -->-04<![CDATA[12]]></a>").text == "LK-0412"
    for charset in ("moon-8", "punycode", "undefined", "iso-8859-99"):
        with pytest.raises(ProblemError) as caught:
            parse_xml(b"<a/>", charset)
        assert caught.value.problem.code == "xml.encoding"


def envelope(body: str, namespace: str = ENVELOPE11, header: str = "") -> etree._Element:
    return etree.fromstring(f'<s:Envelope xmlns:s="{namespace}">{header}<s:Body>{body}</s:Body></s:Envelope>')


def test_envelopes_of_both_versions_and_wrong_ones() -> None:
    assert read_envelope(envelope("<a/>")).version is Soap.V11
    assert read_envelope(envelope("<a/>", ENVELOPE12, "<s:Header><x/></s:Header>")).headers[0].tag == "x"
    with pytest.raises(WrongVersionError):
        read_envelope(envelope("<a/>", "urn:other"))
    for body in ("", "<a/><b/>"):
        with pytest.raises(ProblemError, match="exactly one element"):
            read_envelope(envelope(body))
    with pytest.raises(ProblemError, match="not a SOAP envelope"):
        read_envelope(etree.fromstring("<a/>"))


def test_a_header_that_must_be_understood_is_refused_unless_meant_for_others() -> None:
    with pytest.raises(NotUnderstoodError) as caught:
        read_envelope(envelope("<a/>", ENVELOPE12, '<s:Header><n:Toll xmlns:n="urn:n" s:mustUnderstand="true"/></s:Header>'))
    fault = etree.fromstring(problem_fault(Soap.V12, caught.value))
    block = fault.find(f"{Soap.V12.tag_header}/{{{ENVELOPE12}}}NotUnderstood")
    assert block is not None
    prefix, _, name = (block.get("qname") or "").partition(":")
    assert (block.nsmap[prefix], name) == ("urn:n", "Toll")
    assert "soap:MustUnderstand" in problem_fault(Soap.V11, caught.value).decode()
    read_envelope(envelope("<a/>", ENVELOPE11, '<s:Header><x s:mustUnderstand="1" s:actor="urn:somebody"/></s:Header>'))


BODY = '<s:Body><a xmlns=""/></s:Body>'
TOKEN = ('<w:Security xmlns:w="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd" s:mustUnderstand="1">'
         '<w:UsernameToken/></w:Security>')


@pytest.mark.parametrize(("namespace", "parts", "code"), [
    (ENVELOPE11, BODY + BODY, "soap.envelope"), (ENVELOPE11, f"{BODY}<s:Header/>", "soap.envelope"), (ENVELOPE12, f"{BODY}<x/>", "soap.envelope"),
    (ENVELOPE11, f'<s:Header><x s:mustUnderstand="yes"/></s:Header>{BODY}', "soap.flag"),
    (ENVELOPE11, f'<s:Header><x s:mustUnderstand="true"/></s:Header>{BODY}', "soap.flag"),
    (ENVELOPE12, f'<s:Header><x s:mustUnderstand="2"/></s:Header>{BODY}', "soap.flag"),
    (ENVELOPE11, f"<s:Header>{TOKEN}</s:Header>{BODY}", "soap.must-understand"),
])
def test_envelopes_are_held_to_their_standard_from_form_2_on(namespace: str, parts: str, code: str) -> None:
    root = etree.fromstring(f'<s:Envelope xmlns:s="{namespace}">{parts}</s:Envelope>')
    with pytest.raises(ProblemError) as caught:
        read_envelope(root)
    assert caught.value.problem.code == code
    if "UsernameToken" in parts:
        assert "user token" in caught.value.problem.message
    elif namespace == ENVELOPE11 and 'mustUnderstand="true"' not in parts:
        assert read_envelope(root, strict=False).payload.tag == "a"
    assert read_envelope(etree.fromstring(f'<s:Envelope xmlns:s="{ENVELOPE11}">{BODY}<x xmlns="urn:x"/></s:Envelope>')).payload.tag == "a"


def test_processing_instructions_are_refused_wherever_they_stand() -> None:
    for text in ("<?x y?><a/>", "<a><?x?></a>", "<a/><?x?>"):
        with pytest.raises(ProblemError) as caught:
            parse_xml(text.encode(), strict=True)
        assert caught.value.problem.code == "xml.instruction"
        parse_xml(text.encode())
    for text in ("<?xml version='1.0'?><a/>", "<a><!-- <?x?> --></a>", "<a><![CDATA[<?x?>]]></a>"):
        parse_xml(text.encode(), strict=True)


@pytest.mark.parametrize(("inner", "attributes", "code"), [
    ("<code>G01</code>", 'x:type="x:Thing"', "element.type"), ("<code>G01</code>", 'wrong="1"', "element.attribute"),
    ("<code>G01</code>", 'x:nil="true"', "element.nil-content"), ("", 'x:nil="true"', "element.nil"),
    ('<code x:type="y:int" xmlns:y="http://www.w3.org/2001/XMLSchema">G01</code>', "", "element.type"),
])
def test_the_messages_own_element_and_named_types_are_judged(inner: str, attributes: str, code: str) -> None:
    root = etree.fromstring(f'<GetGauge xmlns="{NS}" xmlns:x="http://www.w3.org/2001/XMLSchema-instance" {attributes}>{inner}</GetGauge>')
    problems: list[Problem] = []
    compile_decoder(GET.input, NS)(root, "GetGauge", problems)
    assert code in [one.code for one in problems]
    older: list[Problem] = []
    compile_decoder(GET.input, NS, strict=False)(root, "GetGauge", older)
    assert code not in [one.code for one in older]


@pytest.mark.parametrize("name", [f"{{{NS}}}Code", "plain"])
def test_types_that_dynamic_stacks_name_are_taken(name: str) -> None:
    kind = "t:Code" if name != "plain" else "y:string"
    element = "code" if name != "plain" else "placeContains"
    shape = GET if name != "plain" else FIND
    root = etree.fromstring(f'<{shape.name} xmlns="{NS}" xmlns:t="{NS}" xmlns:x="http://www.w3.org/2001/XMLSchema-instance" '
                            f'xmlns:y="http://www.w3.org/2001/XMLSchema"><{element} x:type="{kind}">G01</{element}></{shape.name}>')
    problems: list[Problem] = []
    compile_decoder(shape.input, NS)(root, "", problems)
    assert problems == []


@pytest.mark.parametrize(("kind", "v11", "v12", "code12"), [
    (Kind.INPUT, 500, 400, "Sender"), (Kind.BACKEND, 500, 500, "Receiver"), (Kind.IDENTITY, 401, 401, "Sender"),
    (Kind.PERMISSION, 403, 403, "Sender"), (Kind.BUSY, 503, 503, "Receiver"), (Kind.INTERNAL, 500, 500, "Receiver"),
])
def test_fault_status_and_code(kind: Kind, v11: int, v12: int, code12: str) -> None:
    problem = Problem("some.code", "Words & <more>.", kind, place="a/b", inner="secret path")
    assert (fault_status(Soap.V11, problem), fault_status(Soap.V12, problem)) == (v11, v12)
    for version in Soap:
        body = problem_fault(version, ProblemError(problem), "call-1")
        assert b"secret path" not in body
        reply = read_reply(NS, GET, body)
        assert reply.fault is not None
        assert "Words & <more>." in reply.fault["reason"]
        assert reply.fault["detail"][0]["code"] == "some.code"
    assert f"soap:{code12}" in body.decode()


def test_a_reply_is_held_against_the_contract() -> None:
    def reply(inner: str) -> Any:
        return read_reply(NS, GET, f'{Soap.V11.head}{inner}{Soap.V11.tail}'.encode())

    assert reply(compile_encoder(GET.output, NS)({"gauge": GOOD})).answer["gauge"]["datum"] == "1.00"
    assert reply(f'<GetGaugeResponse xmlns="{NS}"/>').problems[0].code == "element.missing"
    assert reply("<Other/>").problems[0].code == "reply.element"
    assert read_reply(NS, GET, b"<html>").problems
