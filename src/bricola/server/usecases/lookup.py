"""Finding what a request names, or saying what there is instead."""

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.model import EnvironmentDefinition, ServiceDefinition
from bricola.core.problems import Kind, Problem, ProblemError, shown


def unknown(what: str, name: str, known: list[str]) -> Problem:
    """There is no such thing; these are the ones that there are."""
    return Problem(f"{what}.unknown", f"There is no {what} {shown(name)}.", Kind.MISSING, place=name,
                   expected=f"one of {', '.join(known)}" if known else f"a {what}, but there is none yet")


def find_service(catalogue: Catalogue, name: str) -> ServiceDefinition:
    found = catalogue.find_service(name)
    if found is None:
        raise ProblemError(unknown("service", name, [one.name for one in catalogue.services()]))
    return found


def find_environment(catalogue: Catalogue, name: str) -> EnvironmentDefinition:
    found = catalogue.find_environment(name)
    if found is None:
        raise ProblemError(unknown("environment", name, [one.name for one in catalogue.environments()]))
    return found
