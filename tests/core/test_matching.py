"""Help with maps: what fills each part, what is missing, and what else would fit."""

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from bricola.core.shapes.mapping import compile_map
from bricola.core.shapes.matching import Part, match
from bricola.core.shapes.model import Element, Record
from bricola.core.shapes.simple import SimpleType

TEXT, WHOLE, NUMBER, DAY, YES = (SimpleType(one) for one in ("string", "int", "decimal", "date", "boolean"))
ROW = Record("Row", (Element("signature", TEXT), Element("due", DAY), Element("fee", NUMBER, 0)))
SOURCE = Record("Source", (Element("reader", WHOLE), Element("more", YES), Element("loan", ROW, 0, None),
                           Element("place", Record("Place", (Element("street", TEXT), Element("houseNumber", WHOLE))))))
ITEM = Record("Item", (Element("item", TEXT), Element("until", DAY), Element("fee", NUMBER, 0), Element("state", TEXT, fixed="lent")))
TARGET = Record("Target", (Element("Reader", WHOLE), Element("house", WHOLE), Element("day", DAY, 0), Element("loan", ITEM, 0, None),
                           Element("flag", YES, default=True)))


def parts(lines: dict[str, str]) -> dict[str, Part]:
    return {one.path: one for one in match(TARGET, SOURCE, lines, "here").parts}


def test_names_fill_and_say_so() -> None:
    found = parts({})
    assert {path: (one.source, one.by) for path, one in found.items() if one.by} == {
        "Reader": ("reader", "name"), "loan": ("loan", "name"), "loan.fee": ("loan.fee", "name"), "loan.state": ("", "own"), "flag": ("", "own")}
    assert (found["loan"].list, found["loan"].type, found["day"].required, found["house"].required) == (True, "Item", False, True)


def test_what_is_required_and_filled_by_nothing_is_named() -> None:
    matched = match(TARGET, SOURCE, {}, "here")
    assert set(matched.missing) == {"house", "loan.item", "loan.until"}
    filled = match(TARGET, SOURCE, {"house": "place.houseNumber", "loan.item": "loan.signature", "loan.until": "loan.due"}, "here")
    assert (filled.missing, filled.problems) == ((), None)
    assert {one.path for one in filled.parts if one.by == "line"} == {"house", "loan.item", "loan.until"}


@pytest.mark.parametrize(("path", "first", "never"), [
    ("house", "place.houseNumber", "loan.due"), ("day", "loan.due", "reader"), ("loan.until", "loan.due", "more"), ("loan", "loan", "place"),
    ("flag", "more", "loan.fee"),
])
def test_what_fits_best_comes_first_and_what_cannot_be_read_never(path: str, first: str, never: str) -> None:
    fits = parts({})[path].fits
    assert fits[0] == first
    assert never not in fits


@pytest.mark.parametrize(("lines", "code"), [
    ({"house": "nowhere"}, "map.source"), ({"nothing": "reader"}, "map.target"), ({"house": "place"}, "map.kind"), ({"house": "=x"}, "value.type"),
])
def test_lines_that_lead_nowhere_are_told_and_the_rest_is_shown(lines: dict[str, str], code: str) -> None:
    matched = match(TARGET, SOURCE, lines, "here")
    assert matched.problems is not None
    assert [one.code for one in matched.problems.problems] == [code]
    assert {one.path: one.source for one in matched.parts}["Reader"] == "reader"


def test_records_inside_themselves_end() -> None:
    endless = Record("N", id="type N")
    endless.__dict__["elements"] = (Element("value", TEXT), Element("n", endless, 0))
    found = match(Record("T", (Element("n", endless, 0),)), Record("S", (Element("n", endless, 0),)), {}, "here")
    assert len(found.parts) < 20
    wide = Record("W", tuple(Element(f"field{number}", TEXT) for number in range(1000)))
    assert len(match(wide, wide, {}, "here").parts) == 400  # what a person can look through


TYPES = st.sampled_from([TEXT, WHOLE, NUMBER, DAY, YES])
RECORDS = st.lists(st.tuples(st.sampled_from("abcdefgh"), TYPES, st.integers(0, 1)), max_size=6, unique_by=lambda one: one[0]).map(
    lambda given: Record("R", tuple(Element(name, kind, least) for name, kind, least in given)))


@given(RECORDS, RECORDS)
def test_what_is_said_to_fit_can_be_written_as_a_line(target: Record, source: Record) -> None:
    for one in match(target, source, {}, "here").parts:
        for fit in one.fits:
            lines: dict[str, Any] = {one.path: fit}
            assert match(target, source, lines, "here").problems is None
            assert compile_map(target, source, lines, "here").run({}) is not None


def test_what_two_parts_mean_counts_where_their_names_say_nothing() -> None:
    source = Record("S", (Element("a1", NUMBER, description="Length over all", unit="m"), Element("a2", NUMBER, description="Greatest width", unit="m"),
                          Element("a3", TEXT, key_of="vessel"), Element("a4", TEXT, description="Name of the owner")))
    target = Record("T", (Element("beam", NUMBER, description="The greatest width of the hull", unit="m"), Element("boat", TEXT, key_of="vessel"),
                          Element("loa", NUMBER, description="Overall length", unit="m"), Element("keeper", TEXT, description="Owner's name")))
    found = {one.path: one.fits[0] for one in match(target, source, {}, "here").parts}
    assert found == {"beam": "a2", "boat": "a3", "loa": "a1", "keeper": "a4"}
