"""Objects for an editor: the definition as data, who publishes it, and ticks that add or remove an operation."""

import asyncio
import json
from typing import Any

from bricola.core.definitions.folder import default_path
from bricola.core.definitions.model import Operation, ServiceDefinition
from bricola.core.definitions.parts import TypeDefinition
from bricola.core.definitions.text import read_definition, write_definition
from bricola.core.kinds.objects.definition import ObjectDefinition
from bricola.core.kinds.objects.shape import VERBS, resolve_object
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.shapes.primitives import OFFERED
from bricola.server.ports.drafts import unknown
from bricola.server.usecases import definitions
from bricola.server.usecases.definitions import Change, Ports


def objects(ports: Ports) -> list[dict[str, Any]]:
    """All objects, with what is published of them."""
    found = sorted((one for one in ports.drafts.catalogue if isinstance(one, ObjectDefinition)), key=lambda one: one.name)
    return [{"name": one.name, "backend": one.backend, "table": one.table, "description": one.description, "fields": len(one.fields),
             "services": _services(ports, one.name)} for one in found]


def _services(ports: Ports, name: str) -> list[dict[str, Any]]:
    return [{"service": service.name, "operations": [{"name": one.name, "verb": one.verb} for one in service.operations
                                                     if one.source == ("object", name)]}
            for service in ports.drafts.catalogue.services() if any(one.source == ("object", name) for one in service.operations)]


def find_object(ports: Ports, name: str) -> ObjectDefinition:
    found = ports.drafts.catalogue.get(ObjectDefinition, name)
    if found is None:
        raise ProblemError(unknown("object", name, [one["name"] for one in objects(ports)]))
    return found


def object_detail(ports: Ports, name: str) -> dict[str, Any]:
    """The definition as it stands in its file, the types it may use, the rules of its fields in words, and its users."""
    definition = find_object(ports, name)
    body = definition.model_dump(mode="json", exclude_defaults=True)
    body.pop("name")
    try:
        resolved = resolve_object(definition, ports.drafts.catalogue)
        rules = {one.name: getattr(one.type, "rule", "") for one in resolved.fields}
        problems: list[dict[str, str]] = []
    except ProblemError as error:
        rules, problems = {}, [one.as_dict() for one in error.problems]
    stored = ports.drafts.revisions.get(("object", name))
    named = sorted(one.name for one in ports.drafts.catalogue if isinstance(one, TypeDefinition))
    return {
        "name": name,
        "definition": body,
        "columns": {one.name: one.column_name for one in definition.fields},
        "rules": rules,
        "problems": problems,
        "types": [*OFFERED, *named],
        "revision": stored.revision if stored is not None else 0,
        "path": _path(ports, name),
        "services": _services(ports, name),
        "all_services": [one.name for one in ports.drafts.catalogue.services()],
        "verbs": [*VERBS, *(one.name for one in definition.finders)],
    }


def _path(ports: Ports, name: str) -> str:
    definition = find_object(ports, name)
    return next((one.path for one in ports.drafts.files if one.reference == ("object", name)), default_path(definition))


async def save_object(ports: Ports, name: str, body: dict[str, Any], revision: int, author: str) -> list[Change]:
    """Save the definition as a draft. Raises ProblemError of kind conflict when somebody saved it meanwhile."""
    path = _path(ports, name)
    text = json.dumps({"object": name, **body}, ensure_ascii=False)  # JSON is YAML: one reader, one set of explanations
    definition = await asyncio.to_thread(read_definition, text, f"object {name}")
    return await definitions.apply(ports, {path: write_definition(definition)}, author, based_on={f"object {name}": revision})


async def tick(ports: Ports, service: str, name: str, verb: str, on: bool, author: str) -> list[Change]:
    """Publish an operation of an object in a service, or take it out of the draft. What is live stays as it is."""
    definition, place = find_object(ports, name), ports.drafts.service(service)
    if verb not in VERBS and all(one.name != verb for one in definition.finders):
        raise ProblemError(unknown("operation", verb, [*VERBS, *(one.name for one in definition.finders)]))
    present = [one for one in place.operations if one.source == ("object", name) and one.verb == verb]
    if on == bool(present):
        raise ProblemError(
            Problem("tick.nothing", f"{name}.{verb} is {'published already' if on else 'not published'} in {service}.", Kind.CONFLICT)
        )
    operations = (*place.operations, Operation(name=_operation_name(definition, verb, place), runs=f"{name}.{verb}")) if on else tuple(
        one for one in place.operations if one not in present)
    gone = {one.name for one in present} if not on else set()
    access = {
        role: granted if granted == "all" else tuple(one for one in granted if one not in gone) for role, granted in place.access.items()
    }
    changed = place.model_copy(update={"operations": operations, "access": {role: one for role, one in access.items() if one}})
    path = next(one.path for one in ports.drafts.files if one.reference == ("service", service))
    return await definitions.apply(ports, {path: write_definition(changed)}, author)


def _operation_name(definition: ObjectDefinition, verb: str, service: ServiceDefinition) -> str:
    record = definition.record_name
    name = f"{verb[0].upper()}{verb[1:]}{record}" if verb in VERBS else f"Find{record}s{verb[0].upper()}{verb[1:]}"
    if verb == "search":
        name = f"Find{record}s"
    taken = {one.name for one in service.operations}
    while name in taken:
        name += "2"
    return name
