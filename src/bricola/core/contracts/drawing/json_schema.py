"""Records from a JSON Schema (draft 2020-12 and the older ones that say `definitions`), or from the schemas of an OpenAPI 3 document."""

import re
from collections.abc import Mapping
from typing import Any

from bricola.core.contracts.drawing.records import Drawing, DrawnRecords
from bricola.core.problems import Problem, ProblemError, shown

_FORMATS = {"date": "date", "date-time": "dateTime", "time": "time", "byte": "base64Binary", "uri": "anyURI"}
_NUMBERS = {"int32": "int", "int64": "long", "float": "float", "double": "double"}
_TEXT_FACETS = {"minLength": "min_length", "maxLength": "max_length"}
_BOUNDS = {"minimum": "min", "maximum": "max"}
_HOLDERS = ("object",)  # what has properties
_ONE_GROUP = re.compile(r"\([^()]*\)")
_MARKS = ("$schema", "$defs", "definitions", "properties", "$ref")


def is_json_schema(value: Any) -> bool:
    """Whether this is a schema and no sample."""
    if not isinstance(value, Mapping):
        return False
    if isinstance(value.get("openapi"), str) and "paths" in value:
        return True
    return any(isinstance(value.get(mark), str if mark[:4] in ("$sch", "$ref") else Mapping) for mark in _MARKS) and (
        "$schema" in value or "$ref" in value or value.get("type") in _HOLDERS or "$defs" in value or "definitions" in value)


def of_json_schema(value: Mapping[str, Any], name: str = "", part: str = "") -> DrawnRecords:
    """The records of a schema: of its root, of its only definition, or of the definition `part`."""
    offered = _definitions(value)
    if not part and not _is_object(value) and "$ref" not in value:
        if len(offered) != 1:
            raise ProblemError(Problem("sample.part", "The schema has several, and one has to be named." if offered else
                                       "The schema has no object.", choices=tuple(offered)))
        part = next(iter(offered))
    if part and part not in offered:
        raise ProblemError(Problem("sample.part", "The schema has no such definition.", found=shown(part), choices=tuple(offered)))
    drawer = _Drawer(value)
    meant = drawer.followed(offered[part] if part else value)
    return drawer.drawing.done(drawer.record(meant, name or part or str(value.get("title") or "Sample")))


def _definitions(value: Mapping[str, Any]) -> dict[str, Mapping[str, Any]]:
    components = value.get("components")
    sections = (value.get("$defs"), value.get("definitions"), components.get("schemas") if isinstance(components, Mapping) else None)
    return {str(key): one for each in sections if isinstance(each, Mapping) for key, one in each.items() if isinstance(one, Mapping)}


def _is_object(schema: Mapping[str, Any]) -> bool:
    return isinstance(schema.get("properties"), Mapping) or isinstance(schema.get("allOf"), list)


class _Drawer:
    def __init__(self, root: Mapping[str, Any]) -> None:
        self.drawing = Drawing()
        self._root = root
        self._names: dict[int, str] = {}  # of records that were begun, by the identity of their schemas

    def followed(self, schema: Mapping[str, Any]) -> Mapping[str, Any]:
        """The schema that references lead to. Raises ProblemError for one that leads nowhere, or round."""
        for _ in range(50):
            place = schema.get("$ref")
            if not isinstance(place, str):
                return schema
            schema = self._found(place)
        raise ProblemError(Problem("sample.reference", "References of the schema lead round.", found=shown(place)))

    def _found(self, place: str) -> Mapping[str, Any]:
        if not place.startswith("#"):
            raise ProblemError(Problem("sample.reference", "A reference leads to another document.", found=shown(place),
                                       mend="Put what it means into this one."))
        found: Any = self._root
        for step in filter(None, place[1:].split("/")):
            found = found.get(step.replace("~1", "/").replace("~0", "~")) if isinstance(found, Mapping) else None
        if not isinstance(found, Mapping):
            raise ProblemError(Problem("sample.reference", "A reference leads nowhere.", found=shown(place)))
        return found

    def record(self, schema: Mapping[str, Any], wanted: str) -> str:
        if id(schema) in self._names:
            return self.drawing.used(self._names[id(schema)])
        name = self._names[id(schema)] = self.drawing.begin(wanted)
        properties, required = self._properties(schema)
        if isinstance(schema.get("additionalProperties"), Mapping):
            self.drawing.note(f"{wanted} is open to more than it names; a record is not.")
        fields: dict[str, dict[str, Any]] = {}
        for key, one in properties.items():
            if isinstance(one, Mapping):
                own = self.drawing.field(fields, str(key))
                fields[own] = self._field(one, str(key), str(key) in required)
        self._names[id(schema)] = self.drawing.end(name, fields, _words(schema))
        return self._names[id(schema)]

    def _properties(self, schema: Mapping[str, Any]) -> tuple[dict[str, Any], set[str]]:
        own = schema.get("properties")
        properties: dict[str, Any] = dict(own) if isinstance(own, Mapping) else {}
        wanted = schema.get("required")
        required = {str(one) for one in wanted} if isinstance(wanted, list) else set()
        parts = schema.get("allOf")
        for part in parts if isinstance(parts, list) else ():
            if isinstance(part, Mapping):
                more, also = self._properties(self.followed(part))
                properties, required = more | properties, required | also
        return properties, required

    def _field(self, schema: Mapping[str, Any], key: str, required: bool) -> dict[str, Any]:
        words = _words(schema)
        schema, empties = self._plain(self.followed(schema), key)
        kind = schema.get("type")
        items = schema.get("items")
        if kind == "array":
            if not isinstance(items, Mapping):
                self.drawing.note(f"What the items of {key} are is not said; they are drawn as texts.")
            body = self._field(items if isinstance(items, Mapping) else {"type": "string"}, key, True)
            if body.pop("repeats", False):
                self.drawing.note(f"{key} is a list of lists; it is drawn as one list.")
            body["repeats"] = True
            body |= {ours: schema[theirs] for theirs, ours in (("minItems", "at_least"), ("maxItems", "at_most"))
                     if isinstance(schema.get(theirs), int) and schema[theirs] > 0}
        elif _is_object(schema):
            body = {"type": self.record(schema, str(schema.get("title") or key))}
        else:
            body = self._simple(schema, key)
        if "repeats" not in body and (not required or empties):
            body["required"] = False
        words = words or _words(schema)
        return body | ({"description": words} if words else {})

    def _plain(self, schema: Mapping[str, Any], key: str) -> tuple[Mapping[str, Any], bool]:
        """A schema without its `null`, and whether it had one; of alternatives the first."""
        kinds = schema.get("type")
        if isinstance(kinds, list):
            rest = [one for one in kinds if one != "null"]
            if len(rest) > 1:
                self.drawing.note(f"{key} is of several types; the first is drawn.")
            return {**schema, "type": rest[0] if rest else "string"}, "null" in kinds
        for word in ("anyOf", "oneOf"):
            ways = schema.get(word)
            if isinstance(ways, list):
                rest = [self.followed(one) for one in ways if isinstance(one, Mapping) and one.get("type") != "null"]
                if len(rest) > 1:
                    self.drawing.note(f"{key} has alternatives; the first is drawn.")
                inner, empties = self._plain(rest[0], key) if rest else ({"type": "string"}, False)
                return inner, empties or len(rest) < len(ways)
        return schema, schema.get("nullable") is True

    def _simple(self, schema: Mapping[str, Any], key: str) -> dict[str, Any]:
        kind, form = schema.get("type"), str(schema.get("format") or "")
        body: dict[str, Any] = {"type": {"integer": _NUMBERS.get(form, "long"), "number": _NUMBERS.get(form, "decimal"),
                                         "boolean": "boolean", "string": _FORMATS.get(form, "string")}.get(str(kind), "string")}
        codes = [schema["const"]] if "const" in schema else schema.get("enum")
        if isinstance(codes, list) and body["type"] != "boolean":
            body["codes"] = [str(one) for one in codes if one is not None]
            body["type"] = body["type"] if all(isinstance(one, str) for one in codes) == (kind == "string") else "string"
        if kind not in ("integer", "number", "boolean", "string") and not codes:
            self.drawing.note(f"{key} is of no type that a field has; it is drawn as a text.")
        if body["type"] == "string":
            body |= {ours: schema[theirs] for theirs, ours in _TEXT_FACETS.items() if isinstance(schema.get(theirs), int)}
            if isinstance(schema.get("pattern"), str):
                body |= self.drawing.pattern(_whole(schema["pattern"]), schema["pattern"], key)
        elif kind in ("integer", "number"):
            body |= {ours: str(schema[theirs]) for theirs, ours in _BOUNDS.items() if schema.get(theirs) is not None}
        return body


def _whole(pattern: str) -> str | None:
    """A pattern of JSON Schema is looked for anywhere in a text; ours is that of the whole text. None where anchors
    hold for a branch alone, as in `^a|b$`, or stand inside: to us they are letters."""
    first, last = pattern.startswith("^"), pattern.endswith("$") and not pattern.endswith("\\$")
    inner = pattern[first:len(pattern) - last]
    alone = "|" in inner and not _ONE_GROUP.fullmatch(inner)
    if re.search(r"(?<![\\\[])[\^$]", inner) or (alone and (first or last)):
        return None
    return f"{'' if first else '.*'}{f'({inner})' if alone else inner}{'' if last else '.*'}"


def _words(schema: Mapping[str, Any]) -> str:
    return " ".join(str(schema.get("description") or "").split())[:2000]
