"""Messages of an imported contract that its grammar does not allow: each with its status, its fault and its place; then a good one."""

from collections.abc import Iterator

import httpx
import pytest
from lxml import etree

from tests.core.outside import CONTRACTS, read, validator
from tests.serving import Served, serving

JOB = '<o:job number="{}" xsi:type="o:{}"><o:reach>LK-1</o:reach><o:note xsi:nil="true"/>{}</o:job>'
DREDGE = JOB.format(1, "DredgeJob", "<o:cubicMetres>5</o:cubicMetres>")
SURVEY = JOB.format(2, "SurveyJob", "<o:depth>1.5 2.5</o:depth>")
ADDRESS = "<o:street>Quay</o:street><o:town>Rill</o:town>"
ANY = '<e:box xmlns:e="urn:elsewhere"/>'
SPAN = "<o:from>2026-01-01</o:from>"
BARGE = '<p:barge xmlns:p="urn:dredging:plant" p:flag="de"><name>Mud</name></p:barge>'


def order(inside: str, attributes: str = 'by="me"', root: str = "o:Order") -> str:
    return (f'<{root} xmlns:o="urn:dredging" xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" {attributes}>{inside}</{root}>')


# class -> case -> a message, and the codes of which one must be told.
BAD: dict[str, dict[str, tuple[str, str]]] = {
    "wrong order": {
        "what follows comes first": (order(ADDRESS + DREDGE), "element.order"),
        "the parts of a choice": (order(DREDGE + "<o:town>Rill</o:town><o:street>Quay</o:street>"), "element."),
        "inside a derived type": (order('<o:job number="1" xsi:type="o:DredgeJob"><o:cubicMetres>5</o:cubicMetres><o:reach>LK-1</o:reach>'
                                        '<o:note xsi:nil="true"/></o:job>'), "element."),
        "inside a group that repeats": (order(DREDGE + "<o:to>2026-01-02</o:to><o:from>2026-01-01</o:from>"), "element."),
        "inside a record of records": (order(DREDGE + "<o:plan><o:part><o:title>b</o:title></o:part><o:title>a</o:title></o:plan>"), "element."),
        "an open part before its place": (order(DREDGE + ANY + ADDRESS), "element."),
    },
    "wrong namespace": {
        "of the request": (order(DREDGE, root="x:Order").replace("xmlns:o", 'xmlns:x="urn:other" xmlns:o'), "soap.namespace"),
        "of an element": (order(DREDGE.replace("o:reach", "reach")), "element."),
        "of an element that has none": (order(DREDGE + BARGE.replace("name>", "p:name>")), "element."),
        "of an attribute": (order(DREDGE, 'o:by="me"'), "element."),
        "of an attribute that has one": (order(DREDGE + BARGE.replace("p:flag", "flag")), "element."),
        "of a member of another schema": (order(DREDGE + BARGE.replace("urn:dredging:plant", "urn:dredging")), "element."),
    },
    "a wrong derived type": {
        "none, where the declared one is abstract": (order(DREDGE.replace('xsi:type="o:DredgeJob"', "")), "element.abstract"),
        "of another family": (order(DREDGE.replace("DredgeJob", "Plan")), "element.type"),
        "that is not there": (order(DREDGE.replace("DredgeJob", "FloatJob")), "element.type"),
        "that is abstract": (order(DREDGE.replace("DredgeJob", "Job")), "element.abstract"),
        "with an undeclared prefix": (order(DREDGE.replace("o:DredgeJob", "q:DredgeJob")), "element.type"),
        "with the parts of another": (order(DREDGE.replace("DredgeJob", "SurveyJob")), "element."),
        "built in, for a simple one": (order(DREDGE + '<o:place xsi:type="o:Plan">x</o:place>'), "element.type"),
    },
    "missing alternatives": {
        "of a choice inside a derived type": (order(JOB.format(2, "SurveyJob", "")), "element."),
        "half of one": (order(DREDGE + "<o:street>Quay</o:street>"), "element.missing"),
        "half of another": (order(DREDGE + "<o:box>7</o:box>"), "element.missing"),
        "a group without its first part": (order(DREDGE + "<o:to>2026-01-02</o:to>"), "element."),
        "a head without members": (order(DREDGE + "<o:thing>x</o:thing>"), "element."),
        "all of what must be there": (order(""), "element."),
    },
    "two alternatives": {
        "a telephone and an address": (order(DREDGE + "<o:phone>1</o:phone>" + ADDRESS), "element."),
        "an address and a telephone": (order(DREDGE + ADDRESS + "<o:phone>1</o:phone>"), "element."),
        "one twice": (order(DREDGE + "<o:phone>1</o:phone><o:phone>2</o:phone>"), "element."),
        "a street and a box": (order(DREDGE + "<o:street>Quay</o:street><o:box>7</o:box><o:town>Rill</o:town>"), "element."),
        "more than the choice may repeat": (order(DREDGE + SURVEY.replace("<o:depth>1.5 2.5</o:depth>", "<o:depth>1</o:depth>" * 4)), "element."),
        "three members for two": (order(DREDGE + "<o:boat>a</o:boat>" * 3), "element."),
    },
    "unknown attributes": {
        "of the request": (order(DREDGE, 'by="me" colour="red"'), "element.attribute"),
        "of a record": (order(DREDGE.replace("<o:job ", '<o:job colour="red" ')), "element.attribute"),
        "of a simple value": (order(DREDGE + '<o:place colour="red">x</o:place>'), "element.attribute"),
        "of text with attributes": (order(DREDGE + '<o:width unit="m" colour="red">1</o:width>'), "element.attribute"),
        "of another namespace, where none may be": (order(DREDGE.replace("<o:job ", '<o:job xmlns:w="urn:w" w:a="1" ')), "element.attribute"),
        "of the own namespace, where others may be": (order(DREDGE, 'by="me" o:extra="1"'), "element.attribute"),
    },
    "an open part where none is": {
        "at the end of a record": (order(DREDGE.replace("</o:job>", f"{ANY}</o:job>")), "element."),
        "of a namespace that is not allowed": (order(DREDGE + '<w:box xmlns:w="urn:w"/>'), "element."),
        "of no namespace": (order(DREDGE + "<box/>"), "element."),
        "of the own namespace": (order(DREDGE + "<o:box2/>"), "element."),
        "once too often": (order(DREDGE + ANY * 3), "element."),
        "inside a simple value": (order(DREDGE + f"<o:place>{ANY}</o:place>"), "element."),
        "text between elements": (order(DREDGE + "and so on"), "element."),
    },
    "values": {
        "a pattern": (order(DREDGE.replace("LK-1", "lk-1")), "value.pattern"),
        "an empty attribute": (order(DREDGE, 'by=""'), "value."),
        "a missing attribute": (order(DREDGE, ""), "element."),
        "none of a union": (order(DREDGE + "<o:amount>lots</o:amount>"), "value."),
        "a fixed one": (order(DREDGE + "<o:kind>other</o:kind>"), "value.fixed"),
        "too many in a list": (order(SURVEY.replace("1.5 2.5", "1 2 3 4 5")), "value."),
    },
}
CASES = [(kind, name) for kind, cases in BAD.items() for name in cases]
GOOD = order(DREDGE + SURVEY + ADDRESS + '<o:width unit="m">1.5</o:width><o:boat>a</o:boat>' + BARGE + SPAN + ANY)


@pytest.fixture(scope="module")
def served(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Served, str]]:
    with serving(tmp_path_factory.mktemp("messages")) as one, one.client() as client:
        client.apply({"e.yaml": "environment: live\n"})
        client.save_caller("desk", ["clerk"], "")
        client.import_contract("Dredging", files={"main.wsdl": (CONTRACTS / "everything.wsdl").read_bytes()}, role="clerk")
        client.release("Dredging")
        client.deploy("Dredging", "live")
        yield one, client.new_token("desk")


def post(served: tuple[Served, str], body: str) -> httpx.Response:
    one, token = served
    text = f'<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body>{body}</e:Body></e:Envelope>'
    with one.http() as http:
        return http.post("/soap/live/Dredging", content=text.encode(), headers={"Authorization": f"Bearer {token}", "Content-Type": "text/xml"})


@pytest.mark.parametrize(("kind", "name"), CASES, ids=[f"{kind}: {name}" for kind, name in CASES])
def test_a_bad_message_is_refused_with_its_place_and_the_next_one_is_answered(served: tuple[Served, str], kind: str, name: str) -> None:
    body, code = BAD[kind][name]
    assert not JUDGE.validate(etree.fromstring(body)), "the schema allows it, so the case says nothing"
    answer = post(served, body)
    assert answer.status_code == 500, answer.text
    fault = etree.fromstring(answer.content)[0][0]
    assert fault.findtext("faultcode") == "soap:Client"
    problems = fault.findall("detail/{urn:bricola:problem:1}problems/{urn:bricola:problem:1}problem")
    assert any((one.findtext("{*}code") or "").startswith(code) for one in problems), answer.text
    assert all(one.findtext("{*}place") for one in problems), answer.text
    assert post(served, GOOD).status_code == 200


JUDGE = validator(read({"main.wsdl": (CONTRACTS / "everything.wsdl").read_bytes()}))


def test_the_good_one_is_good() -> None:
    JUDGE.assertValid(etree.fromstring(GOOD))
