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
from bricola.core.contracts.wsdl import write_wsdl
from bricola.core.messages.envelope import Soap
from bricola.core.messages.request import write_request
from bricola.core.messages.samples import sample_values
from tests.core.samples import gauge_service

SHAPE = gauge_service().shape
WSDL = write_wsdl(SHAPE, "http://larkmere.example/soap/live/GaugeBook")
W = "{http://schemas.xmlsoap.org/wsdl/}"


def test_it_obeys_the_wsdl_schema() -> None:
    with resources.as_file(resources.files("xmlschema").joinpath("schemas/WSDL/wsdl.xsd")) as wsdl, \
            resources.as_file(resources.files("xmlschema").joinpath("schemas/WSDL/wsdl-soap.xsd")) as soap:
        judge = xmlschema.XMLSchema10([str(wsdl), str(soap)])
        root = etree.fromstring(WSDL)
        # The library brings no schema of the SOAP 1.2 extension elements; both bindings are made by one function.
        for element in list(root.iter("{http://schemas.xmlsoap.org/wsdl/soap12/}*")):
            element.getparent().remove(element)
        judge.validate(etree.tostring(root))


def test_zeep_loads_it_without_a_warning(caplog: pytest.LogCaptureFixture) -> None:
    with warnings.catch_warnings(), caplog.at_level(logging.WARNING):
        warnings.simplefilter("error")
        client = zeep.Client(io.BytesIO(WSDL))
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


def test_openapi_describes_the_same_operations() -> None:
    document = write_openapi(SHAPE, "http://larkmere.example/rest/live/GaugeBook", 3)
    assert set(document["paths"]) == {f"/{one.name}" for one in SHAPE.operations}
    gauge = document["components"]["schemas"]["Gauge"]
    assert gauge["properties"]["grade"]["enum"] == ["A", "B", "C"]
    assert "drift" not in gauge["required"]
    assert "422" in document["paths"]["/GetGauge"]["post"]["responses"]
