"""Simulated hosts on loopback and pools to them, for tests of screen flows."""

import asyncio
import time
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any

from bricola.adapters.engines import DOORS
from bricola.adapters.folders import Folders
from bricola.adapters.secrets import Secret
from bricola.adapters.surroundings import Surroundings
from bricola.core.calls.call import Call
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import BackendDefinition, Binding, PoolSettings
from bricola.core.definitions.text import read_definition
from bricola.core.kinds.resolve import resolve_service
from bricola.core.kinds.screens.handlers import compile_flow
from bricola.core.pool.pool import Pool
from bricola.core.problems import Problem, ProblemError
from bricola.demo.hosts.__main__ import new_server
from bricola.demo.hosts.application import Account, Application
from bricola.demo.hosts.server import Behaviour, HostServer
from bricola.demo.start import catalogue_files

CATALOGUE = Catalogue(read_definition(text, path) for path, text in catalogue_files().items())
USER, PASSWORD = "LKCLERK", "SLUICE77"


class Passwords:
    """One credential."""

    def __init__(self, user: str = USER, value: str = PASSWORD) -> None:
        self._user, self._value = user, value

    def secrets(self, credential: str) -> list[Secret]:
        return [Secret("password", self._user, self._value)]

    def used(self, credential: str) -> None:
        pass


def accounts() -> dict[str, Account]:
    return {USER: Account(PASSWORD), "LKOLD": Account(PASSWORD, expired=True), "LKONE": Account(PASSWORD, most=1)}


@asynccontextmanager
async def demo_host(kind: str, registry: Path, known: dict[str, Account] | None = None,
                    **behaviour: Any) -> AsyncIterator[tuple[HostServer, int]]:
    """One of the demo's hosts, and its port."""
    server = new_server(kind, registry, known or accounts(), Behaviour(**behaviour))
    port = await server.start()
    try:
        yield server, port
    finally:
        await server.close()


@asynccontextmanager
async def scripted_host(session: Callable[[str], Application], is_5250: bool = False, **behaviour: Any) -> AsyncIterator[int]:
    server = HostServer(session, is_5250, Behaviour(**behaviour))
    port = await server.start()
    try:
        yield port
    finally:
        await server.close()


@asynccontextmanager
async def pool_to(backend: BackendDefinition, *ports: int, secrets: Passwords | None = None, devices: tuple[str, ...] = (),
                  tls: Any = "off", host: str = "127.0.0.1", **settings: Any) -> AsyncIterator[Pool[Any]]:
    ends = tuple(Endpoint(name=f"end{number}", address=f"{host}:{port}") for number, port in enumerate(ports))
    binding = Binding(name=backend.name, endpoints=ends, credential="clerk", devices=devices, tls=tls, pool=PoolSettings(**settings))
    pool: Pool[Any] = Pool(backend.name, open_kind(backend, binding, secrets or Passwords()), ends, binding.pool, time.monotonic)
    pool.start()
    try:
        yield pool
    finally:
        await pool.close()
        await asyncio.sleep(0)


def handler_of(service: str, pool: Pool[Any], catalogue: Catalogue = CATALOGUE) -> Callable[..., Any]:
    """The handler of a service's only operation."""
    definition = catalogue.find_service(service)
    assert definition is not None
    operation = resolve_service(definition, catalogue).operations[0]
    handle = compile_flow(operation, operation.source, pool)
    return lambda values, call=None: handle(call or Call(), values)


def backend_of(name: str) -> BackendDefinition:
    found = CATALOGUE.find_backend(name)
    assert found is not None
    return found


async def problem_of(work: Any) -> Problem:
    """What a call that has to fail says."""
    try:
        answer = await work
    except ProblemError as error:
        return error.problem
    raise AssertionError(f"it answered {answer}")


def settled(pool: Pool[Any]) -> Callable[[], bool]:
    """Whether every session of a pool is idle."""
    return lambda: pool.statistics()["pool_available"] == pool.statistics()["pool_size"]


async def until(condition: Callable[[], bool], seconds: float = 60.0) -> None:
    deadline = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < deadline, "it did not come to pass"
        await asyncio.sleep(0.01)


def open_kind(backend: BackendDefinition, binding: Binding, secrets: Any) -> Any:
    """How sessions to a host are opened, by the door of its engine."""
    return DOORS[backend.engine].sessions(backend, binding, Surroundings(Folders(Path(".")), secrets), "live")
