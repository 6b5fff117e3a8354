"""Drafts: the definition of a routine, and a service with an operation that runs it, made of what the database tells."""

import re
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from bricola.core.definitions.names import kebab_case, label_of, pascal_case, readable, readable_names, snake_case
from bricola.core.kinds.routines.definition import ResultSet, RoutineDefinition, RoutineInput, RoutineOutput, RoutineParameter
from bricola.core.problems import Problem, ProblemError
from bricola.core.shapes.typed import simple_type
from bricola.core.sql.parts import ResultColumn
from bricola.core.sql.routines import CURSOR, Parameter, Results, Routine
from bricola.core.sql.tables import OPEN_ZONE, ColumnType

_MARK = re.compile(r"^(p|in|out|io|inout|i|o|v|par|prm|arg)_+(?=[A-Za-z])", re.IGNORECASE)


@dataclass(frozen=True)
class Wish:
    """What is wanted of a routine. `zone` (utc, local) is that of moments which do not say it; `seen` are the results that it gave when it
    was tried, None when it was not, and `samples` the values, by parameter, that it was tried with."""

    backend: str
    name: str = ""
    zone: str = ""
    seen: Sequence[Results] | None = None
    samples: Mapping[str, str] = field(default_factory=dict)


def draft_routine(routine: Routine, wish: Wish) -> RoutineDefinition:
    """Raises ProblemError with every reason why not."""
    if routine.reasons:
        raise ProblemError(*(Problem("discover.routine", f"{routine.called} cannot be published: {one}.", place=routine.name)
                             for one in routine.reasons))
    carried = [one for one in routine.parameters if one.type.base]
    names = readable_names(_unmarked([one.name for one in carried]))
    own = dict(zip([one.name for one in carried], names.values(), strict=True))
    inputs = [_input(one, own[one.name], wish) for one in carried if one.way in ("in", "in-out")]
    outputs = [_output(one, own[one.name], wish) for one in carried if one.way != "in"]
    return RoutineDefinition(
        name=wish.name or kebab_case(readable(routine.name.rpartition(".")[2])), description=routine.comment[:2000], backend=wish.backend,
        calls=routine.name, form=routine.form, writes=routine.writes,
        parameters=tuple(RoutineParameter(name=one.name, declared=one.declared, way=one.way, optional=one.optional)
                         for one in routine.parameters),
        fixed={one.name: None if one.way == "in-out" else one.name for one in routine.parameters
               if one.declared == CURSOR and one.way in ("in", "in-out")},  # what is open is found under its name
        input=tuple(inputs), output=tuple(outputs), rows=tuple(_rows(routine, wish, {one.name for one in outputs})))


def _unmarked(names: Sequence[str]) -> list[str]:
    """Names without the p_, in_ or the like that some people put before each, where they stay unlike."""
    bare = [_MARK.sub("", one) or one for one in names]
    return bare if len({one.lower() for one in bare}) == len(names) else list(names)


def _type(told: ColumnType, codes: Collection[str], place: str) -> dict[str, Any]:
    facets = {"codes": tuple(codes)} if codes and told.base == "string" else dict(told.facets)
    simple_type(told.base, facets, place)
    return {"type": told.base, **facets}


def _named(name: str, there: str) -> str:
    return "" if snake_case(name) == there else there


def _input(one: Parameter, name: str, wish: Wish) -> RoutineInput:
    return RoutineInput(name=name, **_type(one.type, one.codes, one.name), label=label_of(name), required=not one.optional,
                        sample=wish.samples.get(one.name), parameter=_named(name, one.name), zone=_zone(one.type, wish))


def _output(one: Parameter, name: str, wish: Wish) -> RoutineOutput:
    return RoutineOutput(name=name, **_type(one.type, one.codes, one.name), label=label_of(name), required=False,
                         parameter=_named(name, one.name), zone=_zone(one.type, wish))


def _zone(told: ColumnType, wish: Wish) -> Any:
    return (wish.zone or "local") if told.zone == OPEN_ZONE else told.zone


def _rows(routine: Routine, wish: Wish, taken: Collection[str]) -> Iterator[ResultSet]:
    sets: list[Mapping[str, tuple[ColumnType, str]]] = []
    if routine.columns:
        sets = [{one.name: (one.type, one.declared) for one in routine.columns}]
    elif wish.seen is not None:
        sets = [dict(zip(one.columns, ((told or ColumnType("string"), "") for told in one.types()), strict=True)) for one in wish.seen]
    base = pascal_case(readable(routine.name.rpartition(".")[2]))
    for number, columns in enumerate(sets, 1):
        last = "" if len(sets) == 1 else str(number)
        name = f"row{last}" if f"row{last}" not in taken else f"resultRow{last}"
        usable = {there: told for there, (told, _) in columns.items() if told.base}
        if not usable:
            raise ProblemError(Problem("discover.routine", f"Messages have no type for any column of result {number} of {routine.called}.",
                                       place=routine.name))
        names = readable_names(usable)
        yield ResultSet(name=name, record=f"{base}Row{last}", columns=tuple(
            ResultColumn(name=names[there], **_type(told, (), there), label=label_of(names[there]), required=False,
                         column=_named(names[there], there), zone="utc" if _zone(told, wish) == "utc" else "")
            for there, told in usable.items()))


def left_out(routine: Routine) -> list[tuple[str, str]]:
    """What of a routine is left out, since messages have no type for it: names with the types there."""
    return [(name, declared) for name, kind, declared in _told(routine) if not kind.base and declared != CURSOR]


def open_zones(routine: Routine, seen: Sequence[Results] | None) -> list[str]:
    """Parameters and columns with moments of which the database does not say in which zone they are."""
    shown = [(name, told) for one in seen or () for name, told in zip(one.columns, one.types(), strict=True) if told is not None]
    told = (*((name, kind) for name, kind, _ in _told(routine)), *shown)
    return list(dict.fromkeys(name for name, kind in told if kind.zone == OPEN_ZONE))


def _told(routine: Routine) -> Iterator[tuple[str, ColumnType, str]]:
    yield from ((one.name, one.type, one.declared) for one in routine.parameters)
    yield from ((one.name, one.type, one.declared) for one in routine.columns)
