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
    return [*_taken_away(before, after), *(one for one in dict.fromkeys(_problems(after)) if one not in known)]


def _taken_away(before: Catalogue, after: Catalogue) -> Iterator[Problem]:
    """Places of backends that an environment would lose, which take effect at once: a text that was written before they were made does not
    have them."""
    for old in before.environments():
        new = after.find_environment(old.name)
        if new is None:
            continue
        for one in old.backends:
            if one.ends and not (binding.ends if (binding := new.binding(one.name)) is not None else ()):
                yield Problem("binding.dropped", f"The place of the backend {one.name} is taken away, at once.",
                              place=f"environment {old.name}",
                              found=f"no line '{one.name}:' under 'backends:'", mend="Export first, or merge, to keep what connect made.")


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
