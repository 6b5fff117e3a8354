"""Maps between a contract and what runs it: what is filled from where, and which lines are refused."""

from decimal import Decimal
from typing import Any

import pytest

from bricola.core.problems import ProblemError
from bricola.core.shapes.mapping import compile_map
from bricola.core.shapes.model import Element, Record
from bricola.core.shapes.simple import SimpleType

TEXT, WHOLE, NUMBER, DAY = (SimpleType(one) for one in ("string", "int", "decimal", "date"))
ROW = Record("Row", (Element("code", TEXT), Element("tonnes", NUMBER, 0), Element("day", DAY, 0)))
SOURCE = Record("Source", (Element("row", ROW, 0, None), Element("total", NUMBER), Element("note", TEXT, 0), Element("one", ROW, 0),
                           Element("words", TEXT, 0, None)))
VALUES = {"row": [{"code": "A", "tonnes": Decimal("1.50")}, {"code": "B"}], "total": Decimal("1.5"), "one": {"code": "C"}, "words": ["x", "y"]}
ITEM = Record("Item", (Element("Code", TEXT), Element("weight", TEXT, 0), Element("of", NUMBER, 0)))
TARGET = Record("Target", (Element("item", ITEM, 0, None), Element("total", TEXT), Element("state", TEXT, 0), Element("page", WHOLE, 0, default=1),
                           Element("inner", Record("Inner", (Element("word", TEXT, 0), Element("code", TEXT, 0))), 0)))


@pytest.mark.parametrize(("lines", "expected"), [
    ({}, {"total": "1.5", "page": 1}),
    ({"item": "row"}, {"total": "1.5", "page": 1, "item": [{"Code": "A"}, {"Code": "B"}]}),
    ({"item.Code": "row.code", "item.weight": "row.tonnes", "item.of": "total"},
     {"total": "1.5", "page": 1, "item": [{"Code": "A", "weight": "1.50", "of": Decimal("1.5")}, {"Code": "B", "of": Decimal("1.5")}]}),
    ({"state": "=done", "inner.code": "one.code"}, {"total": "1.5", "page": 1, "state": "done", "inner": {"code": "C"}}),
    ({"inner": "one"}, {"total": "1.5", "page": 1, "inner": {"code": "C"}}),
    ({"page": "total", "total": "=7"}, "value.type"),
    ({"state": "words"}, "map.several"),
])
def test_what_is_filled_from_where(lines: dict[str, str], expected: Any) -> None:
    mapped = compile_map(TARGET, SOURCE, lines, "here")
    if isinstance(expected, str):
        with pytest.raises(ProblemError) as caught:
            mapped.run(VALUES)
        assert caught.value.problem.code == expected
        assert caught.value.problem.place.startswith("here")
    else:
        assert mapped.run(VALUES) == expected
        assert mapped.missing == ()


@pytest.mark.parametrize(("lines", "code", "place"), [
    ({"nowhere": "total"}, "map.target", "here, nowhere"), ({"state": "nothing"}, "map.source", "here, state"),
    ({"state": "row.code.deeper"}, "map.source", "here, state"), ({"state": "one"}, "map.kind", "here, state"),
    ({"item": "total"}, "map.kind", "here, item"), ({"item.Code": "total"}, "map.list", "here, item"),
    ({"page": "=many"}, "value.type", "here, page"), ({"inner": "row"}, "map.kind", "here, inner"), ({"item": "=x"}, "map.kind", "here, item"),
])
def test_lines_that_lead_nowhere_are_told_before_anything_runs(lines: dict[str, str], code: str, place: str) -> None:
    with pytest.raises(ProblemError) as caught:
        compile_map(TARGET, SOURCE, lines, "here")
    assert (code, place) in [(one.code, one.place) for one in caught.value.problems]


def test_what_is_required_and_comes_from_nowhere_is_named() -> None:
    source = Record("Bare", (Element("row", Record("R", (Element("weight", NUMBER),)), 0, None),))
    assert compile_map(TARGET, source, {"item.weight": "row.weight"}, "here").missing == ("item.Code", "total")


def test_records_inside_themselves_end() -> None:
    node = Record("Node", id="node")
    object.__setattr__(node, "elements", (Element("name", TEXT), Element("part", node, 0, None)))
    mapped = compile_map(node, node, {}, "here")
    assert mapped.run({"name": "a", "part": [{"name": "b", "part": []}]}) == {"name": "a", "part": [{"name": "b", "part": []}]}
