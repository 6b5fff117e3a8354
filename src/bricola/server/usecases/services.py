"""What there is and in which state: services, releases, deployments, addresses."""

import asyncio
import time
from collections.abc import Sequence
from dataclasses import asdict
from typing import Any, Protocol

from bricola.api.words import DraftState, PlaceState, Stage
from bricola.core.contracts.kept import hand_out
from bricola.core.contracts.pack import documents, pack
from bricola.core.contracts.says import what_it_says
from bricola.core.contracts.served import Offered
from bricola.core.definitions.model import EnvironmentDefinition, ServiceDefinition, segment_of
from bricola.core.definitions.model import Operation as OperationDefinition
from bricola.core.durations import HOUR
from bricola.core.kinds.registry import backends_of
from bricola.core.kinds.resolve import resolve_service
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.serving.pipeline import Pipeline
from bricola.core.shapes.given import Given
from bricola.core.shapes.model import Element, OperationShape, Record, ServiceShape
from bricola.core.shapes.simple import SimpleType
from bricola.server.ports.calls import Calls
from bricola.server.ports.drafts import Drafts
from bricola.server.ports.places import Places
from bricola.server.ports.releases import Releases, freeze
from bricola.server.settings import Settings
from bricola.server.usecases import soundness
from bricola.server.usecases.hosting import hosting
from bricola.server.usecases.soundness import Ail
from bricola.store.releases import StoredDeployment


class Ports(Protocol):
    drafts: Drafts
    releases: Releases
    places: Places
    calls: Calls
    settings: Settings


class StatePorts(Ports, soundness.Ports, Protocol):
    """With what the state of a service depends on."""

    pipeline: Pipeline



def base_address(ports: Ports, environment: str, asked: str) -> str:
    """The public base address of an environment: its own, the service's, or the one that the caller asked."""
    definition = ports.drafts.catalogue.find_environment(environment)
    own = definition.address if definition is not None else ""
    return (own or ports.settings.public or asked).rstrip("/")


def addresses(ports: Ports, environment: str, service: str, asked: str) -> dict[str, str]:
    """The ready-made addresses of a service in an environment."""
    base = base_address(ports, environment, asked)
    soap = f"{base}/soap/{environment}/{service}"
    return {"soap": soap, "wsdl": f"{soap}?wsdl", "rest": f"{base}/rest/{environment}/{service}"}


def draft_state(ports: Ports, service: ServiceDefinition, newest: tuple[int, str] | None) -> DraftState:
    """'edited' when the draft, or anything that it needs, differs from the newest release; else 'released'."""
    digest = ports.drafts.digest(service.name, lambda: freeze(ports.drafts.catalogue, service)[1])
    return DraftState.RELEASED if newest is not None and digest == newest[1] else DraftState.EDITED


def stage(draft: DraftState, newest: tuple[int, str] | None, environments: list[EnvironmentDefinition],
          deployed: list[StoredDeployment]) -> Stage:
    """Where the newest words of a service are: edited, not released; released, not live; live; removed.

    Live means that the newest release answers in an environment that no other one follows."""
    if draft is DraftState.EDITED:
        return Stage.EDITED
    last = {one.name for one in environments} - {one.follows for one in environments}
    if newest is not None and any(one.release == newest[0] and one.environment in last for one in deployed):
        return Stage.REMOVED_STILL_LIVE if draft is DraftState.REMOVED else Stage.LIVE
    return Stage.REMOVED if draft is DraftState.REMOVED else Stage.RELEASED


async def _in_force(ports: Ports, service: str | None = None) -> dict[str, list[StoredDeployment]]:
    """What is deployed now by service, the oldest first."""
    found: dict[str, list[StoredDeployment]] = {}
    for one in reversed(await ports.releases.deployments(in_force=True, service=service, limit=1_000_000)):
        found.setdefault(one.service, []).append(one)
    return found


async def overview(ports: StatePorts, asked: str) -> dict[str, Any]:
    """All services with their state in every environment, and the figures of the last hour."""
    newest = await ports.releases.newest()
    deployed = await _in_force(ports)
    now = time.time()
    figures = await ports.calls.figures(now - HOUR, now, 60)
    by_place = {(one["service"], one["environment"]): one for one in figures}
    environments = ports.drafts.catalogue.environments()
    names = sorted({one.name for one in ports.drafts.catalogue.services()} | set(newest))
    return {
        "now": now,
        "organisation": ports.settings.organisation,
        "environments": [_environment(ports, one, asked) for one in environments],
        "services": [_service_row(ports, name, newest.get(name), environments, deployed.get(name, []), by_place, asked)
                     for name in names],
        "pools": ports.places.pool_statistics(),
        "strangers": [{"environment": environment, "service": service, "count": count}
                      for (environment, service), count in sorted(ports.pipeline.strangers.last_hour().items())],
    }


def _environment(ports: Ports, one: EnvironmentDefinition, asked: str) -> dict[str, Any]:
    return {"name": one.name, "description": one.description, "follows": one.follows, "protected": one.protected,
            "address": base_address(ports, one.name, asked), "context": one.context, "hosts": hosting(one),
            "effective": ports.places.effective.get(f"environment {one.name}", ""),
            "handlers": [_handler(ports, one, name) for name in sorted(
                {service.unforeseen for service in ports.drafts.catalogue.services() if service.unforeseen} | set(one.handlers))]}


def _handler(ports: Ports, environment: EnvironmentDefinition, name: str) -> dict[str, Any]:
    """Who is told of failures under a name, and whether that answers."""
    target = environment.handlers.get(name, "")
    service, _, operation = target.partition(".")
    live = ports.places.find(environment.name, service)
    return {"name": name, "operation": target, "live": live is not None and operation in live.by_name}


def _service_row(
    ports: StatePorts, name: str, newest: tuple[int, str] | None, environments: list[EnvironmentDefinition],
    deployed: list[StoredDeployment], figures: dict[tuple[str, str], dict[str, Any]], asked: str,
) -> dict[str, Any]:
    definition = ports.drafts.catalogue.find_service(name)
    draft = draft_state(ports, definition, newest) if definition is not None else DraftState.REMOVED
    return {
        "name": name,
        "description": definition.description if definition is not None else "",
        "sources": _sources(definition),
        "group": _group(ports, name),
        "version": definition.version if definition is not None else 1,
        "backends": backends_of(ports.drafts.catalogue, definition) if definition is not None else [],
        "draft": draft,
        "stage": stage(draft, newest, environments, deployed),
        "newest": newest[0] if newest is not None else None,
        "deployments": [one | {"figures": figures.get((segment_of(name, one["version"]), one["environment"]))}
                        for one in _places(ports, name, environments, deployed, newest, asked)],
    }


def _sources(definition: ServiceDefinition | None) -> list[dict[str, str]]:
    """What the operations of a service run, each once."""
    found = dict.fromkeys(one.source for one in definition.operations) if definition is not None else {}
    return [{"kind": kind, "name": name} for kind, name in found]


def _runs(operation: OperationDefinition | None) -> dict[str, Any]:
    """What an operation runs: as it is written, and taken apart."""
    if operation is None:
        return {"runs": "", "source": None, "verb": ""}
    kind, name = operation.source
    return {"runs": operation.runs, "source": {"kind": kind, "name": name}, "verb": operation.verb}


def _group(ports: Ports, service: str) -> str:
    """The folder that the service is kept in; folders order lists and pickers and mean nothing else."""
    path = ports.drafts.path_of("service", service)
    return path.rpartition("/")[0]


def _places(ports: StatePorts, service: str, environments: list[EnvironmentDefinition], deployed: list[StoredDeployment],
            newest: tuple[int, str] | None, asked: str) -> list[dict[str, Any]]:
    """One entry for each environment, and one more for each further major version that is live there."""
    definition = ports.drafts.catalogue.find_service(service)
    places = []
    for environment in environments:
        here = [one for one in deployed if one.environment == environment.name]
        versions = sorted({one.version for one in here}, reverse=True) or [definition.version if definition is not None else 1]
        for version in versions:
            parts = [one for one in here if one.version == version]
            places.append(_place(ports, service, environment, version, parts, newest, asked))
    return places


def _place(ports: StatePorts, service: str, environment: EnvironmentDefinition, version: int, parts: list[StoredDeployment],
           newest: tuple[int, str] | None, asked: str) -> dict[str, Any]:
    segment = segment_of(service, version)
    place: dict[str, Any] = {"environment": environment.name, "protected": environment.protected, "version": version,
                             "segment": segment, "state": PlaceState.NOT_DEPLOYED, "anonymous": service in environment.anonymous}
    if not parts:
        return place
    sound = soundness.soundness(ports, environment.name, segment)
    live = ports.places.place(environment.name, segment)
    main = max(parts, key=lambda one: one.share)
    retirement = live.retirement if live is not None else None
    answering = ports.places.find(environment.name, segment)
    return place | addresses(ports, environment.name, segment, asked) | {
        "state": sound.state, "ails": [one.as_dict() for one in sound.ails], "answers": live is not None,
        "reason": " ".join(_owner_words(one) for one in sound.ails),
        "release": main.release, "since": main.at, "by": main.author,
        "parts": [{"release": one.release, "share": one.share, "since": one.at} for one in parts],
        "newest": newest is not None and all(one.release == newest[0] for one in parts),
        "ends": retirement.day if retirement is not None else "",
        "soap_versions": list(answering.shape.soap) if answering is not None else [],
    }


def _owner_words(ail: Ail) -> str:
    about = "" if ail.part == "deployment" else f"{ail.name}: "
    return f"{about}{ail.words}" + (f" [{ail.inner}]" if ail.inner else "")


async def service_detail(ports: StatePorts, name: str, asked: str) -> dict[str, Any]:
    """One service: its draft as callers would see it, its releases and its deployments."""
    known = await ports.releases.of(name)
    draft = ports.drafts.catalogue.find_service(name)
    if draft is None and not known:
        ports.drafts.service(name)
    newest = (known[0].number, known[0].digest) if known else None
    deployed = (await _in_force(ports, name)).get(name, [])
    environments = ports.drafts.catalogue.environments()
    state = draft_state(ports, draft, newest) if draft else DraftState.REMOVED
    detail: dict[str, Any] = {
        "name": name,
        "description": draft.description if draft else "",
        "owner": draft.owner if draft else "",
        "version": draft.version if draft else 1,
        "path": ports.drafts.path_of("service", name),
        "namespace": draft.target_namespace if draft else "",
        "draft": state,
        "stage": stage(state, newest, environments, deployed),
        "releases": [{"number": one.number, "version": one.version, "author": one.author, "at": one.at, "notes": one.notes,
                      "digest": one.digest, "consent": one.consent} for one in known],
        "deployments": _places(ports, name, environments, deployed, newest, asked),
        "history": [vars(one) for one in await ports.releases.deployments(service=name, limit=20)],
        "operations": [], "problems": [],
        "around": {name: getattr(draft, name) if draft else "" for name in ("before", "after", "unforeseen")},
        "told": [{"environment": one.name, "operation": one.handlers.get(draft.unforeseen, "")} for one in environments]
        if draft and draft.unforeseen else [],
        "request": draft.request if draft else "",
    }
    if draft is not None:
        try:
            resolved = resolve_service(draft, ports.drafts.catalogue)
            detail["namespace"] = resolved.shape.namespace
            detail["operations"] = [
                plain_operation(one.shape, resolved.shape.soap) | {"roles": sorted(draft.roles_for(one.of or one.shape.name)),
                                              "kept_inside": _kept_inside(one.given), **_runs(one.written),
                                              "contract": _said(resolved.offer, one.written)}
                for one in resolved.operations
            ]
        except ProblemError as error:
            detail["problems"] = [one.as_dict() for one in error.problems]
    return detail


def _said(offer: Offered | None, operation: OperationDefinition | None) -> list[dict[str, Any]]:
    """What the contract of somebody else says of an operation; nothing where the contract is ours."""
    said = what_it_says(offer, operation) if offer is not None and operation is not None else ()
    return [asdict(one) | {"differs": one.differs} for one in said]


def _kept_inside(given: Given) -> dict[str, str]:
    """The inputs that callers neither give nor see, with where each value comes from."""
    named = {key: f"context {name}" for key, (name, _) in (*given.context.items(), *given.per_call.items())}
    return {key: str(value) for key, value in given.fixed.items()} | named


async def shape_for(ports: Ports, service: str, environment: str = "", number: int | None = None) -> ServiceShape:
    """The shape of what is live in an environment, of a release, or of the draft."""
    if number is not None:
        return (await ports.releases.thaw(await ports.releases.find(service, number))).resolved.shape
    if environment:
        ports.drafts.environment(environment)
        live = ports.places.find(environment, service)
        if live is not None:
            return live.shape
        down = ports.places.down(environment, service)
        if down is not None:
            raise down
        ports.drafts.service(service)
        raise ProblemError(not_deployed(service, environment))
    return resolve_service(ports.drafts.service(service), ports.drafts.catalogue).shape


async def contract_for(ports: Ports, service: str, address: str, environment: str = "", number: int | None = None, soap: str = "") -> bytes:
    """The contract of what is live in an environment, of a release, or of the draft."""
    if soap not in ("", "1.1", "1.2"):
        raise ProblemError(Problem("contract.version", "There is no such SOAP version.", place="soap", expected="1.1 or 1.2",
                                   found=shown(soap)))
    if number is not None:
        frozen = await ports.releases.thaw(await ports.releases.find(service, number))
        kept, offer = frozen.contract, frozen.resolved.offer
    elif environment and (live := ports.places.find(environment, service)) is not None:
        kept, offer = live.kept, live.offer
    else:
        await shape_for(ports, service, environment)  # says what is wrong where nothing is live
        resolved = resolve_service(ports.drafts.service(service), ports.drafts.catalogue)
        kept, offer = resolved.kept_contract(), resolved.offer
    document = offer.document(0, address) if offer is not None else None
    return document[0] if document is not None else hand_out(kept, address, soap=soap)


async def contract_pack(ports: Ports, service: str, environment: str, address: str) -> tuple[str, bytes]:
    """What is live in an environment as a zip of all its documents, and the name of that file: service, release, environment."""
    await shape_for(ports, service, environment)  # says what is wrong where nothing is live
    live = ports.places.find(environment, service)
    assert live is not None
    files = documents(live.offer, live.segment, address) if live.offer is not None else {
        f"{live.segment}.wsdl": live.contract(address),
        **{f"{live.segment}-soap{version}.wsdl": hand_out(live.kept, address, live.notice, version) for version in live.shape.soap}}
    return f"{live.segment}-r{live.release}-{environment}.zip", await asyncio.to_thread(pack, files)


async def operations(ports: Ports, service: str, environment: str = "") -> list[dict[str, Any]]:
    """The operations of what is live in an environment with the roles that may call them, or those of the draft."""
    shape = await shape_for(ports, service, environment)
    live = ports.places.find(environment, service) if environment else None
    draft = ports.drafts.catalogue.find_service(service)
    if live is not None:
        resolved = (await ports.releases.thaw(await ports.releases.find(live.name, live.release))).resolved
    elif draft is not None:
        resolved = await asyncio.to_thread(resolve_service, draft, ports.drafts.catalogue)
    else:
        return []
    known = {one.shape.name: one for one in resolved.operations}
    return [
        plain_operation(one, shape.soap) | _runs(known[one.name].written) | {"roles": sorted(
            live.by_name[one.name].roles if live else draft.roles_for(known[one.name].of or one.name) if draft else ())}
        for one in shape.operations
    ]


def not_deployed(service: str, environment: str) -> Problem:
    return Problem("deployment.none", f"{service} is not deployed in {environment}.", Kind.MISSING,
                   place=f"{environment}/{service}", mend=f"Deploy it: bricola deploy {service} {environment}")


def plain_operation(operation: OperationShape, soap: Sequence[str]) -> dict[str, Any]:
    """An operation's shape as JSON data, for forms and tables; `soap` are the versions that it is asked in."""
    return {
        "name": operation.name, "soap": list(soap), "description": operation.description, "writes": operation.writes,
        "input": plain_record(operation.input), "output": plain_record(operation.output),
        "faults": [{"name": one.name, "description": one.description, "elements": plain_record(one.record)}
                   for one in operation.faults],
    }


def plain_record(record: Record, around: tuple[str, ...] = ()) -> list[dict[str, Any]]:
    """The slots of a record. One that stands inside itself is told once, and deep ones are cut: forms and tables end somewhere."""
    if record.id and (record.id in around or len(around) > _DEEPEST):
        return []
    return [_plain_element(element, (*around, record.id)) for element in record.slots]


_DEEPEST = 12


def _plain_element(element: Element, around: tuple[str, ...] = ()) -> dict[str, Any]:
    kind = element.type
    plain: dict[str, Any] = {
        "name": element.name, "label": element.label, "description": element.description, "unit": element.unit,
        "labels": dict(element.labels), "sensitive": element.sensitive, "nillable": element.nillable, "key_of": element.key_of,
        "required": element.least > 0, "list": element.is_list, "least": element.least, "most": element.most,
    }
    if isinstance(kind, SimpleType):
        return plain | {
            "type": kind.name or kind.base, "base": kind.base, "rule": kind.rule, "codes": list(kind.codes),
            "default": None if element.default is None else kind.write(element.default),
            "sample": None if element.sample is None else kind.write(element.sample),
        }
    return plain | {"type": kind.name, "elements": plain_record(kind, around)}
