"""Values as plain JSON and back: the REST face, the test bench and the command line.

Field names are the contract's; decimals travel as text, so that no digit is lost; text is accepted for any simple type.
"""

from collections.abc import Mapping
from typing import Any

from bricola.core.messages.decoder import MOST_PROBLEMS, missing, told
from bricola.core.problems import Problem, shown
from bricola.core.shapes.model import Element, Record
from bricola.core.shapes.simple import SimpleType

Values = dict[str, Any]


def from_plain(record: Record, plain: object, path: str, problems: list[Problem]) -> Values:
    """The values of a record from JSON data; what is wrong is added to `problems`. null counts as absent,
    unless it is a value there: then it is None."""
    values: Values = {}
    if not isinstance(plain, Mapping):
        problems.append(Problem("json.object", "This must be a JSON object.", place=path, found=shown(plain)))
        return values
    known = {element.name: element for element in record.elements}
    for name in plain:
        if name not in known and len(problems) < MOST_PROBLEMS:
            problems.append(Problem("element.unknown", f"{shown(name)} does not belong here.", place=path,
                                    expected=f"one of {', '.join(known)}" if known else "no members"))
    for element in record.elements:
        given = plain.get(element.name)
        if given is None:
            if element.nillable and element.name in plain:
                values[element.name] = None
            elif element.default is not None:
                values[element.name] = element.default
            elif element.least:
                problems.append(missing(element, path))
            continue
        place = f"{path}/{element.name}"
        if element.is_list:
            values[element.name] = _list_from_plain(element, given, place, problems)
        else:
            values[element.name] = _one_from_plain(element, given, place, problems)
    return values


def _list_from_plain(element: Element, given: object, place: str, problems: list[Problem]) -> list[Any]:
    if not isinstance(given, list):
        problems.append(Problem("json.list", "This must be a JSON array.", place=place, found=shown(given)))
        return []
    if len(given) < element.least or (element.most is not None and len(given) > element.most):
        problems.append(Problem("element.count", f"{element.name} stands {len(given)} times.", place=place,
                                expected=element.occurrence))
    return [_one_from_plain(element, one, place, problems) for one in given]


def _one_from_plain(element: Element, given: object, place: str, problems: list[Problem]) -> Any:
    if isinstance(element.type, Record):
        return from_plain(element.type, given, place, problems)
    value, problem = element.type.accept(given)
    if problem is not None and len(problems) < MOST_PROBLEMS:
        problems.append(told(problem, element).at(place))
    return value


def to_plain(record: Record, values: Mapping[str, Any]) -> Values:
    """JSON data of a record's values, in the order of the contract. Booleans, whole and floating numbers stay
    what they are; everything else is its lexical form."""
    plain: Values = {}
    for element in record.elements:
        value = values.get(element.name)
        if element.is_list:
            plain[element.name] = [_one_to_plain(element, one) for one in value or ()]
        elif value is not None:
            plain[element.name] = _one_to_plain(element, value)
    return plain


def _one_to_plain(element: Element, value: Any) -> Any:
    if isinstance(element.type, SimpleType):
        return value if isinstance(value, bool | int | float | str) else element.type.write(value)
    return to_plain(element.type, value)
