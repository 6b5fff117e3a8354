"""Client stacks that generate code from our contracts call every operation of the demo, and hold every value of every answer."""

import os
import socket
import subprocess
import sys
from collections.abc import Iterator
from decimal import Decimal
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import httpx
import pytest
import zeep
from lxml import etree
from requests import Session
from requests.auth import HTTPBasicAuth

from bricola.client import Client
from tests.conftest import Demo, copied_demo, stop_demo
from tests.length import AT_LENGTH
from tests.peers.compare import differences, payload
from tests.peers.gsoap import GsoapPeer
from tests.peers.xsdata import XsdataPeer

SERVICES = ("VesselRegistry", "TonnageReport", "LockLedger", "BerthDesk", "GaugeReadings", "NoticeBoard", "MovementSummary",
            "PassageStatus", "PassageBooking", "TollCalculator")
READS = {"Summarise", "CalculateToll", "GetStatuses", "GetVessel", "FindVessels", "FindVesselsByOperator", "ListPassages", "GetTonnage", "GetVesselLedger", "GetBerth", "GetLevel",
         "ListNotices"}


@pytest.fixture(scope="module")
def own(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Demo]:
    running = copied_demo(tmp_path_factory, "peers")
    yield running
    stop_demo(running)


_BUILT: dict[tuple[Any, bytes], Any] = {}  # compiling takes its time, and several tests call the same contract


class Asking:
    """One service in rehearsal, asked by plain HTTP and by a peer with the same elements."""

    def __init__(self, own: Demo, service: str, peer_class: Any, folder: Path) -> None:
        self.service = service
        self.address = f"{own.url}/soap/rehearsal/{service}"
        self.token = own.token("night-batch")  # who may call everything
        self.client = Client(own.url)
        self.client.sign_in("imke", own.password("imke"))
        foreign = service in ("GaugeReadings", "NoticeBoard")
        contract = httpx.get(f"{self.address}?wsdl{'' if foreign else '&soap=1.1'}").content
        if (peer_class, contract) not in _BUILT:
            _BUILT[peer_class, contract] = peer_class(contract, service, folder / service)
        self.peer = _BUILT[peer_class, contract]

    def operations(self) -> list[str]:
        return [one["name"] for one in self.client.operations(self.service, "rehearsal")]

    def message(self, operation: str, **changed: str) -> bytes:
        """The sample request, with texts put in place of others by their names; what is not there is put at the end of the record."""
        envelope = etree.fromstring(self.client.sample(self.service, operation, "rehearsal", "1.1")["envelope"].encode())
        inside = payload(envelope)
        for name, text in changed.items():
            found = inside.find(f".//{{*}}{name}")
            if found is None:
                found = etree.SubElement(inside[0], f"{{{etree.QName(inside).namespace}}}{name}")
            found.text = text
        return etree.tostring(envelope)

    def plain(self, message: bytes) -> etree._Element:
        """What is answered to the message, as anybody reads it."""
        answer = httpx.post(self.address, content=message, timeout=60, headers={"Authorization": f"Bearer {self.token}",
                                                                                "Content-Type": "text/xml; charset=utf-8"})
        return payload(etree.fromstring(answer.content))

    def by_peer(self, operation: str, message: bytes) -> etree._Element:
        answer = etree.fromstring(self.peer.call(self.address, self.token, operation, message))
        return payload(answer) if etree.QName(answer).localname == "Envelope" else answer


def put(message: bytes, within: str, name: str, text: str) -> bytes:
    """The message with a text in an element of this name, put at the end of `within` (or of the whole) where it is missing."""
    envelope = etree.fromstring(message)
    inside = payload(envelope)
    record = inside.find(f".//{{*}}{within}") if within else inside
    found = record.find(f"{{*}}{name}")
    found = etree.SubElement(record, f"{{{etree.QName(inside).namespace}}}{name}") if found is None else found
    found.text = text
    return etree.tostring(envelope)


COMPILED = SERVICES if AT_LENGTH else ("VesselRegistry", "LockLedger", "PassageStatus")  # compiling takes its time


@pytest.mark.parametrize(("peer_class", "service"), [*((GsoapPeer, one) for one in COMPILED), *((XsdataPeer, one) for one in SERVICES)],
                         ids=lambda one: getattr(one, "name", one))
def test_generated_code_reads_every_value_of_every_answer(own: Demo, tmp_path: Path, peer_class: Any, service: str) -> None:
    asking = Asking(own, service, peer_class, tmp_path)
    for operation in asking.operations():
        if operation in READS:
            message = asking.message(operation)
            assert differences(asking.plain(message), asking.by_peer(operation, message)) == [], operation


@pytest.mark.parametrize("peer_class", [GsoapPeer, XsdataPeer], ids=lambda one: one.name)
def test_generated_code_writes_without_losing_what_it_does_not_send(own: Demo, tmp_path: Path, peer_class: Any) -> None:
    asking = Asking(own, "VesselRegistry", peer_class, tmp_path)
    registration = "LK-9101" if peer_class is GsoapPeer else "LK-9102"

    def token() -> str:
        return asking.client.call("rehearsal", "VesselRegistry", "GetVessel", {"registration": registration})["answer"]["vessel"]["changeToken"]

    def vessel() -> dict[str, Any]:
        return asking.client.call("rehearsal", "VesselRegistry", "GetVessel", {"registration": registration})["answer"]["vessel"]

    made = asking.by_peer("CreateVessel", asking.message("CreateVessel", registration=registration, notes="as delivered"))
    assert made.findtext("{*}registration") == registration
    short = (f'<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><UpdateVessel xmlns="urn:larkmere:vessel-registry">'
             f"<registration>{registration}</registration><changeToken>{{}}</changeToken>{{}}</UpdateVessel></e:Body></e:Envelope>")
    changed = asking.by_peer("UpdateVessel", short.format(token(), "<name>Sedge Warbler</name>").encode())
    assert [one.text for one in changed.iterfind("{*}changedField")] == ["name"]
    assert (vessel()["name"], vessel()["notes"]) == ("Sedge Warbler", "as delivered")
    cleared = asking.by_peer("UpdateVessel", short.format(token(), "<clear>notes</clear>").encode())
    assert [one.text for one in cleared.iterfind("{*}changedField")] == ["notes"]
    assert "notes" not in vessel()
    saved = asking.by_peer("SaveVessel", asking.message("SaveVessel", registration=registration))
    assert saved.findtext("{*}outcome") == "updated"
    gone = asking.by_peer("DeleteVessel", asking.message("DeleteVessel", registration=registration, changeToken=token()))
    assert gone.findtext("{*}registration") == registration


@pytest.mark.parametrize(("style", "peer_class"), [
    ("bare", XsdataPeer), ("rpc", GsoapPeer), *([("bare", GsoapPeer), ("rpc", XsdataPeer)] if AT_LENGTH else [])])
def test_what_we_generate_is_called_in_other_styles(own: Demo, tmp_path: Path, style: str, peer_class: Any) -> None:
    service = f"Registry{style.capitalize()}{peer_class.__name__}"
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        text = next(one for one in client.export().values() if one.startswith("service: VesselRegistry"))
        text = text.replace("VesselRegistry", service, 1).replace("namespace: urn:larkmere:vessel-registry", f"style: {style}\nsoap: ['1.1']")
        client.apply({f"services/{service}.yaml": text})
        client.release(service)
        client.deploy(service, "rehearsal")
    asking = Asking(own, service, peer_class, tmp_path)
    for operation in ("GetVessel", "FindVessels", "ListPassages"):
        message = asking.message(operation)
        plain, peer = asking.plain(message), asking.by_peer(operation, message)
        if style == "rpc":
            plain, peer = plain[0], peer[0]
        assert len(plain)
        assert differences(plain, peer) == [], operation
    client_of = zeep.Client(f"{asking.address}?wsdl", transport=zeep.Transport(session=signed(asking.token)))  # type: ignore[no-untyped-call]
    given = {"registration": "LK-0000"}
    with pytest.raises(zeep.exceptions.Fault, match="There is no vessel"):
        client_of.service.GetVessel(**({"parameters": given} if style == "rpc" else given))
    refused = httpx.post(asking.address, content=asking.message("GetVessel").replace(b"http://schemas.xmlsoap.org/soap/envelope/",
                                                                                     b"http://www.w3.org/2003/05/soap-envelope"),
                         headers={"Authorization": f"Bearer {asking.token}", "Content-Type": "application/soap+xml; charset=utf-8"})
    assert "VersionMismatch" in refused.text, refused.text


def signed(token: str) -> Session:
    session = Session()
    session.auth = HTTPBasicAuth("night-batch", token)
    return session


def test_generated_code_has_a_type_for_each_fault_and_for_everything_else(own: Demo, tmp_path: Path) -> None:
    asking = Asking(own, "VesselRegistry", XsdataPeer, tmp_path)
    for registration, fault in (("LK-0000", "NotFound"), ("nothing like it", "problems")):
        answer = asking.by_peer("GetVessel", asking.message("GetVessel", registration=registration))
        assert answer.find(f"detail/{{*}}{fault}") is not None, etree.tostring(answer)


def test_a_notice_is_posted_by_generated_code_of_somebody_elses_contract(own: Demo, tmp_path: Path) -> None:
    for number, peer_class in ((8001, GsoapPeer), (8002, XsdataPeer)):
        asking = Asking(own, "NoticeBoard", peer_class, tmp_path / str(number))
        receipt = asking.by_peer("PostNotice", asking.message("PostNotice", id=f"N-{number}"))
        assert receipt.get("id") == f"N-{number}"
    with pytest.raises(subprocess.CalledProcessError) as caught:
        Asking(own, "NoticeBoard", GsoapPeer, tmp_path / "again").by_peer("PostNotice", asking.message("PostNotice", id="N-8001"))
    assert "There is a notice with id N-8001 already" in caught.value.stderr.decode()


def test_a_workflow_gives_the_faults_of_somebody_elses_contract_and_no_more_than_was_asked_for(own: Demo, tmp_path: Path) -> None:
    asking = Asking(own, "NoticeBoard", XsdataPeer, tmp_path)
    listing, posting = asking.message("ListNotices"), asking.message("PostNotice", id="N-8003")
    assert len(asking.by_peer("ListNotices", put(listing, "", "most", "2"))) == 2
    refused = asking.plain(put(put(posting, "notice", "validFrom", "2026-12-02"), "notice", "validTo", "2026-12-01"))
    assert refused.findtext(".//{*}reason") == "The notice would end before it begins.", etree.tostring(refused)
    told = {one["name"]: one["description"] for one in asking.client.operations("NoticeBoard", "rehearsal")}
    assert told["PostNotice"] == "Posts a notice.", "the contract says nothing of it, so what runs it does"
    assert "N-8003" not in [one.get("id") for one in asking.plain(put(listing, "", "most", "100"))]


@pytest.mark.parametrize("peer_class", [GsoapPeer, XsdataPeer], ids=lambda one: one.name)
def test_generated_code_books_a_passage_and_reads_its_status(own: Demo, tmp_path: Path, peer_class: Any) -> None:
    booking = Asking(own, "PassageBooking", peer_class, tmp_path)
    booked = booking.by_peer("BookPassage", booking.message("BookPassage"))
    number = booked.findtext("{*}passageNumber") or ""
    assert sum(Decimal(one.findtext("{*}amount") or "") for one in booked.iterfind("{*}tollLine")) == Decimal(booked.findtext("{*}toll") or "")
    status = Asking(own, "PassageStatus", peer_class, tmp_path)
    item = status.by_peer("GetStatuses", status.message("GetStatuses", passageNumber=number))[0]
    assert (item.findtext("{*}passageNumber"), item.find("{*}error")) == (number, None), etree.tostring(item)
    refused = booking.plain(booking.message("BookPassage", registration="LK-0000"))
    assert refused.find("detail/{*}VesselNotFound") is not None, etree.tostring(refused)


@pytest.mark.parametrize("service", ["VesselRegistry", "GaugeReadings", "NoticeBoard"])
def test_samples_for_curl_python_and_plain_http_work_as_they_stand(own: Demo, tmp_path: Path, service: str) -> None:
    token = own.token("night-batch")
    address = urlsplit(own.url)
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        operations = client.operations(service, "rehearsal")
        for operation, soap in [(one["name"], face) for one in operations for face in (*one["soap"], "json") if one["name"] in READS]:
            forms = client.sample(service, operation, "rehearsal", soap)["forms"]
            (tmp_path / "sample.py").write_text(forms["python"])
            for command in (["bash", "-c", forms["curl"]], [sys.executable, "sample.py"]):
                told = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, timeout=60, check=True,
                                      env={**os.environ, "BRICOLA_TOKEN": token}).stdout
                assert "ault" not in told, told
                assert told.startswith("200\n") if command[0] == sys.executable else told
            with socket.create_connection((str(address.hostname), address.port or 80), 30) as connection:
                connection.sendall(forms["http"].replace("BRICOLA_TOKEN", token).encode())
                answer = b"".join(iter(lambda: connection.recv(65536), b""))
            assert answer.startswith(b"HTTP/1.1 200"), answer
