"""Tests made from contracts: an independent validator agrees with every request that is called right or wrong, whatever the contract."""

import pytest
from hypothesis import given
from hypothesis import strategies as st
from lxml import etree

from bricola.core.contracts.kept import keep_contract
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.text import read_definition
from bricola.core.kinds.resolve import resolve_service
from bricola.core.messages.envelope import Soap
from bricola.core.messages.request import write_request
from bricola.core.problems import Problem
from bricola.core.shapes.model import ServiceShape
from bricola.core.testing.generating import Class, Generated, generate, judge
from bricola.core.testing.places import fill
from bricola.core.testing.replies import Fault, Seen
from bricola.core.testing.schemas import schema_judge
from bricola.core.xml import parse_xml
from bricola.demo.start import catalogue_files

DEMO = Catalogue(read_definition(text, path) for path, text in catalogue_files().items())
SHAPES = {one.name: resolve_service(one, DEMO).shape for one in DEMO.services()}
OURS = [name for name, shape in SHAPES.items() if not shape.foreign]


def payload(shape: ServiceShape, test: Generated) -> etree._Element:
    operation = shape.operation(test.case.operation)
    assert operation is not None
    values = fill(test.case.values, str)
    body = fill(test.case.envelope, str).encode() or write_request(Soap.V11, shape.namespace, operation, values)
    return parse_xml(body)[0][0]


@pytest.mark.parametrize("name", OURS)
def test_another_validator_agrees_with_every_request(name: str) -> None:
    shape = SHAPES[name]
    against = schema_judge(keep_contract(shape))
    assert against is not None
    for test in generate(shape, random=10).by_name.values():
        if test.promised in (Class.ANSWERED, Class.REFUSED):
            wrong = against(payload(shape, test))
            assert bool(wrong) is (test.promised is Class.REFUSED), (test.case.description, wrong)


@given(facets=st.fixed_dictionaries({}, optional={"digits": st.integers(3, 12), "fraction": st.integers(0, 2), "min": st.integers(-99, 0),
                                                  "max": st.integers(1, 99)}),
       text=st.fixed_dictionaries({}, optional={"min_length": st.integers(0, 3), "max_length": st.integers(3, 40)}),
       seed=st.integers(0, 99))
def test_whatever_the_facets_are(facets: dict[str, int], text: dict[str, int], seed: int) -> None:
    def line(given: dict[str, int]) -> str:
        return "".join(f", {name}: {value}" for name, value in given.items())

    parts = ("backend: b\nengine: sqlite", f"object: t\nbackend: b\ntable: t\nkey: [k]\nfields:\n  k: {{type: string{line(text)}}}\n"
             f"  n: {{type: decimal{line(facets)}, required: false}}\n  i: {{type: short{line({k: v for k, v in facets.items() if k in ('min', 'max')})}}}\n",
             "service: S\nnamespace: urn:s\noperations: {Make: {runs: t.create}}")
    catalogue = Catalogue(read_definition(one) for one in parts)
    service = catalogue.find_service("S")
    assert service is not None
    shape = resolve_service(service, catalogue).shape
    against = schema_judge(keep_contract(shape))
    assert against is not None
    for test in generate(shape, seed, 5).by_name.values():
        if test.promised in (Class.ANSWERED, Class.REFUSED) and test.case.face != "rest":
            assert bool(against(payload(shape, test))) is (test.promised is Class.REFUSED), (test.case.description, test.case.values)


def test_every_kind_of_mistake_is_made() -> None:
    rules = {test.rule for shape in SHAPES.values() for test in generate(shape).by_name.values()}
    assert {"missing", "wrong type", "too long", "out of list", "beyond the least value", "beyond the greatest value", "empty",
            "nested empty", "doubled", "unknown", "unknown inside", "wrong namespace", "wrong order", "no identity", "wrong token",
            "expired token", "wrong role", "too many digits", "too many places", "fraction in a whole number", "wrong form", "too many",
            "nil", "least", "full", "with samples"} <= rules


def test_the_same_seed_draws_the_same_requests() -> None:
    shape = SHAPES["VesselRegistry"]
    assert generate(shape, 7, 5).suite == generate(shape, 7, 5).suite
    assert generate(shape, 7, 5).suite != generate(shape, 8, 5).suite


@pytest.mark.parametrize(("promised", "seen", "good"), [
    (Class.ANSWERED, Seen(200, b"", 0, answer={}), True),
    (Class.ANSWERED, Seen(500, b"", 0, fault=Fault("NotFound")), True),
    (Class.ANSWERED, Seen(500, b"", 0, fault=Fault(problems=(Problem("internal.error", "x"),))), False),
    (Class.ANSWERED, Seen(200, b"", 0, answer={}, against=(Problem("element.missing", "x"),)), False),
    (Class.REFUSED, Seen(500, b"", 0, fault=Fault(problems=(Problem("value.pattern", "x", place="GetVessel/registration"),))), True),
    (Class.REFUSED, Seen(500, b"", 0, fault=Fault(problems=(Problem("value.pattern", "x", place="GetVessel/other"),))), False),
    (Class.REFUSED, Seen(500, b"", 0, fault=Fault(problems=(Problem("answer.invalid", "x", place="GetVessel/registration"),))), False),
    (Class.REFUSED, Seen(200, b"", 0, answer={}), False),
    (Class.REFUSED, Seen(500, b"", 0, fault=Fault("NotFound")), False),
    (Class.IDENTITY, Seen(401, b"", 0, fault=Fault(problems=(Problem("caller.identity", "x"),))), True),
    (Class.IDENTITY, Seen(200, b"", 0, answer={}), False),
    (Class.ROLE, Seen(403, b"", 0, fault=Fault(problems=(Problem("caller.role", "x"),))), True),
    (Class.ROLE, Seen(401, b"", 0, fault=Fault(problems=(Problem("caller.role", "x"),))), False),
])
def test_the_class_of_an_answer(promised: Class, seen: Seen, good: bool) -> None:
    made = next(iter(generate(SHAPES["VesselRegistry"]).by_name.values()))
    operation = SHAPES["VesselRegistry"].operations[0]
    assert (not judge(Generated(made.case, "registration", "rule", promised), operation, seen)) is good
