"""A definition brought up to what its routine is now: what somebody wrote of it stays, and what the database declares follows.

Names, labels, faults and what was left out on purpose are kept. A parameter that is new comes in as it would in a draft; one that is gone
goes, with what names it; one of another type keeps its name and gets the type. Columns of rows that are new are not taken by themselves:
whether callers may see them is nobody's guess.
"""

from collections.abc import Collection, Sequence
from typing import Any, TypeVar

from bricola.core.definitions.parts import TypedPart
from bricola.core.kinds.routines.comparing import bare
from bricola.core.kinds.routines.definition import ResultSet, RoutineDefinition, RoutineFault, RoutineInput, RoutineOutput
from bricola.core.kinds.routines.drafting import Wish, draft_routine
from bricola.core.sql.routines import Routine

P = TypeVar("P", RoutineInput, RoutineOutput)

# What says which values there are, and not what they mean or what they are called.
_OF_THE_TYPE = tuple(name for name in TypedPart.model_fields if name not in ("name", "label", "description", "unit", "required", "sample"))


def renewed(known: RoutineDefinition, routine: Routine, zone: str = "") -> RoutineDefinition:
    """Raises ProblemError where the routine cannot be carried any more."""
    fresh = draft_routine(routine, Wish(known.backend, known.name, zone))
    before = {one.name: bare(one.declared) for one in known.parameters}
    same = {one.name for one in routine.parameters if before.get(one.name) == bare(one.declared)}
    went_in = {one.name for one in known.parameters if one.way in ("in", "in-out")} | set(known.fixed)
    came_out = {one.name for one in known.parameters if one.way != "in"}
    inputs, outputs = _parts(known.input, fresh.input, went_in, same), _parts(known.output, fresh.output, came_out, same)
    names = {one.name for one in (*inputs, *outputs)}
    there = {one.name for one in fresh.parameters}
    return known.model_copy(update={
        "form": fresh.form, "parameters": fresh.parameters, "input": inputs, "output": outputs,
        "fixed": {name: value for name, value in known.fixed.items() if name in there}
        | {name: value for name, value in fresh.fixed.items() if name not in before},
        "rows": _rows(known.rows, routine), "faults": tuple(_fault(one, names) for one in known.faults)})


def untold_columns(known: RoutineDefinition, routine: Routine) -> list[str]:
    """Columns that its rows have, and the definition does not tell."""
    told = {column.column_name.lower() for one in known.rows for column in one.columns}
    return [one.name for one in routine.columns if known.rows and one.name.lower() not in told]


def _parts(known: Sequence[P], fresh: Sequence[P], before: Collection[str], same: Collection[str]) -> tuple[P, ...]:
    """One side, in the order that it has, what is new at the end; `before` are the parameters that it could have had."""
    taken = {one.name for one in known}
    there = {one.parameter_name: one for one in fresh}
    kept = [one if one.parameter_name in same else _retyped(one, there[one.parameter_name])
            for one in known if one.parameter_name in there]
    for one in fresh:
        if one.parameter_name in before:
            continue
        name, number = one.name, 1
        while name in taken:
            number += 1
            name = f"{one.name}{number}"
        taken.add(name)
        kept.append(one.model_copy(update={"name": name, "parameter": one.parameter or (one.parameter_name if name != one.name else "")}))
    return tuple(kept)


def _retyped(known: P, fresh: P) -> P:
    update: dict[str, Any] = {name: getattr(fresh, name) for name in _OF_THE_TYPE} | {"zone": fresh.zone}
    if isinstance(known, RoutineInput):
        update["default"] = None if known.type != fresh.type else known.default
    return known.model_copy(update=update | ({"sample": None} if known.type != fresh.type else {}))


def _rows(known: Sequence[ResultSet], routine: Routine) -> tuple[ResultSet, ...]:
    """Without the columns that are gone, where the database tells which there are."""
    if not routine.columns:
        return tuple(known)
    there = {one.name.lower() for one in routine.columns}
    left = [one.model_copy(update={"columns": tuple(two for two in one.columns if two.column_name.lower() in there)}) for one in known]
    return tuple(one for one in left if one.columns)


def _fault(one: RoutineFault, names: Collection[str]) -> RoutineFault:
    return one.model_copy(update={"fields": tuple(name for name in one.fields if name in names)})

