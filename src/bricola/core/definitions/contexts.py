"""Context values by name: an environment says the company, the language or the site as people call it, and operations get the number that
stands for it. The list is an owner's, or comes from a table."""

from collections.abc import Iterator
from typing import Annotated, ClassVar

from bricola.core.definitions.base import Definition, ElementName, Frozen, Line, Name, Refers, Scalar
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.model import EnvironmentDefinition
from bricola.core.definitions.runs import add_kind
from bricola.core.problems import Problem, ProblemError, shown


class ContextFeed(Frozen):
    """The table that a list comes from: an object, and which of its fields are the name and the value."""

    object: Annotated[Name, Refers("object")]
    """The object whose rows are the list."""
    name: ElementName
    """Its field with what people say."""
    value: ElementName
    """Its field with what stands for it."""


class ContextList(Definition):
    """`name` is the context value; `values` are what stands for each of the names that people say. With a `feed` they are taken from a
    table by `bricola context take`."""

    kind: ClassVar[str] = "context-list"
    live: ClassVar[bool] = True
    name: Name
    """The context value."""
    description: Line = ""
    """What it is."""
    feed: ContextFeed | None = None
    """The table that it is taken from."""
    values: dict[str, Scalar] = {}
    """What stands for each name that people say."""


add_kind(ContextList)


def context_misfits(environment: EnvironmentDefinition, catalogue: Catalogue) -> Iterator[Problem]:
    """What keeps calls from an environment: names that stand for nothing, and accounts of another context."""
    yield from _unknown_names(environment, catalogue)
    yield from _misplaced(environment)


def _unknown_names(environment: EnvironmentDefinition, catalogue: Catalogue) -> Iterator[Problem]:
    """Context values of an environment that no list has under this name."""
    for key, said in environment.context.items():
        known = catalogue.get(ContextList, key)
        if known is not None and said not in known.values:
            yield Problem("context.name", f"There is no {key} of this name.", place=f"environment {environment.name}, context, {key}",
                          found=shown(said), choices=tuple(known.values))


def with_context(environment: EnvironmentDefinition, catalogue: Catalogue) -> EnvironmentDefinition:
    """The environment with what stands for the names of its context. Raises ProblemError for a name that is in no list, and for an
    account of another context."""
    problems = list(context_misfits(environment, catalogue))
    if problems:
        raise ProblemError(*problems)
    named = {key: known.values[said] for key, said in environment.context.items() if (known := catalogue.get(ContextList, key)) is not None}
    return environment.model_copy(update={"context": {**environment.context, **named}}) if named else environment


def _misplaced(environment: EnvironmentDefinition) -> Iterator[Problem]:
    """Backends whose account is for another context than the environment's: a call would read or write somebody else's rows."""
    for binding in environment.backends:
        for key, meant in binding.context.items():
            said = environment.context.get(key)
            if said != meant:
                yield Problem("context.pool", f"The account of {binding.name} is for another {key} than calls in {environment.name}.",
                              place=f"environment {environment.name}, backends, {binding.name}, context, {key}",
                              expected=shown(said or "none"), found=shown(meant),
                              mend="Correct the context of the environment, or the credential of the backend.")
