"""The test bench: a real request to the real endpoint as a chosen caller, with both envelopes and the time."""

import time
from collections.abc import Sequence
from typing import Any, Protocol

import httpx

from bricola.core.calls.callers import Caller
from bricola.core.messages.envelope import Soap
from bricola.core.messages.handout import REST, handouts, request_headers
from bricola.core.messages.request import masked_text, masked_values, read_reply, read_trial, sensitive_names, write_request
from bricola.core.messages.samples import sample_values
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.shapes.model import OperationShape, ServiceShape
from bricola.server.kinds.kind import KindServer
from bricola.server.ports.calls import Calls
from bricola.server.ports.drafts import Drafts, unknown
from bricola.server.ports.people import People
from bricola.server.ports.places import Places
from bricola.server.ports.releases import Releases
from bricola.server.settings import Settings
from bricola.server.usecases import thin
from bricola.server.usecases.services import addresses, shape_for


class Ports(Protocol):
    kinds: Sequence[KindServer]
    drafts: Drafts
    releases: Releases
    places: Places
    people: People
    calls: Calls
    settings: Settings


_LOAN_SECONDS = 60.0
_MOST_SECONDS = 120.0


def version_by_number(number: str) -> Soap:
    found = next((one for one in Soap if one.number == number), None)
    if found is None:
        raise ProblemError(Problem("soap.version", "There is no such SOAP version.", place="soap",
                                   expected="1.1 or 1.2", found=number))
    return found


def version_for(shape: ServiceShape, number: str) -> Soap:
    """The version that is asked for, or the one that the service speaks where it speaks one only."""
    return version_by_number(number if number in shape.soap or len(shape.soap) != 1 else shape.soap[0])


def find_operation(shape: ServiceShape, name: str) -> OperationShape:
    found = shape.operation(name)
    if found is None:
        raise ProblemError(unknown("operation", name, [one.name for one in shape.operations]))
    return found


async def sample(ports: Ports, service: str, operation: str, environment: str, soap: str, asked: str) -> dict[str, Any]:
    """A request that works unedited with its answer, as messages and as plain values, and where it is live also for curl, Python and as
    plain HTTP; `soap` is a version, or json for the other face."""
    shape = await shape_for(ports, service, environment)
    found = find_operation(shape, operation)
    version = version_for(shape, soap) if soap != REST else Soap.V11
    live = ports.places.find(environment, service) if environment else None
    at = addresses(ports, environment, live.segment, asked) if live is not None else {"soap": "", "rest": ""}
    wanted = "JSON" if soap == REST else f"SOAP {version.number}"
    one = next(one for one in handouts(shape, found, at["soap"], at["rest"], live is None or not live.anonymous) if one.label == wanted)
    return {"envelope": one.request, "values": sample_values(found.input), "answer": one.answer,
            "content_type": "application/json" if soap == REST else version.content_type.decode(),
            "forms": one.forms if live is not None else {}}


async def choose_caller(ports: Ports, environment: str, service: str, operation: str, name: str) -> Caller | None:
    """The caller that a test runs as: the named one, or the first who may call; None for anonymous."""
    known = await ports.people.known_callers()
    if name == "anonymous":
        return None
    if name:
        found = next((one for one in known if one.name == name), None)
        if found is None:
            raise ProblemError(unknown("caller", name, [one.name for one in known]))
        return Caller(found.name, frozenset(found.roles))
    live = ports.places.find(environment, service)
    if live is not None and live.anonymous:
        return None
    roles = live.by_name[operation].roles if live is not None and operation in live.by_name else frozenset()
    for one in known:
        if not roles.isdisjoint(one.roles):
            return Caller(one.name, frozenset(one.roles))
    raise ProblemError(Problem(
        "bench.caller", f"No caller may call {service}.{operation}.", Kind.PERMISSION,
        expected=f"a caller with one of the roles {', '.join(sorted(roles))}" if roles else "a role in the service",
        mend="Give a caller the role: bricola callers add NAME --role ROLE",
    ))


async def _thin(ports: Ports, environment: str, service: str, operation: OperationShape, values: dict[str, Any], answer: dict[str, Any],
                reply: httpx.Response) -> list[Problem]:
    live = ports.places.find(environment, service)
    if live is None or reply.status_code != 200:
        return []
    headers = {name.lower(): value for name, value in reply.headers.items()}
    return await thin.warnings(ports, ports.drafts.environment(environment), live, operation, values, answer, headers, len(reply.content),
                               await ports.calls.usual_bytes(live.segment, operation.name))


async def send(
    ports: Ports,
    transport: httpx.AsyncClient,
    environment: str,
    service: str,
    operation: str,
    caller: str,
    soap: str,
    values: dict[str, Any],
    envelope: str | None,
    trial: bool = False,
    request_id: str = "",
) -> dict[str, Any]:
    """Send one request through the service's own front door and take the reply apart. `trial`: nothing is stored."""
    ports.drafts.environment(environment)
    shape = await shape_for(ports, service, environment)
    found = find_operation(shape, operation)
    version = version_for(shape, soap)
    identity = await choose_caller(ports, environment, service, operation, caller)
    body = envelope.encode() if envelope is not None else write_request(version, shape.namespace, found, values)
    headers = request_headers(shape, found, version)
    if trial:
        headers["Bricola-Trial"] = "true"
    if request_id:
        headers["Idempotency-Key"] = request_id
    if identity is not None:
        headers["Authorization"] = f"Bearer {ports.people.callers.lend(identity, _LOAN_SECONDS)}"
    started = time.perf_counter()
    try:
        reply = await transport.post(f"/soap/{environment}/{service}", content=body, headers=headers,
                                     timeout=_MOST_SECONDS)
    except httpx.HTTPError as error:
        raise ProblemError(Problem("bench.no-answer", "The endpoint did not answer.", Kind.BACKEND,
                                   place=f"{environment}/{service}", inner=repr(error))) from None
    elapsed = time.perf_counter() - started
    taken = read_reply(shape.namespace, found, reply.content)
    private = sensitive_names(found)
    return {
        "caller": identity.name if identity is not None else "anonymous",
        "soap": version.number,
        "status": reply.status_code,
        "ms": round(elapsed * 1000, 2),
        "call": reply.headers.get("call-id", ""),
        "request": masked_text(body.decode("utf-8", "replace"), private),
        "request_bytes": len(body),
        "response": masked_text(reply.text, private),
        "response_bytes": len(reply.content),
        "trial": reply.headers.get("bricola-trial", ""),
        "changes": read_trial(reply.content) if trial else [],
        "repeats": reply.headers.get("repeats-call", ""),
        "answer": None if taken.answer is None else masked_values(found.output, taken.answer),
        "fault": taken.fault,
        "problems": [one.as_dict() for one in taken.problems],
        "warnings": [] if taken.answer is None else [one.as_dict() for one in await _thin(
            ports, environment, service, found, values, taken.answer, reply)],
    }
