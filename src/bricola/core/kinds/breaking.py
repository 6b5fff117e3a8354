"""What a change of definitions breaks elsewhere: services and sources that fitted together before it, and do not after."""

from collections.abc import Iterator

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.model import Operation
from bricola.core.kinds.registry import sources
from bricola.core.kinds.resolve import resolve_operation, resolve_service
from bricola.core.problems import Problem, ProblemError
from bricola.core.shapes.forms import NEWEST


def broken_by(before: Catalogue, after: Catalogue) -> list[Problem]:
    """The problems that there are with `after` and were not with `before`, each once. Takes as long as looking at everything twice."""
    known = set(_problems(before))
    return [one for one in dict.fromkeys(_problems(after)) if one not in known]


def _problems(catalogue: Catalogue) -> Iterator[Problem]:
    for service in catalogue.services():
        try:
            resolve_service(service, catalogue)
        except ProblemError as error:
            yield from error.problems
    for kind, definition in sources(catalogue):  # those too that no service runs yet
        if not kind.runs.default:
            continue
        operation = Operation(name="Alone", runs=kind.runs.example(kind.word).replace("name", definition.name, 1))
        try:
            resolve_operation(operation, catalogue, NEWEST, f"{kind.word} {definition.name}")
        except ProblemError as error:
            yield from error.problems
