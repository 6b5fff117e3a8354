"""A data folder that an older program made opens, and answers byte for byte as it did then.

`folder-2026-11.zip` was made by the program before kinds of source had folders of their own: four services of three kinds, a second
release, a roll-back, an announced end, a caller, a film that stands in for a host, an answered request id; with what it answered.
Its credentials were sealed with a key made of words, so that no secret lies here.
"""

import base64
import io
import json
import re
import sqlite3
import zipfile
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import httpx
import pytest
import zeep
from lxml import etree
from requests import Session

from tests.length import AT_LENGTH
from tests.peers.compare import differences, payload, same
from tests.peers.gsoap import GsoapPeer
from tests.peers.xsdata import XsdataPeer
from tests.serving import Served, serving

FOLDER = Path(__file__).with_name("folder-2026-11.zip")
KEY = base64.urlsafe_b64encode(b"larkmere waterways, an old folder"[:32]).decode()
CALL_NUMBER = re.compile(r"[0-9a-f]{11}-[0-9a-f]{5}")


@pytest.fixture(scope="module")
def expected() -> dict[str, Any]:
    with zipfile.ZipFile(FOLDER) as archive:
        return dict(json.loads(archive.read("expected.json")))


@pytest.fixture(scope="module")
def old(tmp_path_factory: pytest.TempPathFactory, expected: dict[str, Any]) -> Iterator[Served]:
    data = tmp_path_factory.mktemp("old")
    with zipfile.ZipFile(FOLDER) as archive:
        archive.extractall(data)
    _put_aside(data)
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("BRICOLA_KEY", KEY)
        with serving(data) as served:
            served.password = expected["user"]["password"]
            yield served


PATTERN_IN_WORDS = re.compile(r"(?<=in the form )LK-, then 4 digits \((LK-[^)]*)\)")
ENTERED = "LK-2001"  # the vessel that was entered after most calls were recorded


def _register(data: Path) -> sqlite3.Connection:
    return sqlite3.connect(data / "museum" / "registry.db", isolation_level=None)


def _put_aside(data: Path) -> None:
    with closing(_register(data)) as db:
        db.execute("CREATE TABLE aside AS SELECT * FROM vessel WHERE registration = ?", [ENTERED])
        db.execute("DELETE FROM vessel WHERE registration = ?", [ENTERED])


def _bring_back(data: Path) -> None:
    with closing(_register(data)) as db:
        db.execute("INSERT INTO vessel SELECT * FROM aside")


def test_every_answer_is_what_it_was(old: Served, expected: dict[str, Any]) -> None:
    different = []
    with httpx.Client(base_url=old.url, timeout=60) as http:
        for one in expected["calls"]:
            headers = dict(one["headers"])
            if one["name"] == REPEATED:
                _bring_back(old.bricola.settings.data)
            if one["name"] != "nobody":
                headers["Authorization"] = f"Bearer {expected['token']}"
            answer = http.request(one["method"], one["path"], content=one["request"].encode(), headers=headers)
            then, now = (CALL_NUMBER.sub("call", text) for text in (one["answer"], answer.text))
            now = PATTERN_IN_WORDS.sub(r"\1", now)  # sentences for people may say more than they did
            told = {name: CALL_NUMBER.sub("call", answer.headers.get(name, "")) for name in one["answer_headers"]}
            before = {name: CALL_NUMBER.sub("call", value) for name, value in one["answer_headers"].items()}
            if (answer.status_code, now, told) != (one["status"], then, before) and one["name"] != REPEATED:
                different.append((one["name"], answer.status_code, one["status"], now[:300], then[:300]))
    assert different == []
    assert len(expected["calls"]) > 50


READS = [("VesselRegistry", "GetVessel"), ("VesselRegistry", "FindVessels"), ("TonnageReport", "GetTonnage"), ("LockLedger", "GetVesselLedger"),
         ("BerthDesk", "GetBerth")]


@pytest.mark.parametrize("peer_class", [GsoapPeer, XsdataPeer], ids=lambda one: one.name)
def test_code_that_was_generated_from_the_contract_of_then_reads_every_value(old: Served, expected: dict[str, Any], tmp_path: Path,
                                                                            peer_class: Any) -> None:
    calls = {one["name"]: one for one in expected["calls"]}
    peers: dict[str, Any] = {}
    for service, operation in READS if peer_class is XsdataPeer or AT_LENGTH else READS[:2]:
        if service not in peers:
            peers[service] = peer_class(calls[f"{service} wsdl"]["answer"].encode(), service, tmp_path / service)
        then = calls[f"{service}.{operation} 1.1"]
        answer = etree.fromstring(peers[service].call(old.url + then["path"], expected["token"], operation, then["request"].encode()))
        found = payload(answer) if etree.QName(answer).localname == "Envelope" else answer
        assert differences(payload(etree.fromstring(then["answer"].encode())), found) == [], operation


def test_a_dynamic_stack_with_the_contract_of_then_reads_every_value(old: Served, expected: dict[str, Any]) -> None:
    calls = {one["name"]: one for one in expected["calls"]}
    session = Session()
    session.headers["Authorization"] = f"Bearer {expected['token']}"
    client = zeep.Client(io.BytesIO(calls["VesselRegistry wsdl"]["answer"].encode()),  # type: ignore[no-untyped-call]
                         transport=zeep.Transport(session=session))  # type: ignore[no-untyped-call]
    port = client.create_service(next(iter(client.wsdl.bindings)), f"{old.url}/soap/museum/VesselRegistry")
    asked = payload(etree.fromstring(calls["VesselRegistry.GetVessel 1.1"]["request"].encode())).findtext("{*}registration")
    vessel = port.GetVessel(registration=asked)
    for one in payload(etree.fromstring(calls["VesselRegistry.GetVessel 1.1"]["answer"].encode()))[0]:
        assert same(str(vessel[etree.QName(one).localname]), one.text), one.tag


# The vessel was entered then: now a repeat of its request gets the answer of then, and a new request finds it there.
REPEATED = "create"


def test_the_request_of_then_is_still_known(old: Served, expected: dict[str, Any]) -> None:
    made = next(one for one in expected["calls"] if one["name"] == "create")
    again = httpx.post(old.url + made["path"], timeout=60, content=made["request"].encode(),
                       headers={**made["headers"], "Authorization": f"Bearer {expected['token']}"})
    assert (again.status_code, again.text) == (200, made["answer"])
    assert CALL_NUMBER.fullmatch(again.headers["repeats-call"])


def test_texts_digests_films_and_people_are_there(old: Served, expected: dict[str, Any]) -> None:
    with old.client() as client:
        assert client.export() == expected["definitions"]
        known = {(one["service"], two["number"]): two["digest"] for one in expected["releases"]
                 for two in client.service(one["service"])["releases"]}
        assert known == {(one["service"], one["number"]): one["digest"] for one in expected["releases"]}
        assert {one["flow"] for one in client.screen_flows() if one["film"]} == set(expected["films"])
        places = {one["name"]: {two["environment"]: two for two in one["deployments"]} for one in client.overview()["services"]}
        assert places["VesselRegistry"]["museum"]["release"] == 1
        assert places["TonnageReport"]["museum"]["ends"] == "2099-01-01"
        assert {one["action"] for one in client.audit(limit=1000)} >= {"set up", "define", "release", "deploy", "roll back", "retire", "film"}


def test_what_is_written_now_is_in_the_form_of_now_and_read_again(old: Served, expected: dict[str, Any]) -> None:
    with old.client() as client:
        changes = client.apply(expected["definitions"])
        assert {one["action"] for one in changes} == {"unchanged"}
