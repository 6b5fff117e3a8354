"""The demo's SOAP endpoint, called through zeep and through raw HTTP."""

import base64
import json
import logging
import socket
import sqlite3
import time
import warnings
from datetime import date
from decimal import Decimal
from typing import Any

import httpx
import pytest
import zeep
from lxml import etree
from requests import Session
from requests.auth import HTTPBasicAuth
from zeep.transports import Transport

from bricola.core.xml import MOST_BYTES
from tests.conftest import Demo

NS = "urn:larkmere:vessel-registry"
ENVELOPES = {"1.1": "http://schemas.xmlsoap.org/soap/envelope/", "1.2": "http://www.w3.org/2003/05/soap-envelope"}
MEDIA = {"1.1": "text/xml; charset=utf-8", "1.2": "application/soap+xml; charset=utf-8"}


@pytest.fixture(params=["Soap11", "Soap12"])
def registry(demo: Demo, request: pytest.FixtureRequest, caplog: pytest.LogCaptureFixture) -> Any:
    """The live VesselRegistry as zeep sees it, through one of its ports."""
    session = Session()
    session.auth = HTTPBasicAuth("harbour-desk", demo.token("harbour-desk"))
    with warnings.catch_warnings(), caplog.at_level(logging.WARNING, "zeep"):
        warnings.simplefilter("error")
        client = zeep.Client(demo.address(face="wsdl"), transport=Transport(session=session))
    assert not [one for one in caplog.records if one.name.startswith("zeep")]
    return client.bind("VesselRegistry", f"VesselRegistry{request.param}")


def rows(demo: Demo, sql: str, *parameters: object) -> list[Any]:
    db = sqlite3.connect(demo.data / "live" / "registry.db")
    try:
        return db.execute(sql, parameters).fetchall()
    finally:
        db.close()


def test_get_vessel_answers_the_row(demo: Demo, registry: Any) -> None:
    vessel = registry.GetVessel(registration="LK-0412")
    name, length, operator, token = rows(
        demo, "SELECT name, length_m, operator_number, row_version FROM vessel WHERE registration = 'LK-0412'")[0]
    assert (vessel.name, vessel.lengthM, vessel.operatorNumber) == (name, Decimal(f"{length:.2f}"), operator)
    assert vessel.status == "active"
    assert vessel.changeToken == str(token)


def test_get_vessel_not_found_is_the_declared_fault(registry: Any) -> None:
    with pytest.raises(zeep.exceptions.Fault, match="no vessel with registration LK-9999") as caught:
        registry.GetVessel(registration="LK-9999")
    detail = caught.value.detail
    node = detail.find(f"{{{NS}}}NotFound") if isinstance(detail, etree._Element) else None
    assert node is not None
    assert node.findtext(f"{{{NS}}}registration") == "LK-9999"


def test_find_vessels_filters_limits_and_pages(demo: Demo, registry: Any) -> None:
    expected = [one for (one,) in rows(
        demo, "SELECT registration FROM vessel WHERE kind = 'tanker' AND status = 'active' ORDER BY registration")]
    seen: list[str] = []
    after = None
    while True:
        answer = registry.FindVessels(kind="tanker", status="active", limit=25, after=after)
        seen += [one.registration for one in answer.vessel]
        if not answer.more:
            break
        after = answer.after
    assert seen == expected
    assert len(registry.FindVessels().vessel) == 20
    part = registry.FindVessels(nameContains="HERON", limit=200).vessel
    assert part
    assert all("heron" in one.name.lower() for one in part)
    empty = registry.FindVessels(nameContains="no such name")
    assert (empty.vessel, empty.more, empty.after) == ([], False, None)


def test_find_vessels_by_operator(demo: Demo, registry: Any) -> None:
    operator, count = rows(demo, "SELECT operator_number, COUNT(*) FROM vessel GROUP BY 1 ORDER BY 2 DESC")[0]
    found = registry.FindVesselsByOperator(operatorNumber=operator, limit=200)
    assert len(found.vessel) == count
    assert {one.operatorNumber for one in found.vessel} == {operator}


def wrap(inner: str, version: str = "1.1", header: str = "") -> str:
    return f'<s:Envelope xmlns:s="{ENVELOPES[version]}">{header}<s:Body>{inner}</s:Body></s:Envelope>'


def get(registration: str, namespace: str = NS) -> str:
    return f'<GetVessel xmlns="{namespace}"><registration>{registration}</registration></GetVessel>'


def post(demo: Demo, body: str | bytes, version: str = "1.1", caller: str | None = "harbour-desk", **headers: str) -> httpx.Response:
    auth = httpx.BasicAuth(caller, demo.token(caller)) if caller else None
    return httpx.post(demo.address(), content=body, auth=auth, headers={"Content-Type": MEDIA[version], **headers})


def fault(answer: httpx.Response, version: str) -> tuple[str, str, list[str]]:
    """Code, reason and the stable codes of the problems of a fault, read from its exact shape."""
    body = etree.fromstring(answer.content).find(f"{{{ENVELOPES[version]}}}Body")
    assert body is not None
    node = body[0]
    assert node.tag == f"{{{ENVELOPES[version]}}}Fault"
    problems = [one.text or "" for one in node.iter("{urn:bricola:problem:1}code")]
    if version == "1.1":
        parts = ["faultcode", "faultstring", "detail"]
        assert [child.tag for child in node] == (parts if problems else parts[:2])  # no detail about headers in SOAP 1.1
        return (node.findtext("faultcode") or "").partition(":")[2], node.findtext("faultstring") or "", problems
    inner = f"{{{ENVELOPES['1.2']}}}"
    return ((node.findtext(f"{inner}Code/{inner}Value") or "").partition(":")[2],
            node.findtext(f"{inner}Reason/{inner}Text") or "", problems)


BOMB = '<!DOCTYPE x [<!ENTITY a "ha"><!ENTITY b "&a;&a;&a;&a;&a;&a;&a;&a;">]>'
BAD = [
    ("unknown operation", wrap('<SinkVessel xmlns="urn:larkmere:vessel-registry"/>'), "soap.operation", "GetVessel"),
    ("wrong namespace", wrap(get("LK-0412", "urn:other")), "soap.namespace", NS),
    ("wrong type", wrap(f'<FindVessels xmlns="{NS}"><limit>1.5</limit></FindVessels>'), "value.type", "FindVessels/limit"),
    ("out of range", wrap(f'<FindVessels xmlns="{NS}"><limit>201</limit></FindVessels>'), "value.range", "from 1 to 200"),
    ("not in the code list", wrap(f'<FindVessels xmlns="{NS}"><kind>raft</kind></FindVessels>'), "value.code", "narrowboat"),
    ("too long", wrap(f'<FindVessels xmlns="{NS}"><nameContains>{"x" * 61}</nameContains></FindVessels>'), "value.length", "60"),
    ("wrong form", wrap(get("LK-41")), "value.pattern", "LK-\\d{4}"),
    ("missing element", wrap(f'<GetVessel xmlns="{NS}"/>'), "element.missing", "GetVessel/registration"),
    ("unknown element", wrap(f'<FindVessels xmlns="{NS}"><colour>red</colour></FindVessels>'), "element.unknown", "colour"),
    ("foreign position", wrap(f'<FindVessels xmlns="{NS}"><after>xyz</after></FindVessels>'), "value.position", "first row"),
    ("DTD", '<!DOCTYPE x SYSTEM "http://127.0.0.1/x">' + wrap(get("LK-0412")), "xml.dtd", "DOCTYPE"),
    ("entity bomb", BOMB + wrap(get("&b;")), "xml.dtd", "DOCTYPE"),
    ("not XML", '{"registration": "LK-0412"}', "xml.syntax", "well-formed"),
    ("empty", "", "xml.empty", "SOAP envelope"),
    ("not an envelope", "<GetVessel/>", "soap.envelope", "Envelope"),
    ("no body", f'<s:Envelope xmlns:s="{ENVELOPES["1.1"]}"/>', "soap.body", "no Body"),
]


@pytest.mark.parametrize("version", ["1.1", "1.2"])
@pytest.mark.parametrize(("body", "code", "words"), [one[1:] for one in BAD], ids=[one[0] for one in BAD])
def test_bad_requests_get_one_clear_fault_of_the_sender(demo: Demo, version: str, body: str, code: str, words: str) -> None:
    answer = post(demo, body.replace(ENVELOPES["1.1"], ENVELOPES[version]), version)
    name, reason, codes = fault(answer, version)
    assert codes[0] == code
    assert words in reason
    assert (name, answer.status_code) == (("Client", 500) if version == "1.1" else ("Sender", 400))
    assert answer.headers["content-type"] == MEDIA[version]
    assert "Traceback" not in answer.text
    assert str(demo.data) not in answer.text


@pytest.mark.parametrize(("caller", "headers", "status", "code"), [
    (None, {}, 401, "caller.identity"),
    (None, {"Authorization": "Basic " + base64.b64encode(b"harbour-desk:wrong").decode()}, 401, "caller.identity"),
    (None, {"Authorization": "Bearer nothing"}, 401, "caller.identity"),
    ("tideway-portal", {}, 403, "caller.role"),
])
def test_identity_and_role_are_refused_with_their_reason(
    demo: Demo, caller: str | None, headers: dict[str, str], status: int, code: str
) -> None:
    for version in ENVELOPES:
        answer = post(demo, wrap(get("LK-0412"), version), version, caller, **headers)
        _, reason, codes = fault(answer, version)
        assert (answer.status_code, codes) == (status, [code])
        assert ("www-authenticate" in answer.headers) == (status == 401)
    if caller:
        assert "tideway-portal may not call VesselRegistry.GetVessel" in reason
        assert "registry-clerk" in reason


def test_bearer_tokens_and_readers_are_let_in(demo: Demo) -> None:
    answer = post(demo, wrap(get("LK-0412")), caller=None, Authorization=f"Bearer {demo.token('toll-audit')}")
    assert answer.status_code == 200
    assert answer.headers["call-id"]


def test_http_itself_wrong_method_media_size_and_address(demo: Demo) -> None:
    auth = httpx.BasicAuth("harbour-desk", demo.token("harbour-desk"))
    put = httpx.put(demo.address(), content="x", auth=auth)
    assert (put.status_code, put.headers["allow"]) == (405, "POST, GET")
    assert fault(put, "1.1")[2] == ["http.method"]
    media = post(demo, wrap(get("LK-0412")), **{"Content-Type": "application/json"})
    assert media.status_code == 415
    big = post(demo, wrap(get("x" * MOST_BYTES)))
    assert (big.status_code, fault(big, "1.1")[2]) == (413, ["http.too-large"])

    def chunks() -> Any:
        for _ in range(40):
            yield b"<a>" * 30_000

    streamed = httpx.post(demo.address(), content=chunks(), auth=auth, headers={"Content-Type": "text/xml"})
    assert streamed.status_code == 413
    gone = httpx.post(demo.url + "/soap/live/Nowhere", content=wrap(get("LK-0412")), headers={"Content-Type": "text/xml"})
    assert (gone.status_code, fault(gone, "1.1")[2]) == (404, ["service.unknown"])


def test_must_understand_and_version_mismatch(demo: Demo) -> None:
    header = '<s:Header><x:Toll xmlns:x="urn:x" s:mustUnderstand="1"/></s:Header>'
    for version in ENVELOPES:
        answer = post(demo, wrap(get("LK-0412"), version, header), version)
        assert fault(answer, version)[0] == "MustUnderstand"
    answer = post(demo, wrap(get("LK-0412")).replace(ENVELOPES["1.1"], "urn:soap:99"))
    assert fault(answer, "1.1")[0] == "VersionMismatch"


def test_a_caller_that_hangs_up_in_mid_request_hurts_nobody(demo: Demo) -> None:
    host, _, port = demo.url.removeprefix("http://").partition(":")
    for _ in range(5):
        with socket.create_connection((host, int(port)), timeout=60) as link:
            link.sendall(b"POST /soap/live/VesselRegistry HTTP/1.1\r\nHost: x\r\nContent-Length: 500\r\n\r\n<a>")
    assert post(demo, wrap(get("LK-0412"))).status_code == 200


def test_the_contract_is_served_in_any_case_with_the_address_that_was_asked(demo: Demo) -> None:
    for query in ("?wsdl", "?WSDL", "?Wsdl&release=1"):
        answer = httpx.get(demo.address() + query)
        assert answer.headers["content-type"] == "text/xml; charset=utf-8"
        assert f'location="{demo.address()}"'.encode() in answer.content
    other = httpx.get(demo.address() + "?wsdl", headers={"Host": "registry.larkmere.example:9000"})
    assert b'location="http://registry.larkmere.example:9000/soap/live/VesselRegistry"' in other.content
    head = httpx.head(demo.address() + "?wsdl")
    assert (head.status_code, int(head.headers["content-length"]), head.content) == (200, len(answer.content), b"")
    missing = httpx.get(demo.address() + "?wsdl&release=77")
    assert missing.status_code == 404
    assert missing.headers["content-type"] == "application/problem+json"


def test_pages_for_callers_name_what_is_live(demo: Demo) -> None:
    index = httpx.get(demo.url + "/soap/").text
    assert demo.address("rehearsal") in index
    assert demo.address("live") in index
    page = httpx.get(demo.address()).text
    assert "FindVesselsByOperator" in page
    assert "one of narrowboat, barge" in page
    for path in ("/soap/live/Nowhere", "/soap/nowhere"):
        assert httpx.get(demo.url + path).status_code == 404


def test_every_call_is_recorded(demo: Demo) -> None:
    answer = post(demo, wrap(get("LK-9998")))
    refused = post(demo, wrap(get("LK-0412")), caller="tideway-portal")
    from bricola.client import Client

    with Client(demo.url) as client:
        client.sign_in("imke", demo.password("imke"))
        one, two = client.one_call(answer.headers["call-id"]), client.one_call(refused.headers["call-id"])
    assert (one["caller"], one["operation"], one["result"], one["fault"]) == ("harbour-desk", "GetVessel", "fault", "NotFound")
    assert abs(one["at"] - time.time()) < 60
    assert one["micros"] > 0
    assert (two["caller"], two["result"], two["fault"], two["status"]) == ("tideway-portal", "failed", "caller.role", 403)


def test_rest_answers_the_same_and_refuses_with_problem_documents(demo: Demo) -> None:
    address = demo.address(face="rest")
    headers = {"Authorization": f"Bearer {demo.token('harbour-desk')}"}
    answer = httpx.post(f"{address}/GetVessel", json={"registration": "LK-0412"}, headers=headers)
    assert answer.json()["vessel"]["status"] == "active"
    for body, status, code in (
        ({"registration": "X"}, 400, "value.pattern"), ({}, 400, "element.missing"), ({"registration": "LK-0412", "a": 1}, 400, "element.unknown"),
        ([], 400, "json.object"),
    ):
        bad = httpx.post(f"{address}/GetVessel", json=body, headers=headers)
        assert (bad.status_code, bad.json()["problems"][0]["code"]) == (status, code)
        assert bad.headers["content-type"] == "application/problem+json"
    assert httpx.post(f"{address}/GetVessel", content="{", headers=headers).json()["problems"][0]["code"] == "json.syntax"
    missing = httpx.post(f"{address}/GetVessel", json={"registration": "LK-9999"}, headers=headers)
    assert (missing.status_code, missing.json()["fault"]["registration"]) == (422, "LK-9999")
    assert httpx.post(f"{address}/GetVessel", json={}).status_code == 401
    assert httpx.post(f"{address}/Nothing", json={}, headers=headers).status_code == 404
    assert httpx.get(f"{address}/GetVessel", headers=headers).status_code == 405
    assert json.loads(httpx.get(f"{address}/openapi.json").content)["info"]["title"] == "VesselRegistry"


def test_a_vessel_is_entered_changed_and_struck_by_an_independent_client(demo: Demo, registry: Any) -> None:
    vessel = {"registration": "LK-7001", "name": "Grey Wagtail", "kind": "barge", "lengthM": Decimal("17.40"), "beamM": Decimal("2.08"),
              "draughtM": Decimal("0.76"), "operatorNumber": "OP-0042", "registeredOn": date(2026, 11, 2)}
    made = registry.CreateVessel(vessel=vessel)
    assert (made.registration, made.changeToken) == ("LK-7001", "1")
    assert rows(demo, "SELECT status, length_m, row_version FROM vessel WHERE registration = 'LK-7001'") == [("active", 17.4, 1)]
    with pytest.raises(zeep.exceptions.Fault, match="already"):
        registry.CreateVessel(vessel=vessel)
    changed = registry.UpdateVessel(registration="LK-7001", changeToken="1", notes="Tow astern only", name="Grey Wagtail")
    assert (changed.changeToken, changed.changedField) == ("2", ["notes"])
    with pytest.raises(zeep.exceptions.Fault, match="written since it was read") as stale:
        registry.UpdateVessel(registration="LK-7001", changeToken="1", notes="x")
    assert stale.value.detail.find(f"{{{NS}}}Conflict").findtext(f"{{{NS}}}changeToken") == "2"
    whole = vessel | {"status": "laid-up"}
    assert [registry.SaveVessel(vessel=whole).outcome for _ in range(2)] == ["updated", "unchanged"]
    with pytest.raises(zeep.exceptions.Fault, match="operatorNumber refers to OP-9999, which does not exist"):
        registry.SaveVessel(vessel=whole | {"registration": "LK-7002", "operatorNumber": "OP-9999"})
    with pytest.raises(zeep.exceptions.Fault, match="Other rows refer to"):  # its passages refer to it
        registry.DeleteVessel(registration="LK-0001", changeToken="1")
    assert registry.DeleteVessel(registration="LK-7001", changeToken="3") == "LK-7001"
    assert rows(demo, "SELECT COUNT(*) FROM vessel WHERE registration IN ('LK-7001', 'LK-7002')") == [(0,)]


def test_writing_needs_the_role(demo: Demo) -> None:
    answer = httpx.post(demo.address("live", "rest") + "/DeleteVessel", json={"registration": "LK-0412", "changeToken": "1"},
                        headers={"Authorization": f"Bearer {demo.token('toll-audit')}"})
    assert answer.status_code == 403
    assert "toll-audit may not call VesselRegistry.DeleteVessel" in answer.text
