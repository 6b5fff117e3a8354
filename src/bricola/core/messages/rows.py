"""Rows of an answer that do not fit the contract: which row it is, by its key; and pages that leave such rows out and say so."""

from collections.abc import Callable, Iterable, Mapping
from dataclasses import replace
from typing import Any

from bricola.core.messages.encoder import Encoder, compile_encoder
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.model import Element, OperationShape, Record, Values
from bricola.core.shapes.simple import SimpleType

LEFT_OUT = "leftOut"
_MASK = "•••"
_MOST_NAMED = 100  # keys of rows that were left out


def compile_fitting(item: Element, operation: str) -> Callable[[Values], Problem | None]:
    """A function that tells what is wrong with one row of an element; None for nothing."""
    encode = compile_encoder(Record(f"{operation}Response", (replace(item, least=0, most=None),)), "urn:row")

    def wrong(row: Values) -> Problem | None:
        try:
            encode({item.name: [row]})
        except ProblemError as error:
            return error.problem
        return None

    return wrong


def located(write: Encoder, operation: OperationShape) -> Encoder:
    """The encoder of an answer whose failures name the row: by its place, and by its key."""
    item = next((one for one in operation.output.elements if one.name == operation.rows), None)
    if item is None or not isinstance(item.type, Record):
        return write
    wrong = compile_fitting(item, operation.name)
    elements = [one for one in item.type.elements if one.name in operation.keys]

    def encode(values: Mapping[str, Any]) -> str:
        try:
            return write(values)
        except ProblemError:
            found = values.get(item.name)
            rows = found if isinstance(found, list | tuple) else [found] if found is not None else []
            for number, row in enumerate(rows, 1):
                if (problem := wrong(row)) is not None:
                    raise ProblemError(in_row(problem, item, number if item.is_list else 0, elements, row)) from None
            raise

    return encode


def in_row(problem: Problem, item: Element, number: int, keys: Iterable[Element], row: Values) -> Problem:
    """The problem with the row in its words and in its place."""
    named = key_of(keys, row)
    place = problem.place.replace(f"/{item.name}/", f"/{item.name}[{number}]/", 1) if number else problem.place
    words = problem.message.rstrip(".") + (f", in the row with {named}." if named else ".")
    return replace(problem, message=words, place=place)


def key_of(keys: Iterable[Element], row: Values) -> str:
    """The key of a row in words: registration LK-0412."""
    given = [one for one in keys if row.get(one.name) is not None]
    return " and ".join(f"{one.name} {_MASK if one.sensitive else _text(one, row[one.name])}" for one in given)


def _text(element: Element, value: object) -> str:
    if isinstance(element.type, SimpleType) and value.__class__ is element.type.primitive.python:
        text = element.type.write(value)
        return text if text.isprintable() else shown(text)
    return shown(value)


def left_out_element() -> Element:
    """What a page says of the rows that it left out."""
    return Element(LEFT_OUT, Record("LeftOut", (
        Element("count", SimpleType("int"), description="How many rows of this page do not fit the contract"),
        Element("row", SimpleType("string"), 0, _MOST_NAMED, description="Which, by their keys"))), 0,
        description="Rows that this page leaves out, since a value in them breaks the contract; absent where all fit")


def without_unfit(rows: list[Values], wrong: Callable[[Values], Problem | None], keys: Iterable[Element],
                  note: Callable[[str], None]) -> tuple[list[Values], Values | None]:
    """The rows that fit, and what is told of the others: None where all do."""
    fitting, left = [], []
    elements = tuple(keys)
    for row in rows:
        problem = wrong(row)
        if problem is None:
            fitting.append(row)
            continue
        named = key_of(elements, row) or "a row whose key is not given"
        note(f"left out {named}: {problem.message} {problem.place}, expected {problem.expected}")
        left.append(named.encode("ascii", "backslashreplace").decode() if not named.isprintable() else named)
    return fitting, {"count": len(left), "row": left[:_MOST_NAMED]} if left else None
