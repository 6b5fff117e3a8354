"""What the operations of an object that write take and give.

| verb | takes | gives | declared faults |
| --- | --- | --- | --- |
| create | the row, without its change token and what is read only | key, change token | AlreadyExists, Conflict |
| update | key, change token, any fields, `clear` (what to empty) | key, change token, the changed fields' names | NotFound, Conflict |
| save | the row, its change token optional, and a key that the database makes | key, change token, outcome | Conflict, NotFound |
| delete | key, change token | key | NotFound, Conflict |

Conflict says why: stale, duplicate, missing-parent, still-referenced or not-allowed (by a rule of the database: a CHECK, a trigger, a value
that has to be there), and which field it is about.
"""

from collections.abc import Iterable
from dataclasses import replace

from bricola.core.definitions.model import Operation
from bricola.core.kinds.objects.shape import CHANGE_TOKEN, TOKEN, ResolvedObject
from bricola.core.shapes.forms import Form
from bricola.core.shapes.model import Element, FaultShape, OperationShape, Record
from bricola.core.shapes.simple import SimpleType
from bricola.core.sql.listing import not_found

NESTED = ("create", "save")  # take the whole row, in an element of its own
CLEAR = "clear"
OUTCOMES = ("created", "updated", "unchanged")
REASONS = ("stale", "duplicate", "missing-parent", "still-referenced")
NOT_ALLOWED = "not-allowed"
_TEXT = SimpleType("string")


def _fault(name: str, description: str, elements: Iterable[Element], reasons: tuple[str, ...] = ()) -> FaultShape:
    why = (Element("reason", SimpleType("string", codes=reasons), description="Why, in one word"),) if reasons else ()
    about = Element("field", _TEXT, 0, description="The field that it is about")
    message = Element("message", _TEXT, description="What happened, in words")
    return FaultShape(name, Record(name, (message, *elements, *why, about)), description)


def write_shape(operation: Operation, verb: str, source: ResolvedObject, form: Form) -> OperationShape:
    """The shape of a writing operation; the input's elements are flat, whoever nests them."""
    definition, row = source.definition, source.row
    fields = {element.name: element for element in row.elements if element.name != CHANGE_TOKEN}
    key = tuple(replace(fields[name], least=1) for name in definition.key)
    first = "1" if definition.token_column else None  # what a row that was just made has
    as_read = Element(CHANGE_TOKEN, TOKEN, description="As it was read; it changes with every write", sample=first, echoed=True)
    token = (as_read,) if source.tokened else ()
    kept = {one.name for one in definition.fields if not one.writable} | {one.child.name for one in source.children if one.child.read_only}
    writable = tuple(_input(one, source) for one in fields.values() if one.name not in kept)
    rest = tuple(replace(one, least=0, default=None, nillable=_is_emptied_by_nil(operation, fields[one.name], form))
                 for one in writable if one.name not in definition.key)
    name = row.name[0].lower() + row.name[1:]
    optional_token = tuple(replace(one, least=0) for one in token)
    made = definition.made_keys
    told = tuple(replace(one, least=0) if one.name in made else one for one in key)  # a key that the database makes is not known before
    kept_key = tuple(replace(one, least=0, default=None, description=f"{one.description}. Left out, a new one is made".lstrip(". "))
                     for one in key if one.name in kept)
    conflict = _fault("Conflict", "What is stored stands against it", (*told, *optional_token),
                      (*REASONS, NOT_ALLOWED) if form.blames else REASONS)
    faults: tuple[FaultShape, ...] = (conflict,)
    if verb == "create":
        inputs, outputs = writable, (*key, *token)
        faults = (_fault("AlreadyExists", "There is a row with this value already", told), conflict)
        words = f"Creates one {name}."
    elif verb == "update":
        changed = Element("changedField", _TEXT, 0, None, description="The names of the fields that have another value now")
        inputs, outputs = (*key, *token, *rest), (*key, *token, changed)
        words = f"Changes the given fields of one {name}; the others stay."
    elif verb == "save":
        outcome = Element("outcome", SimpleType("string", codes=OUTCOMES), description="What was done")
        inputs, outputs = (*kept_key, *writable, *optional_token), (*key, *token, outcome)
        words = f"Creates one {name}, or makes the one with this key equal to it."
        if kept_key:  # a row that is named by a key that only the database makes has to be there
            faults = (not_found(told), conflict)
    else:
        inputs, outputs = (*key, *token), key
        words = f"Deletes one {name}."
    if verb in ("update", "delete"):
        faults = (not_found(key), conflict)
    return OperationShape(operation.name, Record(operation.name, inputs), Record(f"{operation.name}Response", outputs), faults,
                          operation.description or words, writes=True)


def _is_emptied_by_nil(operation: Operation, element: Element, form: Form) -> bool:
    return not form.empties_by_name and operation.nil == "empties" and _can_be_emptied(element)


def _can_be_emptied(element: Element) -> bool:
    return not element.least and not isinstance(element.type, Record)


def clearing(inputs: Iterable[Element], source: ResolvedObject) -> tuple[Element, ...]:
    """The element that names the fields to empty; none where no field may be. An element that is optional and nillable too would be sent
    as nil by many client stacks whenever it was not set, and empty the field."""
    fields = {element.name: element for element in source.row.elements}
    names = tuple(one.name for one in inputs if one.name in fields and one.name not in source.definition.key
                  and one.name != CHANGE_TOKEN and _can_be_emptied(fields[one.name]))
    taken = {one.name for one in inputs}
    if not names:
        return ()
    return (Element(CLEAR if CLEAR not in taken else f"{CLEAR}Field", SimpleType("string", codes=names), 0, None,
                    description="Names of fields to empty"),)


def _input(element: Element, source: ResolvedObject) -> Element:
    """A field as callers give it: its default makes it optional, and so does being a list of children."""
    default = source.defaults.get(element.name)
    if default is not None:
        return replace(element, least=0, default=default)
    field = source.definition.field(element.name)
    if field is not None and field.database_default:
        return replace(element, least=0)
    if isinstance(element.type, Record):
        child = next(one for one in source.children if one.child.name == element.name)
        return replace(element, least=0, type=child.input)
    return element


