"""Definitions: canonical text, errors with their line, references, review."""

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.folder import read_bundle, read_folder, write_folder
from bricola.core.definitions.parts import TypeDefinition
from bricola.core.definitions.runs import models
from bricola.core.definitions.text import read_definition, write_definition
from bricola.core.kinds.registry import needs
from bricola.core.kinds.resolve import resolve_service
from bricola.core.problems import ProblemError
from bricola.core.review import Severity, review
from bricola.demo.start import catalogue_files
from tests.core.samples import PARTS, gauge_catalogue

WORDS = st.text(st.characters(blacklist_categories=("Cs", "Cc")), max_size=40)


def test_demo_catalogue_is_canonical_byte_for_byte() -> None:
    texts = catalogue_files()
    assert {file.path: file.text for file in read_bundle(texts)} == texts


@pytest.mark.parametrize("text", PARTS)
def test_reading_what_was_written_gives_the_same_definition_and_the_same_bytes(text: str) -> None:
    definition = read_definition(text)
    written = write_definition(definition)
    assert read_definition(written) == definition
    assert write_definition(read_definition(written)) == written


@given(description=WORDS | st.sampled_from(["yes", "no", "null", "~", "1.10", "0412", "2026-11-24", "a: b", "# x", "'", '"', "- x",
                                            "two\nlines", "ends \n", "*a", "&b", "{c}", "[d]", "%e", "@f", "`g", "!h", "|"]),
       codes=st.lists(WORDS.filter(bool), max_size=4, unique=True), digits=st.integers(1, 10**9) | st.none())
def test_any_text_survives_yaml(description: str, codes: list[str], digits: int | None) -> None:
    made = TypeDefinition(name="Any", base="string", description=description, codes=tuple(codes), digits=digits)
    text = write_definition(made)
    assert read_definition(text) == made
    assert write_definition(read_definition(text)) == text


@given(st.text(max_size=200) | st.builds(lambda kind, rest: f"{kind}: {rest}", st.sampled_from(sorted(models())), st.text(max_size=200)))
def test_any_input_is_read_or_refused_with_a_place(text: str) -> None:
    try:
        read_definition(text, "some.yaml")
    except ProblemError as error:
        assert all(problem.place.startswith("some.yaml") and problem.message for problem in error.problems)


@pytest.mark.parametrize(("text", "line", "code", "words"), [
    ("", 1, "definition.empty", "first line like"),
    ("vessel: x", 1, "definition.kind", "one of type, record"),
    ("objct: x", 1, "definition.kind", "Did you mean object?"),
    ("service: X\noperations:\n\tGet: {}", 3, "yaml.syntax", "spaces, not tabs"),
    ("service: X\nowner: [a", 2, "yaml.syntax", "not well-formed YAML"),
    ("backend: b\nengine: sqlite\nengine: sqlite", 3, "yaml.repeated-key", "first on line 2"),
    ("backend: b\nengine: sqlite\nx: &a 1\ny: *a", 4, "yaml.alias", "Write the value out"),
    ("backend: b\nx: " + "[" * 60_000, 2, "yaml.depth", "at most 64 levels"),
    ("backend: b\nx: " + "{a: " * 30_000, 2, "yaml.depth", "at most 64 levels"),
    ("backend: b\nx:\n  " + "- " * 50_000, 3, "yaml.depth", "at most 64 levels"),
    ("? " * 50_000, 1, "yaml.depth", "at most 64 levels"),
    ("backend: b\nx: [" + "1," * 200_001 + "]", 2, "yaml.nodes", "at most 200000"),
    ("backend: b\nx: " + "9" * 5_000, 2, "yaml.number", "at most 40 digits"),
    ("backend: b\nx: !!binary aaa", 2, "yaml.tag", "Write the value alone"),
    ("backend: b\ndescription: \"a\\u0001\"", 2, "value.character", "U+0001"),
    ("backend: b\n---\nbackend: c", 2, "yaml.syntax", "file of its own"),
    ("backend: b\nengine: dbase", 2, "definition.value", "Expected sqlite"),
    ("environment: live\nbackends:\n  registry:\n    pool: {max_siz: 2}", 4, "definition.unknown-key", "Did you mean max_size?"),
    ("object: o\nbackend: b\ntable: t\nkey: a\nfields:\n  a: {typ: string}", 6, "definition.missing-key", "needs the key type"),
    ("object: o\nbackend: b\ntable: t\nkey: a\nfields:\n  a: string", 6, "definition.missing-key", "needs the key type"),
    ("backend: 'no name'\nengine: sqlite", 1, "definition.name", "the form"),
    ("object: o\nbackend: b\ntable: t\nkey: a\nrecord: \"x'+y\"\nfields:\n  a: {type: string}", 5, "definition.name", "the form"),
    ("object: o\nbackend: b\ntable: t\nkey: a\nfields:\n  \"a{b}\": {type: string}", 6, "definition.name", "the form"),
])
def test_a_mistake_is_told_with_file_line_and_mend(text: str, line: int, code: str, words: str) -> None:
    with pytest.raises(ProblemError) as caught:
        read_definition(text, "file.yaml")
    found = [one for one in caught.value.problems if one.code == code]
    assert found, [one.sentence() for one in caught.value.problems]
    assert found[0].place == f"file.yaml:{line}"
    assert words in found[0].sentence()


def test_all_mistakes_of_a_bundle_are_told_together() -> None:
    with pytest.raises(ProblemError) as caught:
        read_bundle({"a.yaml": "type: A\nbase: string", "b.yaml": "type: A\nbase: int", "c.yaml": "x", "../d.yaml": "type: D\nbase: int"})
    assert {one.code for one in caught.value.problems} == {"bundle.repeated", "definition.empty", "bundle.path"}


def test_folder_round_trip_and_non_utf8(tmp_path: Path) -> None:
    texts = catalogue_files()
    write_folder(tmp_path / "out", texts)
    assert read_folder(tmp_path / "out") == texts
    (tmp_path / "out" / "broken.yaml").write_bytes(b"type: \xff")
    with pytest.raises(ProblemError, match="not UTF-8"):
        read_folder(tmp_path / "out")
    with pytest.raises(ProblemError, match="no such folder"):
        read_folder(tmp_path / "missing")


@pytest.mark.parametrize(("change", "code", "severity"), [
    (("runs: gauge.get", "runs: boat.get"), "reference.object", Severity.ERROR),
    (("runs: gauge.search", "runs: gauge.nothing"), "reference.verb", Severity.ERROR),
    (("value: B", "value: X"), "value.code", Severity.ERROR),
    (("grade: {given: fixed, value: B}", "grade: {given: fixed}"), "parameter.value", Severity.ERROR),
    (("grade: {given: fixed, value: B}", "colour: {given: fixed, value: B}"), "parameter.unknown", Severity.ERROR),
    (("reader: all", "reader: [GetGauges]"), "access.operation", Severity.ERROR),
    (("reader: all", "reader: [GetGauge]"), "access.nobody", Severity.WARNING),
    (("description: Gauges & their data\n", ""), "service.description", Severity.WARNING),
    (("namespace: urn:larkmere:gauge-book\n", ""), "service.namespace", Severity.HINT),
    (("type: Code, d", "type: Kode, d"), "reference.type", Severity.ERROR),
    (("type: Code, d", "type: Code, length: 3, d"), "type.facet", Severity.ERROR),
    (("digits: 6, fraction: 2, min: -10", "digits: 6, fraction: 2, min: low"), "type.value", Severity.ERROR),
    (("boolean}", "boolean, min: 1}"), "type.facet", Severity.ERROR),
    (("max_length: 20}", "pattern: '['}"), "type.pattern", Severity.ERROR),
    (("key: [code]", "key: [kode]"), "object.key", Severity.ERROR),
    (("field: place, compare: contains", "field: plaice, compare: contains"), "finder.field", Severity.ERROR),
    (("default: 3, most: 50", "default: 60, most: 50"), "finder.limit", Severity.ERROR),
    (("placeContains:", "limit:"), "finder.filter-name", Severity.ERROR),
    (("backend: registry\nengine", "backend: elsewhere\nengine"), "reference.backend", Severity.ERROR),
])
def test_review_names_each_finding(change: tuple[str, str], code: str, severity: Severity) -> None:
    texts = [text.replace(*change) for text in PARTS]
    assert texts != list(PARTS), "the change must hit"
    catalogue = Catalogue(read_definition(text) for text in texts)
    service = catalogue.find_service("GaugeBook")
    assert service is not None
    findings = [one for one in review(catalogue, service) if one.problem.code == code]
    assert findings
    assert findings[0].severity is severity
    assert findings[0].problem.place


def test_review_of_an_environment_stops_what_is_unbound() -> None:
    catalogue = gauge_catalogue() | Catalogue([read_definition("environment: live\nprotected: true\nanonymous: [GaugeBook]"
                                                               "\naddress: http://localhost:9\nfollows: nowhere")])
    service, live = catalogue.find_service("GaugeBook"), catalogue.find_environment("live")
    assert service is not None
    codes = {one.problem.code: one.severity for one in review(catalogue, service, live)}
    assert codes["binding.missing"] is Severity.ERROR
    assert codes["reference.environment"] is Severity.ERROR
    assert codes["access.anonymous"] is Severity.WARNING
    assert codes["environment.local-address"] is Severity.WARNING


def test_a_service_needs_exactly_what_it_uses() -> None:
    catalogue = gauge_catalogue() | Catalogue([read_definition("type: Unused\nbase: int")])
    service = catalogue.find_service("GaugeBook")
    assert service is not None
    needed = {(one.kind, one.name) for one in needs(catalogue, service)}
    assert needed == {("service", "GaugeBook"), ("object", "gauge"), ("backend", "registry"), ("type", "Code")}


def test_fixed_inputs_leave_the_contract_and_defaults_make_inputs_optional() -> None:
    catalogue = gauge_catalogue()
    service = catalogue.find_service("GaugeBook")
    assert service is not None
    graded = next(one for one in resolve_service(service, catalogue).operations if one.shape.name == "FindGraded")
    assert [element.name for element in graded.shape.input.elements] == ["placeContains", "datumFrom", "limit", "after"]
    assert graded.given.fixed == {"grade": "B"}
    assert graded.shape.input.elements[2].default == 7
