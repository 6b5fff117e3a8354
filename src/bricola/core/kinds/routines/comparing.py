"""Whether a routine is in its database what its definition says."""

import re
from collections.abc import Iterator, Sequence

from bricola.core.kinds.kind import UNFIT
from bricola.core.kinds.routines.definition import RoutineDefinition
from bricola.core.problems import Problem, shown
from bricola.core.sql.routines import Routine


def unfit(definition: RoutineDefinition, known: Sequence[Routine]) -> Iterator[Problem]:
    """What of a definition does not fit the routines that the database has; of several of a name, against the one that is most like it."""
    place = f"routine {definition.name}"
    named = [one for one in known if one.name == definition.calls]
    if not named:
        yield Problem(UNFIT, "There is no such routine that the service's user may call.", place=f"{place}, calls",
                      found=shown(definition.calls), choices=tuple(dict.fromkeys(one.name for one in known)),
                      mend="Correct 'calls:', or the database.")
        return
    like = nearest(definition, named)
    for words in like.obstacles:
        yield Problem(UNFIT, f"The routine cannot be called: {words}.", place=f"{place}, calls", found=like.called)
    for name, said, there in differences(definition, like):
        yield Problem(UNFIT, "The routine is another than its definition says.", place=f"{place}, parameters, {name}", expected=said,
                      found=there, mend=f"Bring the definition up to it: bricola discover renew ENVIRONMENT {definition.name}")


def nearest(definition: RoutineDefinition, named: Sequence[Routine]) -> Routine:
    """Of the routines of its name the one that is most like the definition."""
    return min(named, key=lambda one: (len(differences(definition, one)), len(one.obstacles)))


def differences(definition: RoutineDefinition, routine: Routine) -> list[tuple[str, str, str]]:
    """What of a routine is not as the definition says: the parameter (or what else), as it is said, and as it is there."""
    found = []
    said = {one.name: one for one in definition.parameters}
    there = {one.name: one for one in routine.parameters}
    for name, one in said.items():
        other = there.get(name)
        words = _words(one.way, one.declared, one.optional)
        if other is None:
            found.append((name, words, "no such parameter"))
        elif (one.way, bare(one.declared)) != (other.way, bare(other.declared)) or (one.optional and not other.optional):
            found.append((name, words, _words(other.way, other.declared, other.optional)))
    found += [(name, "no such parameter", _words(one.way, one.declared, one.optional)) for name, one in there.items()
              if name not in said and (not one.optional or one.way != "in")]
    if not found and [name for name in said if name in there] != [name for name in there if name in said]:
        found.append(("the order", ", ".join(said), ", ".join(there)))
    if routine.form != definition.form:
        found.append(("the form", definition.form, routine.form))
    if routine.columns:
        columns = {one.name.lower() for one in routine.columns}
        found += [(f"column {column.column_name}", "a column of its rows", "no such column")
                  for one in definition.rows for column in one.columns if column.column_name.lower() not in columns]
    return found


def newly_optional(definition: RoutineDefinition, routine: Routine) -> list[tuple[str, str, str]]:
    """Parameters that calls as they are do very well without, and the definition does not know yet."""
    said = {one.name for one in definition.parameters}
    return [(one.name, "no such parameter", _words(one.way, one.declared, True)) for one in routine.parameters
            if one.name not in said and one.optional and one.way == "in"]


def _words(way: str, declared: str, optional: bool) -> str:
    return f"{way} {declared}{', optional' if optional else ''}"


def bare(declared: str) -> str:
    """A type as it is compared: however it is written."""
    return re.sub(r"\s+", " ", declared.strip().lower())
