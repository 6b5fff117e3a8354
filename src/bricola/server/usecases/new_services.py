"""A service that is made together with what its first operation runs."""

from collections.abc import Sequence

from bricola.core.definitions.base import Definition
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.model import Operation, ServiceDefinition
from bricola.core.definitions.names import pascal_case
from bricola.core.problems import Kind, Problem, ProblemError


def new_service(catalogue: Catalogue, name: str, source: Definition, words: str, operation: str, roles: Sequence[str]) -> ServiceDefinition:
    """A service with one operation, called after what it runs where no name is said. Raises ProblemError where there is one already."""
    if catalogue.find_service(name) is not None:
        raise ProblemError(Problem("discover.taken", f"{name} is the name of another service.", Kind.CONFLICT, place=f"service {name}",
                                   mend=f"Publish it there: bricola publish {source.kind} {source.name} {name}"))
    operations = (Operation(name=operation or pascal_case(source.name), runs=f"{source.kind} {source.name}"),)
    return ServiceDefinition.model_validate({"name": name, "description": words, "operations": operations,
                                             "access": dict.fromkeys(roles, "all")})


def refuse_taken(catalogue: Catalogue, news: Sequence[Definition]) -> None:
    """Raises ProblemError for definitions that there are already, and not the same."""
    taken = [one for one in news if (known := catalogue.find((one.kind, one.name))) is not None and known != one]
    if taken:
        raise ProblemError(*(Problem("discover.taken", f"{one.name} is the name of another {one.kind}.", Kind.CONFLICT,
                                     place=f"{one.kind} {one.name}", mend="Give it another name.") for one in taken))
