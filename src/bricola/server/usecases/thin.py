"""A good status is not enough: answers that are right and still hold less than the contract or the past lets one expect, and why."""

from collections.abc import Mapping, Sequence
from statistics import median
from typing import Any, Protocol

from bricola.core.definitions.model import EnvironmentDefinition
from bricola.core.kinds.completing import completed
from bricola.core.messages.plain import from_plain
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.serving.live import LiveService
from bricola.core.shapes.model import OperationShape, Record
from bricola.server.kinds.kind import KindServer
from bricola.server.ports.calls import Calls
from bricola.server.ports.drafts import Drafts
from bricola.server.ports.places import Places
from bricola.server.ports.releases import Releases
from bricola.server.usecases import records

_FEW = 5  # calls before anything is said by the past
_SHARE = 0.25  # of the usual size, below which an answer is thin


class Ports(Protocol):
    kinds: Sequence[KindServer]
    drafts: Drafts
    releases: Releases
    places: Places
    calls: Calls


async def warnings(ports: Ports, environment: EnvironmentDefinition, live: LiveService, operation: OperationShape,
                   values: Mapping[str, Any], answer: Mapping[str, Any], headers: Mapping[str, str], size: int,
                   usual: Sequence[int]) -> list[Problem]:
    """What is to be said of an answer that is as the contract has it. `usual` are the sizes of earlier answers."""
    if headers.get("bricola-stub"):
        return [Problem("thin.stub", "The answer is a sample: nothing implements the operation yet.", place=operation.name,
                        mend=f"Say what {operation.name} runs, release and deploy it.")]
    empty = empty_lists(operation.output, answer)
    if empty:
        causes = await _causes(ports, environment, live, operation, values)
        mend = "" if causes else "Look whether what was asked for exists there."
        first, *more = causes or [("", "Nothing fits what was asked for.")]
        found = "; ".join([first[1], *(words for _, words in more)])
        return [Problem("thin.empty", f"The status is good, and {', '.join(empty)} {'is' if len(empty) == 1 else 'are'} empty.",
                        place=first[0] or empty[0], expected="at least one item", found=found, mend=mend)]
    if _says_nothing(operation.output, answer):
        return [Problem("thin.nothing", "The status is good, and the answer says nothing.", place=operation.output.name,
                        expected="a value of " + ", ".join(one.name for one in operation.output.slots[:8]))]
    if len(usual) >= _FEW and size < _SHARE * median(usual) and any(one.is_list for one in operation.output.slots):
        return [Problem("thin.less", "The answer is much smaller than answers of this operation usually are.", place=operation.output.name,
                        expected=f"about {median(usual):.0f} bytes", found=f"{size} bytes",
                        mend="Look whether the backend is the one that it should be.")]
    return []


def empty_lists(record: Record, answer: Mapping[str, Any]) -> list[str]:
    """The lists of an answer, where all of them are empty and nothing else tells of a row."""
    lists = [one for one in record.slots if one.is_list]
    if not lists or any(answer.get(one.name) for one in lists):
        return []
    rest = [one for one in record.slots if not one.is_list and isinstance(one.type, Record) and answer.get(one.name)]
    texts = [one for one in record.slots if not one.is_list and isinstance(answer.get(one.name), str)
             and not isinstance(one.type, Record) and one.type.primitive.python is str]
    return [] if rest or texts else [one.name for one in lists]


def _says_nothing(record: Record, answer: Mapping[str, Any]) -> bool:
    return bool(record.slots) and not any(value not in (None, [], {}, "") for value in answer.values()) and any(
        not one.is_list for one in record.slots)


async def _causes(ports: Ports, environment: EnvironmentDefinition, live: LiveService, operation: OperationShape,
                  values: Mapping[str, Any]) -> list[tuple[str, str]]:
    """Why nothing was found, where what stands behind it can be asked."""
    found, catalogue = await records.operation_of(ports, live, operation.name)
    owner = next((one for one in ports.kinds if one.kind.word == found.kind.word), None)
    if owner is None or owner.why_empty is None or found.ways is not None:
        return []
    problems: list[Problem] = []
    given = from_plain(operation.input, values, operation.name, problems)
    if problems:
        return []
    try:
        whole = completed(found, environment, given)
        causes = await owner.why_empty(found, whole, records.visits(ports, environment.name, catalogue))
    except ProblemError:
        return []  # the answer itself came, so this is no failure of it
    context = {name: key for name, (key, _) in found.given.context.items()}
    return [(name, f"{words} {environment.name} gives it {shown(environment.context.get(context[name], ''))} by its context."
             if name in context else words) for name, words in causes]
