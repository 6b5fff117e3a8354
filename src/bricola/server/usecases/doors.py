"""What the cases of a test go through: the service's own front door, as callers do, or a release that is not live yet."""

import asyncio
import time
from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from typing import Any, Protocol

import httpx

from bricola.core.calls.callers import Caller
from bricola.core.calls.standing import Standing, StandIns
from bricola.core.definitions.model import Binding, EnvironmentDefinition
from bricola.core.definitions.suites import Case
from bricola.core.kinds.registry import sources
from bricola.core.messages.decoder import ElementReader
from bricola.core.messages.request import reply_reader
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.serving.faces import Request
from bricola.core.serving.live import LiveService
from bricola.core.serving.pipeline import Pipeline
from bricola.core.shapes.model import OperationShape
from bricola.core.testing.replies import Judge, Seen, read_rest, read_soap
from bricola.core.testing.running import LARGE, Shot
from bricola.core.testing.schemas import schema_judge
from bricola.server.kinds.kind import KindServer
from bricola.server.ports.calls import Calls
from bricola.server.ports.drafts import Drafts, unknown
from bricola.server.ports.people import People
from bricola.server.ports.places import Places
from bricola.server.ports.releases import Releases, Thawed
from bricola.server.usecases import records, thin

_LOAN_SECONDS = 120.0
_MOST_SECONDS = 120.0
_NOBODY = Caller("without-roles", frozenset(), test=True)


class Ports(Protocol):
    kinds: Sequence[KindServer]
    drafts: Drafts
    releases: Releases
    places: Places
    people: People
    calls: Calls
    pipeline: Pipeline


class _Door(ABC):
    """What both have: who calls, what a reply is read with, and which cases do not run here."""

    def __init__(self, ports: Ports, environment: EnvironmentDefinition, live: LiveService) -> None:
        self._ports, self._environment, self._live = ports, environment, live
        self._tokens: dict[str, tuple[str, float]] = {}
        self._known: dict[str, Caller] | None = None
        self._usual: dict[str, list[int]] = {}
        self._readers: dict[str, ElementReader] = {}
        self._judge: Judge | None = None
        self._judged = False

    @abstractmethod
    async def _send(self, shot: Shot, headers: Mapping[str, str]) -> tuple[int, bytes, dict[str, str]]: ...

    async def send(self, shot: Shot) -> tuple[Seen, str]:
        caller, authorization = await self._identity(shot)
        headers = {**shot.headers, **({"Authorization": authorization} if authorization else {})}
        started = time.perf_counter()
        status, body, answered = await self._send(shot, headers)
        seconds = time.perf_counter() - started
        shape = self._live.shape
        if shot.face == "rest":
            seen = read_rest(shape, shot.operation, status, body, seconds, answered)
        elif len(body) > LARGE:  # beside the event loop, as all that takes a while
            seen = await asyncio.to_thread(read_soap, shape, shot.operation, status, body, seconds, answered, self.judge,
                                           self._reader(shot.operation))
        else:
            seen = read_soap(shape, shot.operation, status, body, seconds, answered, self.judge, self._reader(shot.operation))
        return seen, caller

    def _reader(self, operation: OperationShape) -> ElementReader:
        """What reads the answers of an operation, made once a run."""
        if operation.name not in self._readers:
            self._readers[operation.name] = reply_reader(self._live.shape.namespace, operation)
        return self._readers[operation.name]

    @property
    def judge(self) -> Judge | None:
        """Another reader of the contract, where it is ours."""
        if not self._judged:
            self._judged = True
            self._judge = schema_judge(self._live.kept) if self._live.offer is None else None
        return self._judge

    async def _identity(self, shot: Shot) -> tuple[str, str]:
        """As whom a request goes, and the header that says so."""
        wanted = shot.case.identity
        if wanted == "none" or (not wanted and shot.caller == "anonymous"):
            return "anonymous", ""
        if wanted == "wrong-token":
            return "a wrong token", "Bearer this-token-was-never-made"
        caller = _NOBODY if wanted == "no-role" else await self._caller(shot)
        if caller is None:
            return "anonymous", ""
        if wanted == "expired-token":
            return f"{caller.name}, expired", f"Bearer {self._ports.people.callers.lend(caller, 0)}"
        token, until = self._tokens.get(caller.name, ("", 0.0))
        if until < time.monotonic():
            token = self._ports.people.callers.lend(caller, _LOAN_SECONDS)
            self._tokens[caller.name] = token, time.monotonic() + _LOAN_SECONDS / 2
        return caller.name, f"Bearer {token}"

    async def _caller(self, shot: Shot) -> Caller | None:
        """The one that is named, or the first who may; None for a service that answers without. Raises ProblemError."""
        if self._known is None:
            self._known = {one.name: Caller(one.name, frozenset(one.roles), test=True) for one in await self._ports.people.known_callers()}
        if shot.caller:
            if shot.caller not in self._known:
                raise ProblemError(unknown("caller", shot.caller, list(self._known)))
            return self._known[shot.caller]
        if self._live.anonymous and shot.case.identity != "expired-token":
            return None
        roles = self._live.by_name[shot.operation.name].roles
        found = next((one for one in self._known.values() if not roles.isdisjoint(one.roles)), None)
        if found is None:
            raise ProblemError(Problem(
                "test.caller", f"No caller may call {self._live.name}.{shot.operation.name}.", Kind.PERMISSION,
                expected=f"a caller with one of the roles {', '.join(sorted(roles))}" if roles else "a role in the service",
                mend="Give a caller the role: bricola callers add NAME --role ROLE"))
        return found

    async def beside(self, shot: Shot, seen: Seen) -> Mapping[str, Any] | None:
        """The answer beside what is stored, read by another way than the operation's."""
        return await records.compare_live(self._ports, self._live, shot.operation.name, dict(shot.values), dict(seen.answer or {}))

    async def thin(self, shot: Shot, seen: Seen) -> Sequence[Problem]:
        name = shot.operation.name
        if name not in self._usual:  # once a run: it is read of the call log
            self._usual[name] = await self._ports.calls.usual_bytes(self._live.segment, name)
        return await thin.warnings(self._ports, self._environment, self._live, shot.operation, shot.values, seen.answer or {}, seen.headers,
                                   len(seen.body), self._usual[name])

    @abstractmethod
    async def close(self) -> None:
        """Give back what was opened for the tests."""

    def why_not(self, case: Case, operation: OperationShape) -> str:
        if case.writes and self._environment.protected and not case.stand_ins:
            return f"It writes, and {self._environment.name} is protected: such cases run only where nobody relies on what is stored."
        return ""


class FrontDoor(_Door):
    """The real endpoint of what is live, over HTTP. Cases in which something stands in for a backend go by the side door."""

    def __init__(self, ports: Ports, environment: EnvironmentDefinition, live: LiveService, transport: httpx.AsyncClient) -> None:
        super().__init__(ports, environment, live)
        self._transport = transport
        self._side = StagedDoor(ports, environment, live)

    async def send(self, shot: Shot) -> tuple[Seen, str]:
        if shot.case.film or shot.case.stand_ins:
            return await self._side.send(shot)
        return await super().send(shot)

    async def close(self) -> None:
        await self._side.close()

    async def _send(self, shot: Shot, headers: Mapping[str, str]) -> tuple[int, bytes, dict[str, str]]:
        path = f"/{'rest' if shot.face == 'rest' else 'soap'}/{self._environment.name}/{self._live.segment}"
        if shot.face == "rest":
            path = f"{path}/{shot.operation.name}"
        try:
            reply = await self._transport.post(path, content=shot.body, headers=dict(headers), timeout=_MOST_SECONDS)
        except httpx.HTTPError as error:
            raise ProblemError(Problem("test.no-answer", "The endpoint did not answer.", Kind.BACKEND, place=path,
                                       inner=repr(error))) from None
        return reply.status_code, reply.content, {name.lower(): value for name, value in reply.headers.items()}


class StagedDoor(_Door):
    """A release that was compiled for an environment and is not in service there: the same pipeline, without the network. Where the film of
    a screen flow stands in for its host, another compilation of the release answers, with pools of its own."""

    def __init__(self, ports: Ports, environment: EnvironmentDefinition, live: LiveService) -> None:
        super().__init__(ports, environment, live)
        self._filmed: dict[str, LiveService] = {}
        self._making = asyncio.Lock()

    async def close(self) -> None:
        for live in self._filmed.values():
            for pool in live.pools.values():
                await pool.close()

    async def _with_film(self, flow: str) -> LiveService:
        """The release with a film instead of a host. Raises ProblemError."""
        async with self._making:
            if flow not in self._filmed:
                frozen = await self._ports.releases.thaw(await self._ports.releases.find(self._live.name, self._live.release))
                self._filmed[flow] = await _filmed(self._ports, self._environment, frozen, self._live.release, flow)
            return self._filmed[flow]

    async def _send(self, shot: Shot, headers: Mapping[str, str]) -> tuple[int, bytes, dict[str, str]]:
        live = await self._with_film(shot.case.film) if shot.case.film else self._live
        request = Request(shot.body, headers.get("Content-Type", ""),
                          headers["Authorization"].encode() if "Authorization" in headers else None,
                          "127.0.0.1", trial=headers.get("Bricola-Trial") == "true", action=headers.get("SOAPAction", "").strip('"'),
                          stand_ins=_stand_ins(shot.case))
        pipeline = self._ports.pipeline
        answer = await (pipeline.rest(live, shot.operation.name, request) if shot.face == "rest"
                        else pipeline.soap(live, request))
        told = {"call-id": answer.call, "content-type": answer.content_type.decode()}
        if answer.stub:
            told["bricola-stub"] = "true"
        return answer.status, answer.body, told


def _stand_ins(case: Case) -> StandIns | None:
    if not case.stand_ins:
        return None
    return StandIns([Standing(one.step, one.answer, one.fault, one.message, one.detail, one.problem, one.takes) for one in case.stand_ins])


async def _filmed(ports: Ports, environment: EnvironmentDefinition, frozen: Thawed, release: int, flow: str) -> LiveService:
    """A release in which the backend of a filmed flow is its film, in every place that has to do with it."""
    hosts = {backend for kind, one in sources(frozen.catalogue) if one.name == flow for backend in kind.backends(one, frozen.catalogue)}
    if not hosts:
        raise ProblemError(Problem("test.film", "The service runs no such flow.", place=frozen.definition.name, found=flow))
    bindings = tuple(Binding(name=one.name, film=flow) if one.name in hosts else one for one in environment.backends)
    place = environment.model_copy(update={"backends": bindings})
    return await ports.places.compile_apart(place, frozen.definition, release, frozen.catalogue, frozen.resolved, frozen.contract)
