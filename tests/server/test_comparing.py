"""When a reply and the database's own text are one value: by the value space of the type, and by nothing looser."""

import pytest

from bricola.core.shapes.simple import SimpleType
from bricola.server.kinds.objects.comparing import same_value

SAME = [
    ("int", "7", "7"), ("int", "7", "7.0"), ("long", "9007199254740993", "9007199254740993"), ("decimal", "12.50", "12.5"),
    ("double", "0.1", "0.10000000000000001"), ("float", "0.1", "0.1"), ("boolean", "true", "t"), ("boolean", "false", "0"), ("date", "2026-02-03", "2026-02-03"),
    ("time", "04:05:06.789", "04:05:06.789000"), ("dateTime", "2026-02-03T04:05:06", "2026-02-03 04:05:06"),
    ("dateTime", "2026-02-03T04:05:06Z", "2026-02-03 04:05:06+00"), ("dateTime", "2026-02-03T05:05:06+01:00", "2026-02-03 04:05:06+00"),
    ("base64Binary", "AP8=", "00FF"), ("string", "a ", "a "), ("string", None, None),
]
OTHER = [
    ("int", "7", "8"), ("long", "9007199254740993", "9007199254740992"), ("decimal", "0.000000000000001", "0.000000000000002"),
    ("decimal", "1000000000000000.01", "1000000000000000.02"), ("double", "0.1", "0.10000001"), ("boolean", "true", "0"), ("date", "2026-02-03", "2026-02-04"),
    ("date", "2026-02-03", "infinity"), ("dateTime", "2026-02-03T04:05:06Z", "2026-02-03 04:05:06"), ("dateTime", "2026-02-03T04:05:06", "2026-02-03 04:05:07"),
    ("base64Binary", "AP8=", "00FE"), ("base64Binary", "no base64", "00"), ("string", "a", "a "), ("string", "", None), ("int", None, "0"), ("int", "7", "seven"),
]


@pytest.mark.parametrize(("base", "reply", "stored"), SAME)
def test_one_value_in_two_forms_is_equal(base: str, reply: str | None, stored: str | None) -> None:
    assert same_value(SimpleType(base), reply, stored)


@pytest.mark.parametrize(("base", "reply", "stored"), OTHER)
def test_another_value_is_not(base: str, reply: str | None, stored: str | None) -> None:
    assert not same_value(SimpleType(base), reply, stored)


def test_what_the_definition_and_the_engine_say_counts() -> None:
    moment = SimpleType("dateTime")
    assert same_value(moment, "2026-02-03T04:05:06Z", "2026-02-03 04:05:06", utc=True)
    assert not same_value(moment, "2026-02-03T04:05:07Z", "2026-02-03 04:05:06", utc=True)
    amount = SimpleType("decimal", fraction=2)  # of an engine that keeps decimals as floating point
    assert same_value(amount, "0.30", "0.30000000000000004", floats=True)
    assert not same_value(amount, "0.30", "0.31", floats=True)
    assert not same_value(SimpleType("long"), "9007199254740993", "9007199254740992", floats=True)
