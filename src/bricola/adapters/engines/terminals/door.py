"""What the doors to terminal hosts share: a host over a socket, or the film that stands in for it."""

from collections.abc import Callable, Sequence
from typing import Any

from bricola.adapters.engines.terminals.checks import TerminalCheck
from bricola.adapters.engines.terminals.sessions import TerminalKind
from bricola.adapters.stages import Checker
from bricola.adapters.surroundings import Surroundings
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import BackendDefinition, Binding
from bricola.core.kinds.kind import Probe
from bricola.core.kinds.screens.offline import FilmKind
from bricola.core.kinds.screens.walks import compile_ways
from bricola.core.pool.sessions import SessionKind
from bricola.core.problems import Problem, ProblemError
from bricola.core.terminals.terminal import Terminal, TerminalSettings

Make = Callable[[TerminalSettings], Terminal]
Protocol = Callable[[Terminal], str]


def session_kinds(make: Make, protocol: Protocol) -> Callable[[BackendDefinition, Binding, Surroundings, str], SessionKind[Any]]:
    def sessions(backend: BackendDefinition, binding: Binding, around: Surroundings, environment: str) -> SessionKind[Any]:
        if not binding.film:
            return TerminalKind(backend, binding, around, make, protocol)
        film = around.films.get(binding.film)
        if film is None or backend.terminal is None:
            raise ProblemError(Problem(
                "film.unknown", "There is no film of this flow.", place=f"environment {environment}, backends, {backend.name}, film",
                found=binding.film, expected="none", choices=tuple(sorted(around.films)),
                mend=f"Film it where the host is: bricola screens film {binding.film} ENVIRONMENT"))
        return FilmKind(film, compile_ways(backend.terminal))

    return sessions


def checkers(make: Make, protocol: Protocol) -> Callable[
        [BackendDefinition, Binding, Endpoint, Sequence[Probe], Surroundings, SessionKind[Any] | None], Checker]:
    def checker(backend: BackendDefinition, binding: Binding, endpoint: Endpoint, probes: Sequence[Probe], around: Surroundings,
                running: SessionKind[Any] | None) -> Checker:
        # The kind of the running pool knows which devices are taken.
        kind = running if isinstance(running, TerminalKind) else TerminalKind(backend, binding, around, make, protocol)
        return TerminalCheck(backend, binding, endpoint, around, probes, kind)

    return checker
