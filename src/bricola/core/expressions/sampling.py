"""Values to try expressions with: types read from a sample in JSON, and values of known types read from JSON."""

from collections.abc import Mapping
from typing import Any

from bricola.core.expressions.types import BOOLEAN, FLOAT, NOTHING, TEXT, WHOLE, Of, Type, list_of, merge, record_of
from bricola.core.messages.plain import from_plain
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.primitives import PRIMITIVES

_MOST_DEPTH = 20
_READ_AS = {Of.DECIMAL: "decimal", Of.DATE: "date", Of.TIME: "time", Of.MOMENT: "dateTime", Of.BINARY: "base64Binary", Of.WHOLE: "integer",
            Of.FLOAT: "double", Of.BOOLEAN: "boolean"}


def type_of_plain(value: Any, depth: int = 0) -> Type:
    """The type of a value in JSON: text, numbers, lists of one type, records. Raises ProblemError for a list of several types."""
    if depth > _MOST_DEPTH:
        raise ProblemError(Problem("sample.depth", "The sample is nested too deep.", expected=f"at most {_MOST_DEPTH} levels"))
    if isinstance(value, Mapping):
        return record_of((str(name), type_of_plain(inner, depth + 1)) for name, inner in value.items() if str(name).isidentifier())
    if isinstance(value, list):
        item: Type | None = None
        for one in value:
            kind = type_of_plain(one, depth + 1)
            both = kind if item is None else merge(item, kind)
            if both is None:
                raise ProblemError(Problem("sample.list", "The items of a list are of different types.",
                                           expected=item.words if item else "",
                                           found=kind.words))
            item = both
        return list_of(item or NOTHING)
    if value is None:
        return NOTHING
    return BOOLEAN if isinstance(value, bool) else WHOLE if isinstance(value, int) else FLOAT if isinstance(value, float) else TEXT


def value_of_plain(kind: Type, plain: Any, place: str) -> Any:
    """A value of a type, from JSON. Raises ProblemError for one that is none."""
    if plain is None:
        return [] if kind.of is Of.LIST else None
    if kind.of is Of.LIST:
        if not isinstance(plain, list):
            raise _unlike(kind, plain, place)
        return [value_of_plain(kind.item or NOTHING, one, f"{place}[{index}]") for index, one in enumerate(plain)]
    if kind.of is Of.RECORD:
        if not isinstance(plain, Mapping):
            raise _unlike(kind, plain, place)
        if kind.record is not None:
            problems: list[Problem] = []
            known = {one.name for one in kind.record.slots}
            values = from_plain(kind.record, {name: one for name, one in plain.items() if name in known}, place, problems)
            if problems:
                raise ProblemError(*problems)
            return values
        fields = ((name, kind.field(name)) for name in kind.names if name in plain)
        return {name: value_of_plain(inner, plain[name], f"{place}.{name}") for name, inner in fields if inner is not None}
    if kind.simple is not None:
        value, problem = kind.simple.accept(plain)
        if problem is not None:
            raise ProblemError(problem.at(place))
        return value
    reads = _READ_AS.get(kind.of)
    if reads is None or (isinstance(plain, bool | int | float) and type(plain) is PRIMITIVES[reads].python):
        return plain
    try:
        return PRIMITIVES[reads].read(plain if isinstance(plain, str) else str(plain).lower() if isinstance(plain, bool) else str(plain))
    except ValueError:
        raise _unlike(kind, plain, place) from None


def _unlike(kind: Type, plain: Any, place: str) -> ProblemError:
    return ProblemError(Problem("sample.type", "The sample is of another type.", place=place, expected=kind.words, found=shown(str(plain))))
