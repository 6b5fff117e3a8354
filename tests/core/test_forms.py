"""Definitions as forms: the grammar has words for everything, and form and text say the same."""

import json

import pytest
from hypothesis import given
from hypothesis import strategies as some

from bricola.core.definitions.drawn import from_text, from_values, values_of
from bricola.core.definitions.forms import Shape, forms
from bricola.core.definitions.text import read_definition
from bricola.core.problems import ProblemError
from bricola.demo.start import catalogue_files

FORMS = ("type", "record", "backend", "service", "environment", "context-list", "table-rule", "object", "query", "relay")
BY_RECORDER = {"TerminalHost"}  # what the recorder writes has its own page


def _groups(kind: str) -> set[str]:
    known, found, waiting = forms(), set(), [forms().kinds[kind]]
    while waiting:
        group = waiting.pop()
        if group not in found | BY_RECORDER:
            found.add(group)
            waiting += [one.group for one in known.groups[group] if one.group]
    return found


@pytest.mark.parametrize("kind", FORMS)
def test_every_field_that_is_filled_in_by_a_form_has_words_and_a_shape(kind: str) -> None:
    slots = [(group, one) for group in _groups(kind) for one in forms().groups[group]]
    assert slots
    assert [(group, one.name) for group, one in slots if not one.words] == []
    assert [(group, one.name) for group, one in slots if one.shape is Shape.TEXT] == []


def test_what_a_field_takes_is_read_off_the_model() -> None:
    known = forms()
    fields = {one.name: one for one in known.groups["TypedPart"]}
    assert fields["type"].refers == ("primitive", "type", "record")
    assert fields["type"].required
    assert (fields["codes"].shape, fields["max_length"].shape, fields["required"].default) == (Shape.NAMES, Shape.WHOLE, True)
    environment = {one.name: one for one in known.groups["EnvironmentDefinition"]}
    assert (environment["backends"].shape, environment["backends"].group, environment["backends"].refers) == (
        Shape.PARTS, "Binding", ("backend",))
    assert environment["tests"].shape is Shape.GROUP
    assert environment["context"].shape is Shape.PAIRS
    service = {one.name: one for one in known.groups["ServiceDefinition"]}
    assert (service["access"].shape, service["access"].choices) == (Shape.LISTS, ("all",))
    assert {one.name: one.shape for one in known.groups["QueryDefinition"]}["select"] is Shape.LINES


@pytest.mark.parametrize("path", sorted(catalogue_files()))
def test_form_and_text_of_every_definition_of_the_demo_say_the_same(path: str) -> None:
    text = catalogue_files()[path]
    shown = from_text(text, path)
    assert shown.problems == ()
    assert shown.values is not None
    there = from_values(shown.kind, json.loads(json.dumps(shown.values)), path)  # by way of JSON, as the console sends it
    assert there.text == shown.text
    assert there.values == shown.values
    rows = shown.text.splitlines()
    for at, line in shown.lines:
        if at and not at[-1].isdigit() and at != ("name",):
            assert at[-1] in rows[line - 1]


def test_a_form_that_is_half_filled_in_is_shown_with_what_is_missing() -> None:
    shown = from_values("record", {"name": "TollLine", "fields": {"amount": {"required": False, "type": ""}}}, "form")
    assert shown.text == "record: TollLine\nfields:\n  amount: {required: false}\n"
    assert [one.code for one in shown.problems] == ["definition.missing-key"]
    assert shown.problems[0].place == "form:3"
    assert (("fields", "amount"), 3) in shown.lines
    assert shown.values == {"name": "TollLine", "fields": {"amount": {"required": False}}}


def test_a_text_that_is_half_written_keeps_what_can_be_read() -> None:
    shown = from_text("record: TollLine\nfields:\n  amount: {type: decimal, digit: 4}\n", "form")
    assert shown.values == {"name": "TollLine", "fields": {"amount": {"type": "decimal", "digit": 4}}}
    assert shown.problems[0].choices or "digits" in str(shown.problems[0].as_dict())
    assert from_text("record: [", "form").values is None
    assert from_text("rekord: TollLine\n", "form").values is None


def test_a_kind_that_there_is_not_is_refused_with_those_that_there_are() -> None:
    with pytest.raises(ProblemError) as caught:
        from_values("rekord", {"name": "A"}, "form")
    assert "record" in caught.value.problems[0].choices


_NAMES = some.from_regex(r"[A-Za-z_][A-Za-z0-9_]{0,10}", fullmatch=True)
_WORDS = some.text(some.characters(min_codepoint=32, max_codepoint=0x24F, exclude_categories=["Cc"]), max_size=30)


@given(some.dictionaries(_NAMES, some.fixed_dictionaries({"type": some.sampled_from(["string", "int", "decimal"])}, optional={
    "description": _WORDS, "required": some.booleans(), "sample": _WORDS, "unit": _WORDS, "codes": some.lists(_WORDS, max_size=3)}),
    min_size=1, max_size=6))
def test_whatever_is_typed_into_a_record_comes_back_as_it_was(fields: dict[str, dict[str, object]]) -> None:
    shown = from_values("record", {"name": "Line", "fields": fields}, "form")
    assert shown.problems == ()
    definition = read_definition(shown.text, "form")
    back = values_of(definition)["fields"]
    for name, one in fields.items():
        for key, value in one.items():
            default = {"required": True, "codes": []}.get(key, "")
            assert back[name].get(key, default) == value
