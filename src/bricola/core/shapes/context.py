"""Inputs that are given by context: their values come from the environment that a release runs in."""

from bricola.core.definitions.model import EnvironmentDefinition
from bricola.core.problems import Problem, ProblemError
from bricola.core.shapes.primitives import Value
from bricola.core.shapes.resolve import ResolvedOperation


def context_values(operation: ResolvedOperation, environment: EnvironmentDefinition) -> dict[str, Value]:
    """The values that an environment gives to inputs. Raises ProblemError for one that it lacks or that does not fit."""
    values: dict[str, Value] = {}
    problems: list[Problem] = []
    for name, (key, kind) in operation.context.items():
        place = f"environment {environment.name}, context, {key}"
        if key not in environment.context:
            problems.append(Problem("context.missing", f"{environment.name} gives no {key}, which {operation.shape.name} takes.",
                                    place=place, mend=f"Add 'context: {{{key}: …}}' to the environment."))
            continue
        values[name], problem = kind.read(environment.context[key])
        if problem is not None:
            problems.append(problem.at(place))
    if problems:
        raise ProblemError(*problems)
    return values
