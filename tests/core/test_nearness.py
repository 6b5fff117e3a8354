"""Names that are nearly right, and messages in which each cause is told once."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from bricola.core.messages.plain import from_plain
from bricola.core.messages.told import one_per_cause
from bricola.core.nearness import did_you_mean, nearest, one_of
from bricola.core.problems import Problem
from bricola.core.shapes.model import Element, Record
from bricola.core.shapes.simple import SimpleType

NAMES = ["VesselRegistry", "LockLedger", "BerthDesk", "GaugeReadings"]


@pytest.mark.parametrize(("typed", "meant"), [
    ("VesselRegistri", "VesselRegistry"), ("vessel-registry", "VesselRegistry"), ("lock_ledger", "LockLedger"), ("BERTHDESK", "BerthDesk"), ("Tonnage", ""), ("", ""),
])
def test_the_name_that_is_meant_is_found(typed: str, meant: str) -> None:
    assert nearest(typed, NAMES) == meant
    assert did_you_mean(typed, NAMES) == (f"Did you mean {meant}?" if meant else "")


@given(st.text(max_size=300), st.lists(st.text(max_size=30), max_size=30))
def test_only_known_names_are_proposed(typed: str, known: list[str]) -> None:
    assert nearest(typed, known) in (*known, "")
    assert did_you_mean(typed, [typed]) == ""  # a name that is right is not asked for


def test_choices_say_what_is_expected_and_what_was_meant() -> None:
    found = Problem("x.unknown", "There is no such service.", found='"LockLeger"', expected="a service, but there is none yet", choices=tuple(NAMES))
    assert (found.expected, found.mend) == (f"one of {', '.join(NAMES)}", "Did you mean LockLedger?")
    none = Problem("x.unknown", "There is no such service.", found='"LockLeger"', expected="a service, but there is none yet")
    assert (none.expected, none.mend) == ("a service, but there is none yet", "")
    said = Problem("x.unknown", "There is no such service.", found='"LockLeger"', choices=tuple(NAMES), mend="Take it out.")
    assert said.mend == "Take it out."
    assert one_of(["G07"]) == "G07"
    assert one_of([f"n{index}" for index in range(25)]).endswith("n19 and 5 more")


def test_a_name_that_is_typed_wrongly_is_not_also_missing() -> None:
    text = SimpleType("string")
    record = Record("Ask", (Element("registration", text), Element("name", text), Element("inner", Record("Inner", (Element("harbour", text),)))))
    problems: list[Problem] = []
    from_plain(record, {"registraton": "x", "inner": {"harbur": "y", "crane": "z"}}, "Ask", problems)
    told = [(one.code, one.place, one.mend) for one in one_per_cause(problems)]
    assert sorted(told) == [
        ("element.missing", "Ask/name", "Add name."), ("element.unknown", "Ask", "Did you mean registration?"),
        ("element.unknown", "Ask/inner", ""), ("element.unknown", "Ask/inner", "Did you mean harbour?"),
    ]
