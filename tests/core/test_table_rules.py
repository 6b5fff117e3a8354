"""Rules for tables: which they take, what they call them, and templates that cannot be filled."""

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from bricola.core.definitions.table_rules import TableRule


def rule(**said: object) -> TableRule:
    return TableRule.model_validate({"name": "all", "backend": "river", **said})


def test_names_come_of_the_table_and_its_schema() -> None:
    said = rule(object="lock {table}", service="{schema} Desk", tables=["toll*", "*.gate"], except_tables=["*_old"])
    assert said.names("gate") == ("lock gate", "RiverDesk")
    assert said.names("north.gate") == ("lock gate", "NorthDesk")
    assert [said.takes(one) for one in ("TOLL_RATE", "north.gate", "toll_old", "weir")] == [True, True, False, False]


@pytest.mark.parametrize("template", ["{tabel}", "{table", "table}", "{}", "{table!r}", "{table:>9999999999}", "{{table}}", "{table.x}"])
def test_a_template_that_cannot_be_filled_is_refused(template: str) -> None:
    with pytest.raises(ValidationError, match=r"there are \{table\} and \{schema\}"):
        rule(object=template)


@given(st.text("{}tableschm!:. ", max_size=24))
def test_a_template_that_is_taken_can_be_filled(template: str) -> None:
    try:
        said = rule(object=template)
    except ValidationError:
        return
    assert said.names("a.b")[0] == template.replace("{table}", "b").replace("{schema}", "a")
