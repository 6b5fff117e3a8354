"""Contracts that are broken, hostile or endless: each is told as what it is, within a bound of time, and the next sound one is read."""

import threading
import time
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import pytest

from bricola.adapters.networks import Networks, read_networks
from bricola.adapters.parts import Web
from bricola.core.contracts.reading.wsdl import read_contract
from bricola.core.messages.decoder import compile_decoder
from bricola.core.problems import Problem
from bricola.core.xml import parse_xml
from tests.core.outside import read, wsdl

_SECONDS = 5.0  # of this process, for one contract

ANSWER = '<xs:element name="AskResponse" type="xs:string"/>'


def asked(inside: str, more: str = "") -> str:
    """A contract whose request holds these parts, beside further global ones."""
    return wsdl(f'{more}<xs:element name="Ask"><xs:complexType><xs:sequence>{inside}</xs:sequence></xs:complexType></xs:element>{ANSWER}')


def typed(definition: str, name: str = "X") -> str:
    return asked(f'<xs:element name="x" type="t:{name}"/>', definition)


SIMPLE = asked('<xs:element name="x" type="xs:string"/>')
Files = dict[str, str | bytes]


def text_type(pattern: str) -> str:
    return typed(f'<xs:simpleType name="X"><xs:restriction base="xs:string"><xs:pattern value="{pattern}"/></xs:restriction></xs:simpleType>')


def nested(count: int, opening: str, closing: str, inside: str = "") -> str:
    return opening * count + inside + closing * count


def including(place: str) -> str:
    return wsdl(f'<xs:include schemaLocation="{place}"/>' + asked("")[asked("").index('<xs:element name="Ask"'):asked("").index("</xs:schema>")])


# class -> case -> the files, and the codes of which one must be told; '' where the contract is sound and must be read.
BAD: dict[str, dict[str, tuple[Files, str]]] = {
    "truncated": {f"after {share} of 6": ({"main.wsdl": SIMPLE[: len(SIMPLE) * share // 6]}, "xml.syntax") for share in range(1, 6)},
    "circular": {
        "types": ({"main.wsdl": typed('<xs:complexType name="X"><xs:complexContent><xs:extension base="t:X"/></xs:complexContent></xs:complexType>')},
                  "schema.circle"),
        "simple types": ({"main.wsdl": typed('<xs:simpleType name="X"><xs:restriction base="t:X"/></xs:simpleType>')}, "schema.circle"),
        "lists": ({"main.wsdl": typed('<xs:simpleType name="X"><xs:list itemType="t:X"/></xs:simpleType>')}, "schema."),
        "unions": ({"main.wsdl": typed('<xs:simpleType name="X"><xs:union memberTypes="t:X xs:int"/></xs:simpleType>')}, "schema."),
        "groups": ({"main.wsdl": asked('<xs:group ref="t:G"/>', '<xs:group name="G"><xs:sequence><xs:group ref="t:G"/></xs:sequence></xs:group>')},
                   "schema."),
        "attribute groups": ({"main.wsdl": typed('<xs:attributeGroup name="G"><xs:attributeGroup ref="t:G"/></xs:attributeGroup>'
                                                 '<xs:complexType name="X"><xs:attributeGroup ref="t:G"/></xs:complexType>')}, "schema."),
        "schemas that include each other": ({
            "main.wsdl": including("a.xsd"),
            "a.xsd": '<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:t"><xs:include schemaLocation="b.xsd"/></xs:schema>',
            "b.xsd": '<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:t"><xs:include schemaLocation="a.xsd"/></xs:schema>',
        }, ""),
        "a WSDL that imports itself": ({"main.wsdl": SIMPLE.replace("<types>", '<import namespace="urn:t" location="main.wsdl"/><types>')}, ""),
        "records that hold themselves": ({"main.wsdl": typed('<xs:complexType name="X"><xs:sequence><xs:element name="x" type="t:X" minOccurs="0"/>'
                                                             '</xs:sequence></xs:complexType>')}, ""),
    },
    "3 MB in one line": {
        "a comment": ({"main.wsdl": SIMPLE.replace("<types>", f"<!--{'x' * 3_000_000}--><types>")}, ""),
        "documentation": ({"main.wsdl": SIMPLE.replace("<types>", f"<documentation>{'word ' * 600_000}</documentation><types>")}, ""),
        "white space": ({"main.wsdl": SIMPLE.replace("<types>", f"{' ' * 3_000_000}<types>")}, ""),
        "elements": ({"main.wsdl": asked("".join(f'<xs:element name="e{i}" type="xs:string" minOccurs="0"/>' for i in range(45_000))).replace("\n", "")},
                     ""),
        "one attribute": ({"main.wsdl": SIMPLE.replace('name="x"', f'name="{"x" * 3_000_000}"')}, "xml.tag"),
        "one tag of attributes": ({"main.wsdl": SIMPLE.replace("<types>", "<types " + " ".join(f"a{i}='1'" for i in range(300_000)) + ">")}, "xml.tag"),
    },
    "100,000 deep": {
        "elements": ({"main.wsdl": nested(100_000, "<a>", "</a>")}, "xml.depth"),
        "documentation": ({"main.wsdl": SIMPLE.replace("<types>", f"<documentation>{nested(100_000, '<b>', '</b>')}</documentation><types>")},
                          "xml.depth"),
        "sequences": ({"main.wsdl": asked(nested(100_000, "<xs:sequence>", "</xs:sequence>"))}, "xml.depth"),
        "choices": ({"main.wsdl": asked(nested(100_000, "<xs:choice>", "</xs:choice>"))}, "xml.depth"),
        "records in records": ({"main.wsdl": asked(nested(
            100_000, '<xs:element name="x"><xs:complexType><xs:sequence>', "</xs:sequence></xs:complexType></xs:element>"))}, "xml.depth"),
        "without an end": ({"main.wsdl": "<a>" * 100_000}, "xml."),
    },
    "a document type": {
        "an entity": ({"main.wsdl": '<!DOCTYPE d [<!ENTITY a "b">]>' + SIMPLE}, "xml.dtd"),
        "an entity of entities": ({"main.wsdl": '<!DOCTYPE d [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;&a;&a;&a;&a;">]>' + SIMPLE}, "xml.dtd"),
        "a file": ({"main.wsdl": '<!DOCTYPE d [<!ENTITY a SYSTEM "file:///etc/passwd">]>' + SIMPLE}, "xml.dtd"),
        "an address": ({"main.wsdl": '<!DOCTYPE d SYSTEM "http://127.0.0.1:1/x.dtd">' + SIMPLE}, "xml.dtd"),
        "in a part": ({"main.wsdl": including("a.xsd"), "a.xsd": '<!DOCTYPE s><xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema"/>'}, "xml.dtd"),
        "a parameter entity": ({"main.wsdl": '<!DOCTYPE d [<!ENTITY % p SYSTEM "file:///etc/passwd"> %p;]>' + SIMPLE}, "xml."),
    },
    "parts that are missing": {
        "an include": ({"main.wsdl": including("gone.xsd")}, "contract.part-missing"),
        "an import": ({"main.wsdl": including("x").replace("<xs:include", '<xs:import namespace="urn:x"')}, "contract.part-missing"),
        "a WSDL": ({"main.wsdl": SIMPLE.replace("<types>", '<import namespace="urn:x" location="gone.wsdl"/><types>')}, "contract.part-missing"),
        "a part of a part": ({"main.wsdl": including("a.xsd"), "a.xsd": '<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:t">'
                              '<xs:include schemaLocation="deeper/gone.xsd"/></xs:schema>'}, "contract.part-missing"),
        "a file of the machine": ({"main.wsdl": including("file:///etc/passwd")}, "contract.part-missing"),
        "a place above": ({"main.wsdl": including("../../../../etc/passwd")}, "contract.part-missing"),
    },
    "names that collide": {
        "simple types": ({"main.wsdl": typed('<xs:simpleType name="X"><xs:restriction base="xs:int"/></xs:simpleType>'
                                                '<xs:simpleType name="X"><xs:restriction base="xs:string"/></xs:simpleType>')}, "schema.twice"),
        "a simple and a complex type": ({"main.wsdl": typed('<xs:simpleType name="X"><xs:restriction base="xs:int"/></xs:simpleType>'
                                                            '<xs:complexType name="X"/>')}, "schema.twice"),
        "elements": ({"main.wsdl": asked("", '<xs:element name="Y" type="xs:int"/><xs:element name="Y" type="xs:string"/>')}, "schema.twice"),
        "groups": ({"main.wsdl": asked("", '<xs:group name="G"><xs:sequence/></xs:group><xs:group name="G"><xs:choice/></xs:group>')}, "schema.twice"),
        "ports": ({"main.wsdl": SIMPLE.replace("</service>", '<port name="Port" binding="t:B"/></service>')}, "wsdl.twice"),
        "messages": ({"main.wsdl": SIMPLE.replace("<portType", '<message name="In"/><portType')}, "wsdl.twice"),
        "services": ({"main.wsdl": SIMPLE.replace("</definitions>", '<service name="S"/></definitions>')}, "wsdl.twice"),
    },
}
CASES = [(kind, name) for kind, cases in BAD.items() for name in cases]


@pytest.mark.parametrize(("kind", "name"), CASES, ids=[f"{kind}: {name}" for kind, name in CASES])
def test_a_bad_contract_is_told_and_the_next_one_is_read(kind: str, name: str) -> None:
    files, code = BAD[kind][name]
    began = time.process_time()
    contract = read(files)
    assert time.process_time() - began < _SECONDS
    if code:
        assert any(one.code.startswith(code) for one in contract.problems), contract.problems
        assert all(one.message and one.place for one in contract.problems)
    else:
        assert (contract.problems, contract.usable) == ((), True)
    assert read({"main.wsdl": SIMPLE}).problems == ()


HURTING = {
    r"(\w+\s?)+!": "abcdefghijklmnopqrstuvwxyz" * 40, "(a+)+b": "a" * 3000, "(a|aa)+": "a" * 3000 + "b", "((a*)*)*c": "a" * 3000,
    "([a-z]+)*[0-9]": "z" * 3000, "(.*a){12}": "a" * 3000 + "b" * 10, r"(\d+,?)*;": "1," * 2000,
}


@pytest.mark.parametrize("pattern", HURTING)
def test_a_pattern_that_hurts_elsewhere_answers_at_once(pattern: str) -> None:
    contract = read({"main.wsdl": text_type(pattern)})
    assert contract.problems == ()
    record = next(iter(next(iter(contract.services["S"].ports.values())).operations.values())).input.record
    decode = compile_decoder(record, "urn:t")
    problems: list[Problem] = []
    began = time.process_time()
    decode(parse_xml(f'<Ask xmlns="urn:t"><x>{HURTING[pattern]}</x></Ask>'.encode()), "Ask", problems)
    assert time.process_time() - began < 1
    assert [one.code for one in problems] == ["value.pattern"]


PART = b'<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:t"/>'


class Host(BaseHTTPRequestHandler):
    """A host whose parts do not come, do not end, or lead elsewhere."""

    def do_GET(self) -> None:
        act = self.path.strip("/").partition("?")[0]
        if act == "slow-start":
            self.server.stopped.wait(20)  # type: ignore[attr-defined]
        self.send_response(302 if act.startswith("to-") else 200)
        targets = {"to-itself": "/to-itself", "to-file": "file:///etc/passwd", "to-inside": "http://127.0.0.2:9/x", "to-link-local":
                   "http://169.254.169.254/latest", "to-nothing": "", "to-other-scheme": "gopher://127.0.0.1/x", "to-ring": "/to-ring2",
                   "to-ring2": "/to-ring"}
        if act in targets:
            self.send_header("Location", targets[act])
        self.end_headers()
        try:
            while act in ("slow-drip", "endless", "endless-zero", "slow-bytes") and not self.server.stopped.is_set():  # type: ignore[attr-defined]
                self.wfile.write(b"\0" * 65536 if act == "endless-zero" else b"<!--" + b"x" * 65536 if act == "endless" else b" ")
                if act.startswith("slow"):
                    self.server.stopped.wait(0.02)  # type: ignore[attr-defined]
            self.wfile.write(PART if act not in targets else b"")
        except OSError:
            return  # the reader gave up, as it should

    def log_message(self, format: str, *args: object) -> None:  # noqa: A002 — the name is the base class's
        pass


@pytest.fixture(scope="module")
def host() -> Iterator[str]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), Host)
    server.daemon_threads = True
    server.stopped = threading.Event()  # type: ignore[attr-defined]
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_address[1]}"
    server.stopped.set()  # type: ignore[attr-defined]
    server.shutdown()


class Hurried(Web):
    """The same reader with a second in place of half a minute."""

    def __init__(self, networks: Networks) -> None:
        super().__init__(networks)
        self._until = self._clock() + 1.0


@pytest.mark.parametrize("act", ["slow-start", "slow-drip", "slow-bytes", "endless", "endless-zero", "to-itself", "to-ring", "to-file", "to-inside",
                                 "to-link-local", "to-nothing", "to-other-scheme"])
def test_a_part_that_does_not_come_or_leads_inwards_is_told(host: str, act: str) -> None:
    class OneHost:
        """The contract itself comes at once; its part is what the host does."""

        def __init__(self) -> None:
            self.web = Hurried(Networks(read_networks(["127.0.0.1/32"])))

        def fetch(self, location: str) -> bytes:
            return including(f"{host}/{act}").encode() if location.endswith("?wsdl") else self.web.fetch(location)

    began = time.monotonic()
    contract = read_contract(f"{host}/x?wsdl", OneHost())
    assert time.monotonic() - began < 8
    assert contract.problems
    assert not any("root:" in one.message for one in contract.problems)
    assert contract.problems[0].code.startswith("contract.")


@pytest.mark.parametrize("address", ["http://127.0.0.1:{}/x", "http://localhost:{}/x", "http://[::1]:{}/x", "http://[::ffff:127.0.0.1]:{}/x",
                                     "http://0.0.0.0:{}/x", "http://2130706433:{}/x"])
def test_no_address_inside_is_reached_however_it_is_written(host: str, address: str) -> None:
    location = address.format(host.rpartition(":")[2])
    contract = read_contract(location, Web(Networks()))
    assert [one.code for one in contract.problems] == ["contract.part"]
    assert "may not be reached" in contract.problems[0].message or "no host" in contract.problems[0].message
