"""What an engine is to the rest of the service: how its sessions are opened, its endpoints checked, its tables read.

What is known of an engine without talking to it stands in `core/definitions/engines`.
"""

from collections.abc import Awaitable, Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Protocol

from bricola.adapters.secrets import Secrets
from bricola.adapters.stages import Checker
from bricola.core.definitions.engines.engine import Engine
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import BackendDefinition, Binding
from bricola.core.kinds.kind import Probe
from bricola.core.kinds.screens.film import Film
from bricola.core.pool.sessions import SessionKind
from bricola.core.sql.sessions import DatabaseSession
from bricola.core.sql.tables import Table


@dataclass(frozen=True)
class Surroundings:
    """What a door may need beside the binding: the data folder, credentials, and the films that may stand in for hosts."""

    data: Path
    secrets: Secrets
    films: Mapping[str, Film] = field(default_factory=dict)


class TableReader(Protocol):
    """Asks a database what it holds; see `core.sql.tables`."""

    async def tables(self, session: DatabaseSession) -> list[Table]: ...
    async def count(self, session: DatabaseSession, name: str) -> int: ...


@dataclass(frozen=True)
class TableFunctions:
    """A reader of two functions."""

    tables: Callable[[DatabaseSession], Awaitable[list[Table]]]
    count: Callable[[DatabaseSession, str], Awaitable[int]]


@dataclass(frozen=True)
class Door:
    """One engine. `sessions` and `checker` raise ProblemError for a binding that cannot work; `checker` is given the session kind of the
    running pool, where there is one. `tables` reads what a database holds. `missing` says why it cannot be used here; '' when it can."""

    engine: Engine
    sessions: Callable[[BackendDefinition, Binding, Surroundings, str], SessionKind[Any]]
    checker: Callable[[BackendDefinition, Binding, Endpoint, Sequence[Probe], Surroundings, SessionKind[Any] | None], Checker]
    tables: TableFunctions | None = None
    missing: Callable[[], str] = lambda: ""
