"""Values as plain JSON and back: the REST face, the test bench and the command line.

Field names are those of the slots; decimals travel as text, so that no digit is lost; text is accepted for any simple type. What stands
open in a contract travels as XML text, and `@type` says which derived type an object is.
"""

from collections.abc import Mapping
from typing import Any

from bricola.core.messages.told import MOST_PROBLEMS, missing, no_alternative, told, two_alternatives, wrong_count
from bricola.core.problems import Problem, shown
from bricola.core.shapes.model import TYPE, Element, Group, Order, Record, type_names
from bricola.core.shapes.simple import SimpleType

Values = dict[str, Any]


def from_plain(record: Record, plain: object, path: str, problems: list[Problem]) -> Values:
    """The values of a record from JSON data; what is wrong is added to `problems`. null counts as absent,
    unless it is a value there: then it is None."""
    values: Values = {}
    if not isinstance(plain, Mapping):
        problems.append(Problem("json.object", "This must be a JSON object.", place=path, found=shown(plain)))
        return values
    if record.derived or record.abstract:
        chosen = _chosen(record, plain, path, problems)
        if chosen is None:
            return values
        if chosen is not record:
            values[TYPE] = plain[TYPE]
            record = chosen
    known = {element.name: element for element in record.slots}
    for name in plain:
        if name not in known and name != TYPE and len(problems) < MOST_PROBLEMS:
            problems.append(Problem("element.unknown", f"{shown(name)} does not belong here.", place=path,
                                    expected="no members", choices=tuple(known), found=shown(name)))
    for element in known.values():
        given = plain.get(element.name)
        if given is None:
            if element.nillable and element.name in plain:
                values[element.name] = None
            elif element.default is not None:
                values[element.name] = element.default
            elif element.fixed is not None and element.least:
                values[element.name] = element.fixed
            elif element.least:
                problems.append(missing(element, path))
            continue
        place = f"{path}/{element.name}"
        if record.open_attributes is not None and element.name == record.open_attributes.name:
            values[element.name] = given
        elif element.is_list and given == [] and record.content is not None and not element.least:
            continue  # nothing stands, so no alternative was chosen
        elif element.is_list:
            values[element.name] = _list_from_plain(element, given, place, problems)
        else:
            values[element.name] = _one_from_plain(element, given, place, problems)
    if record.content is not None and not record.mixed:
        _check_group(record.content, values, path, problems)
    return values


def _chosen(record: Record, plain: Mapping[str, object], path: str, problems: list[Problem]) -> Record | None:
    """The type that an object says it is of."""
    known = type_names(record)
    word = plain.get(TYPE)
    found = record if word is None else known.get(str(word)) or next((one for one in known.values() if one.type == word), None)
    if found is None or found.abstract:
        what = "The object must say which type it is of." if word is None else "There is no such type here."
        problems.append(Problem("element.type", what, place=f"{path}/{TYPE}", found=shown(word) if word is not None else "nothing",
                                choices=tuple(name for name, one in known.items() if not one.abstract)))
        return None
    return found


def _check_group(group: Group, values: Values, path: str, problems: list[Problem]) -> None:
    """What a grammar asks beyond the counts of single elements: one alternative, and whole groups."""
    if group.name:
        items = values.get(group.name, ())
        if (len(items) < group.least and not group.inside.may_be_empty) or (group.most is not None and len(items) > group.most):
            problems.append(wrong_count(Element(group.name, Record(group.name), group.least, group.most), len(items), path))
        return  # each of them was checked as the record that it is
    present = [name for part in group.parts for name in (part.names if isinstance(part, Group) else (part.name,)) if name in values]
    if not present and (group.least == 0 or group.may_be_empty):
        return
    if group.order is not Order.CHOICE:
        for part in group.parts:
            if isinstance(part, Group):
                _check_group(part, values, path, problems)
            elif part.least and part.name not in values and not isinstance(part, Element):
                problems.append(Problem("element.open", "An open part is required.", place=f"{path}/{part.name}", expected=part.words))
            elif isinstance(part, Element) and part.least and part.name not in values:
                problem = missing(part, path)
                if problem not in problems:
                    problems.append(problem)
        return
    branches = [(part, part.names if isinstance(part, Group) else frozenset((part.name,))) for part in group.parts]
    chosen = next((part for part, names in branches if present and all(one in names for one in present)), None)
    if chosen is None and present:
        problems.append(two_alternatives(path, present[1], present[0]))
    elif chosen is None:
        problems.append(no_alternative(path, [name for _, names in branches for name in sorted(names)]))
    elif isinstance(chosen, Group):
        _check_group(chosen, values, path, problems)


def _list_from_plain(element: Element, given: object, place: str, problems: list[Problem]) -> list[Any]:
    if not isinstance(given, list):
        problems.append(Problem("json.list", "This must be a JSON array.", place=place, found=shown(given)))
        return []
    if len(given) < element.least or (element.most is not None and len(given) > element.most):
        problems.append(Problem("element.count", f"{element.name} stands {len(given)} times.", place=place,
                                expected=element.occurrence))
    return [None if one is None and element.nillable else _one_from_plain(element, one, place, problems) for one in given]


def _one_from_plain(element: Element, given: object, place: str, problems: list[Problem]) -> Any:
    if isinstance(element.type, Record):
        return from_plain(element.type, given, place, problems)
    value, problem = element.type.accept(given)
    if problem is None and element.fixed is not None and value != element.fixed:
        problem = Problem("value.fixed", f"{element.name} has one value only.", expected=element.type.write(element.fixed),
                          found=shown(given))
    if problem is not None and len(problems) < MOST_PROBLEMS:
        problems.append(told(problem, element).at(place))
    return value


def to_plain(record: Record, values: Mapping[str, Any]) -> Values:
    """JSON data of a record's values, in the order of the contract. Booleans, whole and floating numbers stay
    what they are; everything else is its lexical form."""
    plain: Values = {}
    if TYPE in values:
        plain[TYPE] = values[TYPE]
        record = type_names(record).get(values[TYPE], record)
    for element in record.slots:
        value = values.get(element.name)
        if record.open_attributes is not None and element.name == record.open_attributes.name:
            if value:
                plain[element.name] = dict(value)
        elif element.is_list:
            plain[element.name] = [None if one is None else _one_to_plain(element, one) for one in value or ()]
        elif value is not None:
            plain[element.name] = _one_to_plain(element, value)
        elif element.nillable and element.name in values:
            plain[element.name] = None
    return plain


def _one_to_plain(element: Element, value: Any) -> Any:
    if isinstance(element.type, SimpleType):
        if element.type.item is not None and isinstance(value, list):
            return [one if isinstance(one, bool | int | float | str) else element.type.item.write(one) for one in value]
        return value if isinstance(value, bool | int | float | str) else element.type.write(value)
    return to_plain(element.type, value)
