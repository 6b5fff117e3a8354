"""Records drawn from samples and schemas. A sample that a record was drawn from fits it; what a schema allows, an independent validator
says."""

import json

import pytest
import xmlschema
from hypothesis import assume, given
from hypothesis import strategies as some
from lxml import etree

from bricola.core.contracts.drawing import draw
from bricola.core.contracts.drawing.records import DrawnRecords
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.json_text import read_json
from bricola.core.messages.decoder import compile_decoder
from bricola.core.messages.encoder import compile_encoder
from bricola.core.messages.plain import from_plain
from bricola.core.messages.samples import sample_values
from bricola.core.problems import Problem, ProblemError
from bricola.core.shapes.model import Record
from bricola.core.shapes.typed import typed_elements

TOLL = b"""<tolls xmlns="urn:harbour"><toll number="007"><lock>Upper Weir</lock><amount>2.50</amount><paidOn>2026-11-02</paidOn></toll>
<toll number="012"><lock>Mill</lock><amount>11.00</amount><boats>3</boats></toll><open>true</open></tolls>"""


def _record(drawn: DrawnRecords) -> Record:
    first = drawn.records[0]
    return Record(first.name, tuple(typed_elements(first.fields, Catalogue(drawn.records), "test", (first.name,))))


def _types(drawn: DrawnRecords) -> dict[str, dict[str, str]]:
    return {one.name: {part.name: part.type + ("*" if part.repeats else "" if part.required else "?") for part in one.fields}
            for one in drawn.records}


def test_a_sample_in_xml_gives_records_with_types_lists_and_what_may_be_missing() -> None:
    drawn = draw(TOLL)
    assert _types(drawn) == {
        "Tolls": {"toll": "Toll*", "open": "boolean"},
        "Toll": {"number": "string", "lock": "string", "amount": "decimal", "paidOn": "date?", "boats": "long?"}}
    assert "The attribute number of toll is a field like an element." in drawn.notes
    assert {part.name: part.sample for part in drawn.records[1].fields}["amount"] == "2.50"


def test_of_a_soap_envelope_what_stands_in_the_body_is_meant() -> None:
    text = (b'<s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope"><s:Header/><s:Body>'
            b'<GetToll xmlns="urn:x"><number>4</number></GetToll></s:Body></s:Envelope>')
    assert _types(draw(text)) == {"GetToll": {"number": "long"}}


def test_a_sample_in_json_keeps_what_it_says_of_types() -> None:
    drawn = draw(b'{"number": "4", "amount": 2.50, "big": 12345678901, "paid-on": "2026-11-02", "lines": [{"a": 1}, {"a": 2, "b": null}],'
                 b' "tags": ["x"], "none": null}', "TollLine")
    assert _types(drawn) == {
        "TollLine": {"number": "string", "amount": "decimal", "big": "long", "paidOn": "date", "lines": "Line*", "tags": "string*",
                     "none": "string?"},
        "Line": {"a": "long", "b": "string?"}}
    assert any(note.startswith("paid-on is called paidOn") for note in drawn.notes)
    assert any(note.startswith("none is empty") for note in drawn.notes)


_LEAVES = (some.booleans() | some.integers(-10**12, 10**12) | some.text(some.characters(min_codepoint=32, max_codepoint=0x24F), max_size=12)
           | some.dates().map(str))
_KEYS = some.from_regex(r"[a-z][A-Za-z0-9]{0,8}", fullmatch=True)
_TREES = some.recursive(_LEAVES, lambda inner: some.dictionaries(_KEYS, inner, min_size=1, max_size=4)
                        | some.lists(some.dictionaries(_KEYS, _LEAVES, min_size=1, max_size=3), min_size=1, max_size=3), max_leaves=12)


@given(some.dictionaries(_KEYS, _TREES, min_size=1, max_size=5))
def test_a_sample_fits_the_record_that_is_drawn_from_it(sample: dict[str, object]) -> None:
    drawn = draw(json.dumps(sample).encode())
    assume(not any("of several types" in one for one in drawn.notes))
    assert not any("now a text" in one for one in drawn.notes)
    problems: list[Problem] = []
    from_plain(_record(drawn), read_json(json.dumps(sample).encode()), "sample", problems)
    assert [one.as_dict() for one in problems] == []


def test_a_sample_in_xml_is_read_with_the_record_that_is_drawn_from_it() -> None:
    plain = TOLL.replace(b' number="007"', b"").replace(b' number="012"', b"")
    record, root = _record(draw(plain)), etree.fromstring(plain)
    problems: list[Problem] = []
    values = compile_decoder(record, "urn:harbour")(root, "tolls", problems)
    assert problems == []
    assert [one["lock"] for one in values["toll"]] == ["Upper Weir", "Mill"]


SCHEMA = b"""<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:bill" xmlns="urn:bill" elementFormDefault="qualified">
 <xs:simpleType name="Registration"><xs:restriction base="xs:string"><xs:pattern value="LW-[0-9]{4}"/></xs:restriction></xs:simpleType>
 <xs:complexType name="Line"><xs:sequence><xs:element name="lock" type="xs:string"/>
  <xs:element name="amount"><xs:simpleType><xs:restriction base="xs:decimal"><xs:totalDigits value="9"/><xs:fractionDigits value="2"/>
  </xs:restriction></xs:simpleType></xs:element></xs:sequence></xs:complexType>
 <xs:element name="Bill"><xs:complexType><xs:sequence>
  <xs:element name="vessel" type="Registration"><xs:annotation><xs:documentation>Its mark.</xs:documentation></xs:annotation></xs:element>
  <xs:element name="line" type="Line" minOccurs="1" maxOccurs="20"/>
  <xs:element name="paid" minOccurs="0"><xs:simpleType><xs:restriction base="xs:string"><xs:enumeration value="cash"/>
   <xs:enumeration value="card"/></xs:restriction></xs:simpleType></xs:element>
  <xs:element name="day" type="xs:QName"/>
 </xs:sequence></xs:complexType></xs:element>
</xs:schema>"""


def test_a_message_of_a_record_drawn_from_a_schema_is_valid_by_the_schema() -> None:
    drawn = draw(SCHEMA.replace(b'name="day" type="xs:QName"', b'name="day" type="xs:date"'))
    assert _types(drawn) == {"Bill": {"vessel": "string", "line": "Line*", "paid": "string?", "day": "date"},
                             "Line": {"lock": "string", "amount": "decimal"}}
    record = _record(drawn)
    problems: list[Problem] = []
    values = from_plain(record, sample_values(record, full=True), "Bill", problems)
    assert problems == []
    message = compile_encoder(record, "urn:bill")(values)
    xmlschema.XMLSchema(SCHEMA.replace(b'name="day" type="xs:QName"', b'name="day" type="xs:date"').decode()).validate(message)
    fields = {one.name: one for one in drawn.records[0].fields}
    assert (fields["vessel"].description, fields["paid"].codes, fields["line"].at_most) == ("Its mark.", ("cash", "card"), 20)


def test_what_a_record_cannot_carry_is_told() -> None:
    assert "day is of type QName, which is drawn as a text." in draw(SCHEMA).notes
    several = SCHEMA.replace(b"</xs:schema>", b'<xs:element name="Other" type="Line"/></xs:schema>')
    with pytest.raises(ProblemError) as caught:
        draw(several)
    assert caught.value.problems[0].choices == ("Bill", "Other")
    assert _types(draw(several, part="Other")) == {"Other": {"lock": "string", "amount": "decimal"}}


def test_a_json_schema_gives_its_facets() -> None:
    drawn = draw(json.dumps({
        "$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Bill", "type": "object", "required": ["vessel", "lines"],
        "properties": {
            "vessel": {"type": "string", "pattern": "^LW-[0-9]{4}$", "description": "Its mark."},
            "lines": {"type": "array", "minItems": 1, "items": {"$ref": "#/$defs/Line"}},
            "paid": {"enum": ["cash", "card"]}, "count": {"type": ["integer", "null"], "minimum": 0},
            "next": {"$ref": "#/$defs/Line"}},
        "$defs": {"Line": {"type": "object", "required": ["amount"], "properties": {"amount": {"type": "number"}}}}}).encode())
    assert _types(drawn) == {"Bill": {"vessel": "string", "lines": "Lines*", "paid": "string?", "count": "long?", "next": "Lines?"},
                             "Lines": {"amount": "decimal"}}
    fields = {one.name: one for one in drawn.records[0].fields}
    assert (fields["vessel"].pattern, fields["count"].min, fields["lines"].at_least) == ("LW-[0-9]{4}", "0", 1)


def test_records_inside_themselves_and_patterns_of_another_kind_are_told() -> None:
    schema = {"$schema": "x", "title": "Lock", "type": "object", "properties": {
        "next": {"$ref": "#"}, "code": {"type": "string", "pattern": "^(?=a)b$"}, "way": {"type": "string", "pattern": "^up|down$"},
        "part": {"type": "string", "pattern": "up|down"}}}
    drawn = draw(json.dumps(schema).encode())
    assert _types(drawn) == {"Lock": {"next": "string?", "code": "string?", "way": "string?", "part": "string?"}}
    assert [one.pattern for one in drawn.records[0].fields] == [None, None, None, ".*(up|down).*"]
    assert any(one.startswith("Lock stands inside itself") for one in drawn.notes)
    assert len([one for one in drawn.notes if one.startswith("The pattern of")]) == 2
    chain = {f"R{at}": {"type": "object", "properties": {"a": {"$ref": f"#/$defs/R{at + 1}"}}} for at in range(400)}
    with pytest.raises(ProblemError) as caught:
        draw(json.dumps({"$defs": {**chain, "R400": {"type": "object", "properties": {"a": {"type": "string"}}}}}).encode(), part="R0")
    assert caught.value.problem.code == "sample.depth"
    circle = (b'<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema"><xs:complexType name="N"><xs:sequence>'
              b'<xs:element name="v" type="xs:int"/><xs:element name="n" type="N" minOccurs="0"/></xs:sequence></xs:complexType></xs:schema>')
    assert _types(draw(circle)) == {"N": {"v": "int", "n": "string?"}}


@pytest.mark.parametrize(("content", "code"), [
    (b"", "sample.empty"), (b"<a/>", "sample.nothing"), (b"[1, 2]", "sample.nothing"), (b"{}", "sample.nothing"), (b"<a><b></a>", None),
    (b"{", "json.syntax"), (b'{"$ref": "#/no"}', "sample.reference"),
    (b'{"$ref": "#/$defs/a", "$defs": {"a": {"$ref": "#/$defs/a"}}}', "sample.reference"),
    (b"[" * 70 + b"]" * 70, None),
])
def test_bad_samples_get_one_clear_answer(content: bytes, code: str | None) -> None:
    with pytest.raises(ProblemError) as caught:
        draw(content)
    assert len(caught.value.problems) == 1
    assert code in (None, caught.value.problems[0].code)
