"""Verdicts on contract changes, held against an independent judge where one can tell."""

from dataclasses import replace
from typing import Any

import pytest
import xmlschema
from lxml import etree

from bricola.core.contracts.compatibility import Verdict, compare_contracts, worst
from bricola.core.contracts.names import XSD
from bricola.core.contracts.wsdl import write_wsdl
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.compare import compare_lines, compare_texts
from bricola.core.definitions.text import read_definition
from bricola.core.kinds.resolve import resolve_service
from bricola.core.messages.envelope import Soap
from bricola.core.messages.request import write_request
from bricola.core.messages.samples import sample_values
from bricola.core.shapes.forms import Form
from bricola.core.shapes.model import ServiceShape
from tests.core.samples import PARTS

OK, READERS, BREAKS = Verdict.COMPATIBLE, Verdict.READERS, Verdict.BREAKING


def shape(*change: tuple[str, str]) -> ServiceShape:
    texts = list(PARTS)
    for old, new in change:
        assert any(old in text for text in texts), old
        texts = [text.replace(old, new) for text in texts]
    catalogue = Catalogue(read_definition(text) for text in texts)
    service = catalogue.find_service("GaugeBook")
    assert service is not None
    return resolve_service(service, catalogue).shape


GET = "  GetGauge: {runs: gauge.get, description: Reads one gauge.}\n"
# (change, rule, verdict): from the sample service to the changed one.
CASES: list[tuple[tuple[str, str], str, Verdict]] = [
    ((GET, GET + "  ReadGauge: {runs: gauge.get, description: Again.}\n"), "operation.added", OK),
    ((GET, ""), "operation.removed", BREAKS),
    (("urn:larkmere:gauge-book", "urn:larkmere:gauges"), "service.namespace", BREAKS),
    (("service: GaugeBook\n", "service: GaugeBook\nversion: 2\n"), "service.namespace", BREAKS),
    (("service: GaugeBook\n", "service: GaugeBook\nstyle: rpc\n"), "service.style", BREAKS),
    (("service: GaugeBook\n", "service: GaugeBook\nsoap: ['1.2']\n"), "service.soap", BREAKS),
    (("description: Gauges & their data", "description: Other words"), "documentation", OK),
    (("      placeContains: {field: place, compare: contains}\n", ""), "input.removed", BREAKS),
    (("      grade: {field: grade}\n", "      grade: {field: grade}\n      code: {field: code}\n"), "input.added-optional", OK),
    (("      grade: {field: grade}\n", "      grade: {field: grade}\n      code: {field: code, required: true}\n"), "input.added-required", BREAKS),
    (("      grade: {field: grade}\n", "      grade: {field: grade, required: true}\n"), "input.required", BREAKS),
    (("      placeContains: {field: place, compare: contains}\n      grade: {field: grade}\n",
      "      grade: {field: grade}\n      placeContains: {field: place, compare: contains}\n"), "input.order", BREAKS),
    (("limit: {default: 3, most: 50}", "limit: {default: 3, most: 60}"), "input.max", OK),
    (("limit: {default: 3, most: 50}", "limit: {default: 3, most: 40}"), "input.max", BREAKS),
    (("limit: {default: 3, most: 50}", "limit: {default: 5, most: 50}"), "input.default", READERS),
    (("pattern: G\\d{2}", "pattern: G0\\d"), "input.pattern", BREAKS),
    (("codes: [A, B, C]", "codes: [A, B, C, D]"), "input.codes", OK),
    (("codes: [A, B, C]", "codes: [A, B, C, D]"), "output.codes", READERS),
    (("codes: [A, B, C]", "codes: [A, B]"), "input.codes", BREAKS),
    (("codes: [A, B, C]", "codes: [A, B]"), "output.codes", OK),
    (("  page: {type: anyURI, required: false}\n", ""), "output.removed-optional", READERS),
    (("  automatic: {type: boolean}\n", ""), "output.removed", BREAKS),
    (("  automatic: {type: boolean}\n", "  automatic: {type: boolean}\n  height: {type: decimal}\n"), "output.added", READERS),
    (("  automatic: {type: boolean}\n", "  automatic: {type: boolean, required: false}\n"), "output.optional", BREAKS),
    (("drift: {type: double, required: false}", "drift: {type: double}"), "output.required", OK),
    (("readings: {type: nonNegativeInteger}", "readings: {type: unsignedInt}"), "output.type", OK),
    (("readings: {type: nonNegativeInteger}", "readings: {type: integer}"), "output.type", BREAKS),
    (("max_length: 20", "max_length: 10"), "output.max-length", OK),
    (("max_length: 20", "max_length: 40"), "output.max-length", READERS),
    (("object: gauge\n", "object: gauge\nrecord: Marker\n"), "output.removed", BREAKS),
]


@pytest.mark.parametrize(("change", "rule", "verdict"), CASES, ids=[f"{rule}-{verdict}" for _, rule, verdict in CASES])
def test_each_change_has_its_rule_and_verdict(change: tuple[str, str], rule: str, verdict: Verdict) -> None:
    changes = compare_contracts(shape(), shape(change))
    mine = [one for one in changes if one.rule == rule]
    assert {one.verdict for one in mine} == {verdict}, changes
    assert list(changes) == sorted(changes, key=lambda one: -list(Verdict).index(one.verdict))


def test_a_contract_is_compatible_with_itself() -> None:
    assert compare_contracts(shape(), shape()) == []
    assert worst([]) is OK


def schema_of(service: ServiceShape) -> xmlschema.XMLSchema:
    root = etree.fromstring(write_wsdl(service, "http://127.0.0.1/"))
    found = root.find(f".//{{{XSD}}}schema")
    assert found is not None
    return xmlschema.XMLSchema(etree.tostring(found))


def requests(service: ServiceShape) -> list[tuple[str, etree._Element]]:
    """A full and a short request for every operation, as an old client would send them."""
    found = []
    for operation in service.operations:
        full: dict[str, Any] = sample_values(operation.input) | {
            one.name: {"grade": "C", "placeContains": "Weir", "datumFrom": "1.5", "placeStarts": "W", "limit": "50"}[one.name]
            for one in operation.input.elements if one.name in ("grade", "placeContains", "datumFrom", "placeStarts")}
        if "code" in full:
            full["code"] = "G99"
        if any(one.name == "limit" for one in operation.input.elements):
            full["limit"] = "45" if operation.name == "FindGauges" else "5"
        short = {one.name: full[one.name] for one in operation.input.elements if one.least}
        for values in (full, short):
            envelope = etree.fromstring(write_request(Soap.V11, service.namespace, operation, values))
            found.append((operation.name, envelope[-1][0]))
    return found


@pytest.mark.parametrize(("change", "rule", "verdict"), [one for one in CASES if one[1].startswith(("input", "operation", "service"))
                                                           and one[1] != "service.soap"])  # no schema tells the version
def test_an_independent_validator_agrees_about_requests(change: tuple[str, str], rule: str, verdict: Verdict) -> None:
    """Requests that were right must be right for the changed schema, unless the verdict says that callers break."""
    old, new = shape(), shape(change)
    schema = schema_of(new)
    refused = [name for name, body in requests(old) if body.tag not in schema.maps.elements or not schema.is_valid(body)]
    assert bool(refused) == (worst(compare_contracts(old, new)) is BREAKS), refused


def test_texts_are_compared_line_by_line() -> None:
    old = "\n".join(f"line {n}" for n in range(20))
    lines = compare_lines(old, old.replace("line 10", "line ten"), around=1)
    assert [(sign, text) for sign, _, _, text in lines] == [
        ("…", "9"), (" ", "line 9"), ("-", "line 10"), ("+", "line ten"), (" ", "line 11")]
    assert lines[2] == ("-", 11, None, "line 10")
    assert [(one.path, one.action) for one in compare_texts({"a": "1", "b": "2"}, {"b": "3", "c": "4"})] == [
        ("a", "removed"), ("b", "changed"), ("c", "added")]


def test_the_step_to_a_form_in_which_faults_have_a_cause_is_told() -> None:
    """And it leaves whoever reads faults by their code something to look at, nobody else."""
    new = shape()
    old = replace(new, form=Form.SECOND)
    assert [(one.rule, one.verdict) for one in compare_contracts(old, new)] == [("form.cause", READERS)]
    assert compare_contracts(new, new) == []
    silent = replace(new, operations=tuple(replace(one, faults=()) for one in new.operations))
    assert compare_contracts(replace(silent, form=Form.SECOND), silent) == []
