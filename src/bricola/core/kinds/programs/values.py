"""Contents of items as values of parameters, and back.

The codec gives a text with its blanks or a number with its decimals; a parameter has a type. Between them stand, in this order: what
contents mean, how dates look, and the type itself, which has the last word.
"""

from collections.abc import Callable, Mapping
from datetime import date, datetime, time
from decimal import Decimal
from typing import Any

from bricola.core.cobol.items import Item
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.shapes.date_looks import look_reader, written_by_look
from bricola.core.shapes.model import Element
from bricola.core.shapes.simple import SimpleType

NUMBERS = ("zoned", "packed", "unsigned-packed", "binary", "float", "double")


def reader_of(item: Item, element: Element, dates: str, means: Mapping[str, str], place: str) -> Callable[[Any], Any]:
    """A function from what the codec gives (None: nothing) to a value of the element's type; None for nothing where that may be.

    Raises ProblemError, as the backend's mistake, for contents that the type does not take."""
    kind = element.type
    assert isinstance(kind, SimpleType)
    python, check, needed = kind.primitive.python, kind.check, element.least > 0
    number = item.kind in NUMBERS
    dated = look_reader(dates, python) if dates and python in (date, datetime, time) else None

    def plain(contents: Any) -> str:
        if not number:
            text = contents.rstrip(" ")
            text = text.lstrip(" ") if item.justified or python is not str else text
            return "" if not text.strip("\x00") else text  # LOW-VALUES: nobody filled it
        return format(contents, "f").replace("-", "").zfill(item.stored) if dated else format(contents, "f")

    def read(contents: Any) -> Any:
        if contents is None:
            if needed:
                raise ProblemError(_unread(place, kind.rule, "nothing"))
            return None
        if number and not means and dated is None:  # as it is, where the type agrees
            if python is Decimal and not check(contents):
                return contents
            if python is int and contents == contents.to_integral_value() and not check(int(contents)):
                return int(contents)
        text = plain(contents)
        text = means.get(text, text)
        if not needed and (not text or (dated is not None and not text.strip("0"))):
            return None
        if not text and python is not str:
            raise ProblemError(_unread(place, kind.rule, "nothing"))
        value, problem = kind.read(dated(text) if dated is not None else text)
        if problem is not None:
            raise ProblemError(_unread(place, problem.expected, shown(text)))
        return value

    return read


def writer_of(item: Item, element: Element, dates: str, means: Mapping[str, str]) -> Callable[[Any], Any]:
    """A function from a value to what the codec takes."""
    kind = element.type
    assert isinstance(kind, SimpleType)
    python = kind.primitive.python
    back = {meaning: contents for contents, meaning in means.items()}
    look = dates if python in (date, datetime, time) else ""
    number = item.kind in NUMBERS

    def write(value: Any) -> Any:
        if look:
            return written_by_look(value, look)
        if not back and number and python in (int, Decimal):
            return value
        text = kind.write(value)
        return back.get(text, text)

    return write


def _unread(place: str, expected: str, found: str) -> Problem:
    return Problem("program.value", "What the program left in this item is not what the output takes.", Kind.BACKEND, place=place,
                   expected=expected, found=found, mend="The owner of the service corrects the item, what it means, or the output's type.")
