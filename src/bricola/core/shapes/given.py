"""Inputs that callers neither give nor see: fixed ones, and those given by context.

A context value is the environment's, found when a release is compiled, or the call's, found at each call:

| name | what it is |
| --- | --- |
| caller.name | the caller's name, `anonymous` for one without identity |
| call.id | the id under which the call is recorded |
| now | the moment at which the call came in, with its day and time where the input is a date or a time |
"""

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from typing import Any

from bricola.core.definitions.model import EnvironmentDefinition, Operation
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.model import Element
from bricola.core.shapes.primitives import Value
from bricola.core.shapes.simple import SimpleType
from bricola.core.shapes.typed import typed_value

CALL_VALUES = ("caller.name", "call.id", "now")


@dataclass(frozen=True)
class Given:
    """The values that an operation's inputs have without the caller. `context` and `per_call`: input -> name, type."""

    fixed: dict[str, Value] = field(default_factory=dict)
    context: dict[str, tuple[str, SimpleType]] = field(default_factory=dict)
    per_call: dict[str, tuple[str, SimpleType]] = field(default_factory=dict)

    def __bool__(self) -> bool:
        return bool(self.fixed or self.context or self.per_call)

    @property
    def names(self) -> frozenset[str]:
        return frozenset((*self.fixed, *self.context, *self.per_call))


def apply_parameters(operation: Operation, elements: tuple[Element, ...], place: str, hidden: "Given") -> tuple[Given, tuple[Element, ...]]:
    """What the operation itself says of its inputs: fixed and context ones leave the contract, defaults make them optional.
    `hidden` has what was left out of it before."""
    known = {element.name: element for element in elements}
    given = Given(dict(hidden.fixed))
    for parameter in operation.input:
        element = known.get(parameter.name)
        where = f"{place}, input, {parameter.name}"
        if element is None or not isinstance(element.type, SimpleType):
            raise ProblemError(Problem("parameter.unknown", "The operation has no such input.", place=where,
                                       choices=tuple(known), found=shown(parameter.name)))
        if parameter.given != "caller" and parameter.value is None:
            raise ProblemError(Problem("parameter.value", f"A {parameter.given} input needs a value.", place=where,
                                       mend="Add 'value:'."))
        if parameter.given == "context":
            name = str(parameter.value)
            if name in CALL_VALUES:
                _check_call_value(name, element.type, where)
                given.per_call[parameter.name] = name, element.type
            else:
                given.context[parameter.name] = name, element.type
            del known[parameter.name]
            continue
        value = typed_value(element.type, parameter.value, where) if parameter.value is not None else None
        if parameter.given == "fixed":
            given.fixed[parameter.name] = value
            del known[parameter.name]
            continue
        if parameter.given == "default":
            element = replace(element, least=0, default=value)
        if parameter.sample is not None and isinstance(element.type, SimpleType):
            element = replace(element, sample=typed_value(element.type, parameter.sample, f"{where}, sample"))
        known[parameter.name] = replace(element, description=parameter.description or element.description)
    return given, tuple(known.values())


def _check_call_value(name: str, kind: SimpleType, place: str) -> None:
    offered = {"now": ("dateTime", "date", "time", "string", "gYearMonth")}.get(name, ("string",))
    if kind.base not in offered:
        raise ProblemError(Problem("parameter.context-type", f"{name} does not fit this input.", place=place,
                                   expected=f"an input of type {' or '.join(offered)}", found=kind.base))


def context_values(given: Given, operation: str, environment: EnvironmentDefinition) -> dict[str, Value]:
    """The values that an environment gives to inputs. Raises ProblemError for one that it lacks or that does not fit."""
    values: dict[str, Value] = {}
    problems: list[Problem] = []
    for name, (key, kind) in given.context.items():
        place = f"environment {environment.name}, context, {key}"
        if key not in environment.context:
            problems.append(Problem("context.missing", f"{environment.name} gives no {key}, which {operation} takes.",
                                    place=place, mend=f"Add 'context: {{{key}: …}}' to the environment."))
            continue
        values[name], problem = kind.read(environment.context[key])
        if problem is not None:
            problems.append(problem.at(place))
    if problems:
        raise ProblemError(*problems)
    return values


def call_value(name: str, kind: SimpleType) -> Callable[[str, str, float], Value]:
    """A function (caller, call id, seconds since 1970) -> the value. One that does not fit the type is refused by the
    caller of this function, like any value."""
    if name == "caller.name":
        return lambda caller, call, at: caller
    if name == "call.id":
        return lambda caller, call, at: call
    convert: dict[str, Callable[[datetime], Any]] = {
        "dateTime": lambda moment: moment.replace(microsecond=0), "date": datetime.date,
        "time": lambda moment: moment.timetz().replace(microsecond=0),
        "string": lambda moment: moment.strftime("%Y-%m-%dT%H:%M:%SZ"), "gYearMonth": lambda moment: moment.strftime("%Y-%m"),
    }
    make = convert[kind.base]
    return lambda caller, call, at: make(datetime.fromtimestamp(at, UTC))
