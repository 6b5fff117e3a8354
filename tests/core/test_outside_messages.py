"""Messages of contracts of others: held against libxml2's validator, on sound messages and on thousands of spoilt ones."""

import random
from copy import deepcopy
from typing import Any

import pytest
from lxml import etree

from bricola.core.contracts.reading.contract import ReadContract, ReadMessage
from bricola.core.messages.decoder import compile_decoder
from bricola.core.messages.encoder import compile_encoder
from bricola.core.messages.plain import from_plain, to_plain
from bricola.core.messages.samples import sample_values
from bricola.core.problems import Problem, ProblemError
from tests.core.outside import CONTRACTS, folder, read, validator, wsdl
from tests.length import often

XSI = "http://www.w3.org/2001/XMLSchema-instance"
EVERYTHING = read({"main.wsdl": (CONTRACTS / "everything.wsdl").read_bytes()})


def messages(contract: ReadContract) -> list[ReadMessage]:
    return [message for service in contract.services.values() for port in service.ports.values() for one in port.operations.values()
            for message in (one.input, one.output) if message is not None and message.tag is not None]


@pytest.mark.parametrize("contract", [EVERYTHING, *(read(folder(one)) for one in ("03-bare", "05-headers-soap11", "07-two-namespaces"))],
                         ids=lambda one: one.namespace)
@pytest.mark.parametrize("full", [False, True])
def test_samples_are_valid_and_come_back_as_they_were(contract: ReadContract, full: bool) -> None:
    judge = validator(contract)
    assert messages(contract)
    for message in messages(contract):
        problems: list[Problem] = []
        values = from_plain(message.record, sample_values(message.record, full=full), "sample", problems)
        assert problems == []
        root = etree.fromstring(compile_encoder(message.record, "")(values))
        judge.assertValid(root)
        assert compile_decoder(message.record, "")(root, "", problems) == values
        again = from_plain(message.record, to_plain(message.record, values), "json", problems)
        assert compile_encoder(message.record, "")(again) == compile_encoder(message.record, "")(values)
        assert problems == []


TEXTS = ["", "1", "-1", "AA-1", "LK-7", "text", "none", "true", "2026-01-01", "2026-13-01", "5.55", "5.555", "10", "0", "1 2 3", "1 2 3 4 5",
         "4C61", "zz", "n0:x", "n9:x", "lock 1", "other", " 7 ", "m"]
TYPES = ["n0:DredgeJob", "n0:SurveyJob", "n0:DeepSurveyJob", "n0:Job", "n0:Reach", "n0:NarrowReach", "n0:Plan", "xs:string", "xs:int",
         "n0:Measured"]
ATTRIBUTES = ["by", "urgent", "unit", "number", "spoil", "code", "flag", "{urn:dredging:plant}flag", "{urn:elsewhere}a", "x"]
MORE_TAGS = [f"{{urn:dredging}}{one}" for one in ("street", "town", "box", "depth", "photo", "grade", "part", "crane")]


def spoil(root: etree._Element, chance: random.Random, tags: list[str]) -> None:
    nodes = list(root.iter())
    node = chance.choice(nodes)
    below = node is not root
    act = chance.randrange(12)
    if act == 0 and below:
        node.getparent().remove(node)  # type: ignore[union-attr]
    elif act == 1 and below:
        node.addnext(deepcopy(node))
    elif act == 2 and len(node) > 1:
        child = node[chance.randrange(len(node))]
        node.remove(child)
        node.insert(chance.randrange(len(node) + 1), child)
    elif act == 3:
        node.text = chance.choice(TEXTS)
    elif act == 4 and below:
        node.tag = chance.choice(tags)
    elif act == 5:
        node.set(chance.choice(ATTRIBUTES), chance.choice(TEXTS))
    elif act == 6 and node.attrib:
        del node.attrib[chance.choice(list(node.attrib))]
    elif act == 7:
        node.set(f"{{{XSI}}}type", chance.choice(TYPES))
    elif act == 8:
        node.set(f"{{{XSI}}}nil", chance.choice(["true", "false"]))
    elif act == 9:
        etree.SubElement(node, chance.choice([*tags, "{urn:elsewhere}q"])).text = chance.choice(TEXTS)
    elif act == 10 and below:
        node.tail = chance.choice(["x", "  ", None])
    elif act == 11 and below and not len(node):
        node.text = None


@pytest.mark.parametrize("index", [0, 1])
def test_spoilt_messages_get_the_verdict_of_the_schema_validator(index: int) -> None:
    judge, message = validator(EVERYTHING), messages(EVERYTHING)[index]
    decode, encode = compile_decoder(message.record, ""), compile_encoder(message.record, "")
    sound = [encode(from_plain(message.record, sample_values(message.record, full=full), "", [])) for full in (False, True)]
    tags = sorted({node.tag for one in sound for node in etree.fromstring(one).iter()}) + MORE_TAGS
    chance = random.Random(index)
    valid = 0
    for _ in range(often(1500, 40_000)):
        text = chance.choice(sound).replace(f"<n0:{message.record.name}", f'<n0:{message.record.name} xmlns:xs="http://www.w3.org/2001/XMLSchema"', 1)
        root = etree.fromstring(text)
        for _ in range(chance.choice([1, 1, 2, 2, 3, 6])):
            spoil(root, chance, tags)
        root = etree.fromstring(etree.tostring(root))
        is_valid = judge.validate(root)
        if any("not 'nillable'" in str(one) for one in judge.error_log):
            continue  # nil counts as absent here where the element may be
        problems: list[Problem] = []
        values = decode(root, "", problems)
        assert is_valid == (not problems), (etree.tostring(root), judge.error_log, problems)
        if is_valid:
            valid += 1
            again = etree.fromstring(encode(values))
            judge.assertValid(again)
            assert decode(again, "", []) == values
    assert valid > 100  # the test would say nothing if all were refused


ORDER = {"by": "me", "job": [{"@type": "DredgeJob", "number": 1, "reach": "LK-1", "note": None, "cubicMetres": 5}]}


@pytest.mark.parametrize(("change", "code", "place"), [
    ({"phone": "1", "street": "Quay"}, "element.alternatives", "Order/street"),
    ({"street": "Quay"}, "element.missing", "Order/town"),
    ({"job": [{"number": 1}]}, "element.type", "Order/job/@type"),
    ({"job": [{"@type": "Plan", "title": "x"}]}, "element.type", "Order/job/@type"),
    ({"job": []}, "element.count", "Order/job"),
    ({"kind": "other"}, "value.fixed", "Order/kind"),
    ({"amount": "LK"}, "value.type", "Order/amount"),
    ({"amount": "lots"}, "value.type", "Order/amount"),
    ({"width": {"value": "1.5"}}, "element.missing", "Order/width/unit"),
    ({"thing": [{"boat": "a", "crane": "b"}]}, "element.alternatives", "Order/thing/crane"),
    ({"thing": [{"boat": "a"}] * 3}, "element.count", "Order/thing"),
    ({"group": [{"to": "2026-01-01"}]}, "element.missing", "Order/group/from"),
    ({"wrong": 1}, "element.unknown", "Order"),
])
def test_json_is_held_to_the_grammar(change: dict[str, Any], code: str, place: str) -> None:
    problems: list[Problem] = []
    from_plain(messages(EVERYTHING)[0].record, ORDER | change, "Order", problems)
    assert (code, place) in [(one.code, one.place) for one in problems], problems


@pytest.mark.parametrize("change", [
    {"phone": "1", "street": "Quay", "town": "Rill"}, {"job": [{"@type": "Nothing"}]}, {"job": ()}, {"by": None}, {"kind": "other"},
    {"any": ["<no"]}, {"any": ["<x/>"]}, {"anyAttribute": {"plain": "x"}}, {"plan": {"title": "\x01"}}, {"amount": 2**40},
])
def test_answers_that_break_the_contract_are_never_sent(change: dict[str, Any]) -> None:
    record = messages(EVERYTHING)[0].record
    values = from_plain(record, ORDER, "", [])
    with pytest.raises(ProblemError) as caught:
        compile_encoder(record, "")(values | change)
    assert caught.value.problem.code == "answer.invalid"
    assert caught.value.problem.place


def test_names_keep_their_namespaces_and_open_parts_stay_as_they_came() -> None:
    record = messages(EVERYTHING)[0].record
    text = ('<o:Order xmlns:o="urn:dredging" xmlns:w="urn:words" by="me" xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" w:mark="1">'
            '<o:job number="1" xsi:type="o:DredgeJob"><o:reach>LK-1</o:reach><o:note xsi:nil="true"/><o:cubicMetres>5</o:cubicMetres></o:job>'
            '<o:code>w:rock</o:code><e:box xmlns:e="urn:elsewhere" a="1">some <e:b/> text</e:box></o:Order>')
    problems: list[Problem] = []
    values = compile_decoder(record, "")(etree.fromstring(text), "Order", problems)
    assert problems == []
    assert values["code"] == "{urn:words}rock"
    assert values["anyAttribute"] == {"{urn:words}mark": "1"}
    again = etree.fromstring(compile_encoder(record, "")(values))
    validator(EVERYTHING).assertValid(again)
    assert etree.tostring(again[-1], method="c14n", exclusive=True) == etree.tostring(etree.fromstring(text)[-1], method="c14n", exclusive=True)
    assert compile_decoder(record, "")(again, "Order", problems) == values


def test_a_chain_of_types_is_no_chain_of_calls() -> None:
    chain = "".join(f'<xs:complexType name="T{i}"><xs:sequence><xs:element name="e" type="t:T{i + 1}" minOccurs="0"/></xs:sequence></xs:complexType>'
                    for i in range(3000))
    schema = chain + '<xs:complexType name="T3000"><xs:sequence/></xs:complexType><xs:element name="Ask" type="t:T0"/><xs:element name="AskResponse" type="t:T0"/>'
    contract = read({"main.wsdl": wsdl(schema)})
    message = messages(contract)[0]
    assert contract.problems == ()
    assert compile_decoder(message.record, "")(etree.fromstring('<Ask xmlns="urn:t"><e><e/></e></Ask>'), "Ask", []) == {"e": {"e": {}}}
    assert compile_encoder(message.record, "")({"e": {"e": {}}}) == '<Ask xmlns="urn:t"><e><e></e></e></Ask>'
