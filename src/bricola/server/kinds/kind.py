"""What a kind of source adds to a running service, beside what it is to the core: routes, facts for the review, work that is done by
itself, and what people who test look at. Everything is optional; a kind without such a value is served all the same."""

from collections.abc import Awaitable, Callable, Mapping, Sequence
from contextlib import AbstractAsyncContextManager
from dataclasses import dataclass
from typing import Any, Protocol

from fastapi import APIRouter

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.model import EnvironmentDefinition, ServiceDefinition
from bricola.core.kinds.kind import ResolvedOperation, SourceKind
from bricola.core.problems import Problem
from bricola.server.ports.changes import Changes
from bricola.server.ports.drafts import Drafts
from bricola.server.ports.films import Films
from bricola.server.ports.places import Places

Visit = Callable[[str], AbstractAsyncContextManager[Any]]  # a session to a backend, by its name


class Ports(Protocol):
    drafts: Drafts
    places: Places
    films: Films
    changes: Changes


@dataclass(frozen=True)
class Unsound:
    """Something that a kind knows to be wrong: what it is about, in words, how to mend it, and the details for owners."""

    part: str
    words: str
    mend: str
    inner: str = ""


@dataclass(frozen=True)
class KindServer:
    """One kind in a running service.

    | what | |
    | --- | --- |
    | routers | its own routes of the management API |
    | facts | what its review rules know of a service in an environment, in the form that they expect |
    | prepare | what stands against a deployment, found out on its backends: (ports, catalogue of the release, service, environment) |
    | chore | what is done every few seconds |
    | keys | real keys of one of its definitions, for an input that holds such a key: (definition's name, catalogue, search, limit, visit) |
    | outside | what the other side itself answers to a message, for an operation that is sent on: (operation, message, visit) |
    | why_empty | why a list came empty, the likeliest cause first: (operation, values, visit) to inputs ('' for none) with words |
    | unsound | what is known to be wrong with one of its definitions there, without asking anybody: (ports, name, environment) |
    | beside | an answer beside what it came from: (operation, values, answer, visit); without it `nothing_beside` says why, and the mend |
    """

    kind: SourceKind[Any]
    routers: Sequence[APIRouter] = ()
    facts: Callable[[Ports, Catalogue, ServiceDefinition, EnvironmentDefinition], Awaitable[Any]] | None = None
    prepare: Callable[[Ports, Catalogue, ServiceDefinition, EnvironmentDefinition], Awaitable[Sequence[Problem]]] | None = None
    chore: Callable[[Ports], Awaitable[None]] | None = None
    keys: Callable[[str, Catalogue, str, int, Visit], Awaitable[dict[str, Any]]] | None = None
    outside: Callable[[ResolvedOperation, bytes, Visit], Awaitable[dict[str, Any]]] | None = None
    beside: Callable[[ResolvedOperation, dict[str, Any], dict[str, Any], Visit], Awaitable[dict[str, Any]]] | None = None
    why_empty: Callable[[ResolvedOperation, Mapping[str, Any], Visit], Awaitable[list[tuple[str, str]]]] | None = None
    unsound: Callable[[Ports, str, str], "Unsound | None"] | None = None
    nothing_beside: tuple[str, str] = ("Nothing that Bricola can read stands behind this answer.", "")
