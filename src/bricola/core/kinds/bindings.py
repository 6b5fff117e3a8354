"""What kinds look up in an environment when they compile an operation."""

from bricola.core.definitions.model import EnvironmentDefinition
from bricola.core.problems import Problem, ProblemError


def refuse_read_only(operation: str, backend: str, environment: EnvironmentDefinition) -> None:
    """Raises ProblemError where a writing operation may not run."""
    binding = environment.binding(backend)
    if binding is not None and binding.read_only:
        raise ProblemError(Problem(
            "binding.read-only", f"{operation} writes, but {backend} is read only in {environment.name}.",
            place=f"environment {environment.name}, backends, {backend}, read_only",
            mend="Leave the operation out of the service, or bind the backend without 'read_only'."))


def marks_table(backend: str, environment: EnvironmentDefinition) -> str:
    """The table for marks of repeatable requests; '' where the binding names none."""
    binding = environment.binding(backend)
    return binding.requests if binding is not None else ""
