"""Stored answers: a read may be answered from memory for a while, where its environment says so.

Kept for one release of one operation, by its inputs, and by its caller where the answer may depend on who asks. Every write through Bricola
that reaches one of the same backends empties what is stored, when it begins and when it ends; what was read while it ran is not kept, since
nobody knows which of the two was first. Writes made past Bricola are not seen: the review says so.
"""

import json
from collections import OrderedDict, defaultdict
from collections.abc import Awaitable, Callable, Iterable, Iterator
from contextlib import contextmanager
from typing import NamedTuple

from bricola.core.calls.call import Call
from bricola.core.messages.plain import to_plain
from bricola.core.serving.live import LiveOperation, LiveService
from bricola.core.shapes.model import Passed, Values

MOST_CHARACTERS = 200_000  # of one answer, as JSON; a longer one is not kept

MOST_OPERATIONS = 500  # that have answers here; of older releases they go by themselves

_Operation = tuple[str, str, int, str]  # environment, segment, release, operation
_Backend = tuple[str, str]  # environment, backend


class _Kept(NamedTuple):
    answer: Values
    at: float


class _Place(NamedTuple):
    """The answers of an operation as it was compiled: for another environment's settings or backends it is another one."""

    operation: LiveOperation
    answers: OrderedDict[str, _Kept]


class StoredAnswers:
    """All that is stored in one process. `clock` gives monotonic seconds."""

    def __init__(self, clock: Callable[[], float]) -> None:
        self._clock = clock
        self._answers: OrderedDict[_Operation, _Place] = OrderedDict()
        self._on: dict[_Backend, set[_Operation]] = defaultdict(set)
        self._writing: dict[_Backend, int] = defaultdict(int)  # writes under way
        self._changes: dict[_Backend, int] = defaultdict(int)  # writes that began or ended

    @contextmanager
    def writing(self, environment: str, backends: Iterable[str]) -> Iterator[None]:
        """Something may be written to these backends meanwhile."""
        reached = [(environment, one) for one in backends]
        for one in reached:
            self._writing[one] += 1
            self._empty(one)
        try:
            yield
        finally:
            for one in reached:
                self._writing[one] -= 1
                self._empty(one)

    def _empty(self, backend: _Backend) -> None:
        self._changes[backend] += 1
        for one in self._on.pop(backend, ()):
            self._answers.pop(one, None)

    async def answer(self, service: LiveService, operation: LiveOperation, call: Call, values: Values, fresh: bool,
                     run: Callable[[], Awaitable[Values]]) -> Values:
        """The stored answer, or a new one, which is kept. The call learns its age. `fresh`: the caller wants no stored one."""
        policy = operation.stored
        assert policy is not None
        place = (service.environment, service.segment, service.release, operation.shape.name)
        key = json.dumps([to_plain(operation.shape.input, values), "" if operation.shared else call.caller.name], sort_keys=True)
        known = self._answers.get(place)
        answers = known.answers if known is not None and known.operation is operation else OrderedDict()
        kept = answers.get(key)
        if kept is not None and not fresh and self._clock() - kept.at <= policy.seconds:
            answers.move_to_end(key)
            call.age = self._clock() - kept.at
            call.note(f"a stored answer, {call.age:.0f} s old")
            return kept.answer
        backends = [(service.environment, one) for one in operation.backends]
        before = [self._changes[one] for one in backends]
        started = self._clock()
        answer = await run()
        call.age = 0.0
        if isinstance(answer, Passed) or any(self._writing[one] for one in backends) or before != [self._changes[one] for one in backends]:
            return answer
        size = len(json.dumps(to_plain(operation.shape.output, answer)))
        if size <= MOST_CHARACTERS:
            self._keep(place, operation, key, _Kept(answer, started), policy.at_most)
            for one in backends:
                self._on[one].add(place)
        return answer

    def _keep(self, place: _Operation, operation: LiveOperation, key: str, one: _Kept, most: int) -> None:
        known = self._answers.get(place)
        if known is None or known.operation is not operation:
            known = self._answers[place] = _Place(operation, OrderedDict())
        known.answers[key] = one
        known.answers.move_to_end(key)
        while len(known.answers) > most:
            known.answers.popitem(last=False)
        self._answers.move_to_end(place)
        while len(self._answers) > MOST_OPERATIONS:
            self._answers.popitem(last=False)
