"""What an engine is to the rest of the service: how its sessions are opened, its endpoints checked, its tables read.

What is known of an engine without talking to it stands in `core/definitions/engines`.
"""

import ssl
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass
from typing import Any

from bricola.adapters.stages import Checker
from bricola.adapters.surroundings import Surroundings
from bricola.core.definitions.engines.engine import Engine
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import BackendDefinition, Binding
from bricola.core.kinds.kind import Probe
from bricola.core.pool.sessions import SessionKind
from bricola.core.sql.routines import Routine
from bricola.core.sql.sessions import DatabaseSession
from bricola.core.sql.tables import Table


@dataclass(frozen=True)
class TableFunctions:
    """Ask a database what it holds; see `core.sql.tables`."""

    tables: Callable[[DatabaseSession], Awaitable[list[Table]]]
    count: Callable[[DatabaseSession, str], Awaitable[int]]


@dataclass(frozen=True)
class Door:
    """One engine. `sessions` and `checker` raise ProblemError for a binding that cannot work; `checker` is given the session kind of the
    running pool, where there is one. `tables` reads what a database holds, `routines` its procedures and
    functions. `missing` says why it cannot be used here; '' when it can.
    Of a service on the web `presents` are the header fields that sign in there, and `trusts` is how its certificate is judged."""

    engine: Engine
    sessions: Callable[[BackendDefinition, Binding, Surroundings, str], SessionKind[Any]]
    checker: Callable[[BackendDefinition, Binding, Endpoint, Sequence[Probe], Surroundings, SessionKind[Any] | None], Checker]
    tables: TableFunctions | None = None
    missing: Callable[[], str] = lambda: ""
    presents: Callable[[Binding, Surroundings], dict[str, str]] | None = None
    trusts: Callable[[Binding, Surroundings], ssl.SSLContext] | None = None
    routines: Callable[[DatabaseSession], Awaitable[list[Routine]]] | None = None
