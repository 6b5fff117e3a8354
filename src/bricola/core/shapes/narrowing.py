"""What an operation takes of the inputs that there are, and gives of the fields."""

from bricola.core.definitions.model import Operation
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.given import Given
from bricola.core.shapes.model import Element, Record


def narrowed(operation: Operation, row: Record, place: str) -> Record:
    """The row with only what the operation gives, under a name of its own. Raises ProblemError."""
    if not operation.gives:
        return row
    names = [element.name for element in row.elements]
    unknown = [one for one in operation.gives if one not in names]
    if unknown:
        raise ProblemError(*(Problem("operation.gives", "The operation cannot give this.", place=f"{place}, gives",
                                     choices=tuple(names), found=shown(one)) for one in unknown))
    return Record(f"{operation.name}{row.name}", tuple(one for one in row.elements if one.name in operation.gives), row.description)


def taken(
    operation: Operation, elements: tuple[Element, ...], place: str, needed: tuple[str, ...] = ()
) -> tuple[Given, tuple[Element, ...]]:
    """The inputs that the operation takes, with those that it gives itself by `input`; what is left out keeps its default."""
    if not operation.takes:
        return Given(), elements
    names = [element.name for element in elements]
    kept = {*operation.takes, *(one.name for one in operation.input)}
    problems = [Problem("operation.takes", "The operation has no such input.", place=f"{place}, takes",
                        choices=tuple(names), found=shown(one)) for one in operation.takes if one not in names]
    problems += [Problem("operation.takes", f"The operation cannot do without {one}.", place=f"{place}, takes",
                         mend=f"Take {one}, or give it under 'input:'.") for one in needed if one not in kept]
    if problems:
        raise ProblemError(*problems)
    hidden = {one.name: one.default for one in elements if one.name not in kept and one.default is not None}
    return Given(hidden), tuple(one for one in elements if one.name in kept)


def required(elements: tuple[Element, ...]) -> tuple[str, ...]:
    return tuple(one.name for one in elements if one.least)
