"""The OpenAPI 3.1 description of a service's REST face, from the same shapes as the WSDL."""

from typing import Any

from bricola.core.shapes.model import TYPE, Element, OperationShape, Record, ServiceShape, type_names
from bricola.core.shapes.simple import SimpleType

_FORMATS: dict[str, dict[str, Any]] = {
    "boolean": {"type": "boolean"}, "float": {"type": "number"}, "double": {"type": "number"},
    "date": {"type": "string", "format": "date"}, "time": {"type": "string", "format": "time"},
    "dateTime": {"type": "string", "format": "date-time"}, "duration": {"type": "string", "format": "duration"},
    "anyURI": {"type": "string", "format": "uri"}, "decimal": {"type": "string", "format": "decimal"},
    "base64Binary": {"type": "string", "contentEncoding": "base64"},
}


def write_openapi(service: ServiceShape, address: str, release: int, notice: str = "") -> dict[str, Any]:
    """The document as JSON data; `address` is the base of the service's REST face. A `notice` says that it ends, and
    marks every operation as deprecated."""
    schemas: dict[str, Any] = {"Problem": _PROBLEM}
    names = _names(service)
    for record in service.records():
        schemas[names[record]] = _record(record, names)
    for operation in service.operations:
        schemas[operation.input.name] = _record(operation.input, names)
        if not operation.one_way:
            schemas[operation.output.name] = _record(operation.output, names)
    return {
        "openapi": "3.1.0",
        "info": {"title": service.name, "version": str(release), "description": f"{notice} {service.description}".strip()},
        "servers": [{"url": address}],
        "paths": {f"/{one.name}": {"post": _operation(one) | ({"deprecated": True} if notice else {})} for one in service.operations},
        "components": {"schemas": schemas, "securitySchemes": {
            "basic": {"type": "http", "scheme": "basic"}, "bearer": {"type": "http", "scheme": "bearer"}}},
        "security": [{"basic": []}, {"bearer": []}],
    }


_PROBLEM = {
    "type": "object", "description": "RFC 9457 problem document",
    "properties": {"type": {"type": "string"}, "title": {"type": "string"}, "status": {"type": "integer"},
                   "detail": {"type": "string"}},
}


def _operation(operation: OperationShape) -> dict[str, Any]:
    problem = {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}}
    faults = ", ".join(one.name for one in operation.faults)
    responses: dict[str, Any] = {
        **({"202": {"description": "It is accepted, and nothing is answered"}} if operation.one_way else {
            "200": {"description": "The answer", "content": _json(operation.output.name)}}),
        "default": {"description": "What went wrong, with its mend", "content": problem},
    }
    if faults:
        responses["422"] = {"description": f"A declared fault: {faults}", "content": problem}
    asked = {"parameters": _WRITE_HEADERS} if operation.writes else {}
    return {"operationId": operation.name, "summary": operation.description, "responses": responses,
            "requestBody": {"required": True, "content": _json(operation.input.name)}, **asked}


_WRITE_HEADERS = [
    {"name": "Idempotency-Key", "in": "header", "required": False, "schema": {"type": "string", "maxLength": 255},
     "description": "An id of your own for this request; sent again with it, the first answer comes and nothing is written twice"},
    {"name": "Bricola-Trial", "in": "header", "required": False, "schema": {"type": "boolean"},
     "description": "true: everything runs, the answer says what would be stored, and nothing is"},
]


def _json(name: str) -> dict[str, Any]:
    return {"application/json": {"schema": {"$ref": f"#/components/schemas/{name}"}}}


def _names(service: ServiceShape) -> dict[Record, str]:
    """A name for every record; in contracts of others several may have one name."""
    taken = {one.name for operation in service.operations for one in (operation.input, operation.output)}
    names: dict[Record, str] = {}
    for record in service.records():
        name, number = record.name or "Part", 1
        while name in taken and record.id:
            number += 1
            name = f"{record.name or 'Part'}{number}"
        taken.add(name)
        names[record] = name
    return names


def _record(record: Record, names: dict[Record, str]) -> dict[str, Any]:
    schema: dict[str, Any] = {"type": "object", "additionalProperties": False,
                              "properties": {one.name: _element(one, names) for one in record.slots}}
    if record.derived or record.abstract:
        kinds = [name for name, one in type_names(record).items() if not one.abstract]
        schema["properties"] = {TYPE: {"type": "string", "enum": kinds}} | schema["properties"]
        schema["additionalProperties"] = True  # what the derived types have besides
    required = [one.name for one in record.slots if one.least]
    return schema | ({"required": required} if required else {})


def _element(element: Element, names: dict[Record, str]) -> dict[str, Any]:
    kind = element.type
    schema: dict[str, Any]
    if isinstance(kind, SimpleType):
        schema = _simple(kind)
        if element.default is not None:
            schema["default"] = element.default if schema["type"] != "string" else kind.write(element.default)
        if element.sample is not None:
            schema["examples"] = [element.sample if schema["type"] != "string" else kind.write(element.sample)]
    else:
        schema = {"$ref": f"#/components/schemas/{names[kind]}"}
    if element.nillable and "type" not in schema:
        schema = {"anyOf": [schema, {"type": "null"}]}
    elif element.nillable:
        schema["type"] = [schema["type"], "null"]
        if "enum" in schema:
            schema["enum"] = [*schema["enum"], None]
    if element.is_list:
        schema = {"type": "array", "items": schema} | ({"maxItems": element.most} if element.most else {})
    if element.description:
        schema["description"] = element.description
    return schema


def _simple(kind: SimpleType) -> dict[str, Any]:
    primitive = kind.primitive
    schema = dict(_FORMATS.get(kind.base, {"type": "integer"} if primitive.python is int else {"type": "string"}))
    low = kind.min if kind.min is not None else primitive.lowest
    high = kind.max if kind.max is not None else primitive.highest
    if schema["type"] == "integer":
        schema |= {name: int(value) for name, value in (("minimum", low), ("maximum", high)) if value is not None}
    for name, value in (("minLength", kind.min_length), ("maxLength", kind.max_length), ("pattern", kind.pattern)):
        if value is not None:
            schema[name] = f"^(?:{value})$" if name == "pattern" else value
    if kind.length is not None:
        schema["minLength"] = schema["maxLength"] = kind.length
    if kind.codes:
        schema["enum"] = [primitive.read(code) if schema["type"] in ("integer", "number") else code for code in kind.codes]
    return schema
