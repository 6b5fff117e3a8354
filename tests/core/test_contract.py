"""The contract, before independent readers: zeep, the WSDL schema, libxml2."""

import io
import logging
import warnings
from importlib import resources

import pytest
import xmlschema
import zeep
from lxml import etree

from bricola.core.contracts.openapi import write_openapi
from bricola.core.contracts.reading.bundle import Bundle, location_of
from bricola.core.contracts.reading.wsdl import read_contract
from bricola.core.contracts.wsdl import write_wsdl
from bricola.core.messages.decoder import compile_decoder
from bricola.core.messages.envelope import Soap
from bricola.core.messages.plain import from_plain
from bricola.core.messages.request import write_request
from bricola.core.messages.samples import sample_values
from bricola.core.problems import Problem, ProblemError
from bricola.core.serving.live import compile_answer, compile_request
from bricola.core.shapes.styles import Style
from tests.core.samples import gauge_service

ADDRESS = "http://larkmere.example/soap/live/GaugeBook"
SHAPE = gauge_service().shape
WSDL = write_wsdl(SHAPE, ADDRESS)
STYLES = {one.value: gauge_service(f"style: {one}\n").shape for one in Style}
W = "{http://schemas.xmlsoap.org/wsdl/}"


@pytest.mark.parametrize("style", STYLES)
def test_it_obeys_the_wsdl_schema(style: str) -> None:
    with resources.as_file(resources.files("xmlschema").joinpath("schemas/WSDL/wsdl.xsd")) as wsdl, \
            resources.as_file(resources.files("xmlschema").joinpath("schemas/WSDL/wsdl-soap.xsd")) as soap:
        judge = xmlschema.XMLSchema10([str(wsdl), str(soap)])
        root = etree.fromstring(write_wsdl(STYLES[style], ADDRESS))
        # The library brings no schema of the SOAP 1.2 extension elements; both bindings are made by one function.
        for element in list(root.iter("{http://schemas.xmlsoap.org/wsdl/soap12/}*")):
            element.getparent().remove(element)
        judge.validate(etree.tostring(root))


@pytest.mark.parametrize("style", STYLES)
def test_zeep_loads_it_without_a_warning(caplog: pytest.LogCaptureFixture, style: str) -> None:
    with warnings.catch_warnings(), caplog.at_level(logging.WARNING):
        warnings.simplefilter("error")
        client = zeep.Client(io.BytesIO(write_wsdl(STYLES[style], ADDRESS)))
    assert not caplog.records
    service = client.wsdl.services["GaugeBook"]
    assert set(service.ports) == {"GaugeBookSoap11", "GaugeBookSoap12"}
    for port in service.ports.values():
        assert set(port.binding.all()) == {"GetGauge", "FindGauges", "FindGraded", "ListGauges"}
        assert port.binding_options["address"] == "http://larkmere.example/soap/live/GaugeBook"


def test_sections_stand_in_the_standards_order_and_say_what_callers_need() -> None:
    root = etree.fromstring(WSDL)
    order = [etree.QName(child).localname for child in root if child.tag != f"{W}documentation"]
    assert order == sorted(order, key=["types", "message", "portType", "binding", "service"].index)
    operation = root.find(f"{W}portType/{W}operation[@name='GetGauge']")
    assert operation is not None
    assert operation.findtext(f"{W}documentation") == "Reads one gauge."
    assert [fault.get("name") for fault in operation.findall(f"{W}fault")] == ["NotFound", "problems"]
    assert root.find(f"{W}types")[0].tag.endswith("schema")  # no documentation inside types
    assert b"Gauges &amp; their data" in WSDL


@pytest.mark.parametrize("version", list(Soap))
@pytest.mark.parametrize("operation", SHAPE.operations, ids=lambda one: one.name)
def test_samples_obey_the_schema_unedited(version: Soap, operation: object) -> None:
    schema = etree.XMLSchema(etree.fromstring(etree.tostring(etree.fromstring(WSDL).find(f"{W}types")[0])))
    envelope = write_request(version, SHAPE.namespace, operation, sample_values(operation.input))  # type: ignore[attr-defined]
    schema.assertValid(etree.fromstring(envelope).find(f"{version.tag_body}/*"))


@pytest.mark.parametrize("style", STYLES)
def test_what_we_write_is_what_we_read_in_every_style(style: str) -> None:
    shape = STYLES[style]
    read = read_contract(location_of("g.wsdl"), Bundle({"g.wsdl": write_wsdl(shape, ADDRESS)}))
    assert read.problems == ()
    for port, version in (("GaugeBookSoap11", Soap.V11), ("GaugeBookSoap12", Soap.V12)):
        operations = read.services["GaugeBook"].ports[port].operations
        assert {one.style for one in operations.values()} == {"rpc" if style == "rpc" else "document"}
        for operation in shape.operations:
            found = operations[operation.name]
            written = write_request(version, shape.namespace, operation, sample_values(operation.input))
            payload = etree.fromstring(written).find(f"{version.tag_body}/*")
            assert payload is not None
            assert payload.tag == found.input.tag
            problems: list[Problem] = []
            values = compile_decoder(found.input.record, "")(payload, "", problems)
            assert problems == []
            plain = values["parameters"] if style == "rpc" else values
            assert {name for name, one in plain.items() if one is not None} >= {one.name for one in operation.input.elements if one.least}
            answer = from_plain(operation.output, sample_values(operation.output, full=True), "", problems)
            body = etree.fromstring(compile_answer(operation, shape.namespace)(answer))
            assert found.output is not None
            back = compile_decoder(found.output.record, "")(body, "", problems)
            assert problems == []
            assert (back["result"] if style == "rpc" else back).keys() >= {one.name for one in operation.output.elements if one.least}


CALLS = f"{STYLES['rpc'].namespace}:calls"
OWN = STYLES["rpc"].namespace


@pytest.mark.parametrize(("body", "codes"), [
    (f'<c:GetGauge xmlns:c="{CALLS}"><parameters><code xmlns="{OWN}">G01</code></parameters></c:GetGauge>', []),
    (f'<c:GetGauge xmlns:c="{CALLS}" xmlns:o="{OWN}"><parameters><o:code>G01</o:code></parameters></c:GetGauge>', []),
    (f'<c:GetGauge xmlns:c="{CALLS}"/>', ["element.missing"]),
    (f'<c:GetGauge xmlns:c="{CALLS}"><parameters/></c:GetGauge>', ["element.missing"]),
    (f'<c:GetGauge xmlns:c="{CALLS}"><parameters><code>G01</code></parameters></c:GetGauge>', ["element.namespace"]),
    (f'<GetGauge xmlns="{CALLS}"><parameters><code xmlns="{OWN}">G01</code></parameters></GetGauge>', ["element.namespace"]),
    (f'<c:GetGauge xmlns:c="{CALLS}" xmlns:o="{OWN}"><parameters><o:code>G01</o:code></parameters><more/></c:GetGauge>', ["element.unknown"]),
    (f'<c:GetGauge xmlns:c="{CALLS}" xmlns:o="{OWN}"><parameters><o:code>X</o:code></parameters></c:GetGauge>', ["value.pattern"]),
    (f'<c:GetGauge xmlns:c="{CALLS}" xmlns:o="{OWN}"><parameters><o:code>G01</o:code></parameters><parameters/></c:GetGauge>', ["element.repeated"]),
])
def test_the_part_of_an_rpc_message_is_held_against_its_type(body: str, codes: list[str]) -> None:
    shape = STYLES["rpc"]
    problems: list[Problem] = []
    operation = shape.operation("GetGauge")
    assert operation is not None
    values = compile_request(operation, shape.namespace, strict=True)(etree.fromstring(body), "GetGauge", problems)
    assert [one.code for one in problems][:1] == codes
    assert codes or values == {"code": "G01"}


def test_the_json_face_is_the_same_in_every_style() -> None:
    documents = {style: write_openapi(shape, "http://larkmere.example/rest/live/GaugeBook", 3) for style, shape in STYLES.items()}
    for document in documents.values():
        assert document["paths"].keys() == documents["wrapped"]["paths"].keys()
        assert document["components"]["schemas"]["Gauge"] == documents["wrapped"]["components"]["schemas"]["Gauge"]


def test_a_service_may_speak_one_version() -> None:
    shape = gauge_service("soap: ['1.1']\n").shape
    assert shape.soap == ("1.1",)
    assert list(zeep.Client(io.BytesIO(write_wsdl(shape, ADDRESS))).wsdl.services["GaugeBook"].ports) == ["GaugeBookSoap11"]
    with pytest.raises(ProblemError, match="at least one SOAP version"):
        gauge_service("soap: []\n")


def test_openapi_describes_the_same_operations() -> None:
    document = write_openapi(SHAPE, "http://larkmere.example/rest/live/GaugeBook", 3)
    assert set(document["paths"]) == {f"/{one.name}" for one in SHAPE.operations}
    gauge = document["components"]["schemas"]["Gauge"]
    assert gauge["properties"]["grade"]["enum"] == ["A", "B", "C"]
    assert "drift" not in gauge["required"]
    assert "422" in document["paths"]["/GetGauge"]["post"]["responses"]
