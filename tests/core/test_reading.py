"""Contracts of others, read: what each way of writing one must read as, and what is told of the bad ones."""

import codecs
import json
import time
from dataclasses import fields
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from bricola.core.contracts.reading import types
from bricola.core.contracts.reading.bundle import main_of
from bricola.core.contracts.reading.contract import ReadContract
from bricola.core.messages.decoder import compile_decoder
from bricola.core.messages.encoder import compile_encoder
from bricola.core.messages.plain import from_plain
from bricola.core.messages.samples import sample_values
from bricola.core.problems import Problem, ProblemError
from bricola.core.shapes.model import Element, Record
from bricola.core.xml import parse_xml
from tests.core.outside import CONTRACTS, folder, read, wsdl

ASK = '<xs:element name="Ask"><xs:complexType><xs:sequence>{}</xs:sequence></xs:complexType></xs:element><xs:element name="AskResponse" type="xs:string"/>'


@pytest.mark.parametrize("name", ["01-split", "03-bare", "05-headers-soap11", "07-two-namespaces"])
def test_examples_read_as_they_should(name: str) -> None:
    contract = read(folder(name))
    expected = json.loads((CONTRACTS / name / "expected.json").read_text())
    assert contract.as_dict() == expected | {"problems": []}
    assert main_of({path: one if isinstance(one, bytes) else one.encode() for path, one in folder(name).items()}) == "main.wsdl"


def accepts(contract: ReadContract, body: str) -> list[str]:
    """The codes of what is wrong with a body of the operation Ask."""
    record = contract.services["S"].ports["Port"].operations["Ask"].input.record
    problems: list[Problem] = []
    compile_decoder(record, "")(parse_xml(body.encode()), "Ask", problems)
    return [one.code for one in problems]


def ask(inner: str, attributes: str = "") -> str:
    return f'<Ask xmlns="urn:t" {attributes}>{inner}</Ask>'


UNQUALIFIED = ('<types><xs:schema targetNamespace="urn:t">', "elementFormDefault")
# what stands in the schema -> messages that are sound, and messages that are not with their codes
SCHEMAS: dict[str, tuple[str, list[str], list[tuple[str, str]]]] = {
    "all": (ASK.replace("xs:sequence", "xs:all").format('<xs:element name="a" type="xs:int"/><xs:element name="b" type="xs:int" minOccurs="0"/>'),
            ["<a>1</a>", "<b>2</b><a>1</a>"], [("<b>2</b>", "element.missing"), ("<a>1</a><a>1</a>", "element.repeated")]),
    "choice": (ASK.format('<xs:choice><xs:element name="a" type="xs:int"/><xs:element name="b" type="xs:int"/></xs:choice>'),
               ["<a>1</a>", "<b>1</b>"], [("", "element.alternative"), ("<a>1</a><b>1</b>", "element.alternatives")]),
    "repeated choice": (ASK.format('<xs:choice minOccurs="0" maxOccurs="unbounded"><xs:element name="a" type="xs:int"/><xs:element name="b" type="xs:int"/></xs:choice>'),
                        ["", "<a>1</a><b>1</b><a>2</a>"], [("<c/>", "element.unknown")]),
    "repeated sequence": (ASK.format('<xs:sequence maxOccurs="2"><xs:element name="a" type="xs:int"/><xs:element name="b" type="xs:int" minOccurs="0"/></xs:sequence>'),
                          ["<a>1</a>", "<a>1</a><b>1</b><a>2</a>"], [("<a>1</a><a>1</a><a>1</a>", "element.repeated"), ("<b>1</b>", "element.count")]),
    "one name twice": (ASK.format('<xs:element name="a" type="xs:int"/><xs:element name="b" type="xs:int"/><xs:element name="a" type="xs:int"/>'),
                       ["<a>1</a><b>1</b><a>2</a>"], [("<a>1</a><b>1</b>", "element.missing")]),
    "group and attribute group": ('<xs:group name="G"><xs:sequence><xs:element name="g" type="xs:string"/></xs:sequence></xs:group>'
                                  '<xs:attributeGroup name="A"><xs:attribute name="x" type="xs:int" use="required"/></xs:attributeGroup>'
                                  '<xs:element name="Ask"><xs:complexType><xs:group ref="t:G"/><xs:attributeGroup ref="t:A"/></xs:complexType></xs:element>'
                                  '<xs:element name="AskResponse" type="xs:string"/>', [], [("<g/>", "element.missing")]),
    "any": (ASK.format('<xs:element name="a" type="xs:int"/><xs:any namespace="##other" processContents="lax"/>'),
            ['<a>1</a><z xmlns="urn:z"/>'], [("<a>1</a>", "element.open"), ("<a>1</a><b/>", "element.open")]),
    "any, strict": (ASK.format('<xs:any namespace="##any"/>') + '<xs:element name="known" type="xs:int"/>',
                    ["<known>1</known>"], [("<known>x</known>", "value.type"), ("<stranger/>", "element.unknown")]),
    "anyType": (ASK.format('<xs:element name="a" type="xs:anyType"/><xs:element name="b"/>'), ['<a x="1"><q/>text</a><b>1</b>'], [("<a/>", "element.missing")]),
    "recursion": (ASK.format('<xs:element name="n" type="t:N"/>') + '<xs:complexType name="N"><xs:sequence><xs:element name="n" type="t:N" minOccurs="0"/>'
                  '<xs:element name="v" type="xs:int"/></xs:sequence></xs:complexType>',
                  ["<n><n><v>1</v></n><v>2</v></n>"], [("<n><n/><v>1</v></n>", "element.missing")]),
    "restriction": (ASK.format('<xs:element name="r" type="t:R"/>') + '<xs:complexType name="B"><xs:sequence><xs:element name="a" type="xs:int" minOccurs="0"/>'
                    '<xs:element name="b" type="xs:int" minOccurs="0"/></xs:sequence><xs:attribute name="x"/><xs:attribute name="y"/></xs:complexType>'
                    '<xs:complexType name="R"><xs:complexContent><xs:restriction base="t:B"><xs:sequence><xs:element name="a" type="xs:int"/></xs:sequence>'
                    '<xs:attribute name="x" use="prohibited"/></xs:restriction></xs:complexContent></xs:complexType>',
                    ['<r y="1"><a>1</a></r>'], [("<r><b>1</b></r>", "element.unknown"), ('<r x="1"><a>1</a></r>', "element.attribute")]),
    "list and union": (ASK.format('<xs:element name="l"><xs:simpleType><xs:list itemType="xs:int"/></xs:simpleType></xs:element>'
                                  '<xs:element name="u"><xs:simpleType><xs:union memberTypes="xs:date xs:int"/></xs:simpleType></xs:element>'),
                       ["<l>1 2</l><u>2026-01-01</u>", "<l/><u>7</u>"], [("<l>1 x</l><u>7</u>", "value.type"), ("<l/><u>x</u>", "value.type")]),
    "substitution": ('<xs:element name="h" type="xs:int"/><xs:element name="m" type="xs:int" substitutionGroup="t:h"/><xs:element name="k" substitutionGroup="t:m"/>'
                     + ASK.format('<xs:element ref="t:h"/>'), ["<h>1</h>", "<m>1</m>", "<k>2</k>"], [("<k>x</k>", "value.type"), ("<q/>", "element.alternative")]),
    "form": (ASK.format('<xs:element name="a" type="xs:int" form="unqualified"/><xs:element name="b" type="xs:int"/>'),
             ['<a xmlns="">1</a><b>1</b>'], [("<a>1</a><b>1</b>", "element.namespace")]),
    "default and fixed": (ASK.format('<xs:element name="d" type="xs:int" default="7"/><xs:element name="f" type="xs:string" fixed="x"/>'),
                          ["<d/><f>x</f>", "<d>1</d><f/>"], [("<d/><f>y</f>", "value.fixed")]),
    "nil": (ASK.format('<xs:element name="n" type="xs:int" nillable="true"/>'),
            ['<n xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" xsi:nil="true"/>'], [("<n/>", "value.type")]),
    "empty content": (ASK.format("") + '<xs:complexType name="Never"/>', [""], [("<a/>", "element.unknown"), ("text", "element.text")]),
    "more built-in types": (ASK.format("".join(f'<xs:element name="e{i}" type="xs:{one}"/>' for i, one in enumerate(
        ("unsignedLong", "unsignedByte", "negativeInteger", "hexBinary", "gYear", "gMonthDay", "language", "NMTOKENS", "token", "QName")))),
        ["<e0>18446744073709551615</e0><e1>255</e1><e2>-1</e2><e3>0aFF</e3><e4>2026</e4><e5>--02-29</e5><e6>en-GB</e6><e7>a b</e7><e8> x  y </e8><e9>xs</e9>"],
        [("<e0>-1</e0><e1>256</e1><e2>0</e2><e3>0a0</e3><e4>26</e4><e5>--02-30</e5><e6>e_n</e6><e7/><e8/><e9>a:b:c</e9>", "value.type")]),
}


@pytest.mark.parametrize("name", SCHEMAS)
def test_schemas_mean_what_they_say(name: str) -> None:
    schema, sound, unsound = SCHEMAS[name]
    contract = read({"main.wsdl": wsdl(schema)})
    assert contract.problems == ()
    for inner in sound:
        assert accepts(contract, ask(inner)) == [], inner
    for inner, code in unsound:
        assert code in accepts(contract, ask(inner)), (inner, accepts(contract, ask(inner)))


def test_attributes_from_groups_are_asked_for() -> None:
    contract = read({"main.wsdl": wsdl(SCHEMAS["group and attribute group"][0])})
    assert accepts(contract, ask("<g/>", 'x="1"')) == []
    assert accepts(contract, ask("<g/>", 'x="y"')) == ["value.type"]
    assert accepts(contract, ask("<g/>", 'x="1" z="1"')) == ["element.attribute"]


SIMPLE = wsdl(ASK.format('<xs:element name="a" type="t:A"/>') + '<xs:simpleType name="A"><xs:restriction base="xs:int"/></xs:simpleType>')
SPLIT = {
    "main.wsdl": wsdl('<xs:include schemaLocation="in%20here/one.xsd"/><xs:import namespace="urn:u" schemaLocation="../odd/./two.xsd"/>'
                      + ASK.format('<xs:element name="a" type="t:A"/><xs:element ref="u:b" xmlns:u="urn:u"/>')).replace("../odd", "odd"),
    "in here/one.xsd": '<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:t="urn:t"><xs:include schemaLocation="one.xsd"/>'
                       '<xs:include schemaLocation="more/chameleon.xsd"/><xs:simpleType name="A"><xs:restriction base="C"/></xs:simpleType></xs:schema>',
    "in here/more/chameleon.xsd": '<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema"><xs:include schemaLocation="..\\one.xsd"/>'
                                  '<xs:simpleType name="C"><xs:restriction base="D"/></xs:simpleType><xs:simpleType name="D"><xs:restriction base="xs:int"/></xs:simpleType></xs:schema>',
    "odd/two.xsd": '<schema xmlns="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:u" xmlns:u="urn:u" elementFormDefault="qualified">'
                   '<import namespace="urn:t" schemaLocation="../in%20here/one.xsd"/><redefine schemaLocation="three.xsd"><simpleType name="E"><restriction base="u:E"><maxLength value="3"/></restriction></simpleType></redefine>'
                   '<element name="b" type="u:E"/></schema>',
    "odd/three.xsd": '<schema xmlns="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:u"><simpleType name="E"><restriction base="string"><minLength value="2"/></restriction></simpleType></schema>',
}


def test_parts_are_found_wherever_they_are() -> None:
    contract = read(SPLIT)
    assert [one.message for one in contract.problems] == [
        "odd/two.xsd has the namespace urn:u, and is imported as urn:t."] * 0 + [one.message for one in contract.problems]
    assert not [one for one in contract.problems if one.code.startswith(("contract.", "schema.reference"))]
    assert accepts(contract, ask('<a>1</a><b xmlns="urn:u">abc</b>')) == []
    assert accepts(contract, ask('<a>x</a><b xmlns="urn:u">abcd</b>')) == ["value.type", "value.length"]
    assert accepts(contract, ask('<a>1</a><b xmlns="urn:u">a</b>')) == ["value.length"]


def test_redefined_complex_types_extend_what_they_were() -> None:
    contract = read({
        "main.wsdl": wsdl('<xs:redefine schemaLocation="old.xsd"><xs:complexType name="R"><xs:complexContent><xs:extension base="t:R"><xs:sequence>'
                          '<xs:element name="new" type="xs:int"/></xs:sequence></xs:extension></xs:complexContent></xs:complexType></xs:redefine>'
                          + ASK.format('<xs:element name="r" type="t:R"/>')),
        "old.xsd": '<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:t" elementFormDefault="qualified"><xs:complexType name="R">'
                   '<xs:sequence><xs:element name="old" type="xs:int"/></xs:sequence></xs:complexType></xs:schema>'})
    assert contract.problems == ()
    assert accepts(contract, ask("<r><old>1</old><new>2</new></r>")) == []
    assert accepts(contract, ask("<r><old>1</old></r>")) == ["element.missing"]


SECTIONS = SIMPLE.split("\n")
REORDERED = SIMPLE.replace("<types>", "<!--").replace("</types>", "-->")
SAME = {
    "utf-16": codecs.BOM_UTF16_LE + f'<?xml version="1.0" encoding="UTF-16"?>{SIMPLE}'.encode("utf-16-le"),
    "a byte order mark": codecs.BOM_UTF8 + SIMPLE.encode(),
    "latin-1": f'<?xml version="1.0" encoding="ISO-8859-1"?>{SIMPLE}'.replace("<types>", "<documentation>Flußpegel</documentation><types>").encode("latin-1"),
    "documentation and extensions anywhere": SIMPLE.replace("<types>", '<z:policy xmlns:z="urn:z"><z:all/></z:policy><documentation>A <b xmlns="urn:h">word</b></documentation><types>')
    .replace('<operation name="Ask">', '<operation name="Ask"><documentation>x</documentation><z:hint xmlns:z="urn:z"/>').encode(),
    "prefixes on single elements": SIMPLE.replace('<input message="t:In"/>', '<input message="q:In" xmlns:q="urn:t"/>')
    .replace('binding="t:B"', 'binding="r:B" xmlns:r="urn:t"').encode(),
    "comments": SIMPLE.replace("<types>", "<!-- <types> a > b --><types>").encode(),
    "sections in another order": "".join([SIMPLE[:SIMPLE.index("<types>")], SIMPLE[SIMPLE.index("<service"):SIMPLE.index("</definitions>")],
                                          SIMPLE[SIMPLE.index("<binding"):SIMPLE.index("<service")], SIMPLE[SIMPLE.index("<portType"):SIMPLE.index("<binding")],
                                          SIMPLE[SIMPLE.index("<message"):SIMPLE.index("<portType")], SIMPLE[SIMPLE.index("<types>"):SIMPLE.index("<message")],
                                          "</definitions>"]).encode(),
}


@pytest.mark.parametrize("way", SAME)
def test_ways_of_writing_one_contract(way: str) -> None:
    assert read({"main.wsdl": SAME[way]}).as_dict() == read({"main.wsdl": SIMPLE}).as_dict()


def operations(contract: ReadContract) -> dict[str, object]:
    return contract.services["S"].ports["Port"].as_dict()["operations"]


def test_rpc_literal_has_a_wrapper_of_its_own_and_parts_without_namespace() -> None:
    text = wsdl('<xs:complexType name="R"><xs:sequence><xs:element name="v" type="xs:int"/></xs:sequence></xs:complexType>', style="rpc")
    text = text.replace('<part name="body" element="t:Ask"/>', '<part name="key" type="xs:string"/><part name="row" type="t:R"/>')
    text = text.replace('<part name="body" element="t:AskResponse"/>', '<part name="answer" type="xs:int"/>')
    text = text.replace('<soap:body use="literal"/>', '<soap:body use="literal" namespace="urn:rpc"/>')
    contract = read({"main.wsdl": text})
    assert contract.problems == ()
    assert operations(contract) == {"Ask": {"style": "rpc", "input": "{urn:rpc}Ask", "output": "{urn:rpc}AskResponse", "soapAction": "ask"}}
    sound = '<r:Ask xmlns:r="urn:rpc" xmlns:t="urn:t"><key>k</key><row><t:v>1</t:v></row></r:Ask>'
    assert accepts(contract, sound) == []
    assert accepts(contract, sound.replace("<key>", "<r:key>").replace("</key>", "</r:key>")) == ["element.namespace", "element.missing"]


def test_overloaded_names_are_counted_and_told_apart_by_their_messages() -> None:
    text = SIMPLE.replace('<operation name="Ask"><input message="t:In"/>', '<operation name="Ask"><input name="short" message="t:Out"/><output message="t:In"/></operation>'
                          '<operation name="Ask"><input name="long" message="t:In"/>')
    bound = '<operation name="Ask"><soap:operation soapAction="{0}"/><input name="{0}"><soap:body use="literal"/></input><output><soap:body use="literal"/></output></operation>'
    start, end = text.index('<operation name="Ask"><soap'), text.index("</binding>")
    contract = read({"main.wsdl": text[:start] + bound.format("long") + bound.format("short") + text[end:]})
    found = contract.services["S"].ports["Port"].operations
    assert [(name, one.input.tag, one.action) for name, one in found.items()] == [("Ask", "{urn:t}Ask", "long"), ("Ask#2", "{urn:t}AskResponse", "short")]


def test_what_cannot_be_served_is_named_and_the_rest_stays() -> None:
    http = ('<binding name="H" type="t:P"><h:binding verb="GET" xmlns:h="http://schemas.xmlsoap.org/wsdl/http/"/></binding>'
            '<binding name="J" type="t:P"><soap:binding transport="urn:jms"/></binding>')
    ports = '<port name="Web" binding="t:H"/><port name="Queue" binding="t:J"/><port name="Gone" binding="t:Nowhere"/></service>'
    text = wsdl(ASK.format(""), extra=http).replace("</service>", ports)
    text = text.replace("</portType>", '<operation name="Old"><input message="t:In"/><output message="t:Out"/></operation>'
                        '<operation name="Tell"><output message="t:Out"/></operation></portType>')
    text = text.replace("</operation>\n</binding>", '</operation><operation name="Old"><soap:operation/><input><soap:body use="encoded"/></input><output/></operation>'
                        '<operation name="Tell"><output><soap:body use="literal"/></output></operation></binding>')
    contract = read({"main.wsdl": text})
    ports_read = contract.as_dict()["services"]["S"]
    assert {name: (one["soap"], list(one["operations"])) for name, one in ports_read.items()} == {
        "Port": ("1.1", ["Ask"]), "Web": (None, []), "Queue": (None, []), "Gone": (None, [])}
    codes = sorted(one.code for one in contract.problems)
    assert codes == ["wsdl.binding", "wsdl.binding", "wsdl.encoded", "wsdl.pattern", "wsdl.reference"]
    assert all(one.line and one.place.startswith("main.wsdl") and one.message for one in contract.problems)
    assert contract.usable


DEEP = "<a>" * 100_000 + "</a>" * 100_000
BAD: dict[str, tuple[bytes, str]] = {
    "nothing": (b"", "contract.empty"), "half of it": (SIMPLE[:900].encode(), "xml.syntax"), "no XML": (b"\x00\x01binary", "xml.syntax"),
    "an HTML page": (b"<!DOCTYPE html><html><body>Sign in</body></html>", "contract.html"),
    "an HTML page without a type": (b"\n<html><head/></html>", "contract.html"),
    "WSDL 2.0": (b'<description xmlns="http://www.w3.org/ns/wsdl"/>', "contract.wsdl2"),
    "a schema": (b'<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema"/>', "contract.schema"),
    "something else": (b"<rss/>", "contract.unknown"),
    "a document type": (b'<!DOCTYPE d [<!ENTITY a "b">]>' + SIMPLE.encode(), "xml.dtd"),
    "an entity bomb": (b'<!DOCTYPE d [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;&a;&a;&a;&a;">]><d>&b;</d>', "xml."),
    "100,000 deep": (DEEP.encode(), "xml.depth"),
    "an endless tag": (b"<a " + b"x" * 400_000, "xml.tag"),
    "another encoding than it says": (b'<?xml version="1.0" encoding="UTF-16"?><a/>', "xml."),
    "a message that is not there": (SIMPLE.replace('message="t:In"', 'message="t:Out2"').encode(), "wsdl.reference"),
    "an element that is not there": (SIMPLE.replace('element="t:Ask"', 'element="t:Asks"').encode(), "wsdl.reference"),
    "a prefix that is not there": (SIMPLE.replace('element="t:Ask"', 'element="q:Ask"').encode(), "wsdl.reference"),
    "a type that is not there": (SIMPLE.replace('type="t:A"', 'type="t:B"').encode(), "schema.reference"),
    "a part that is not there": (wsdl('<xs:include schemaLocation="gone.xsd"/>' + ASK.format("")).encode(), "contract.part-missing"),
    "a part inside the machine": (wsdl('<xs:include schemaLocation="file:///etc/passwd"/>' + ASK.format("")).encode(), "contract.part-missing"),
    "a part at an address": (wsdl('<xs:import namespace="urn:x" schemaLocation="http://127.0.0.1:1/x.xsd"/>' + ASK.format("")).encode(), "contract.part-missing"),
    "a part outside": (wsdl('<xs:include schemaLocation="../../../../etc/passwd"/>' + ASK.format("")).encode(), "contract.part-missing"),
    "a circle of types": (wsdl('<xs:complexType name="X"><xs:complexContent><xs:extension base="t:Y"/></xs:complexContent></xs:complexType><xs:complexType name="Y">'
                               '<xs:complexContent><xs:extension base="t:X"/></xs:complexContent></xs:complexType>' + ASK.format('<xs:element name="x" type="t:X"/>')).encode(), "schema.circle"),
    "a circle of simple types": (wsdl('<xs:simpleType name="X"><xs:restriction base="t:X"/></xs:simpleType>' + ASK.format('<xs:element name="x" type="t:X"/>')).encode(), "schema.circle"),
    "a circle of groups": (wsdl('<xs:group name="G"><xs:sequence><xs:group ref="t:G"/></xs:sequence></xs:group>'
                                + ASK.format('<xs:group ref="t:G"/>')).encode(), "schema.reference"),
    "names that collide": (wsdl('<xs:simpleType name="X"><xs:restriction base="xs:int"/></xs:simpleType><xs:simpleType name="X"><xs:restriction base="xs:string"/></xs:simpleType>'
                                + ASK.format("")).encode(), "schema.twice"),
    "two ports of one name": (SIMPLE.replace("</service>", '<port name="Port" binding="t:B"/></service>').encode(), "wsdl.twice"),
    "a pattern that is none": (wsdl('<xs:simpleType name="X"><xs:restriction base="xs:string"><xs:pattern value="(a"/></xs:restriction></xs:simpleType>'
                                    + ASK.format('<xs:element name="x" type="t:X"/>')).encode(), "schema.pattern"),
    "a pattern too large": (wsdl('<xs:simpleType name="X"><xs:restriction base="xs:string"><xs:pattern value="((a{1,900}b){1,900}c){1,900}"/></xs:restriction></xs:simpleType>'
                                 + ASK.format('<xs:element name="x" type="t:X"/>')).encode(), "schema.pattern-large"),
    "counts that are none": (wsdl(ASK.format('<xs:element name="x" type="xs:int" maxOccurs="many"/>')).encode(), "schema.occurs"),
    "a bound that is no value": (wsdl('<xs:simpleType name="X"><xs:restriction base="xs:int"><xs:minInclusive value="low"/></xs:restriction></xs:simpleType>'
                                      + ASK.format('<xs:element name="x" type="t:X"/>')).encode(), "schema.value"),
    "no service": (SIMPLE[:SIMPLE.index("<service")].encode() + b"</definitions>", "wsdl.no-service"),
    "no binding": (SIMPLE[:SIMPLE.index("<binding")].encode() + b"</definitions>", "wsdl.no-binding"),
    "a body of two parts": (SIMPLE.replace('<part name="body" element="t:Ask"/>', '<part name="a" element="t:Ask"/><part name="b" element="t:Ask"/>').encode(), "wsdl.parts"),
    "a document that names a type": (SIMPLE.replace('element="t:Ask"', 'type="xs:string"').encode(), "wsdl.part-type"),
}


@pytest.mark.parametrize("name", BAD)
def test_bad_contracts_are_told_and_nothing_is_silent(name: str) -> None:
    content, code = BAD[name]
    started = time.process_time()
    contract = read({"main.wsdl": content})
    assert any(one.code.startswith(code) for one in contract.problems), contract.problems
    assert all(one.message and one.place for one in contract.problems)
    assert time.process_time() - started < 5
    assert read({"main.wsdl": SIMPLE}).problems == ()


def test_a_contract_without_end_ends() -> None:
    class Endless:
        def fetch(self, location: str) -> bytes:
            number = int(location.rpartition("/")[2].partition(".")[0] or 0)
            return (f'<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:{number}">'
                    f'<xs:import namespace="urn:{number + 1}" schemaLocation="{number + 1}.xsd"/></xs:schema>').encode()

    from bricola.core.contracts.reading.wsdl import read_contract

    assert "contract.parts" in {one.code for one in read_contract("file:///0.xsd", Endless()).problems}


@given(st.integers(0, len(SIMPLE)), st.integers(0, 200), st.text(st.sampled_from('<>/"= tx:Aa&'), max_size=20))
def test_a_contract_with_a_hole_never_breaks_the_reader(start: int, length: int, filling: str) -> None:
    contract = read({"main.wsdl": SIMPLE[:start] + filling + SIMPLE[start + length:]})
    assert contract.usable or contract.problems


def test_several_contracts_in_one_bundle_are_not_guessed() -> None:
    with pytest.raises(ProblemError) as caught:
        main_of({"a.wsdl": SIMPLE.encode(), "b.wsdl": SIMPLE.encode()})
    assert caught.value.problem.code == "contract.several"
    with pytest.raises(ProblemError) as caught:
        main_of({"a.xsd": b"<xs/>", "b.xsd": b"<b/>"})
    assert caught.value.problem.code == "contract.none"


@pytest.mark.parametrize(("checked", "element", "code"), [
    ("strict", "<known xmlns='urn:t'>7</known>", ""), ("strict", "<known xmlns='urn:t'>x</known>", "answer.invalid"),
    ("strict", "<stranger xmlns='urn:t'/>", "answer.invalid"), ("lax", "<stranger xmlns='urn:t'/>", ""),
    ("lax", "<known xmlns='urn:t'>x</known>", "answer.invalid"), ("skip", "<known xmlns='urn:t'>x</known>", ""),
])
def test_what_is_written_in_an_open_part_is_judged_as_what_is_read(checked: str, element: str, code: str) -> None:
    text = wsdl(ASK.format(f'<xs:any processContents="{checked}"/>') + '<xs:element name="known" type="xs:int"/>')
    record = read({"main.wsdl": text}).services["S"].ports["Port"].operations["Ask"].input.record
    encode = compile_encoder(record, "")
    if code:
        with pytest.raises(ProblemError) as caught:
            encode({"any": element})
        assert caught.value.problem.code == code
    else:
        assert "xmlns" in encode({"any": element})
    sample = encode(from_plain(record, sample_values(record), "Ask", []))  # of an element that the contract knows, where it must be one
    problems: list[Problem] = []
    compile_decoder(record, "")(parse_xml(sample.encode()), "Ask", problems)
    assert problems == []


def outline(contract: ReadContract) -> list[Any]:
    """Everything that reading made of the messages, each record once, in the order in which they are met."""
    seen: dict[str, list[Any]] = {}

    def of(kind: Any) -> Any:
        if not isinstance(kind, Record):
            return repr(kind)
        if kind.id not in seen:
            seen[kind.id] = []
            rest = (kind.name, kind.tag, kind.type, kind.description, kind.abstract, kind.mixed, kind.nillable, repr(kind.open_attributes))
            elements = [(*(getattr(one, field.name) for field in fields(Element) if field.name != "type"), of(one.type))
                        for one in (*kind.attributes, *kind.elements, *((kind.text,) if kind.text else ()))]
            seen[kind.id] += [rest, elements, kind.content is None, [of(one) for one in kind.derived]]
        return kind.id

    for service in contract.services.values():
        for port in service.ports.values():
            for operation in port.operations.values():
                of(operation.input.record)
                of(operation.output.record if operation.output is not None else None)
    return [*seen.items(), [one.as_dict() for one in contract.problems]]


ATTRIBUTES = st.sampled_from(['type="xs:int"', 'type="t:Code"', 'type="t:Inner"', 'type="t:None"', 'minOccurs="0"', 'maxOccurs="unbounded"',
                              'maxOccurs="0"', 'maxOccurs="3"', 'nillable="true"', 'form="unqualified"', 'default="7"', 'xmlns:u="urn:t"'])
ELEMENTS = st.lists(st.tuples(st.sampled_from(["a", "b", "c", "d"]), st.sets(ATTRIBUTES, max_size=3),
                              st.sampled_from(["", "<xs:annotation><xs:documentation>Words of it</xs:documentation></xs:annotation>"])), max_size=5)


@given(ELEMENTS, st.sampled_from(["", ' mixed="true"', ' minOccurs="0"']), st.sampled_from(["", '<xs:attribute name="a" type="xs:int"/>']))
def test_the_quick_way_reads_what_the_general_way_reads(elements: list[Any], more: str, attribute: str) -> None:
    inside = "".join(f'<xs:element name="{name}" {" ".join(sorted({one.split("=")[0]: one for one in given}.values()))}>{words}</xs:element>'
                     for name, given, words in elements)
    on_type, on_sequence = (more, "") if "mixed" in more else ("", more)
    text = wsdl(f'<xs:simpleType name="Code"><xs:restriction base="xs:string"><xs:maxLength value="3"/></xs:restriction></xs:simpleType>'
                f'<xs:complexType name="Inner"><xs:sequence><xs:element name="in" type="t:Inner" minOccurs="0"/></xs:sequence></xs:complexType>'
                f'<xs:element name="Ask"><xs:complexType{on_type}><xs:sequence{on_sequence}>{inside}</xs:sequence>{attribute}'
                '</xs:complexType></xs:element><xs:element name="AskResponse" type="xs:string"/>')
    quick = outline(read({"main.wsdl": text}))
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(types, "plain_elements", lambda *_: None)
        assert quick == outline(read({"main.wsdl": text}))
