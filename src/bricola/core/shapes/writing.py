"""What the operations of an object that write take and give.

| verb | takes | gives | declared faults |
| --- | --- | --- | --- |
| create | the row, without its change token and what is read only | key, change token | AlreadyExists |
| update | key, change token, any fields | key, change token, the names of the changed fields | NotFound, Conflict |
| save | the row, its change token optional | key, change token, outcome: created, updated, unchanged | |
| delete | key, change token | key | NotFound, Conflict |
"""

from dataclasses import replace

from bricola.core.definitions.model import ObjectDefinition, Operation
from bricola.core.shapes.model import Element, FaultShape, OperationShape, Record
from bricola.core.shapes.simple import SimpleType

VERBS = ("get", "create", "update", "save", "delete")  # what every object can do, beside its finders
NESTED = ("create", "save")  # take the whole row, in an element of its own
OUTCOMES = ("created", "updated", "unchanged")
CHANGE_TOKEN = "changeToken"
TOKEN = SimpleType("string", min_length=1, max_length=64)


def item_name(row: Record) -> str:
    """The element that holds one row."""
    return row.name[0].lower() + row.name[1:]


def not_found(key: tuple[Element, ...]) -> FaultShape:
    return _fault("NotFound", "There is no row with this key", key)


def _fault(name: str, description: str, elements: tuple[Element, ...]) -> FaultShape:
    message = Element("message", SimpleType("string"), description="What happened, in words")
    return FaultShape(name, Record(name, (message, *elements)), description)


def write_shape(operation: Operation, verb: str, definition: ObjectDefinition, row: Record) -> OperationShape:
    """The shape of a writing operation; the input's elements are flat, whoever nests them."""
    fields = {element.name: element for element in row.elements if element.name != CHANGE_TOKEN}
    key = tuple(replace(fields[name], least=1) for name in definition.key)
    token = (Element(CHANGE_TOKEN, TOKEN, description="As it was read; it changes with every write"),) if definition.change_token else ()
    read_only = {one.name for one in definition.fields if one.read_only}
    writable = tuple(one for one in fields.values() if one.name not in read_only)
    rest = tuple(replace(one, least=0) for one in writable if one.name not in definition.key)
    name = row.name[0].lower() + row.name[1:]
    faults: tuple[FaultShape, ...] = ()
    if verb == "create":
        inputs, outputs = writable, (*key, *token)
        faults = (_fault("AlreadyExists", "There is a row with this key already", key),)
        words = f"Creates one {name}."
    elif verb == "update":
        changed = Element("changedField", SimpleType("string"), 0, None, description="The names of the fields that have another value now")
        inputs, outputs = (*key, *token, *rest), (*key, *token, changed)
        words = f"Changes the given fields of one {name}; the others stay."
    elif verb == "save":
        optional_token = tuple(replace(one, least=0) for one in token)
        outcome = Element("outcome", SimpleType("string", codes=OUTCOMES), description="What was done")
        inputs, outputs = (*writable, *optional_token), (*key, *token, outcome)
        words = f"Creates one {name}, or makes the one with this key equal to it."
    else:
        inputs, outputs = (*key, *token), key
        words = f"Deletes one {name}."
    if verb in ("update", "delete"):
        conflict = _fault("Conflict", "Somebody has written the row since it was read", (*key, *token))
        faults = (not_found(key), *((conflict,) if token else ()))
    return OperationShape(operation.name, Record(operation.name, inputs), Record(f"{operation.name}Response", outputs), faults,
                          operation.description or words, writes=True)
